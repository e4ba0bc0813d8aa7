package doc

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"ostrov/internal/core/wrap"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type editable struct {
	spec                Spec
	text                string
	each, value, in     string
	piece               func(id string) string
	head, between, tail string // around and between elements, of a text that is made
}

func editables() map[string]editable {
	join := func(e editable, n int) editable {
		var parts []string
		for i := range n {
			parts = append(parts, e.piece(fmt.Sprintf("id%d", i)))
		}
		e.text = e.head + strings.Join(parts, e.between) + e.tail
		return e
	}
	all := map[string]editable{}
	for name, e := range map[string]editable{
		"json": {spec: Spec{Form: "json"}, each: "$.list[*]", value: "$.id", in: "$.list", head: "{\"a\": [1],\n \"list\": [\n  ", between: ",\n  ", tail: "\n ], \"z\": \"[{\"}\n",
			piece: func(id string) string { return fmt.Sprintf(`{"id": %q, "n": 1.50}`, id) }},
		"json in one line": {spec: Spec{Form: "json"}, each: "$.list[*].id", value: "$", in: "$.list", head: `{"list":[`, between: ",", tail: `]}`,
			piece: func(id string) string { return fmt.Sprintf(`{"id":%q}`, id) }},
		"json members": {spec: Spec{Form: "json"}, each: "$.of.*", value: "$.id", in: "$.of", head: "{\n\t\"of\": {\n\t\t", between: ",\n\t\t", tail: "\n\t}\n}",
			piece: func(id string) string { return fmt.Sprintf(`"k%s": {"id": %q}`, id, id) }},
		"xml": {spec: Spec{Form: "xml"}, each: "/a/list/e", value: "@id", in: "/a/list", head: "<?xml version='1.0'?>\r\n<a>\r\n <!-- <e/> -->\r\n <list n='1'>\r\n  ", between: "\r\n  ", tail: "\r\n </list>\r\n <e id='no'/>\r\n</a>\r\n",
			piece: func(id string) string { return fmt.Sprintf(`<e id='%s'><b>&lt;</b></e>`, id) }},
		"xml in one line": {spec: Spec{Form: "xml"}, each: "/a/e", value: ".", in: "/a", head: "<a>", between: "", tail: "</a>", piece: func(id string) string { return "<e>" + id + "</e>" }},
		"blocks": {spec: Spec{Form: "blocks"}, each: "$.a[0].e[*]", value: "$.id", in: "$.a[0]", head: "# kept\n[a]\n\tx = 1\n\t", between: "\n\t", tail: "\n[/a]\n",
			piece: func(id string) string { return "[e]\n\tid = " + id + "\n\t[/e]" }},
		"blocks in braces": {spec: Spec{Form: "blocks"}, each: "$.a[0].e[*]", value: "$.id", in: "$.a[0]", head: "a {\n  ", between: "\n  ", tail: "\n}\n",
			piece: func(id string) string { return `e { id = "` + id + `" n = 2 }` }},
		"blocks by patterns": {spec: Spec{Form: "blocks", Blocks: BlockPatterns{Open: `^BEGIN (?P<name>\w+)$`, Close: `^END$`, Pair: `^(?P<key>\w+): (?P<value>.*)$`}}, each: "$.a[0].e[*]", value: "$.id", in: "$.a[0]",
			head: "BEGIN a\n", between: "\n", tail: "\nEND\n", piece: func(id string) string { return "BEGIN e\nid: " + id + "\nEND" }},
		"blocks by indentation": {spec: Spec{Form: "blocks", Blocks: BlockPatterns{Indent: true}}, each: "$.a[0].e[*]", value: "$.id", in: "$.a[0]", head: "a one two\n\t", between: "\n\t", tail: "\nb c\n",
			piece: func(id string) string { return "e \"the e\"\n\t\tid " + id + "\n\t\tn `2 3`" }},
		"lines": {spec: Spec{Form: "lines"}, each: `^e (?P<id>\w+)$`, value: "id", head: "first\n", between: "\n", tail: "\n", piece: func(id string) string { return "e " + id }},
		"ini":   {spec: Spec{Form: "ini"}, each: `list\.(?P<id>\w+)`, value: "@value", head: "[other]\nid9 = 1\n[list]\n", between: "\n", tail: "\n[last]\nx=1", piece: func(id string) string { return id + " = " + id }},
		"text":  {spec: Spec{Form: "text"}, each: `<(?P<id>\w+)>`, value: "id", head: "begin ", between: ", ", tail: " end", piece: func(id string) string { return "<" + id + ">" }},
		"chunks": {spec: Spec{Form: "chunks", Chunks: ChunkSpec{Chunk: "tag:4 length:u32be", Record: "n:u8 id:cstr"}}, each: "LIST", value: "id",
			piece: func(id string) string { return "\x01" + id + "\x00" }},
	} {
		if name == "chunks" {
			var list string
			for i := range 6 {
				list += e.piece(fmt.Sprintf("id%d", i))
			}
			e.text = "HEAD\x00\x00\x00\x02hiLIST" + string(appendBig(nil, uint32(len(list)))) + list + "TAIL\x00\x00\x00\x01!"
			all[name] = e
			continue
		}
		all[name] = join(e, 6)
	}
	return all
}

