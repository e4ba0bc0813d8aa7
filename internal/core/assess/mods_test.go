package assess_test

import (
	"crypto/md5"
	"encoding/hex"
	"fmt"
	"strings"

	"ostrov/internal/core/check"
)

// cards are mods that are folders with a card that says what they are and need.
const cards = `[[mod]]
id     = "mod"
unit   = "folder"
folder = "mods"
marker = ["card.json"]
[mod.file.card]
path = "card.json"
form = "json"
[mod.field]
id      = { in = "card", at = "$.id" }
version = { in = "card", at = "$.version" }
tag     = { in = "card", at = "$.tag" }
[mod.needs]
in    = "card"
each  = "$.needs[*]"
id    = "$.id"
range = "$.range"
[mod.clashes]
in    = "card"
each  = "$.clashes[*]"
id    = "$"
[mod.provides]
in    = "card"
each  = "$.provides[*]"
id    = "$"
[mod.was]
in    = "card"
each  = "$.was[*]"
id    = "$"
`

// shared are the same in another folder.
var shared = strings.Replace(strings.Replace(cards, `id     = "mod"`, `id     = "shared"`, 1), `folder = "mods"`, `folder = "share"`, 1)

// carded are the files of mods: "mods/fern" with what its card says besides its id.
func carded(mods ...string) map[string]string {
	files := map[string]string{}
	for _, m := range mods {
		at, rest, _ := strings.Cut(m, " ")
		id := at[strings.LastIndexByte(at, '/')+1:]
		if rest != "" {
			rest = ", " + rest
		}
		files[at+"/card.json"] = fmt.Sprintf(`{"id": %q%s}`, id, rest)
	}
	return files
}

func listing(mods ...string) string {
	return `{"v": "1.0", "mods": [` + strings.Join(mods, ", ") + `]}`
}

