package share_test

import (
	"bytes"
	"compress/gzip"
	"database/sql"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"ostrov/internal/core/coretest"
	"ostrov/internal/core/share"
)

// fen is a game with a file of each kind in which a name is spelled otherwise than it says.
const fen = `ostrov  = 1
id      = "fen"
title   = "Fen"
version = { default = "1.0" }
[install]
marker = ["fen.bin"]
[[folder]]
id   = "worlds"
path = "{game}/worlds"
[[save]]
id     = "world"
unit   = "folder"
folder = "worlds"
name   = "{name}"
[save.file.world]
path = "world.json"
form = "json"
[save.file.people]
path = "people.xml"
form = "xml"
[save.file.day]
path   = "day.txt.gz"
form   = "text"
layers = ["gzip"]
[save.file.base]
path = "base.sqlite"
form = "sqlite"
[save.file.map]
path = "map.bin"
form = "bytes"
[save.is]
has = ["version"]
[save.field]
version = { in = "world", at = "$.v" }
walker  = { in = "world", at = "$.walker", personal = true }
account = { in = "world", at = "$.account", personal = true }
`

const account = "76500000012345678"

// zipped is text in gzip, with a name in its header.
func zipped(t *testing.T, name, text string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	z.Name = name
	_, err := z.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.String()
}

// wide is text in UTF-16 without a byte order mark.
func wide(text string) string {
	var b []byte
	for _, u := range utf16.Encode([]rune(text)) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return string(b)
}

// database is a database with a name in two tables and in a row that was deleted.
func database(t *testing.T) string {
	file := filepath.Join(t.TempDir(), "base.sqlite")
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	for _, s := range []string{"CREATE TABLE a (id INTEGER PRIMARY KEY, who TEXT)", "CREATE TABLE b (id INTEGER PRIMARY KEY, note TEXT, data BLOB, n INTEGER)",
		"INSERT INTO a VALUES (1, 'Halvard')", "INSERT INTO b VALUES (1, 'for Halvard', CAST('Halvard' AS BLOB), " + account + ")",
		"INSERT INTO b VALUES (2, 'Halvard is gone', NULL, 3)", "DELETE FROM b WHERE id = 2"} {
		_, err := db.Exec(s)
		require.NoError(t, err, s)
	}
	require.NoError(t, db.Close())
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	return string(data)
}

// TestHoweverANameIsSpelled makes a blanked parcel of a save in which a name and an account stand in every spelling: they are gone, or told.
func TestHoweverANameIsSpelled(t *testing.T) {
	w := coretest.New(t)
	number := binary.LittleEndian.AppendUint64(nil, 76500000012345678)
	w.Describe(fen, map[string]string{
		"fen.bin":                    "x",
		"worlds/one/world.json":      `{"v": "1.0", "walker": "Halvard", "account": "` + account + `", "by": "H\u0061lvard", "H\u0061lvard": 1}`,
		"worlds/one/people.xml":      `<people><p name="H&#97;lvard"/><p>Halv&#x61;rd</p></people>`,
		"worlds/one/day.txt.gz":      zipped(t, "Halvard.txt", "nobody"),
		"worlds/one/base.sqlite":     database(t),
		"worlds/one/map.bin":         "\x01\x02" + string(number) + "\xff" + wide(" Halvard "),
		"worlds/one/notes.log":       "in /home/Edda Lampwick/fen and /home/Jörg\n",
		"worlds/one/wide.txt":        wide("said by Halvard\r\n"),
		"worlds/one/base64.txt":      "x" + base64.StdEncoding.EncodeToString([]byte("it is Halvard")),
		"worlds/one/hexadecimal.txt": strings.ToUpper(hex.EncodeToString([]byte("Halvard"))),
		"worlds/one/percent.txt":     "https://example.org/H%61lvard",
	})
	st := w.See("fen")
	require.Len(t, st.Saves, 1)
	require.NoError(t, st.Saves[0].Facts.Problem)
	out := filepath.Join(t.TempDir(), "parcel.zip")
	made, err := share.Wrap(t.Context(), w.Home, st, st.Saves[0], share.Request{Out: out, Blank: true, Note: "from Halvard"})
	require.NoError(t, err)
	require.NoError(t, made.Write(t.Context(), w.Home, false))
	var left []string
	for _, f := range made.Private {
		assert.Equal(t, "one/map.bin", f.Subject, f.Evidence)
		left = append(left, f.Evidence)
	}
	assert.ElementsMatch(t, []string{"walker, as UTF-16: Halvard", "account, as a number of 64 bits: " + account}, left)
	all := inside(t, out)
	for name, content := range all {
		for _, secret := range []string{"alvard", "Halv", "H&#97", "H%61", wide("alvard"), hex.EncodeToString([]byte("alvard")), "Lampwick", "Jörg", account} {
			if !strings.HasSuffix(name, "map.bin") {
				assert.NotContains(t, strings.ToLower(content), strings.ToLower(secret), name)
			}
		}
	}
	for _, gone := range []string{"base64.txt", "hexadecimal.txt", "percent.txt"} {
		for name := range all {
			assert.False(t, strings.HasSuffix(name, gone), "%s cannot be rewritten: it is left out", name)
		}
	}
}