func (e editable) ids(t *testing.T, text []byte) (all []string) {
	ed, err := e.spec.Edit(t.Context(), bytes.NewReader(text))
	require.NoError(t, err, "%q", text)
	found, err := ed.Find(t.Context(), nil, e.each, true)
	require.NoError(t, err)
	for i := range found {
		at, err := ed.One(t.Context(), &found[i], e.value)
		require.NoError(t, err, "%q", text)
		value, ok, err := ed.Value(at)
		require.NoError(t, err)
		require.True(t, ok)
		all = append(all, value)
	}
	return all
}

func TestWhatIsChangedIsReadAndCanBeTakenBack(t *testing.T) {
	for name, e := range editables() {
		t.Run(name, func(t *testing.T) {
			for seed := range 60 {
				r := rand.New(rand.NewPCG(uint64(seed), 3))
				ed, err := e.spec.Edit(t.Context(), strings.NewReader(e.text))
				require.NoError(t, err)
				found, err := ed.Find(t.Context(), nil, e.each, true)
				require.NoError(t, err)
				require.Len(t, found, 6)
				var want []string
				var gone []Node
				for i := range found {
					id := fmt.Sprintf("id%d", i)
					what := r.IntN(4)
					if what == 0 && !strings.HasSuffix(e.each, ".id") {
						gone = append(gone, found[i])
						continue
					}
					if what == 1 && name != "ini" {
						id = []string{"other", "a", "idx"}[r.IntN(3)] + id
						at, err := ed.One(t.Context(), &found[i], e.value)
						require.NoError(t, err)
						require.NoError(t, ed.Set(at, id))
					}
					want = append(want, id)
				}
				require.NoError(t, ed.Remove(gone...))
				if r.IntN(2) == 0 && len(want) > 0 && (len(gone) == 0 || !gone[len(gone)-1].Is(found[5])) && !strings.HasSuffix(e.each, ".id") {
					var in *Node
					if e.in != "" {
						at, err := ed.Find(t.Context(), nil, e.in, true)
						require.NoError(t, err)
						in = &at[0]
					}
					require.NoError(t, ed.Insert(in, &found[5], []byte(e.piece("new"))))
					want = append(want, "new")
				}
				edits := ed.edits
				if f, ok := ed.writer.(follower); ok {
					more, err := f.follow(edits)
					require.NoError(t, err)
					edits = append(edits[:len(edits):len(edits)], more...)
				}
				now, err := ed.Done(t.Context())
				require.NoError(t, err, "%q", e.text)
				assert.Equal(t, want, e.ids(t, now), "%q", now)
				back, err := invert([]byte(e.text), edits)
				require.NoError(t, err)
				again, err := apply(now, back)
				require.NoError(t, err)
				require.Equal(t, e.text, string(again), "the inverse")
				outside(t, []byte(e.text), now, edits)
				require.NoError(t, ed.Close())
			}
		})
	}
}

