package assess_test

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/record"
	"ostrov/internal/core/vet"
)

// verdictCase is a game, a save of it, and what every command says of the save: the codes of all findings but notes, in order; none is fit.
type verdictCase struct {
	name  string
	save  string            // its content: of the file run.sav, or, of a folder, of run.sav/head
	more  map[string]string // further files of a save that is a folder, or, beside one that is a file, its companions
	said  string            // the description's [[save]], with its files, fields and lists
	kinds string            // the description's kinds of mod; plain folders where it is empty
	rules string            // what else the description has
	top   string            // what it has instead of the install's version, before all tables
	mods  []string          // folders of mods that are installed
	files map[string]string // further files of the game
	want  []string
	// verdict is what it all comes to, where the codes do not tell.
	verdict check.Verdict
}

const caseTop = `version = { in = "release", at = "(.+)" }
`

const caseHead = `[install]
marker = ["release.txt"]
[file.release]
path = "{game}/release.txt"
form = "text"
[[folder]]
id   = "saves"
path = "{game}/saves"
[[folder]]
id   = "mods"
path = "{game}/mods"
[[folder]]
id   = "share"
path = "{game}/share"
`

const plainMods = `[[mod]]
id     = "mod"
unit   = "folder"
folder = "mods"
`

// saved is a [[save]] of one file in a form, with a version and a list of mods.
func saved(form, version, list, more string) string {
	return fmt.Sprintf(`[[save]]
id     = "run"
unit   = "file"
folder = "saves"
name   = "{name}.sav"
[save.file.head]
path = "."
form = %q
%s
[save.is]
has = ["version"]
[save.field]
version = { in = "head", at = %s }
[save.mods]
in = "head"
%s
`, form, more, version, list)
}

func packed(text string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = z.Write([]byte(text)) // a buffer takes all
	_ = z.Close()
	return b.String()
}

// flipped has one bit of a text another, so many bytes before its end.
func flipped(text string, before int) string {
	b := []byte(text)
	b[len(b)-before] ^= 1
	return string(b)
}

// listCases are those of a list of mods in one form: each mistake beside its healthy neighbour.
func listCases(form, version, list, wrongPath, wrongID, full, none, without string) []verdictCase {
	both := []string{"fern", "moss"}
	say := func(l, more string) string { return saved(form, version, l, more) }
	unknown := []string{"mods-unknown"}
	return []verdictCase{
		{name: form + ": all mods are there", save: full, said: say(list, ""), mods: both},
		{name: form + ": a mod is missing", save: full, said: say(list, ""), mods: both[:1], want: []string{"mod-missing"}},
		{name: form + ": an empty list", save: none, said: say(list, ""), mods: nil},
		{name: form + ": no list", save: without, said: say(list, ""), mods: both, want: unknown},
		{name: form + ": a wrong path", save: full, said: say(wrongPath, ""), mods: both, want: unknown},
		{name: form + ": a wrong id", save: full, said: say(wrongID, ""), mods: both, want: unknown},
		{name: form + ": no list, and it is required", save: without, said: say(list+"\nrequired = true", ""), mods: both, want: []string{"damaged"}},
		{name: form + ": an empty list that is required", save: none, said: say(list+"\nrequired = true", ""), mods: nil},
		{name: form + ": nothing in it", save: "", said: say(list, ""), mods: both, want: []string{"damaged"}},
		{name: form + ": another version", save: strings.Replace(full, "1.0", "2.0", 1), said: say(list, ""), mods: both, want: []string{"no-rule"}},
	}
}

