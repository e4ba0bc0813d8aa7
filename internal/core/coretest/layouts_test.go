package coretest_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/coretest"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/mods"
	"ostrov/internal/core/problem"
)

// forge is a game with a mod folder, a loader with plugins, and bare files.
const forge = `
ostrov  = 1
id      = "forge"
title   = "Forge"
version = { in = "about", at = "game.version" }
install = { marker = ["forge.dat"] }
folder  = [
	{ id = "saves", path = "{game}/saves" },
	{ id = "tools", path = "{game}/tools" },
	{ id = "plugins", path = "{game}/bellows/plugins", create = true },
]
file    = { about = { path = "{game}/about.ini", form = "ini" } }
loader  = [{ id = "bellows", marker = ["bellows/bellows.dll"] }]
[[save]]
id      = "shift"
unit    = "file"
folder  = "saves"
name    = "{name}.shift"
no_mods = true
[save.file.shift]
path = "."
form = "ini"
[[mod]]
id     = "plugin"
unit   = "file"
folder = "plugins"
name   = "*.plug"
loader = "bellows"
[mod.field]
id = { from_name = '(.+)\.plug' }
[mod.unpack]
merge    = { "bellows" = "{game}/bellows", "plugins" = "{game}/bellows/plugins" }
files    = { "*.plug" = "{game}/bellows/plugins" }
leave    = ["readme*", "licence*"]
variants = true
after    = ["{game}/bellows/bellows.dll"]
[[mod]]
id     = "gear"
unit   = "file"
folder = "tools"
name   = "*.gear"
[mod.field]
id = { from_name = '(.+)\.gear' }
[mod.is]
magic = "504b0304@0"
[[mod]]
id     = "tool"
unit   = "folder"
folder = "tools"
marker = ["tool.ini"]
[mod.file.card]
path = "tool.ini"
form = "ini"
[mod.field]
id      = { in = "card", at = "tool.id" }
version = { in = "card", at = "tool.version" }
`

// packed is an entry of a generated download: content, or what makes it hostile.
type packed struct {
	name, text string
	link       string
	device     bool
}

// laidOut is one generated download, and where its files must come to lie; none is a refusal that says refused.
type laidOut struct {
	name    string
	entries []packed
	pick    string
	want    map[string]string
	refused string
	pack    func(t *testing.T, dir string, l laidOut) string
}