func outside(t *testing.T, was, now []byte, edits []change) {
	sorted, err := inOrder(edits)
	require.NoError(t, err)
	at, shift := 0, 0
	for _, e := range append(sorted, change{len(was), len(was), ""}) {
		require.True(t, bytes.Equal(was[at:e.From], now[at+shift:e.From+shift]), "bytes %d to %d stay", at, e.From)
		at = e.To
		shift += len(e.Text) - (e.To - e.From)
	}
}

func TestWhatIsTakenOutLeavesNoTrace(t *testing.T) {
	for _, c := range []struct {
		spec             Spec
		in, gone, want   string
		into, piece, got string // then a piece is put in
	}{
		{Spec{Form: "json"}, `{"l": [1, 2, 3]}`, "$.l[1]", `{"l": [1, 3]}`, "$.l", "4", `{"l": [1, 3, 4]}`},
		{Spec{Form: "json"}, `{"l": [1, 2, 3]}`, "$.l[2]", `{"l": [1, 2]}`, "", "", ""},
		{Spec{Form: "json"}, `{"l": [ 1 ]}`, "$.l[*]", `{"l": []}`, "$.l", `"x"`, `{"l": ["x"]}`},
		{Spec{Form: "json"}, "{\n \"a\": 1,\n \"b\\\"c\": {\"d\": 2}\n}", "$.a", "{\n \"b\\\"c\": {\"d\": 2}\n}", "$", `"e": 3`, "{\n \"b\\\"c\": {\"d\": 2},\n \"e\": 3\n}"},
		{Spec{Form: "xml"}, "<a>\n <b/>\n <c/>\n</a>", "/a/b", "<a>\n <c/>\n</a>", "/a/c", "<d/>", "<a>\n <c><d/></c>\n</a>"},
		{Spec{Form: "xml"}, "<a x=\"1\" y='2' z = \"3\"/>", "/a/@y", "<a x=\"1\" z = \"3\"/>", "/a", "t", "<a x=\"1\" z = \"3\">t</a>"},
		{Spec{Form: "xml"}, "<a><b>1</b><b>2</b></a>", "/a/b[2]", "<a><b>1</b></a>", "/a", "<b>3</b>", "<a><b>1</b><b>3</b></a>"},
		{Spec{Form: "blocks"}, "a {\n\tb = 1\n\tc = 2\n}\n", "$.a[0].b", "a {\n\tc = 2\n}\n", "$.a[0]", "d = 3", "a {\n\tc = 2\n\td = 3\n}\n"},
		{Spec{Form: "blocks"}, "a { b = 1 c = 2 }", "$.a[0].b", "a { c = 2 }", "$.a[0]", "d = 3", "a { c = 2 d = 3 }"},
		{Spec{Form: "blocks", Blocks: BlockPatterns{Indent: true}}, "a x\n\tb 1\n\tc 2\nz 1\n", "$.a[0].b", "a x\n\tc 2\nz 1\n", "$.a[0]", "d 3", "a x\n\tc 2\n\td 3\nz 1\n"},
		{Spec{Form: "ini"}, "[a]\nb = 1\r\nc = 2\r\n", `a\.b`, "[a]\nc = 2\r\n", "", "", ""},
		{Spec{Form: "lines"}, "a\nb\nc", "^c$", "a\nb", "", "", ""},
	} {
		ed, err := c.spec.Edit(t.Context(), strings.NewReader(c.in))
		require.NoError(t, err)
		found, err := ed.Find(t.Context(), nil, c.gone, true)
		require.NoError(t, err)
		require.NotEmpty(t, found, c.gone)
		require.NoError(t, ed.Remove(found...))
		now, err := ed.Done(t.Context())
		require.NoError(t, err)
		assert.Equal(t, c.want, string(now))
		if c.got == "" {
			continue
		}
		ed, err = c.spec.Edit(t.Context(), bytes.NewReader(now))
		require.NoError(t, err)
		in, err := ed.Find(t.Context(), nil, c.into, true)
		require.NoError(t, err)
		require.Len(t, in, 1)
		require.NoError(t, ed.Insert(&in[0], nil, []byte(c.piece)))
		now, err = ed.Done(t.Context())
		require.NoError(t, err)
		assert.Equal(t, c.got, string(now))
	}
}

