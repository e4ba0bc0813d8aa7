package unpack

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/unpack/unpacktest"
)

// look opens data as a download in a folder of its own and inspects it; nothing may be written outside the scratch folder.
func look(t testing.TB, data []byte) *Download {
	dir := t.TempDir()
	path, scratch := filepath.Join(dir, "download"), filepath.Join(dir, "scratch")
	require.NoError(t, os.Mkdir(scratch, 0o700))
	require.NoError(t, os.WriteFile(path, data, 0o600))
	d, err := Open(context.Background(), path, scratch)
	require.NoError(t, err)
	require.NoError(t, d.Inspect(context.Background(), func(int64) {}))
	t.Cleanup(func() {
		require.NoError(t, d.Close())
		left, _ := os.ReadDir(scratch)
		assert.Empty(t, left, "scratch is cleaned")
		all, _ := os.ReadDir(dir)
		assert.Len(t, all, 2, "nothing beside download and scratch")
	})
	return d
}

func TestHazards(t *testing.T) {
	for name, c := range map[string]struct {
		files []unpacktest.File
		path  string // of the one hazard; "" where there must be none
		why   string
	}{
		"plain":               {[]unpacktest.File{{"save/a.txt", "x"}, {"save/b/c.txt", "y"}}, "", ""},
		"parent":              {[]unpacktest.File{{"../a", "x"}}, "../a", "leads out"},
		"a journal of ours":   {[]unpacktest.File{{"mod/.ostrov/0a1b/journal.json", "{}"}}, "mod/.ostrov/0a1b/journal.json", "is called like"},
		"ours in capitals":    {[]unpacktest.File{{"saves/.OSTROV-trial/x", "x"}}, "saves/.OSTROV-trial/x", "is called like"},
		"our note":            {[]unpacktest.File{{"saves/Ostrov-change-not-finished.txt", "x"}}, "saves/Ostrov-change-not-finished.txt", "is called like"},
		"parent inside":       {[]unpacktest.File{{"a/../../b", "x"}}, "a/../../b", "leads out"},
		"backslash parent":    {[]unpacktest.File{{`a\..\b`, "x"}}, `a\..\b`, "leads out"},
		"absolute":            {[]unpacktest.File{{"/etc/x", "x"}}, "/etc/x", "root"},
		"drive":               {[]unpacktest.File{{"c:/x", "x"}}, "c:/x", "drive"},
		"network":             {[]unpacktest.File{{`\\host\x`, "x"}}, `\\host\x`, "root"},
		"stream":              {[]unpacktest.File{{"a.txt:evil", "x"}}, "a.txt:evil", "Windows forbids"},
		"device":              {[]unpacktest.File{{"a/NUL.txt", "x"}}, "a/NUL.txt", "device"},
		"device superscript":  {[]unpacktest.File{{"COM¹", "x"}}, "COM¹", "device"},
		"not a device":        {[]unpacktest.File{{"COMMON.txt", "x"}, {"con-tent/LPT", "y"}}, "", ""},
		"trailing dot":        {[]unpacktest.File{{"a./b", "x"}}, "a./b", "drops"},
		"trailing space":      {[]unpacktest.File{{"a ", "x"}}, "a ", "drops"},
		"control":             {[]unpacktest.File{{"a\x1b[2J", "x"}}, "a\x1b[2J", "control"},
		"direction":           {[]unpacktest.File{{"a\u202etxt.sav", "x"}}, "a\u202etxt.sav", "direction"},
		"case":                {[]unpacktest.File{{"Save/a", "x"}, {"save/a", "y"}}, "save/a", "same name as Save"},
		"accents":             {[]unpacktest.File{{"caf\u00e9", "x"}, {"cafe\u0301", "y"}}, "cafe\u0301", "same name"},
		"file and folder":     {[]unpacktest.File{{"a", "x"}, {"a/b", "y"}}, "a/b", "same name as a"},
		"link":                {[]unpacktest.File{{"a", "-> /etc/passwd"}}, "a", "link"},
		"deep":                {[]unpacktest.File{{strings.Repeat("a/", MaxDepth) + "b", "x"}}, strings.Repeat("a/", MaxDepth) + "b", "deeper"},
		"long name":           {[]unpacktest.File{{strings.Repeat("a", MaxName+1), "x"}}, strings.Repeat("a", MaxName+1), "longer"},
		"longest name":        {[]unpacktest.File{{strings.Repeat("a", MaxName), "x"}}, "", ""},
		"program":             {[]unpacktest.File{{"picture.png", unpacktest.Program("pe")}}, "picture.png", "Windows program"},
		"twice":               {[]unpacktest.File{{"a", "x"}, {"a", "y"}}, "a", "twice"},
		"foreign letters":     {[]unpacktest.File{{"Спасённый маяк/灯台.sav", "x"}}, "", ""},
		"very compressible":   {[]unpacktest.File{{"zeros", strings.Repeat("\x00", 4<<20)}}, "", ""},
		"dots that are names": {[]unpacktest.File{{"..a/.b/c..d", "x"}}, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			for kind, data := range map[string][]byte{"zip": unpacktest.Zip(t, c.files...), "tar": unpacktest.Tar(t, false, c.files...), "tar.gz": unpacktest.Tar(t, true, c.files...)} {
				d := look(t, data)
				assert.Equal(t, kind, d.Kind)
				assert.Empty(t, d.Damaged)
				if c.path == "" {
					assert.Empty(t, d.Hazards, kind)
					assert.Len(t, d.Digests, len(c.files), kind)
					continue
				}
				require.Len(t, d.Hazards, 1, kind)
				assert.Equal(t, c.path, d.Hazards[0].Path, kind)
				assert.Contains(t, d.Hazards[0].Why, c.why, kind)
				if c.why != "twice" {
					_, err := d.FS.Open(c.path)
					assert.Error(t, err, "what is refused cannot be read")
				}
			}
		})
	}
}