func zipOf(t *testing.T, dir string, l laidOut) string {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, e := range l.entries {
		h := &zip.FileHeader{Name: e.name, Method: zip.Deflate}
		if e.link != "" {
			h.SetMode(os.ModeSymlink | 0o777)
			e.text = e.link
		}
		f, err := w.CreateHeader(h)
		require.NoError(t, err)
		_, err = f.Write([]byte(e.text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	at := filepath.Join(dir, "download.zip")
	require.NoError(t, os.WriteFile(at, b.Bytes(), 0o644))
	return at
}

func tarOf(t *testing.T, dir string, l laidOut) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for _, e := range l.entries {
		h := &tar.Header{Name: e.name, Mode: 0o644, Size: int64(len(e.text)), Typeflag: tar.TypeReg}
		switch {
		case e.link != "":
			h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, e.link, 0
		case e.device:
			h.Typeflag, h.Size = tar.TypeChar, 0
		}
		require.NoError(t, w.WriteHeader(h))
		if h.Size > 0 {
			_, err := w.Write([]byte(e.text))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	at := filepath.Join(dir, "download.tar.gz")
	require.NoError(t, os.WriteFile(at, b.Bytes(), 0o644))
	return at
}

func folderOf(t *testing.T, dir string, l laidOut) string {
	root := filepath.Join(dir, "download")
	for _, e := range l.entries {
		at := filepath.Join(root, filepath.FromSlash(e.name))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		if e.link != "" {
			require.NoError(t, os.Symlink(e.link, at))
			continue
		}
		require.NoError(t, os.WriteFile(at, []byte(e.text), 0o644))
	}
	return root
}

const toolCard = "[tool]\nid = vice\nversion = 1.2\n"

// layouts are downloads in every layout, wrapped in every way, and hostile and broken ones.
func layouts() []laidOut {
	type kind struct {
		name    string
		entries []packed
		want    map[string]string
	}
	dll := strings.Repeat("library ", 20)
	kinds := []kind{
		{"a mod's folder", []packed{{name: "vice/tool.ini", text: toolCard}, {name: "vice/jaw/a.txt", text: "jaw"}}, map[string]string{"tools/vice/tool.ini": toolCard, "tools/vice/jaw/a.txt": "jaw"}},
		{"two mods", []packed{{name: "mods/vice/tool.ini", text: toolCard}, {name: "mods/tongs/tool.ini", text: "[tool]\nid = tongs\n"}},
			map[string]string{"tools/vice/tool.ini": toolCard, "tools/tongs/tool.ini": "[tool]\nid = tongs\n"}},
		{"the loader's folder", []packed{{name: "bellows/plugins/puff.plug", text: dll}, {name: "bellows/core/x.cfg", text: "x"}, {name: "readme.txt", text: "hello"}},
			map[string]string{"bellows/plugins/puff.plug": dll, "bellows/core/x.cfg": "x"}},
		{"an inner folder of it", []packed{{name: "Plugins/puff.plug", text: dll}, {name: "Plugins/art/y.png", text: "y"}},
			map[string]string{"bellows/plugins/puff.plug": dll, "bellows/plugins/art/y.png": "y"}},
		{"a bare file", []packed{{name: "puff.plug", text: dll}, {name: "Licence.md", text: "free"}}, map[string]string{"bellows/plugins/puff.plug": dll}},
	}
	var all []laidOut
	packs := map[string]func(*testing.T, string, laidOut) string{"zip": zipOf, "tar": tarOf, "folder": folderOf}
	for _, k := range kinds {
		for _, outer := range []string{"", "Puff v1.2", "Puff v1.2/for forge 3"} {
			for _, pack := range slices.Sorted(maps.Keys(packs)) {
				l := laidOut{name: k.name + " in " + pack + " below " + outer, want: k.want, pack: packs[pack]}
				for _, e := range k.entries {
					e.name = path.Join(outer, e.name)
					l.entries = append(l.entries, e)
				}
				all = append(all, l)
			}
		}
	}
	vice := packed{name: "vice/tool.ini", text: toolCard}
	plain := []laidOut{
		{name: "litter of systems", entries: []packed{vice, {name: "__MACOSX/vice/._tool.ini", text: "x"}, {name: ".DS_Store", text: "x"}}, want: map[string]string{"tools/vice/tool.ini": toolCard}},
		{name: "the mod itself at the top", entries: []packed{{name: "tool.ini", text: toolCard}, {name: "jaw.txt", text: "j"}}, want: map[string]string{"tools/vice/tool.ini": toolCard, "tools/vice/jaw.txt": "j"}},
		{name: "a variant", entries: []packed{{name: "big/puff.plug", text: "big"}, {name: "small/puff.plug", text: "small"}}, pick: "small", want: map[string]string{"bellows/plugins/puff.plug": "small"}},
		{name: "a variant of a mod's folder", entries: []packed{{name: "big/vice/tool.ini", text: toolCard}, {name: "small/vice/tool.ini", text: toolCard}, {name: "small/vice/s", text: "s"}}, pick: "small",
			want: map[string]string{"tools/vice/tool.ini": toolCard, "tools/vice/s": "s"}},
		{name: "an archive in the archive", entries: []packed{{name: "inner.zip", text: inner(vice)}, {name: "readme.txt", text: "x"}}, want: map[string]string{"tools/vice/tool.ini": toolCard}},
		{name: "an empty folder", entries: []packed{vice, {name: "vice/saves/"}}, want: map[string]string{"tools/vice/tool.ini": toolCard}},
		{name: "letters of others", entries: []packed{vice, {name: "vice/Größe 日本.txt", text: "g"}}, want: map[string]string{"tools/vice/tool.ini": toolCard, "tools/vice/Größe 日本.txt": "g"}},
	}
	gear := inner(packed{name: "teeth.txt", text: "32"})
	plain = append(plain,
		laidOut{name: "a mod that is an archive", want: map[string]string{"tools/cog.gear": gear}, pack: func(t *testing.T, dir string, _ laidOut) string {
			at := filepath.Join(dir, "cog.gear")
			require.NoError(t, os.WriteFile(at, []byte(gear), 0o644))
			return at
		}},
		laidOut{name: "a mod that is an archive, in an archive", entries: []packed{{name: "Cogs/cog.gear", text: gear}, {name: "Cogs/readme.txt", text: "x"}}, want: map[string]string{"tools/cog.gear": gear}})
	for _, l := range plain {
		if l.pack == nil {
			l.pack = zipOf
		}
		all = append(all, l)
	}
	for _, l := range hostile(vice) {
		if l.pack == nil {
			l.pack = zipOf
		}
		all = append(all, l)
	}
	return all
}

func inner(e packed) string {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	f, _ := w.Create(e.name) // into memory
	_, _ = f.Write([]byte(e.text))
	_ = w.Close()
	return b.String()
}

// hostile are downloads that must be refused, each with a word of why.
func hostile(vice packed) []laidOut {
	exe := "MZ\x90\x00" + strings.Repeat("\x00", 56) + "\x40\x00\x00\x00PE\x00\x00"
	many := func(names ...string) []packed {
		all := []packed{vice}
		for _, n := range names {
			all = append(all, packed{name: n, text: "x"})
		}
		return all
	}
	return []laidOut{
		{name: "out of the download", entries: many("../../evil.txt"), refused: "dangerous"},
		{name: "out by a folder", entries: many("vice/../../evil.txt"), refused: "dangerous"},
		{name: "from the root", entries: many("/etc/evil"), refused: "dangerous"},
		{name: "of a drive", entries: many("C:/evil.txt"), refused: "dangerous"},
		{name: "with backslashes", entries: many(`vice\..\..\evil.txt`), refused: "dangerous"},
		{name: "a link", entries: []packed{vice, {name: "vice/link", link: "/etc/passwd"}}, refused: "dangerous"},
		{name: "a link in a tar", entries: []packed{vice, {name: "vice/link", link: "../../../x"}}, pack: tarOf, refused: "dangerous"},
		{name: "a device", entries: []packed{vice, {name: "vice/dev", device: true}}, pack: tarOf, refused: "dangerous"},
		{name: "a link in a folder", entries: []packed{vice, {name: "vice/link", link: "/etc/passwd"}}, pack: folderOf, refused: "dangerous"},
		{name: "a program", entries: []packed{vice, {name: "vice/setup.exe", text: exe}}, refused: "dangerous"},
		{name: "a program called a picture", entries: []packed{vice, {name: "vice/art.png", text: exe}}, refused: "dangerous"},
		{name: "a program beside the mod", entries: []packed{vice, {name: "install.bat", text: "@echo off\r\ndel *\r\n"}}, refused: "dangerous"},
		{name: "a program in a plugin", entries: []packed{{name: "puff.plug", text: "plug"}, {name: "bellows/run.cmd", text: "@echo off\r\n"}}, refused: "dangerous"},
		{name: "a library where none is needed", entries: []packed{vice, {name: "vice/x.dll", text: exe}}, refused: "dangerous"},
		{name: "names that are one on some systems", entries: many("vice/a.txt", "vice/A.TXT"), refused: "dangerous"},
		{name: "a name of a device", entries: many("vice/CON.txt"), refused: "dangerous"},
		{name: "too deep", entries: many("vice/" + strings.Repeat("d/", 60) + "x"), refused: "dangerous"},
		{name: "Ostrov's own names", entries: many("vice/.ostrov/journal.json"), refused: "dangerous"},
		{name: "a file twice", entries: []packed{vice, vice}, refused: "dangerous"},
		{name: "cut short", entries: many("vice/a.txt"), pack: cut, refused: "damaged"},
		{name: "with a damaged file", entries: []packed{vice, {name: "vice/long.txt", text: strings.Repeat("long ", 2000)}}, pack: damaged, refused: "damaged"},
		{name: "no mod", entries: []packed{{name: "pictures/a.png", text: "png"}, {name: "notes.md", text: "n"}}, refused: "a folder with tool.ini"},
		{name: "nothing", refused: "laid out"},
		{name: "a choice", entries: []packed{{name: "big/puff.plug", text: "big"}, {name: "small/puff.plug", text: "small"}}, refused: "big, small"},
		{name: "a choice that is none", entries: []packed{{name: "big/puff.plug", text: "big"}, {name: "small/puff.plug", text: "small"}}, pick: "huge", refused: "huge"},
		{name: "a folder where a file is", entries: []packed{vice, {name: "vice/a", text: "file"}, {name: "vice/a/b", text: "below"}}, refused: ""},
		{name: "a bomb", entries: []packed{vice, {name: "vice/zeros", text: strings.Repeat("\x00", 1<<20)}}, pack: bomb, refused: "dangerous"},
		{name: "an archive of archives of archives", entries: []packed{{name: "a.zip", text: inner(packed{name: "b.zip", text: inner(packed{name: "c.zip", text: inner(packed{name: "d.zip", text: inner(vice)})})})}}, refused: "laid out"},
	}
}

func cut(t *testing.T, dir string, l laidOut) string {
	at := zipOf(t, dir, l)
	coretest.Cut(t, at)
	return at
}

// damaged turns a byte in the middle of the last file's content.
func damaged(t *testing.T, dir string, l laidOut) string {
	at := zipOf(t, dir, l)
	data, err := os.ReadFile(at)
	require.NoError(t, err)
	i := bytes.LastIndex(data, []byte("PK\x03\x04")) + 60
	data[i] ^= 0xff
	require.NoError(t, os.WriteFile(at, data, 0o644))
	return at
}

// bomb is a tar.gz of zeros, of more than the bounds.
func bomb(t *testing.T, dir string, l laidOut) string {
	at := filepath.Join(dir, "download.tar.gz")
	f, err := os.Create(at)
	require.NoError(t, err)
	z, err := gzip.NewWriterLevel(f, gzip.BestCompression)
	require.NoError(t, err)
	w := tar.NewWriter(z)
	const n = 700
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "vice/tool.ini", Mode: 0o644, Size: int64(len(toolCard))}))
	_, err = w.Write([]byte(toolCard))
	require.NoError(t, err)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "vice/zeros", Mode: 0o644, Size: n << 20}))
	zeros := make([]byte, 1<<20)
	for range n {
		_, err = w.Write(zeros)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	require.NoError(t, f.Close())
	return at
}

