package doc

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"encoding/binary"
	"io"
	"io/fs"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"ostrov/internal/core/wrap"
)

func layersOf(t testing.TB, names ...string) wrap.Layers {
	var l wrap.Layers
	for _, n := range names {
		layer, err := wrap.ParseLayer(n)
		require.NoError(t, err)
		l.Chain = append(l.Chain, layer)
	}
	return l
}

// wrapped is data in one layer.
func wrapped(t testing.TB, layer string, data []byte) []byte {
	var b bytes.Buffer
	var w io.WriteCloser
	var err error
	switch layer {
	case "gzip":
		w = gzip.NewWriter(&b)
	case "zlib":
		w = zlib.NewWriter(&b)
	case "deflate":
		w, err = flate.NewWriter(&b, 6)
	case "zstd":
		w, err = zstd.NewWriter(&b)
	case "xz":
		w, err = xz.NewWriter(&b)
	case "lz4":
		w = lz4.NewWriter(&b)
	case "lzo":
		return append([]byte{byte(17 + len(data))}, append(data, 17, 0, 0)...)
	default:
		t.Fatal(layer)
	}
	require.NoError(t, err)
	_, err = w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

// zipped is a zip of entries, each by its name and content.
func zipped(t testing.TB, entries ...string) string {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(entries); i += 2 {
		w, err := z.Create(entries[i])
		require.NoError(t, err)
		_, err = w.Write([]byte(entries[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.String()
}

func appendBig(b []byte, n uint32) []byte { return binary.BigEndian.AppendUint32(b, n) }

// rowsOfAll are the rows of a table of a database, each as its values with = between.
func rowsOfAll(t testing.TB, data []byte, query string, columns ...string) (all []string) {
	f, err := Spec{Form: "sqlite"}.Look(t.Context(), bytes.NewReader(data))
	require.NoError(t, err)
	defer f.Close()
	rows, err := (&Doc{f: f}).Each(t.Context(), query)
	require.NoError(t, err)
	for _, r := range rows {
		var cells []string
		for _, c := range columns {
			text, _, err := r.Value(t.Context(), c)
			require.NoError(t, err)
			cells = append(cells, text)
		}
		all = append(all, strings.Join(cells, "="))
	}
	return all
}

// invert are the edits that make the former text of one that edits have been made of.
func invert(text []byte, edits []change) ([]change, error) {
	edits, err := inOrder(edits)
	if err != nil {
		return nil, err
	}
	var back []change
	shift := 0
	for _, e := range edits {
		back = append(back, change{e.From + shift, e.From + shift + len(e.Text), string(text[e.From:e.To])})
		shift += len(e.Text) - (e.To - e.From)
	}
	return back, nil
}

// opening is a file system whose files can only be read from their beginnings.
type opening struct{ fs.FS }

func (o opening) Open(name string) (fs.File, error) {
	f, err := o.FS.Open(name)
	return struct{ fs.File }{f}, err
}