func TestDamage(t *testing.T) {
	good := unpacktest.Zip(t, unpacktest.File{"a.txt", strings.Repeat("words and words ", 99)})
	flipped := bytes.Clone(good)
	flipped[45] ^= 0xff
	for name, data := range map[string][]byte{"flipped": flipped, "cut zip": good[:len(good)-30], "cut tar": unpacktest.Tar(t, false, unpacktest.File{"a", strings.Repeat("x", 3000)})[:2000]} {
		d := look(t, data)
		assert.NotEmpty(t, d.Damaged, name)
	}
}

func TestBombIsRefusedByItsSize(t *testing.T) {
	data := unpacktest.Zip(t, unpacktest.File{"a", strings.Repeat("\x00", 1<<20)})
	at := bytes.LastIndex(data, []byte("PK\x01\x02"))
	binary.LittleEndian.PutUint32(data[at+24:], 0xfffffff0) // the central directory says 4 GiB
	d := look(t, data)
	require.Len(t, d.Hazards, 1)
	assert.Contains(t, d.Hazards[0].Why, "times its size")

	binary.LittleEndian.PutUint32(data[at+24:], 1000) // says less than there is
	assert.Len(t, look(t, data).Damaged, 1)
}

func TestFolderAndFile(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "variant")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "slot_01"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "slot_01", "a"), []byte("x"), 0o644))
	_ = os.Symlink("/etc", filepath.Join(dir, "link"))
	d, err := Open(t.Context(), dir, t.TempDir())
	require.NoError(t, err)
	require.NoError(t, d.Inspect(t.Context(), func(int64) {}))
	defer d.Close()
	assert.Equal(t, "variant", d.Name)
	assert.Equal(t, "folder", d.Kind)
	data, err := fs.ReadFile(d.FS, "variant/slot_01/a")
	require.NoError(t, err)
	assert.Equal(t, "x", string(data))
	assert.Len(t, d.Hazards, 1, "the link")

	single := look(t, []byte("just a file"))
	assert.Equal(t, "file", single.Kind)
	assert.Len(t, single.Entries, 1)
}

