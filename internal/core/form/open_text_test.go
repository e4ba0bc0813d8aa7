package form

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"
)

// longText is a text of a form, of so many bytes at least, and where its last value is.
func longText(form string, size int) (text, last string) {
	var b strings.Builder
	if form == "json" {
		b.WriteString(`{"title": "Lång", "rows": [`)
		for i := 0; b.Len() < size; i++ {
			fmt.Fprintf(&b, `{"n": %d, "t": "a \"row\""}, `, i)
		}
		b.WriteString(`0], "last": "end"}`)
		return b.String(), "$.last"
	}
	b.WriteString(`<w title="Lång"><rows>`)
	for i := 0; b.Len() < size; i++ {
		fmt.Fprintf(&b, `<row n="%d">a &lt; row</row>`, i)
	}
	b.WriteString(`</rows><last>end</last></w>`)
	return b.String(), "/w/last"
}

// TestALargeTextLiesInAFileWhileItIsRead opens texts that are too large to be held: wrapped, in another encoding, from what is no file. Nothing is left of
// them.
func TestALargeTextLiesInAFileWhileItIsRead(t *testing.T) {
	temp := t.TempDir()
	t.Setenv("TMPDIR", temp)
	t.Setenv("TMP", temp)
	for _, form := range []string{"json", "xml"} {
		text, last := longText(form, maxTree+1)
		var packed bytes.Buffer
		z, err := gzip.NewWriterLevel(&packed, gzip.BestSpeed)
		require.NoError(t, err)
		_, err = z.Write([]byte(text))
		require.NoError(t, err)
		require.NoError(t, z.Close())
		wide, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(text)
		require.NoError(t, err)
		title := map[string]string{"json": "$.title", "xml": "/w/@title"}[form]
		for about, c := range map[string]struct {
			data string
			spec Spec
		}{
			"wrapped": {packed.String(), Spec{Form: form, Layers: layersOf(t, "gzip")}},
			"plain":   {text, Spec{Form: form}},
			"UTF-16":  {wide, Spec{Form: form}},
		} {
			doc, err := Open(t.Context(), fstest.MapFS{"a": {Data: []byte(c.data)}}, "a", c.spec, DefaultLimits)
			require.NoError(t, err, "%s %s", form, about)
			for query, want := range map[string]string{last: "end", title: "Lång"} {
				got, ok, err := doc.Value(t.Context(), query)
				require.NoError(t, err)
				assert.True(t, ok)
				assert.Equal(t, want, got, "%s %s", form, about)
			}
			require.NoError(t, doc.Close())
			left, err := os.ReadDir(temp)
			require.NoError(t, err)
			assert.Empty(t, left, "%s %s", form, about)
		}
		cut := fstest.MapFS{"a": {Data: packed.Bytes()[:packed.Len()/2]}}
		_, err = Open(t.Context(), cut, "a", Spec{Form: form, Layers: layersOf(t, "gzip")}, DefaultLimits)
		assert.ErrorIs(t, err, ErrDamaged)
		_, err = Open(t.Context(), fstest.MapFS{"a": {Data: packed.Bytes()}}, "a", Spec{Form: form, Layers: layersOf(t, "gzip")}, Limits{Decoded: maxTree + 2})
		assert.ErrorIs(t, err, ErrTooLarge, "what is larger than it may be")
		left, err := os.ReadDir(temp)
		require.NoError(t, err)
		assert.Empty(t, left)
	}
}

// TestWhatMustBeHeldIsBounded opens texts and binary forms of more than may be held in memory.
func TestWhatMustBeHeldIsBounded(t *testing.T) {
	large := fstest.MapFS{"a": {Data: make([]byte, maxHeld+1)}}
	for _, form := range []string{"text", "lines", "bytes", "ini"} {
		_, err := Open(t.Context(), large, "a", Spec{Form: form}, DefaultLimits)
		assert.ErrorIs(t, err, ErrTooLarge, form)
	}
	_, err := Layers{Chain: []Layer{{"checksum", "crc32@0 over 4.."}}}.Reader(bytes.NewReader(large["a"].Data), DefaultLimits)
	assert.ErrorIs(t, err, ErrTooLarge)
}