// modCases are those of mods: which a save needs, of which version, from where, and with which others.
func modCases() []verdictCase {
	var all []verdictCase
	add := func(cases ...verdictCase) { all = append(all, cases...) }
	columns := "each = \"$.mods[*]\"\nid = \"$.id\"\nversion = \"$.v\"\nrange = \"$.range\"\n"
	said := inJSON(columns, "")
	own := inJSON(columns+"own = true", "")
	one := func(name, save string, files map[string]string, want ...string) verdictCase {
		return verdictCase{name: name, save: save, said: said, kinds: cards, files: files, want: want}
	}
	add(one("a mod of the same version", listing(`{"id": "fern", "v": "2"}`), carded(`mods/fern "version": "2"`)),
		one("a mod of another version", listing(`{"id": "fern", "v": "2"}`), carded(`mods/fern "version": "1"`), "mod-differs"),
		one("a mod of a version in the range", listing(`{"id": "fern", "range": ">= 2"}`), carded(`mods/fern "version": "3"`)),
		one("a mod of a version out of the range", listing(`{"id": "fern", "range": ">= 2"}`), carded(`mods/fern "version": "1"`), "mod-differs"),
		one("a mod without a version where a range is needed", listing(`{"id": "fern", "range": ">= 2"}`), carded("mods/fern"), "mod-differs"),
		one("a mod that stands for another", listing(`{"id": "moss"}`), carded(`mods/fern "provides": ["moss"]`)),
		one("a mod that stands for something else", listing(`{"id": "moss"}`), carded(`mods/fern "provides": ["reed"]`), "mod-missing"),
		one("a mod that was called so", listing(`{"id": "moss"}`), carded(`mods/fern "was": ["moss"]`)),
		one("a mod that was called otherwise", listing(`{"id": "moss"}`), carded(`mods/fern "was": ["reed"]`), "mod-missing"),
		one("a mod in another case", listing(`{"id": "FERN"}`), carded("mods/fern")))

	needy := func(rest string) map[string]string {
		return carded(`mods/fern "needs": [{"id": "moss"`+rest+`}]`, "mods/moss")
	}
	ownCase := func(name, save string, files map[string]string, want ...string) verdictCase {
		c := one(name, save, files, want...)
		c.said = own
		return c
	}
	add(ownCase("own sets: what is needed is on", listing(`{"id": "fern"}`, `{"id": "moss"}`), needy("")),
		ownCase("own sets: what is needed is not on", listing(`{"id": "fern"}`), needy(""), "requirement-missing"),
		ownCase("own sets: what is needed is not installed", listing(`{"id": "fern"}`), carded(`mods/fern "needs": [{"id": "moss"}]`), "requirement-missing"),
		ownCase("own sets: what is needed is too old", listing(`{"id": "fern"}`, `{"id": "moss"}`), carded(`mods/fern "needs": [{"id": "moss", "range": ">= 2"}]`, `mods/moss "version": "1.9"`), "requirement-missing"),
		ownCase("own sets: what is needed is new enough", listing(`{"id": "fern"}`, `{"id": "moss"}`), carded(`mods/fern "needs": [{"id": "moss", "range": ">= 2"}]`, `mods/moss "version": "2.1"`)),
		ownCase("own sets: another one stands for what is needed", listing(`{"id": "fern"}`, `{"id": "reed"}`), carded(`mods/fern "needs": [{"id": "moss"}]`, `mods/reed "provides": ["moss"]`)),
		ownCase("own sets: two that clash", listing(`{"id": "fern"}`, `{"id": "moss"}`), carded(`mods/fern "clashes": ["moss"]`, "mods/moss"), "mods-collide"),
		ownCase("own sets: one that clashes is not on", listing(`{"id": "fern"}`), carded(`mods/fern "clashes": ["moss"]`, "mods/moss")),
		ownCase("own sets: more are installed", listing(`{"id": "fern"}`), carded("mods/fern", "mods/moss")))
	ruled := ownCase("own sets: the description says that it does not matter", listing(`{"id": "fern"}`), needy(""))
	ruled.rules = "[[rule]]\non = \"requirement-missing\"\nsays = \"fit\"\n"
	add(ruled)
	listedOrder := ownCase("mods are numbered by themselves, not as the game is", listing(`{"id": "fern"}`, `{"id": "moss"}`), carded(`mods/fern "needs": [{"id": "moss", "range": ">= 2"}]`, `mods/moss "version": "10"`))
	listedOrder.top = caseTop + "[versions]\norder = \"list\"\nlist = [\"0.9\", \"1.0\"]\n"
	add(listedOrder)

	from := func(expects string) string {
		return inJSON("each = \"$.mods[*]\"\nid = \"$.id\"\nown = true\nexpects = \""+expects+"\"", "")
	}
	both := cards + shared
	add(verdictCase{name: "a mod where the save wants it", save: listing(`{"id": "fern"}`), said: from("share"), kinds: both, files: carded("share/fern")},
		verdictCase{name: "a mod elsewhere than the save wants it", save: listing(`{"id": "fern"}`), said: from("share"), kinds: both, files: carded("mods/fern"), want: []string{"mod-elsewhere"}},
		verdictCase{name: "a mod in both, and the save says which", save: listing(`{"id": "fern"}`), said: from("share"), kinds: both, files: carded("mods/fern", "share/fern")},
		verdictCase{name: "a mod in both: the first one decides", save: listing(`{"id": "fern"}`), said: own, kinds: both, files: carded("mods/fern", "share/fern")})
	stops := strings.ReplaceAll(both, "unit   = \"folder\"\n", "unit   = \"folder\"\ntwice  = \"stops\"\n")
	add(verdictCase{name: "a mod in both, and the game does not start", save: listing(`{"id": "fern"}`), said: own, kinds: stops, files: carded("mods/fern", "share/fern"), want: []string{"mod-twice"}},
		verdictCase{name: "another mod in both", save: listing(`{"id": "fern"}`), said: own, kinds: stops, files: carded("mods/fern", "mods/moss", "share/moss")},
		verdictCase{name: "a mod in both that is on for the whole game", save: listing(`{"id": "fern"}`), said: said, kinds: stops, files: carded("mods/fern", "mods/moss", "share/moss"), want: []string{"mod-twice"}},
		verdictCase{name: "a mod in one of both", save: listing(`{"id": "fern"}`), said: own, kinds: stops, files: carded("share/fern")})

	rule := func(about string) string { return "[[rule]]\n" + about + "\nsays = \"fit\"\n" }
	kinds := strings.Replace(cards, `id     = "mod"`, "id     = \"mod\"\ntitle  = \"map\"\naffects = \"look\"", 1)
	for name, c := range map[string]struct {
		rule, save, file string
		matches          bool
		code             string
	}{
		"a rule by a glob":                  {"on = \"mod-missing\"\nmod = \"mo*\"", `{"id": "moss"}`, "mods/fern", true, "mod-missing"},
		"a rule by another glob":            {"on = \"mod-missing\"\nmod = \"fe*\"", `{"id": "moss"}`, "mods/fern", false, "mod-missing"},
		"a rule by the kind's title":        {"on = \"mod-missing\"\nkind = \"map\"", `{"id": "moss"}`, "mods/fern", true, "mod-missing"},
		"a rule by what it affects":         {"on = \"mod-missing\"\naffects = \"look\"", `{"id": "moss"}`, "mods/fern", true, "mod-missing"},
		"a rule by what it does not affect": {"on = \"mod-missing\"\naffects = \"content\"", `{"id": "moss"}`, "mods/fern", false, "mod-missing"},
		"a rule on older ones":              {"on = \"mod-differs\"\nis = \"older\"", `{"id": "fern", "v": "2"}`, `mods/fern "version": "1"`, true, "mod-differs"},
		"a rule on older ones and a newer":  {"on = \"mod-differs\"\nis = \"older\"", `{"id": "fern", "v": "2"}`, `mods/fern "version": "3"`, false, "mod-differs"},
		"a rule on newer ones":              {"on = \"mod-differs\"\nis = \"newer\"", `{"id": "fern", "v": "2"}`, `mods/fern "version": "3"`, true, "mod-differs"},
		"a rule on edited ones and another": {"on = \"mod-differs\"\nis = \"edited\"", `{"id": "fern", "v": "2"}`, `mods/fern "version": "3"`, false, "mod-differs"},
	} {
		v := one(name, listing(c.save), carded(c.file))
		if v.kinds, v.rules = kinds, rule(c.rule); !c.matches {
			v.want = []string{c.code}
		}
		add(v)
	}
	two := one("a rule by a kind where it could be of two", listing(`{"id": "moss"}`), carded("mods/fern"), "mod-missing")
	two.kinds, two.rules = kinds+shared, rule("on = \"mod-missing\"\nkind = \"map\"")
	add(two)

	add(digestCases()...)
	add(referenceCases()...)
	return all
}

