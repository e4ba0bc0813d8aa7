package bag

import (
	"archive/zip"
	"bytes"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// read unpacks a bag and returns its files by their paths in it.
func read(t *testing.T, data []byte, name string) map[string]string {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	files := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		content, err := io.ReadAll(r)
		require.NoError(t, err)
		path, ok := strings.CutPrefix(f.Name, name+"/")
		require.True(t, ok, "all lies in one folder: %s", f.Name)
		files[path] = string(content)
	}
	return files
}

// TestEveryFileIsInAManifest checks a bag by RFC 8493: what it says of itself, how many bytes there are, and that each file stands in one
// of the two manifests with its digest.
func TestEveryFileIsInAManifest(t *testing.T) {
	var out bytes.Buffer
	w := NewWriter(&out, "gannet", time.Date(2026, 3, 1, 21, 14, 2, 0, time.UTC))
	require.NoError(t, w.Text("data/note.txt", []byte("five!")))
	require.NoError(t, w.File("data/save/a b", time.Unix(0, 0), func(to io.Writer) error {
		_, err := io.WriteString(to, "in two")
		if err == nil {
			_, err = io.WriteString(to, " parts")
		}
		return err
	}))
	require.NoError(t, w.Close("two\nlines and  a gap"))
	files := read(t, out.Bytes(), "gannet")
	assert.Equal(t, "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n", files[Declaration])
	assert.Equal(t, "Bagging-Date: 2026-03-01\nPayload-Oxum: 17.2\nExternal-Description: two lines and a gap\n", files[Info])
	listed := map[string]bool{Manifest: false, TagManifest: true}
	for _, manifest := range []string{Manifest, TagManifest} {
		for line := range strings.Lines(files[manifest]) {
			sum, path, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "  ")
			require.True(t, ok)
			got := sha512.Sum512([]byte(files[path]))
			assert.Equal(t, sum, hex.EncodeToString(got[:]), path)
			assert.Equal(t, manifest == Manifest, strings.HasPrefix(path, "data/"), path)
			listed[path] = true
		}
	}
	for path := range files {
		assert.True(t, listed[path], "%s is in a manifest", path)
	}
}

func TestWhatCannotBeReadEndsTheBag(t *testing.T) {
	w := NewWriter(io.Discard, "x", time.Now())
	broken := errors.New("cannot be read")
	assert.ErrorIs(t, w.File("data/x", time.Now(), func(io.Writer) error { return fmt.Errorf("x: %w", broken) }), broken)
}