// TestADictionaryIsBounded unpacks what looks back further than it may.
func TestADictionaryIsBounded(t *testing.T) {
	far := append(append([]byte("some bytes that come again"), make([]byte, 3<<20)...), "some bytes that come again"...)
	for _, layer := range []string{"zstd", "xz"} {
		data := wrapped(t, layer, far)
		r, err := layersOf(t, layer).Reader(bytes.NewReader(data), Limits{Decoded: 1 << 30, Dictionary: 64 << 10})
		if err == nil {
			_, err = readAtMost(r, 1<<30)
			require.NoError(t, r.Close())
		}
		assert.ErrorIs(t, damaged("", err), ErrTooLarge, layer)
	}
}

// TestAForeignDatabaseMakesNoLargeTexts asks a view that makes much of nothing.
func TestAForeignDatabaseMakesNoLargeTexts(t *testing.T) {
	data := makeSQLite(t, "CREATE TABLE a (b)", "INSERT INTO a VALUES (1)", "CREATE VIEW v AS SELECT hex(zeroblob(450000000)) AS big FROM a", "CREATE VIEW w AS SELECT hex(zeroblob(600000)) AS big FROM a")
	doc, err := Open(t.Context(), fstest.MapFS{"a": {Data: data}}, "a", Spec{Form: "sqlite"}, DefaultLimits)
	require.NoError(t, err)
	defer doc.Close()
	for _, query := range []string{"SELECT big FROM v", "SELECT big FROM w"} {
		_, _, err = doc.Value(t.Context(), query)
		assert.ErrorIs(t, err, ErrTooLarge, query)
	}
	_, err = doc.Each(t.Context(), "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n LIMIT 100) SELECT hex(zeroblob(400000)) AS big FROM n")
	assert.ErrorIs(t, err, ErrTooLarge, "a list of many")
}

// TestADatabaseIsReadWithItsLog reads a database from what can only be opened, with the log that lies beside it.
func TestADatabaseIsReadWithItsLog(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "w.db")
	require.NoError(t, os.WriteFile(file, makeSQLite(t, "CREATE TABLE a (b)", "INSERT INTO a VALUES ('old')"), 0o600))
	only := opening{os.DirFS(dir)}
	doc, err := Open(t.Context(), only, "w.db", Spec{Form: "sqlite"}, DefaultLimits)
	require.NoError(t, err)
	got, _, err := doc.Value(t.Context(), "SELECT b FROM a")
	require.NoError(t, err)
	assert.Equal(t, "old", got)
	require.NoError(t, doc.Close())
	require.NoError(t, os.WriteFile(file+"-journal", []byte("no journal"), 0o600))
	doc, err = Open(t.Context(), only, "w.db", Spec{Form: "sqlite"}, DefaultLimits)
	require.NoError(t, err)
	require.NoError(t, doc.Close())
	require.NoError(t, Spec{Form: "sqlite"}.Check(t.Context(), only, "w.db"))
}

// opening is files that can be opened, and nothing else.
type opening struct{ fs.FS }

func (o opening) Open(name string) (fs.File, error) { return o.FS.Open(name) }

// TestWrappedBlocksAreBounded: what unwraps to more blocks than can be passed over soon is too large, and nothing is left of it.
func TestWrappedBlocksAreBounded(t *testing.T) {
	temp := t.TempDir()
	t.Setenv("TMPDIR", temp)
	t.Setenv("TMP", temp)
	packed := wrapped(t, "zstd", bytes.Repeat([]byte("[a]\nb = 1\n[/a]\n"), maxSpooledBlocks/15+1))
	spec := Spec{Form: "blocks", Layers: layersOf(t, "zstd")}
	_, err := Open(t.Context(), fstest.MapFS{"a": {Data: packed}}, "a", spec, DefaultLimits)
	require.ErrorIs(t, err, ErrTooLarge)
	left, err := os.ReadDir(temp)
	require.NoError(t, err)
	assert.Empty(t, left)
	some := wrapped(t, "zstd", append(bytes.Repeat([]byte("[a]\nb = 1\n[/a]\n"), maxTree/15+1), "last = 5\n"...))
	doc, err := Open(t.Context(), fstest.MapFS{"a": {Data: some}}, "a", spec, DefaultLimits)
	require.NoError(t, err)
	defer doc.Close()
	text, ok, err := doc.Value(t.Context(), "$.last")
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, "5", text)
}