// digestCases are those of mods that saves name by a digest of the game's own.
func digestCases() []verdictCase {
	kinds := "[[mod]]\nid = \"mod\"\nunit = \"file\"\nfolder = \"mods\"\nname = \"*.plug\"\ndigest = { md5 = \"4..\" }\n"
	sum := md5.Sum([]byte("content"))
	said := inJSON("each = \"$.mods[*]\"\nid = \"$.id\"\ndigest = \"$.md5\"", "")
	save := listing(fmt.Sprintf(`{"id": "fern", "md5": %q}`, hex.EncodeToString(sum[:])))
	one := func(name string, files map[string]string, want ...string) verdictCase {
		return verdictCase{name: name, save: save, said: said, kinds: kinds, files: files, want: want}
	}
	upper := one("a digest in capitals", map[string]string{"mods/fern.plug": "HEADcontent"})
	upper.save = strings.Replace(save, hex.EncodeToString(sum[:]), strings.ToUpper(hex.EncodeToString(sum[:])), 1)
	marked := strings.Replace(kinds, "\ndigest", "\nis = { magic = \"48454144@0\" }\ndigest", 1)
	made := func(name string, files map[string]string, want ...string) verdictCase {
		return verdictCase{name: name, save: listing(`{"id": "fern"}`), said: said, kinds: marked, files: files, want: want}
	}
	return []verdictCase{
		one("a mod by its digest", map[string]string{"mods/fern.plug": "HEADcontent"}),
		one("a mod whose head differs, which the digest leaves out", map[string]string{"mods/fern.plug": "headcontent"}),
		one("a mod that was renamed", map[string]string{"mods/renamed.plug": "HEADcontent"}),
		one("a mod that was edited", map[string]string{"mods/fern.plug": "HEADContent"}, "mod-missing"),
		one("a mod of that digest is not there", nil, "mod-missing"),
		upper,
		made("a mod that is made as one", map[string]string{"mods/fern.plug": "HEADcontent"}),
		made("a file that is called as a mod and is none", map[string]string{"mods/fern.plug": "headcontent"}, "mod-missing"),
	}
}

