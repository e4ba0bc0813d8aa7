package form

import (
	"bytes"
	"context"
	"encoding/binary"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// values are what a document answers to queries, each with what is not there as "-".
func values(t *testing.T, doc Doc, queries ...string) []string {
	t.Helper()
	var got []string
	for _, q := range queries {
		v, ok, err := doc.Value(t.Context(), q)
		require.NoError(t, err, q)
		if !ok {
			v = "-"
		}
		got = append(got, v)
	}
	return got
}

func TestIndented(t *testing.T) {
	text := "# a comment\npilot Ada Lamp\ndate 16 11 3013\nsystem Rutil\n\"home port\" `New \"Q\" Harbour`\n\n" +
		"ship Shuttle\n\tname \"King of Winds\"\n\toutfits\n\t\tLamp 2\n\t\t\"Fuel Cell\"\n\t# still inside\n\tcrew 1\nship Barge\n\tcrew 4\nempty\n"
	doc, err := Parse([]byte(text), Spec{Form: "blocks", Blocks: BlockPatterns{Indent: true}})
	require.NoError(t, err)
	assert.Equal(t, []string{"Ada", "Lamp", "Rutil", `New "Q" Harbour`, "Shuttle", "King of Winds", "1", "4", "2", "-"},
		values(t, doc, "$.pilot[0].words[0]", "$.pilot[0].words[1]", "$.system", "$['home port']", "$.ship[0].words[0]", "$.ship[0].name", "$.ship[0].crew", "$.ship[1].crew",
			"$.ship[0].outfits[0].Lamp", "$.ship[2].crew"))
	for _, broken := range []string{"a \"b\n", strings.Repeat(" ", 10) + "a `b", deep(2000)} {
		_, err := Parse([]byte(broken), Spec{Form: "blocks", Blocks: BlockPatterns{Indent: true}})
		assert.Error(t, err, "%.20q", broken)
	}
}

// deep are lines each of which is indented deeper than the one before.
func deep(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.Repeat(" ", i) + "a\n")
	}
	return b.String()
}

// framed is data in pieces of a size, each packed behind its two lengths.
func framed(t testing.TB, data []byte, size int) []byte {
	var b bytes.Buffer
	for len(data) > 0 {
		piece := data[:min(size, len(data))]
		data = data[len(piece):]
		packed := wrapped(t, "zlib", piece)
		b.Write(binary.LittleEndian.AppendUint32(nil, uint32(len(packed))))
		b.Write(binary.LittleEndian.AppendUint32(nil, uint32(len(piece))))
		b.Write(packed)
	}
	return b.Bytes()
}

func TestFramed(t *testing.T) {
	layer := layersOf(t, "framed:length:u32le raw:u32le,zlib")
	for _, size := range []int{7, 64, len(content), 4096} {
		whole := framed(t, []byte(content), size)
		got, err := layer.Peel(bytes.NewReader(whole), DefaultLimits)
		require.NoError(t, err, size)
		assert.Equal(t, content, string(got), size)
		for _, cut := range []int{1, 5, len(whole) - 1} {
			_, err := layer.Peel(bytes.NewReader(whole[:cut]), DefaultLimits)
			assert.ErrorIs(t, err, ErrDamaged, "%d of %d", cut, len(whole))
		}
		lies := bytes.Clone(whole)
		lies[4]++
		_, err = layer.Peel(bytes.NewReader(lies), DefaultLimits)
		assert.ErrorIs(t, err, ErrDamaged, "a piece of another size than its head says")
		huge := append([]byte{0xff, 0xff, 0xff, 0x7f}, whole[4:]...)
		_, err = layer.Peel(bytes.NewReader(huge), DefaultLimits)
		assert.ErrorIs(t, err, ErrDamaged)
	}
	for _, wrong := range []string{"framed:", "framed:length:u32le", "framed:size:u32le,zlib", "framed:length:cstr,zlib", "framed:length:u32le,nothing"} {
		_, err := ParseLayer(wrong)
		assert.Error(t, err, wrong)
	}
}

