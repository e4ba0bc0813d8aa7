package unpack

import (
	"context"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/unpack/unpacktest"
)

// failing is a file on a drive that fails after its first bytes.
type failing struct{ read bool }

func (f *failing) Read(p []byte) (int, error) {
	if f.read {
		return 0, &fs.PathError{Op: "read", Path: "x", Err: syscall.EIO}
	}
	f.read = true
	return copy(p, "some bytes"), nil
}

func (f *failing) Close() error { return nil }

// TestWhatIsNotTheDownloadsFaultIsAnError has the drive fail, and the reading stopped: neither is a finding.
func TestWhatIsNotTheDownloadsFaultIsAnError(t *testing.T) {
	open := func() *Download {
		file := filepath.Join(t.TempDir(), "a.zip")
		require.NoError(t, os.WriteFile(file, unpacktest.Zip(t, unpacktest.File{"a", "some bytes, and more of them"}, unpacktest.File{"b", "x"}), 0o600))
		d, err := Open(t.Context(), file, t.TempDir())
		require.NoError(t, err)
		t.Cleanup(func() { d.Close() })
		return d
	}
	for name, err := range map[string]error{"read": nil, "open": &fs.PathError{Op: "open", Path: "x", Err: syscall.EACCES}} {
		d := open()
		d.files["a"] = func() (io.ReadCloser, error) { return &failing{}, err }
		failed := d.Inspect(t.Context(), func(int64) {})
		assert.ErrorAs(t, failed, new(syscall.Errno), name)
		assert.ErrorContains(t, failed, "a: ", name)
		assert.Empty(t, d.Damaged, name)
	}
	d := open()
	ctx, stop := context.WithCancel(t.Context())
	stop()
	assert.ErrorIs(t, d.Inspect(ctx, func(int64) {}), context.Canceled)
	for _, data := range [][]byte{unpacktest.Tar(t, true, unpacktest.File{"a", "x"}), unpacktest.SevenZip(unpacktest.File{"a", "x"}), unpacktest.Rar5(unpacktest.File{"a", "x"}), unpacktest.Zip(t, unpacktest.File{"a", "x"})} {
		file := filepath.Join(t.TempDir(), "a")
		require.NoError(t, os.WriteFile(file, data, 0o600))
		_, err := Open(ctx, file, t.TempDir())
		assert.ErrorIs(t, err, context.Canceled)
	}
	assert.False(t, outside(io.ErrUnexpectedEOF), "a file that is cut is the download's fault")
}