// TestLayouts brings each download in: exactly the right files come to lie in the right places, or it is refused and everything is as it was.
func TestLayouts(t *testing.T) {
	all := layouts()
	bad := 0
	for _, l := range all {
		if l.want == nil {
			bad++
		}
	}
	require.GreaterOrEqual(t, len(all), 60)
	require.GreaterOrEqual(t, bad*3, len(all), "a third must be hostile or broken")
	w := coretest.Bare(t)
	root := w.Describe(forge, map[string]string{"forge.dat": "x", "about.ini": "[game]\nversion = 3\n", "saves/a.shift": "[a]\n", "bellows/bellows.dll": "loader", "tools/.keep": ""})
	first := lies(t, root, true)
	for _, l := range all {
		t.Run(l.name, func(t *testing.T) {
			file := l.pack(t, t.TempDir(), l)
			what, err := addOne(t, w, file, l.pick)
			if l.want == nil {
				require.Error(t, err)
				assert.Contains(t, fmt.Sprint(err, problem.HintsOf(err)), l.refused)
				assert.Equal(t, first, lies(t, root, true), "everything is as it was")
				return
			}
			require.NoError(t, err)
			want := lies(t, root, false)
			for name := range l.want {
				assert.Equal(t, l.want[name], want[name], name)
				delete(want, name)
			}
			kept := map[string]string{}
			for name, text := range first {
				if !strings.HasSuffix(name, "/") {
					kept[name] = strings.SplitN(text, " -rw", 2)[0]
				}
			}
			assert.Equal(t, kept, want, "and nothing else")
			for _, id := range what {
				p, err := mods.Dropping(t.Context(), w.Home, assess.Of(w.See("forge")), mods.DropRequest{Mods: []string{id}})
				require.NoError(t, err)
				_, err = keep.Before(t.Context(), w.Home, p.Plan, "")
				require.NoError(t, err)
				_, err = p.Apply(t.Context())
				require.NoError(t, err)
			}
			_ = os.Remove(filepath.Join(root, "bellows", "plugins")) // the folder was made: the description allows it
			assert.Equal(t, first, lies(t, root, true), "and gone again")
		})
	}
}

// addOne brings a download in, and returns the ids of the mods that came.
func addOne(t *testing.T, w *coretest.World, file, pick string) (ids []string, err error) {
	add := mods.NewAddition(w.Home, mods.AdditionRequest{Pick: pick})
	defer add.Close()
	if err := add.Open(t.Context(), file); err != nil {
		return nil, err
	}
	p, err := add.Propose(t.Context(), assess.Of(w.See("forge")))
	if err != nil {
		return nil, err
	}
	if stopped := p.Stopped(); len(stopped) > 0 {
		return nil, fmt.Errorf("%s: %s", stopped[0].Code, stopped[0].Evidence)
	}
	if _, err := keep.Before(t.Context(), w.Home, p.Plan, ""); err != nil {
		return nil, err
	}
	for _, i := range p.Items {
		ids = append(ids, i.ID)
	}
	_, err = p.Apply(t.Context())
	return ids, err
}
