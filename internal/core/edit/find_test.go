package edit_test

import (
	"bytes"
	"compress/zlib"
	"database/sql"
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"ostrov/internal/core/edit"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

const burrows = `
ostrov = 1
id = "burrow"
title = "Burrow"
[install]
marker = ["burrow"]
[[folder]]
id = "saves"
path = "{game}/saves"
[[save]]
id = "run"
unit = "folder"
folder = "saves"
name = "{name}"
[save.file.a]
path = "a.json"
form = "json"
[save.file.b]
path = "b.xml"
form = "xml"
encoding = "windows-1252"
[save.file.c]
path = "c.txt"
form = "blocks"
[save.file.d]
path = "d.sqlite"
form = "sqlite"
[save.field]
title = { in = "a", at = "$.title" }
[[mod]]
id = "mod"
unit = "folder"
folder = "saves"
name = "*"
[mod.adds]
prefix = "{id}:"
`

// TestATextIsFoundInWrappedValues finds it in values that are packed inside of a JSON, an XML, blocks and a database, and says which value that is.
func TestATextIsFoundInWrappedValues(t *testing.T) {
	pack := func(text string) string {
		var b bytes.Buffer
		z := zlib.NewWriter(&b)
		_, _ = z.Write([]byte(text))
		require.NoError(t, z.Close())
		return base64.StdEncoding.EncodeToString(b.Bytes())
	}
	var references strings.Builder
	ats := map[string]string{"a": "$.rooms[*].data", "b": "/w/room/@data", "c": "$.room[*].data", "d": "SELECT data FROM rooms"}
	for in, at := range ats {
		fmt.Fprintf(&references, "[[references]]\nin = %q\nat = %q\nlayers = [\"base64\", \"zlib\"]\n", in, at)
	}
	d, err := game.Parse("burrow.toml", []byte(burrows+references.String()))
	require.NoError(t, err)
	first, second := pack("a mole in its room"), pack("nobody")
	path := filepath.Join(t.TempDir(), "d.sqlite")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE rooms (place INTEGER, data BLOB); INSERT INTO rooms VALUES (7, ?), (9, ?), (11, NULL)", []byte(second), []byte(first))
	require.NoError(t, err)
	require.NoError(t, db.Close())
	rooms, err := os.ReadFile(path)
	require.NoError(t, err)
	files := tree.Contents{
		"run/a.json":   strings.NewReader(fmt.Sprintf(`{"title": "T", "rooms": [{"data": %q}, {"data": %q}]}`, second, first)),
		"run/b.xml":    strings.NewReader(fmt.Sprintf(`<w title="`+strings.Repeat("\xe4", 50)+`"><room data="%s"/><door/><room data="%s"/></w>`, second, first)),
		"run/c.txt":    strings.NewReader(fmt.Sprintf("[room]\ndata = \"%s\"\n[/room]\n[room]\ndata = \"%s\"\n[/room]\n", second, first)),
		"run/d.sqlite": bytes.NewReader(rooms),
	}
	s := &save.Save{Kind: &d.Saves[0], Name: "run", Captures: map[string]string{"name": "run"}}
	for _, name := range []string{"run/a.json", "run/b.xml", "run/c.txt", "run/d.sqlite"} {
		s.Files = append(s.Files, tree.Entry{Path: name, Kind: tree.File})
	}
	src := edit.Source{Game: d, Save: &facts.Save{Save: s}, FS: files, Called: "burrow/run"}
	found, err := edit.Find(t.Context(), src, "mole")
	require.NoError(t, err)
	require.Empty(t, found.Unread)
	assert.Equal(t, 4, found.Count)
	var in []string
	for _, p := range found.Places {
		assert.Empty(t, p.At(), "what is packed is not set like that")
		assert.Contains(t, p.Around, "inside value 2: a mole in its room")
		in = append(in, p.Inside())
	}
	assert.Equal(t, []string{"a:$.rooms[1].data", "b:/w[1]/room[2]/@data", "c:$.room[1].data", "d:SELECT data FROM rooms WHERE rowid = 2"}, in)

	files["run/a.json"] = strings.NewReader(`{"title": "T", "rooms": [{"data": "mole"}]}`)
	found, err = edit.Find(t.Context(), src, "mole")
	require.NoError(t, err)
	require.Len(t, found.Unread, 1, "what is not packed as it says may hold anything")
	assert.Equal(t, "run/a.json", found.Unread[0].File)
}

// TestATextIsFoundInAnyEncoding finds words with foreign letters in files that are not in UTF-8, as the description says or by their first bytes, and the way
// to them.
func TestATextIsFoundInAnyEncoding(t *testing.T) {
	d, err := game.Parse("burrow.toml", []byte(burrows))
	require.NoError(t, err)
	wide := func(text string) string { // UTF-16, little-endian, with a mark
		b := []byte("\xff\xfe")
		for _, u := range utf16.Encode([]rune(text)) {
			b = append(b, byte(u), byte(u>>8))
		}
		return string(b)
	}
	files := tree.Contents{
		"run/a.json": strings.NewReader(wide(`{"title": "T", "rooms": ["über", "höhle"]}`)),
		"run/b.xml":  strings.NewReader("<w><room name=\"h\xf6hle\"/></w>"),
		"run/d.txt":  strings.NewReader(wide("zur höhle\n")), // which the description does not name
		"run/c.txt":  strings.NewReader(wide("[room]\nname = dunkle höhle\n[/room]\n")),
	}
	s := &save.Save{Kind: &d.Saves[0], Name: "run", Captures: map[string]string{"name": "run"}}
	for _, name := range []string{"run/a.json", "run/b.xml", "run/c.txt", "run/d.txt"} {
		s.Files = append(s.Files, tree.Entry{Path: name, Kind: tree.File})
	}
	found, err := edit.Find(t.Context(), edit.Source{Game: d, Save: &facts.Save{Save: s}, FS: files, Called: "burrow/run"}, "höhle")
	require.NoError(t, err)
	require.Empty(t, found.Unread)
	var at []string
	for _, p := range found.Places {
		assert.Contains(t, p.Around, "höhle")
		at = append(at, fmt.Sprint(p.Line, " ", p.At()))
	}
	assert.Equal(t, []string{"1 a:$.rooms[1]", "1 b:/w[1]/room[1]/@name", "2 c:$.room[0].name", "1 "}, at)
}