// referenceCases are those of what saves refer to.
func referenceCases() []verdictCase {
	folder := func(map_ string) string {
		return ofFolder(strings.Replace(inJSON("each = \"$.mods[*]\"\nid = \"$.id\"", ""), "[save.is]", "[save.file.map]\npath = \"map\"\nform = \"text\"\n"+map_+"[save.is]", 1))
	}
	adds := func(how string) string { return cards + "[mod.adds]\n" + how + "\n" }
	references := "[references]\nin = \"map\"\n"
	stops := references + "[[rule]]\non = \"mod-missing\"\nsays = \"unfit\"\neffect = \"stops\"\n"
	one := func(name, how, content, rules, file string, want ...string) verdictCase {
		c := verdictCase{name: name, save: listing(), more: map[string]string{"map": content}, said: folder(""), kinds: adds(how), rules: rules, want: want}
		if file != "" {
			c.files = carded(file)
		}
		return c
	}
	missing := func(name, how, content string, want string) verdictCase {
		c := one(name, how, content, stops, "", want)
		c.save = listing(`{"id": "moss"}`)
		return c
	}
	absent := missing("a missing mod, and the place is not there", `prefix = "{id}:"`, "", "mod-missing")
	absent.more, absent.said = map[string]string{"note": "x"}, folder("optional = true\n")
	unread := one("a place that cannot be read", `prefix = "{id}:"`, "no gzip", references, "")
	unread.said, unread.want = folder("layers = \"gzip\"\n"), []string{"damaged"}
	read := one("a place that can be read", `prefix = "{id}:"`, packed("fern:stone"), references, "mods/fern")
	read.said, read.save = folder("layers = \"gzip\"\n"), listing(`{"id": "fern"}`)
	named := missing("a missing mod that is not in it, and a rule that names it", `prefix = "{id}:"`, "reed:stone", "mod-missing")
	named.rules = references + "[[rule]]\non = \"mod-missing\"\nmod = \"moss\"\nsays = \"unfit\"\neffect = \"stops\"\n"
	partly := missing("a missing mod of which not all is known", `prefix = "{id}:"`, "reed:stone", "mod-missing")
	partly.kinds = strings.Replace(partly.kinds, "[mod.adds]", "[[mod.adds]]", 1) + "[[mod.adds]]\nin = \"card\"\neach = \"$.adds[*]\"\n"
	in := missing("a missing mod that is in it", `prefix = "{id}:"`, "moss:stone", "mod-missing")
	notIn := missing("a missing mod that is not in it", `prefix = "{id}:"`, "reed:stone", "mod-missing")
	for _, c := range []*verdictCase{&absent, &named, &partly, &in} {
		c.verdict = check.Unfit
	}
	notIn.verdict = check.Risky
	return []verdictCase{
		absent, unread, read, named, in, notIn,
		partly,
		one("what begins as a mod's, not listed", `prefix = "{id}:"`, "fern:stone", references+"", "mods/fern"),
		one("what ends as a mod's", `suffix = "-{id}"`, "stone-fern", references, "mods/fern"),
		one("what begins as a field of a mod says", `prefix = "{field:tag}_"`, "zz9_stone", references, `mods/fern "tag": "zz9"`),
	}
}