func TestSeveralComeIntoWhatWasEmpty(t *testing.T) {
	for form, c := range map[string]struct{ text, list, want string }{
		"json": {`{"a": [], "b": 1}`, "$.a", `{"a": [{"x": 0}, {"x": 1}, {"x": 2}], "b": 1}`},
		"xml":  {`<w><a n="1"/><b/></w>`, "/w/a", `<w><a n="1"><x>0</x><x>1</x><x>2</x></a><b/></w>`},
	} {
		e, err := Spec{Form: form}.Edit(t.Context(), strings.NewReader(c.text))
		require.NoError(t, err)
		list, err := e.Find(t.Context(), nil, c.list, true)
		require.NoError(t, err)
		require.Len(t, list, 1)
		for i := range 3 {
			piece := map[string]string{"json": fmt.Sprintf(`{"x": %d}`, i), "xml": fmt.Sprintf("<x>%d</x>", i)}[form]
			require.NoError(t, e.Insert(&list[0], nil, []byte(piece)))
		}
		now, err := e.Done(t.Context())
		require.NoError(t, err, form)
		assert.Equal(t, c.want, string(now))
	}
}

func TestNamesAreGivenAnew(t *testing.T) {
	for _, c := range []struct {
		form, in, at, want string
	}{
		{"json", `{"a": {"b \"c": 1}}`, "$.a.*", `{"a": {"new": 1}}`}, {"xml", "<a><b x='1'>t</b><b/></a>", "/a/b[1]", "<a><new x='1'>t</new><b/></a>"},
		{"xml", "<a b = '1'/>", "/a/@b", "<a new = '1'/>"}, {"blocks", "[a]\n[b]\nc = 1\n[/b]\n[/a]\n", "$.a[0].b", "[a]\n[new]\nc = 1\n[/new]\n[/a]\n"},
		{"ini", "[a]\nb = b\n", `a\.b`, "[a]\nnew = b\n"},
	} {
		ed, err := Spec{Form: c.form}.Edit(t.Context(), strings.NewReader(c.in))
		require.NoError(t, err)
		found, err := ed.Find(t.Context(), nil, c.at, true)
		require.NoError(t, err)
		require.Len(t, found, 1)
		require.NoError(t, ed.Rename(found[0], "new"))
		now, err := ed.Done(t.Context())
		require.NoError(t, err)
		assert.Equal(t, c.want, string(now))
		if c.form != "json" {
			assert.ErrorIs(t, ed.Rename(found[0], "a b"), wrap.ErrNotWritable)
		}
	}
}

