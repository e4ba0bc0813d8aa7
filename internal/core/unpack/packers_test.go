package unpack

import (
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatOtherPackersMakeIsHarmless packs a folder with the usual programs, in the ways that they have, and finds in it what was packed and nothing
// else.
func TestWhatOtherPackersMakeIsHarmless(t *testing.T) {
	dir := t.TempDir()
	want := map[string]string{"slot_01/voyage.json": `{"title": "x"}`, "slot_01/Möwe und 灯台.txt": "text", "slot_01/empty": "", "slot_01/deep/chart.bin": string(make([]byte, 200_000))}
	for name, text := range want {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	const python = "import zipfile, os, sys\n"
	for _, c := range []struct {
		program, debian, file string
		args                  []string
		piped                 bool
	}{
		{"zip", "zip", "a.zip", []string{"-qr", "a.zip", "slot_01"}, false},
		{"zip", "zip", "b.zip", []string{"-qr0", "b.zip", "slot_01"}, false},
		{"zip", "zip", "c.zip", []string{"-qr", "-fz", "c.zip", "slot_01"}, false},
		{"zip", "zip", "d.zip", []string{"-qr", "-", "slot_01"}, true},
		{"7z", "p7zip-full", "e.zip", []string{"a", "-bso0", "-tzip", "e.zip", "slot_01"}, false},
		{"7z", "p7zip-full", "f.zip", []string{"a", "-bso0", "-tzip", "-mm=LZMA", "f.zip", "slot_01"}, false},
		{"7z", "p7zip-full", "g.zip", []string{"a", "-bso0", "-tzip", "-mcu=on", "g.zip", "slot_01"}, false},
		{"7z", "p7zip-full", "h.7z", []string{"a", "-bso0", "h.7z", "slot_01"}, false},
		{"7z", "p7zip-full", "i.7z", []string{"a", "-bso0", "-ms=off", "-m0=Deflate", "i.7z", "slot_01"}, false},
		{"bsdtar", "libarchive-tools", "j.zip", []string{"-a", "-cf", "j.zip", "slot_01"}, false},
		{"bsdtar", "libarchive-tools", "k.zip", []string{"--format", "zip", "-cf", "-", "slot_01"}, true},
		{"bsdtar", "libarchive-tools", "l.tar.xz", []string{"-a", "-cf", "l.tar.xz", "slot_01"}, false},
		{"bsdtar", "libarchive-tools", "m.7z", []string{"-a", "-cf", "m.7z", "slot_01"}, false},
		{"tar", "tar", "n.tar.gz", []string{"-czf", "n.tar.gz", "slot_01"}, false},
		{"tar", "tar", "o.tar", []string{"--format=gnu", "-b", "100", "-cf", "o.tar", "slot_01"}, false},
		{"python3", "python3", "p.zip", []string{"-c", python + "with zipfile.ZipFile('p.zip', 'w', zipfile.ZIP_DEFLATED) as z:\n for d, _, fs in os.walk('slot_01'):\n  for f in fs: z.write(os.path.join(d, f))"}, false},
		{"python3", "python3", "q.zip", []string{"-c", python + "with zipfile.ZipFile('q.zip', 'w', zipfile.ZIP_LZMA) as z:\n for d, _, fs in os.walk('slot_01'):\n  for f in fs:\n   with z.open(os.path.join(d, f), 'w', force_zip64=True) as o: o.write(open(os.path.join(d, f), 'rb').read())"}, false},
		{"python3", "python3", "r.tar.bz2", []string{"-c", "import tarfile\nwith tarfile.open('r.tar.bz2', 'w:bz2') as t: t.add('slot_01')"}, false},
	} {
		t.Run(c.file, func(t *testing.T) {
			program, args := c.program, c.args
			if _, err := exec.LookPath(program); err != nil {
				t.Skip("needs the Debian package " + c.debian)
			}
			if c.piped { // into a pipe a packer cannot go back
				program, args = "sh", []string{"-c", c.program + " " + strings.Join(c.args, " ") + " | cat > " + c.file}
			}
			cmd := exec.Command(program, args...)
			cmd.Dir = dir
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", out)
			d, err := Open(t.Context(), filepath.Join(dir, c.file), t.TempDir())
			require.NoError(t, err)
			defer d.Close()
			require.NoError(t, d.Inspect(t.Context(), func(int64) {}))
			assert.Empty(t, d.Hazards)
			assert.Empty(t, d.Damaged)
			assert.Empty(t, d.Code)
			var names []string
			for name := range d.files {
				names = append(names, name)
			}
			assert.ElementsMatch(t, slices.Collect(maps.Keys(want)), names)
		})
	}
}