// TestEncodings reads the same words in several encodings, and bytes as characters.
func TestEncodings(t *testing.T) {
	for encoding, data := range map[string]string{
		"": "title = Kühl", "windows-1252": "title = K\xfchl", "utf-16le": "t\x00i\x00t\x00l\x00e\x00 \x00=\x00 \x00K\x00\xfc\x00h\x00l\x00", "iso-8859-2": "title = K\xfchl",
	} {
		doc, err := Parse([]byte(data), Spec{Form: "ini", Encoding: encoding})
		require.NoError(t, err, encoding)
		assert.Equal(t, []string{"Kühl"}, values(t, doc, "title"), encoding)
	}
	for declared, data := range map[string]string{
		"windows-1252": "<?xml version='1.0' encoding='windows-1252'?><a t='K\xfchl'/>", "utf-16 and is not": "<?xml version='1.0' encoding='utf-16'?><a t='Kühl'/>",
		"a byte order mark": "\xff\xfe<\x00a\x00 \x00t\x00=\x00'\x00K\x00\xfc\x00h\x00l\x00'\x00/\x00>\x00",
	} {
		for _, encoding := range []string{"", map[string]string{"windows-1252": "windows-1252"}[declared]} {
			spec := Spec{Form: "xml", Encoding: encoding}
			doc, err := Parse([]byte(data), spec)
			require.NoError(t, err, declared)
			assert.Equal(t, []string{"Kühl"}, values(t, doc, "/a/@t"), declared)
			written, err := Splice(spec, []byte(data), "/a/@t", "Süß")
			require.NoError(t, err, declared)
			again, err := Parse(written, spec)
			require.NoError(t, err, declared)
			assert.Equal(t, []string{"Süß"}, values(t, again, "/a/@t"), declared)
		}
	}
	_, err := Splice(Spec{Form: "ini", Encoding: "windows-1252"}, []byte("t = K\xfchl"), "t", "水")
	assert.ErrorIs(t, err, ErrNotWritable, "the encoding has no such letter")
	_, err = Parse([]byte("<?xml version='1.0' encoding='martian'?><a/>"), Spec{Form: "xml"})
	assert.ErrorIs(t, err, ErrUnknown)
	doc, err := Parse([]byte("VERS\x01\x02\xff\x00rest"), Spec{Form: "text", Encoding: "binary"})
	require.NoError(t, err)
	for as, want := range map[string]string{"hexbe": "0102ff00", "hexle": "00ff0201"} {
		v, ok, err := doc.Value(t.Context(), `VERS(?s:(....))`)
		require.NoError(t, err)
		require.True(t, ok)
		c, err := ParseConversion(as)
		require.NoError(t, err)
		got, err := c.Convert(v)
		require.NoError(t, err)
		assert.Equal(t, want, got.Raw, as)
	}
	_, err = Parse([]byte("x"), Spec{Form: "text", Encoding: "latin-1"})
	assert.ErrorContains(t, err, "latin-1")
}

func TestMembersAndSections(t *testing.T) {
	doc, err := Parse([]byte(`{"needs": {"rope": ">= 2", "tar": {"v": "1"}}, "list": [1, 2], "text": "x"}`), Spec{Form: "json"})
	require.NoError(t, err)
	for query, want := range map[string]struct {
		n     int
		there bool
	}{"$.needs": {2, true}, "$.list": {2, true}, "$.text": {0, false}, "$.no": {0, false}} {
		elements, err := doc.Each(t.Context(), query)
		require.NoError(t, err)
		members, there, err := Members(t.Context(), elements)
		require.NoError(t, err)
		assert.Len(t, members, want.n, query)
		assert.Equal(t, want.there, there, query)
		if query == "$.needs" {
			assert.Equal(t, []string{"rope", ">= 2"}, values(t, members[0], "@key", "@value"))
			assert.Equal(t, []string{"tar", "1"}, values(t, members[1], "@key", "$.v"))
		}
	}
	ini, err := Parse([]byte("[Mods]\nrope = 2\n[None]\n"), Spec{Form: "ini"})
	require.NoError(t, err)
	section, ok := Section(ini, "Mods")
	require.True(t, ok)
	elements, err := section.Each(t.Context(), ".*")
	require.NoError(t, err)
	require.Len(t, elements, 1)
	assert.Equal(t, []string{"rope", "2"}, values(t, elements[0], "@key", "."))
	_, ok = Section(ini, "None")
	assert.True(t, ok)
	_, ok = Section(ini, "Lost")
	assert.False(t, ok)
}

func TestLayersInWords(t *testing.T) {
	zipped := wrapped(t, "gzip", []byte(content))
	assert.Equal(t, []string{"gzip"}, layersOf(t, "auto").Words(zipped))
	assert.Empty(t, layersOf(t, "auto").Words([]byte(content)))
	assert.Equal(t, []string{"skip:4", "zlib"}, layersOf(t, "skip:4", "zlib").Words(nil))
}

func TestAQueryThatTakesTooLongIsStopped(t *testing.T) {
	wide := "<a>" + strings.Repeat("<b/>", 60_000) + "</a>"
	doc, err := Parse([]byte(wide), Spec{Form: "xml"})
	require.NoError(t, err)
	_, _, err = doc.Value(t.Context(), "count(//*[count(//*) > count(//*[count(//*) = 1])])")
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	stopped, stop := context.WithCancel(t.Context())
	stop()
	_, err = doc.Each(stopped, "//*[count(//*) = 1]")
	assert.ErrorIs(t, err, context.Canceled)
	assert.Error(t, CheckQuery("json", "$..a..b", true), "of each part all its parts")
	assert.NoError(t, CheckQuery("json", "$..a.b", true))
}