func TestRowsArePutInAndTakenOut(t *testing.T) {
	data := makeSQLite(t, "CREATE TABLE crew (id INTEGER PRIMARY KEY, name TEXT, raw BLOB, pay REAL, note)", "INSERT INTO crew VALUES (1, 'Ada', x'00ff', 1.5, NULL), (2, 'Bo', x'', 2, 'x')",
		"CREATE TABLE bare (id TEXT PRIMARY KEY) WITHOUT ROWID", "CREATE TABLE log (n)")
	spec := Spec{Form: "sqlite"}
	ed, err := spec.Edit(t.Context(), bytes.NewReader(data))
	require.NoError(t, err)
	found, err := ed.Find(t.Context(), nil, "SELECT name FROM crew WHERE name = 'Ada'", true)
	require.NoError(t, err)
	require.Len(t, found, 1)
	piece, err := ed.Piece(found[0])
	require.NoError(t, err)
	assert.JSONEq(t, `{"table": "crew", "columns": {"id": 1, "name": "Ada", "raw": {"base64": "AP8="}, "pay": 1.5, "note": null}}`, string(piece))
	require.NoError(t, ed.Remove(found...))
	now, err := ed.Done(t.Context())
	require.NoError(t, err)
	require.NoError(t, ed.Close())
	ed, err = spec.Edit(t.Context(), bytes.NewReader(now))
	require.NoError(t, err)
	require.NoError(t, ed.Insert(nil, nil, piece))
	for _, wrong := range []string{`{"table": "crew; DROP TABLE log", "columns": {"id": 9}}`, `{"table": "crew", "columns": {"id) VALUES (1); --": 9}}`, `{"table": "none", "columns": {"id": 9}}`, "no row", `{"table": "crew", "columns": {"id": 2}}`} {
		assert.ErrorIs(t, ed.Insert(nil, nil, []byte(wrong)), wrap.ErrNotWritable, wrong)
	}
	again, err := ed.Done(t.Context())
	require.NoError(t, err)
	require.NoError(t, ed.Close())
	rows := func(data []byte) (all []string) {
		return append(rowsOfAll(t, data, "SELECT * FROM crew", "id", "name", "pay", "note"), rowsOfAll(t, data, "SELECT hex(raw) h FROM crew", "h")...)
	}
	assert.NotEqual(t, rows(data), rows(now))
	assert.Equal(t, rows(data), rows(again))
	ed, err = spec.Edit(t.Context(), bytes.NewReader(data))
	require.NoError(t, err)
	for _, query := range []string{"SELECT name FROM crew, log", "SELECT max(id) FROM crew", "SELECT name FROM crew WHERE id IN (SELECT 1)", "SELECT name FROM none"} {
		_, err := ed.One(t.Context(), nil, query)
		assert.ErrorIs(t, err, wrap.ErrNotWritable, query)
	}
	require.NoError(t, ed.Close())
	ed, err = spec.Edit(t.Context(), bytes.NewReader(makeSQLite(t, "CREATE TABLE a (b)", "INSERT INTO a VALUES (1)", "CREATE trigger t AFTER INSERT ON a BEGIN DELETE FROM a; END")))
	require.NoError(t, err)
	at, err := ed.One(t.Context(), nil, "SELECT b FROM a")
	require.NoError(t, err, "it can be read")
	assert.ErrorIs(t, ed.Set(at, "2"), wrap.ErrNotWritable, "a trigger would change more")
	require.NoError(t, ed.Close())
}

func FuzzEdit(f *testing.F) {
	forms := []Spec{{Form: "json"}, {Form: "xml"}, {Form: "ini"}, {Form: "text"}, {Form: "lines"}, {Form: "blocks"}, {Form: "blocks", Blocks: BlockPatterns{Indent: true}}, {Form: "chunks", Chunks: ChunkSpec{Chunk: "tag:4 length:u8", Record: "id:cstr"}}}
	for i, e := range []string{"json", "xml", "ini", "text", "lines", "blocks", "blocks by indentation", "chunks"} {
		one := editables()[e]
		f.Add(byte(i), []byte(one.text), one.each, "x")
	}
	f.Fuzz(func(t *testing.T, which byte, data []byte, query, value string) {
		spec := forms[int(which)%len(forms)]
		ed, err := spec.Edit(t.Context(), bytes.NewReader(data))
		if err != nil {
			return
		}
		found, err := ed.Find(t.Context(), nil, query, true)
		if err != nil || len(found) == 0 {
			return
		}
		for _, s := range found {
			require.True(t, s.From >= 0 && s.From <= s.To && s.To <= ed.src.size)
		}
		if ed.Set(found[0], value) != nil {
			if ed.Remove(found...) != nil {
				return
			}
		}
		edits := ed.edits
		now, err := ed.Done(t.Context())
		if err != nil {
			return
		}
		_, err = spec.Edit(t.Context(), bytes.NewReader(now))
		require.NoError(t, err, "what was written reads")
		if f, ok := ed.writer.(follower); ok {
			more, err := f.follow(edits)
			require.NoError(t, err)
			edits = append(edits[:len(edits):len(edits)], more...)
		}
		if _, text := ed.writer.(*database); !text && bytes.Equal(ed.src.buf, data) {
			back, err := invert(data, edits)
			require.NoError(t, err)
			again, err := apply(now, back)
			require.NoError(t, err)
			require.Equal(t, string(data), string(again))
		}
	})
}