func verdictCases() []verdictCase {
	var all []verdictCase
	add := func(cases ...verdictCase) { all = append(all, cases...) }
	add(listCases("json", `"$.v"`, "each = \"$.mods[*]\"\nid = \"$.id\"", "each = \"$.mod[*]\"\nid = \"$.id\"", "each = \"$.mods[*]\"\nid = \"$.name\"",
		`{"v": "1.0", "mods": [{"id": "fern"}, {"id": "moss"}]}`, `{"v": "1.0", "mods": []}`, `{"v": "1.0"}`)...)
	add(listCases("xml", `"/run/@v"`, "each = \"/run/mods/mod\"\nid = \"@id\"", "each = \"/run/mod/mod\"\nid = \"@id\"", "each = \"/run/mods/mod\"\nid = \"@name\"",
		`<run v="1.0"><mods><mod id="fern"/><mod id="moss"/></mods></run>`, `<run v="1.0"><mods/></run>`, `<run v="1.0"/>`)...)
	add(listCases("lines", `"^v (.+)$"`, "each = \"^mod (?P<id>.+)$\"\nempty = \"^(no mods)$\"", "each = \"^mods (?P<id>.+)$\"\nempty = \"^(no mods)$\"", "each = \"^mod(?P<id>)\"\nempty = \"^(no mods)$\"",
		"v 1.0\nmod fern\nmod moss\n", "v 1.0\nno mods\n", "v 1.0\n")...)
	add(listCases("text", `"v ([0-9.]+)"`, "each = \"mod (?P<id>[a-z]+);\"\nempty = \"(no mods)\"", "each = \"mods (?P<id>[a-z]+);\"\nempty = \"(no mods)\"", "each = \"mod (?P<id>)\"\nempty = \"(no mods)\"",
		"v 1.0 mod fern; mod moss;", "v 1.0 no mods", "v 1.0")...)
	add(listCases("blocks", `"$.v"`, "each = \"$.set[0].mod[*]\"\nid = \"$.id\"", "each = \"$.sets[0].mod[*]\"\nid = \"$.id\"", "each = \"$.set[0].mod[*]\"\nid = \"$.name\"",
		"v = 1.0\n[set]\n[mod]\nid = fern\n[/mod]\n[mod]\nid = moss\n[/mod]\n[/set]\n", "v = 1.0\n[set]\n[/set]\n", "v = 1.0\n")...)

	json := "each = \"$.mods[*]\"\nid = \"$.id\""
	healthy := `{"v": "1.0", "mods": [], "end": "` + strings.Repeat("x", 300) + `"}`
	say := saved("json", `"$.v"`, json, `layers = "gzip"`)
	add(verdictCase{name: "gzip", save: packed(healthy), said: say},
		verdictCase{name: "gzip, its checksum is wrong", save: flipped(packed(healthy), 6), said: say, want: []string{"damaged"}},
		verdictCase{name: "gzip, cut", save: packed(healthy)[:60], said: say, want: []string{"damaged"}},
		verdictCase{name: "no gzip at all", save: healthy, said: say, want: []string{"damaged"}})

	lines := "each = \"^mod (?P<id>.+)$\"\nempty = \"^(no mods)$\""
	say = saved("lines", `"^v (.+)$"`, lines, `ends = "the end"`)
	add(verdictCase{name: "a text that ends as it must", save: "v 1.0\nno mods\nthe end\n", said: say},
		verdictCase{name: "a text that ends so without a line's end", save: "v 1.0\nno mods\nthe end", said: say},
		verdictCase{name: "a text that was cut in the middle", save: "v 1.0\nno mods\nthe", said: say, want: []string{"damaged"}},
		verdictCase{name: "a text with that end in its middle", save: "v 1.0\nno mods\nthe end\nand more\n", said: say, want: []string{"damaged"}})

	say = strings.Replace(saved("json", `"$.v"`, json, ""), `has = ["version"]`, `has = ["version", "title"]`, 1)
	say = strings.Replace(say, "[save.mods]", "title = { in = \"head\", at = \"$.title\" }\n[save.mods]", 1)
	add(verdictCase{name: "what tells its kind is in it", save: `{"v": "1.0", "title": "T", "mods": []}`, said: say},
		verdictCase{name: "what tells its kind is not in it", save: `{"v": "1.0", "mods": []}`, said: say, want: []string{"damaged"}})

	folder := func(more string) string {
		return strings.NewReplacer(`unit   = "file"`, `unit   = "folder"`, `path = "."`, `path = "head"`).Replace(saved("json", `"$.v"`, json, "")) + more
	}
	extra := "[save.file.map]\npath = \"map.gz\"\nform = \"text\"\nlayers = \"gzip\"\n"
	head := `{"v": "1.0", "mods": []}`
	add(verdictCase{name: "a file that no field reads is whole", save: head, more: map[string]string{"map.gz": packed("map")}, said: folder(extra)},
		verdictCase{name: "a file that no field reads is damaged", save: head, more: map[string]string{"map.gz": flipped(packed("map"), 6)}, said: folder(extra), want: []string{"damaged"}},
		verdictCase{name: "a file that every save has is missing", save: head, more: map[string]string{"note": "x"}, said: folder(extra), want: []string{"missing file"}},
		verdictCase{name: "a file that a save may have is missing", save: head, more: map[string]string{"note": "x"}, said: folder(extra + "optional = true\n")},
		verdictCase{name: "one of the files that a glob means is damaged", save: head, more: map[string]string{"a.gz": packed("a"), "b.gz": flipped(packed("b"), 6)},
			said: folder(strings.Replace(extra, "map.gz", "*.gz", 1)), want: []string{"damaged"}},
		verdictCase{name: "all files that a glob means are whole", save: head, more: map[string]string{"a.gz": packed("a"), "b.gz": packed("b")},
			said: folder(strings.Replace(extra, "map.gz", "*.gz", 1))})
	return all
}