// TestHeadersOfTarsReadTwoWays has what the usual packers write, and what some readers take otherwise than others.
func TestHeadersOfTarsReadTwoWays(t *testing.T) {
	type records = map[string]string
	for about, c := range map[string]struct {
		h   tar.Header
		why string
	}{
		"a file":                   {tar.Header{Name: "a"}, ""},
		"a long name":              {tar.Header{Name: "a/b", PAXRecords: records{"path": "a/b", "mtime": "1.5"}}, ""},
		"a folder":                 {tar.Header{Typeflag: tar.TypeDir, Name: "a/", PAXRecords: records{"path": "a"}}, ""},
		"a folder with content":    {tar.Header{Typeflag: tar.TypeDir, Name: "a/", Size: 512}, "content"},
		"another name":             {tar.Header{Name: "a", PAXRecords: records{"path": "b"}}, "two names"},
		"no name of its own":       {tar.Header{Name: "", PAXRecords: records{"path": "b"}}, "two names"},
		"a link elsewhere":         {tar.Header{Name: "a", Linkname: "b", PAXRecords: records{"linkpath": "c"}}, "two names"},
		"a link":                   {tar.Header{Name: "a", Linkname: "b", PAXRecords: records{"linkpath": "b"}}, ""},
		"a file with holes":        {tar.Header{Name: "d/a", PAXRecords: records{"path": "d/GNUSparseFile.12/a", "GNU.sparse.name": "d/a"}}, ""},
		"a file as if with holes":  {tar.Header{Name: "d/a", PAXRecords: records{"path": "d/b", "GNU.sparse.name": "d/a"}}, "two names"},
		"holes, in another folder": {tar.Header{Name: "d/a", PAXRecords: records{"path": "e/GNUSparseFile.12/a", "GNU.sparse.name": "d/a"}}, "two names"},
		"a note for all":           {tar.Header{Typeflag: tar.TypeXGlobalHeader, PAXRecords: records{"comment": "0123", "mtime": "1"}}, ""},
		"a name for all":           {tar.Header{Typeflag: tar.TypeXGlobalHeader, PAXRecords: records{"path": "a"}}, "another path"},
		"a place of links for all": {tar.Header{Typeflag: tar.TypeXGlobalHeader, PAXRecords: records{"linkpath": "a"}}, "another linkpath"},
		"a size for all":           {tar.Header{Typeflag: tar.TypeXGlobalHeader, PAXRecords: records{"size": "7"}}, "another size"},
		"another alphabet for all": {tar.Header{Typeflag: tar.TypeXGlobalHeader, PAXRecords: records{"hdrcharset": "BINARY"}}, "another hdrcharset"},
		"holes for all":            {tar.Header{Typeflag: tar.TypeXGlobalHeader, PAXRecords: records{"GNU.sparse.size": "7"}}, "another GNU.sparse.size"},
	} {
		why := readTwoWays(&c.h)
		if c.why == "" {
			assert.Empty(t, why, about)
			continue
		}
		assert.Contains(t, why, c.why, about)
	}
}

func FuzzOpen(f *testing.F) {
	f.Add(unpacktest.Zip(f, unpacktest.File{"a/b", "x"}, unpacktest.File{"../c", "y"}))
	f.Add(unpacktest.Tar(f, false, unpacktest.File{"a/b", "x"}, unpacktest.File{"l", "-> /etc"}))
	f.Add(unpacktest.Tar(f, true, unpacktest.File{"a/b", "x"}))
	f.Add(unpacktest.Rar4(unpacktest.File{"a/b", "x"}))
	f.Add(unpacktest.Rar5(unpacktest.File{"a/b", "x"}, unpacktest.File{"../c", "y"}))
	f.Add(unpacktest.Zip(f, unpacktest.File{"in.zip", string(unpacktest.Zip(f, unpacktest.File{"a/b", "x"}))}))
	for _, name := range []string{"lzma2.7z", "lzma.7z", "copy.7z", "greedy.7z", "lzma.zip", "locked.zip"} {
		f.Add(fixture(f, name))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		d := look(t, data)
		for _, e := range d.Entries {
			assert.Empty(t, CheckName(e.Path))
		}
	})
}

func BenchmarkInspect(b *testing.B) {
	files := make([]unpacktest.File, 200)
	size := 0
	for i := range files {
		files[i] = unpacktest.File{fmt.Sprintf("save/region %d", i), strings.Repeat(fmt.Sprintf("row %d of the region;", i), 4000)}
		size += len(files[i][1])
	}
	dir := b.TempDir()
	path := filepath.Join(dir, "download.zip")
	require.NoError(b, os.WriteFile(path, unpacktest.Zip(b, files...), 0o600))
	b.SetBytes(int64(size))
	b.ReportAllocs()
	for b.Loop() {
		d, err := Open(b.Context(), path, dir)
		require.NoError(b, err)
		require.NoError(b, d.Inspect(b.Context(), func(int64) {}))
		require.NoError(b, d.Close())
	}
}