func TestEveryFormInEveryLayer(t *testing.T) {
	for name, e := range editables() {
		every := [][]string{{"gzip"}, {"checksum:crc32@0 over 4..", "skip:4", "zlib"}}
		if name == "json" || name == "chunks" { // the rest knows nothing of forms
			every = [][]string{{"gzip"}, {"zlib"}, {"deflate"}, {"zstd"}, {"xz"}, {"lz4"}, {"lzo"}, {"base64"}, {"auto"}, {"skip:5"}, {"lines:1"}, {"length:u32be"}, {"xor:0aff"}, {"zip:in/*.x"},
				{"checksum:crc32@0 over 4..", "skip:4", "zlib"}, {"framed:length:u32le raw:u32le,zlib"}, {"skip:3", "gzip", "base64"}, {"zip:in/save.x", "zstd"}}
		}
		for _, names := range every {
			layers := layersOf(t, names...)
			file := wrapAll(t, names, []byte(e.text))
			var want []byte
			written, err := layers.Rewrite(file, wrap.DefaultLimits, func(content []byte) ([]byte, error) {
				require.Equal(t, e.text, string(content), "%s in %v", name, names)
				ed, err := e.spec.Edit(t.Context(), bytes.NewReader(content))
				require.NoError(t, err)
				found, err := ed.Find(t.Context(), nil, e.each, true)
				require.NoError(t, err)
				at, err := ed.One(t.Context(), &found[1], e.value)
				require.NoError(t, err)
				require.NoError(t, ed.Set(at, "changed"))
				if !strings.HasSuffix(e.each, ".id") {
					require.NoError(t, ed.Remove(found[3], found[5]))
				}
				want, err = ed.Done(t.Context())
				return want, err
			})
			require.NoError(t, err, "%s in %v", name, names)
			again, err := layers.Peel(bytes.NewReader(written), wrap.DefaultLimits)
			require.NoError(t, err)
			require.Equal(t, string(want), string(again), "%s in %v", name, names)
			assert.Contains(t, string(again), "changed")
			if strings.HasPrefix(names[0], "skip") || names[0] == "lines:1" {
				assert.Equal(t, file[:3], written[:3])
			}
		}
	}
}

func wrapAll(t *testing.T, names []string, content []byte) []byte {
	empty := []byte("x")
	for i := len(names) - 1; i >= 0; i-- {
		switch name, arg, _ := strings.Cut(names[i], ":"); name {
		case "skip":
			empty = append([]byte("abcdefgh")[:len(strings.Repeat("x", int(arg[0]-'0')))], empty...)
		case "lines":
			empty = append([]byte("head\n"), empty...)
		case "length":
			empty = append(appendBig(nil, uint32(len(empty))), empty...)
		case "checksum", "auto":
		case "zip":
			empty = []byte(zipped(t, "first", "1", "in/save.x", string(empty), "last", "2"))
		case "framed":
			empty = append(binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(nil, uint32(len(wrapped(t, "zlib", empty)))), uint32(len(empty))), wrapped(t, "zlib", empty)...)
		case "base64":
			empty = []byte(base64.StdEncoding.EncodeToString(empty))
		case "xor":
			empty = []byte{empty[0] ^ 0x0a}
		default:
			empty = wrapped(t, names[i], empty)
		}
	}
	file, err := layersOf(t, names...).Wrap(bytes.NewReader(content), bytes.NewReader(empty), wrap.DefaultLimits)
	require.NoError(t, err, names)
	return file
}

const timetable = "# kept\n[timetable]\ntitle = \"Winter nights\"\nversion = 3.1\n[depot]\nid = copper-line\n[/depot]\n[depot]\nid = fog-bells\n[/depot]\n[/timetable]\n"