// stops are the codes of findings that say something against a save; where it would go does not.
func stops(found []check.Finding) []string {
	codes := []string{}
	for _, f := range found {
		code := string(f.Code)
		if f.Severity == check.Note || slices.Contains([]check.Code{check.SlotTaken, check.NameDiffers, check.AlreadyHere, check.OwnerDiffers, check.NeverStarted}, f.Code) {
			continue
		}
		if f.Code == check.Incomplete || f.Code == check.Damaged && strings.Contains(f.Evidence, "is missing") {
			code = "missing file" // in a download it is said which; in the game's own folder the save is damaged
		}
		if f.Code == check.NoRule && (strings.HasPrefix(f.Evidence, "nothing says which version made it") || strings.HasPrefix(f.Evidence, "it says version")) {
			code = "version unknown"
		}
		if !slices.Contains(codes, code) {
			codes = append(codes, code)
		}
	}
	slices.Sort(codes)
	return codes
}

// laid lays out the game of a case, its save in it and in a download, and a home that knows it.
func laid(t testing.TB, c verdictCase) (dir string, h *home.Home) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	write := func(name, text string) {
		path := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	write("home/games/cases.toml", "ostrov = 1\nid = \"cases\"\ntitle = \"Cases\"\n"+cmp.Or(c.top, caseTop)+caseHead+cmp.Or(c.kinds, plainMods)+c.said+c.rules)
	write("game/release.txt", "1.0")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "game", "mods"), 0o755))
	for _, m := range c.mods {
		write("game/mods/"+m+"/mod.txt", m)
	}
	for name, text := range c.files {
		write("game/"+name, text)
	}
	folder := strings.Contains(c.said, `unit   = "folder"`)
	for _, at := range []string{"game/saves/run.sav", "download/run.sav"} {
		if folder {
			write(at+"/head", c.save)
		} else {
			write(at, c.save)
		}
		for name, text := range c.more {
			if folder {
				write(at+"/"+name, text)
			} else {
				write(filepath.ToSlash(filepath.Dir(at))+"/"+name, text)
			}
		}
	}
	h, err = home.Open(home.Options{Dir: filepath.Join(dir, "home"), Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() { _ = h.Close() })
	require.Empty(t, h.Broken)
	found, err := facts.FindInstall(t.Context(), h, facts.AddRequest{Game: "cases", At: filepath.Join(dir, "game")})
	require.NoError(t, err)
	require.NoError(t, h.Register(found.Install))
	return dir, h
}

// TestVerdictCases asks look, needs, vet, place and look --if of each case: they agree.
func TestVerdictCases(t *testing.T) {
	t.Parallel()
	names := map[string]bool{}
	for _, c := range slices.Concat(verdictCases(), wordCases(), modCases(), kindCases()) {
		require.False(t, names[c.name], c.name)
		names[c.name] = true
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			dir, h := laid(t, c)
			want := append([]string{}, c.want...)
			download := filepath.Join(dir, "download", "run.sav")
			if len(c.more) > 0 && !strings.Contains(c.said, `unit   = "folder"`) {
				download = filepath.Dir(download)
			}
			v, err := vet.Vet(t.Context(), h, download, vet.Request{}) // before anything is known of it
			require.NoError(t, err)
			defer v.Close()
			judged := slices.Clone(v.Findings)
			for _, j := range v.Judged {
				judged = append(judged, j.Findings...)
			}
			if said := stops(judged); slices.Contains(said, "not-a-save") {
				require.Equal(t, []string{"damaged"}, want, "what is no save in a download is a damaged one in the game's own folder")
			} else {
				assert.Equal(t, want, said, "vet")
			}
			_, _, err = v.Place(t.Context(), false)
			assert.Equal(t, check.Sum(judged) == check.Unfit, err != nil, "place: %v", err)

			st, err := facts.Gather(t.Context(), h, h.Installs[0])
			require.NoError(t, err)
			require.NoError(t, record.Seen(t.Context(), h, st))
			look := assess.Of(st)
			require.Len(t, look.Saves, 1)
			own := stops(look.Saves[0].Findings)
			switch { // of one that lies here, what lies here is inferred; but it is not said to be written
			case slices.Contains(want, "mods-unknown"):
				assert.Equal(t, check.Inferred, look.Saves[0].Needs.ModsEvidence)
			case slices.Contains(want, "version unknown"):
				assert.Equal(t, check.Inferred, look.Saves[0].Needs.VersionEvidence)
			default:
				assert.Equal(t, want, own, "look")
			}
			same := assess.Suppose(look, []assess.Change{{Words: "as it is", Version: st.Version}})
			assert.Equal(t, own, stops(same.Then.Saves[0].Findings), "look --if")
			assert.Equal(t, own, stops(assess.Findings(st, look.Saves[0].Save)), "needs")
			if c.verdict != "" {
				assert.Equal(t, c.verdict, look.Saves[0].Verdict, "look")
				assert.Equal(t, c.verdict, check.Sum(judged), "vet")
			}
		})
	}
	t.Logf("%d cases", len(names))
}
