package parcel

import (
	"archive/zip"
	"bytes"
	"context"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/tree"
)

var needs = Needs{
	Game: "tidewrack", GameTitle: "Tidewrack", Version: "1.6.2", VersionEvidence: "written", ModsEvidence: "written", Ordered: true,
	Mods: []Mod{{ID: "deep-tides", Version: "2.1.0", Title: "Deep Tides"}, {ID: "rope", Doubtful: true}},
	Save: Save{Kind: "voyage", Name: "slot_00", Slot: "1", Title: "Gannet Rock", Folder: "voyages", Digest: tree.Digest{1}},
	Note: "all lamps lit", Made: time.Date(2026, 3, 1, 21, 14, 0, 0, time.UTC),
}

func write(t testing.TB) []byte {
	content := func(s string) func() (io.ReadCloser, error) {
		return func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(s)), nil }
	}
	var b bytes.Buffer
	require.NoError(t, Write(context.Background(), &b, "gannet-rock", needs, []File{
		{"slot_00/voyage.json", needs.Made, content("the voyage")}, {"slot_00/a chart.bin", needs.Made, content("chart")},
	}))
	return b.Bytes()
}

// open lists a parcel as a download would be.
func open(t testing.TB, data []byte) (fstest.MapFS, []tree.Entry) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	files := fstest.MapFS{}
	var entries []tree.Entry
	for _, f := range z.File {
		content, err := fs.ReadFile(z, f.Name)
		require.NoError(t, err)
		files[f.Name] = &fstest.MapFile{Data: content}
		entries = append(entries, tree.Entry{Path: f.Name, Kind: tree.File, Size: int64(len(content))})
	}
	return files, entries
}

func TestWhatIsWrittenIsFound(t *testing.T) {
	files, entries := open(t, write(t))
	f, err := Find(t.Context(), files, entries)
	require.NoError(t, err)
	require.NotNil(t, f)
	assert.Empty(t, f.Wrong)
	assert.Equal(t, "gannet-rock", f.Root)
	want := needs
	want.Format = Format
	assert.Equal(t, want, f.Needs)
	assert.True(t, f.Own("gannet-rock/bagit.txt"))
	assert.True(t, f.Own("gannet-rock/data/needs.json"))
	assert.False(t, f.Own("gannet-rock/data/save/slot_00/voyage.json"))
	assert.False(t, f.Own("elsewhere"))
	readMe := string(files["gannet-rock/data/READ-ME.txt"].Data)
	for _, part := range []string{"Gannet Rock", "version 1.6.2", "all lamps lit", "these 2 mods, in this order", "Deep Tides 2.1.0", "rope  (perhaps)", "voyages"} {
		assert.Contains(t, readMe, part)
	}
	f, err = Find(t.Context(), files, entries[:2])
	require.NoError(t, err)
	assert.Nil(t, f, "no parcel")
}

func TestEveryTamperingIsFound(t *testing.T) {
	for why, tamper := range map[string]func(fstest.MapFS, *[]tree.Entry){
		"data/save/slot_00/voyage.json is not what its manifest says": func(f fstest.MapFS, _ *[]tree.Entry) {
			f["gannet-rock/data/save/slot_00/voyage.json"].Data = []byte("another")
		},
		"data/save/more is not in its manifest": func(f fstest.MapFS, e *[]tree.Entry) {
			f["gannet-rock/data/save/more"] = &fstest.MapFile{}
			*e = append(*e, tree.Entry{Path: "gannet-rock/data/save/more", Kind: tree.File})
		},
		"data/save/slot_00/voyage.json is in the manifest and not in the parcel": func(_ fstest.MapFS, e *[]tree.Entry) { *e = (*e)[1:] },
		"bag-info.txt is not what its manifest says":                             func(f fstest.MapFS, _ *[]tree.Entry) { f["gannet-rock/bag-info.txt"].Data = nil },
		"manifest-sha512.txt is missing":                                         func(f fstest.MapFS, _ *[]tree.Entry) { delete(f, "gannet-rock/manifest-sha512.txt") },
		"needs.json cannot be read":                                              func(f fstest.MapFS, _ *[]tree.Entry) { f["gannet-rock/data/needs.json"].Data = []byte("{}") },
		"it is of format 2": func(f fstest.MapFS, _ *[]tree.Entry) {
			f["gannet-rock/data/needs.json"].Data = []byte(`{"ostrov_needs":2,"game":"x"}`)
		},
	} {
		files, entries := open(t, write(t))
		tamper(files, &entries)
		f, err := Find(t.Context(), files, entries)
		if err != nil {
			continue // the manifest itself is listed and gone
		}
		require.NotNil(t, f, why)
		assert.Contains(t, strings.Join(f.Wrong, "; "), why)
	}
}

// TestOthersCanCheckIt unpacks and verifies a parcel with programs that every Linux has.
func TestOthersCanCheckIt(t *testing.T) {
	for _, p := range []string{"unzip", "sha512sum"} {
		if _, err := exec.LookPath(p); err != nil {
			t.Skipf("needs %s (Debian packages unzip and coreutils)", p)
		}
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "p.zip"), write(t), 0o600))
	for _, command := range []string{"unzip -q p.zip", "cd gannet-rock && sha512sum -c --strict manifest-sha512.txt", "cd gannet-rock && sha512sum -c --strict tagmanifest-sha512.txt"} {
		cmd := exec.Command("sh", "-c", command)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
}

func FuzzParse(f *testing.F) {
	files, _ := open(f, write(f))
	f.Add(files["gannet-rock/data/needs.json"].Data)
	f.Fuzz(func(t *testing.T, data []byte) {
		n, err := Parse(data)
		if err == nil {
			assert.NotEmpty(t, n.Game)
			_ = readMe(n)
		}
	})
}