func TestOneValueChangesAndNothingElse(t *testing.T) {
	braces := "pilot { name = \"Ada\" ship = 3 }\n"
	for _, c := range []struct {
		spec               Spec
		in, at, value, was string
		now                string // "" where it is refused
	}{
		{Spec{Form: "blocks"}, timetable, "$.timetable[0].title", "Spring", `"Winter nights"`, `"Spring"`},
		{Spec{Form: "blocks"}, timetable, "$.timetable[0].version", "3.2", "3.1", "3.2"},
		{Spec{Form: "blocks"}, timetable, "$.timetable[0].depot[1].id", "a b", "fog-bells", "a b"},
		{Spec{Form: "blocks"}, timetable, "$.timetable[0].depot[2].id", "x", "", ""},
		{Spec{Form: "blocks"}, timetable, "$.timetable[0].title", "two\nlines", "", ""},
		{Spec{Form: "blocks"}, braces, "$.pilot[0].ship", "4", "ship = 3", "ship = 4"},
		{Spec{Form: "blocks"}, braces, "$.pilot[0].name", "Eve", `"Ada"`, `"Eve"`},
		{Spec{Form: "blocks", Blocks: BlockPatterns{Indent: true}}, "a b\n\tc d\n", "$.a[0].c", "e", "c d", "c e"},
		{Spec{Form: "xml"}, "<a><b c='1'/><!-- b --><b c='2'/></a>", "/a/b[2]/@c", "3", "c='2'", "c='3'"},
		{Spec{Form: "xml"}, "<a><b>1</b><d><b>2</b></d><b>3</b></a>", "/a[1]/b[2]", "x & y", "<b>3", "<b>x &amp; y"},
		{Spec{Form: "xml"}, "<a><b/></a>", "/a/b[2]/@c", "3", "", ""},
		{Spec{Form: "json"}, "{\"a b\": {\"c\": 1.50}, \"on\": true}", "$['a b'].c", "2", "1.50", "2"},
		{Spec{Form: "json"}, "{\"on\": true}", "$.on", "false", "true", "false"},
		{Spec{Form: "json"}, "{\"on\": true}", "$.on", "yes", "", ""},
		{Spec{Form: "bytes"}, "abNight\x00tail", "2:cstr", "Day", "Night", "Day\x00\x00"},
		{Spec{Form: "bytes"}, "abNight\x00tail", "2:cstr", "Twilight", "", ""},
		{Spec{Form: "bytes"}, "\x00\x00\x80\x3fx", "0:f32le", "2.5", "\x00\x00\x80\x3f", "\x00\x00\x20\x40"},
	} {
		got, err := Splice(c.spec, []byte(c.in), c.at, c.value)
		if c.now == "" {
			assert.ErrorIs(t, err, wrap.ErrNotWritable, "%s = %q in %q", c.at, c.value, c.in)
			continue
		}
		require.NoError(t, err, "%s in %q", c.at, c.in)
		assert.Equal(t, strings.Replace(c.in, c.was, c.now, 1), string(got))
	}
}

func TestOneValueOfADatabase(t *testing.T) {
	data := makeSQLite(t, "CREATE TABLE about (key TEXT, value)", "INSERT INTO about VALUES ('nights', 215), ('title', 'Lower Town'), ('rate', 0.5), ('twice', 1), ('twice', 2), ('raw', x'00')")
	spec := Spec{Form: "sqlite"}
	at := func(key string) string { return "SELECT value FROM about WHERE key = '" + key + "'" }
	rows := func(data []byte) []string { return rowsOfAll(t, data, "SELECT * FROM about", "key", "value") }
	before := rows(data)
	for key, value := range map[string]string{"nights": "216", "title": "Upper 'Town'", "rate": "0.75"} {
		got, err := Splice(spec, data, at(key), value)
		require.NoError(t, err, key)
		now := rows(got)
		for i, row := range before {
			if strings.HasPrefix(row, key+"=") {
				row = key + "=" + value
			}
			assert.Equal(t, row, now[i])
		}
	}
	for query, value := range map[string]string{
		at("nights"): "many", at("twice"): "3", at("raw"): "1", at("none"): "1", "SELECT value FROM about": "1",
		"SELECT value FROM about WHERE key = 'title' OR 1": "x", "SELECT value FROM about WHERE key = (SELECT 'title')": "x",
	} {
		_, err := Splice(spec, data, query, value)
		assert.ErrorIs(t, err, wrap.ErrNotWritable, query)
	}
	assert.Equal(t, before, rows(data))
	for query, may := range map[string]bool{at("x"): true, "SELECT value FROM about": true, "SELECT value FROM about, other": false, "SELECT max(value) FROM about WHERE key = 'x'": false} {
		assert.Equal(t, may, spec.CheckWritable(query) == nil, query)
	}
}

// TestTheQueryLeadsThere asks, for each place where a text is found, the query that is told of it: what it names has the text in it.
func TestTheQueryLeadsThere(t *testing.T) {
	for form, c := range map[string]struct {
		data string
		want []string
	}{
		"json":   {`{"a": ["reed", {"b c": "reeds", "r\u0065ed": "x", "d": "r\u0065ed"}], "reed": 1}`, []string{"$.a[0]", "$.a[1]['b c']", "$.a[1].reed", "$.a[1].d", "$.reed"}},
		"xml":    {"<?xml version='1.0'?>\n<a><b n='1'/><b n='reed'>a reed</b><c>r&#101;ed</c><n:d o:e=\"reed\" xmlns:n='x' xmlns:o='y'/></a>", []string{"/a[1]/b[2]/@n", "/a[1]/b[2]", "/a[1]/c[1]", "/a[1]/n:d[1]/@o:e"}},
		"ini":    {"top = reed\n[a]\nb = reed\n[c.d]\ne = reed\n", []string{"top", "a.b", "c.d.e"}},
		"blocks": {"[a]\nb = reed\n[/a]\n[a]\nb = 1\nc = \"a reed\"\nd = reed\nd = 2\n[/a]\n", []string{"$.a[0].b", "$.a[1].c", "$.a[1].d[0]"}},
		"text":   {"reed\na reed\r\nb: 1\nb: reed\nc = reed\nreeds = 2\n", []string{"", "^a (.*)$", "", "^c = (.*)$", "^reeds = (.*)$"}},
	} {
		f, err := Spec{Form: form}.Look(t.Context(), strings.NewReader(c.data))
		require.NoError(t, err)
		var got []string
		require.NoError(t, f.Search(t.Context(), "reed", func(found Found) error {
			got = append(got, found.Query)
			if found.Query == "" {
				return nil
			}
			n, err := f.Find(t.Context(), nil, found.Query, false)
			require.NoError(t, err, found.Query)
			require.Len(t, n, 1, found.Query)
			value, _, err := f.Value(n[0])
			require.NoError(t, err)
			assert.True(t, strings.Contains(value, "reed") || strings.HasSuffix(found.Query, "reed") || strings.HasPrefix(found.Query, "^reed"), "%s: %s", found.Query, value)
			return Spec{Form: form}.CheckWritable(found.Query)
		}))
		assert.Equal(t, c.want, got, form)
	}
}

// TestManyPlacesAreCounted has a text at more places than are told with the way to them: all are visited, in every form.
func TestManyPlacesAreCounted(t *testing.T) {
	const n = maxHits + 50
	for form, c := range map[string][3]string{
		"json": {`["`, `reed","r\u0065ed","`, `"]`}, "xml": {"<a>", "<b>reed</b><b>r&#101;ed</b>", "</a>"}, "blocks": {"[a]\n", "b = reed\n", "[/a]\n"}, "ini": {"", "a = reed\n", "c = 1\n"}, "lines": {"", "a = reed\n", "c = 1\n"},
	} {
		want := n
		if form == "json" || form == "xml" {
			want *= 2
		}
		f, err := Spec{Form: form}.Look(t.Context(), strings.NewReader(c[0]+strings.Repeat(c[1], n)+c[2]))
		require.NoError(t, err)
		at := map[int]bool{}
		require.NoError(t, f.Search(t.Context(), "reed", func(found Found) error { at[found.At] = true; return nil }))
		assert.Len(t, at, want, form)
	}
}
