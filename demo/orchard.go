package demo

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"time"
)

var cogs = []modCard{
	{id: "mainspring", version: "2.0.1", title: "Mainspring"},
	{id: "pear-escapement", version: "1.3.0", title: "Pear Escapement", needs: []string{"mainspring >= 2.0"}},
	{id: "painted-bark", version: "1.1.0", title: "Painted Bark"},
	{id: "frost-winders", version: "0.7.2", title: "Frost Winders", needs: []string{"mainspring >= 2.0"}},
	{id: "ladder-clerks", version: "1.0.0", title: "Ladder Clerks"},
	{id: "copper-wasps", version: "2.2.0", title: "Copper Wasps", needs: []string{"pear-escapement >= 1.2"}},
	{id: "cider-press", version: "1.5.1", title: "Cider Press"},
	{id: "moon-grafts", version: "0.3.0", title: "Moon Grafts", needs: []string{"mainspring >= 3.0"}},
}

// orchard is a save of Brass Orchard.
type orchard struct {
	name, title, release string
	cogs                 []string // "id=version"
	coins                int
	when                 time.Time
	trees                int
}

func ownOrchards() []orchard {
	all := []string{"mainspring=2.0.1", "pear-escapement=1.3.0", "painted-bark=1.1.0", "frost-winders=0.7.2", "ladder-clerks=1.0.0", "copper-wasps=2.2.0", "cider-press=1.5.1", "moon-grafts=0.3.0"}
	return []orchard{
		{"bay_a.orchard", "North Terrace", "2.3", all, 4120, days(1), 60},
		{"bay_b.orchard", "Quince Wall", "2.3", all[:6], 880, days(12), 60},
		{"bay_c.orchard", "Old Press Yard", "1.9", []string{"cider-press=1.2.0"}, 96000, days(500), 21_000},
		{"bay_d.orchard", "Wasp Season", "2.2", append([]string{"honey-dials=1.0.0"}, all...), 310, days(60), 60},
		{"season_01.orchard", "North Terrace, spring", "2.3", all, 3900, days(3), 60},
		{"season_02.orchard", "North Terrace, summer", "2.3", all, 4055, days(2), 60},
	}
}

func (o orchard) xml() []byte {
	r := rand.New(rand.NewPCG(uint64(o.coins), 9))
	var b strings.Builder
	fmt.Fprintf(&b, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<bay title=%q release=%q>\n <purse coins=\"%d\"/>\n <cogs>\n", o.title, o.release, o.coins)
	for _, c := range o.cogs {
		id, version, _ := strings.Cut(c, "=")
		fmt.Fprintf(&b, "  <cog id=%q version=%q/>\n", id, version)
	}
	b.WriteString(" </cogs>\n <trees>\n")
	for i := range o.trees {
		fmt.Fprintf(&b, "  <tree row=\"%d\" wound=\"%.3f\" fruit=\"%d\"/>\n", i, r.Float64(), r.IntN(40))
	}
	b.WriteString(" </trees>\n <wardens lead=\"2\">\n")
	for i, name := range [][]string{{"Pip", "Odile"}, {"Tam", "Odile", "Una"}, {"Pip", "Wim"}}[len(o.title)%3] {
		fmt.Fprintf(&b, "  <warden id=\"%d\" name=%q hat=%q tends=\"%d\"/>\n", i+1, name, []string{"straw", "felt"}[(o.coins+i)%2], 7*i+o.coins%40)
	}
	b.WriteString(" </wardens>\n")
	fmt.Fprintf(&b, " <hives count=\"%d\">\n", len(o.cogs))
	for i, c := range o.cogs {
		id, _, _ := strings.Cut(c, "=")
		fmt.Fprintf(&b, "  <hive tree=\"%d\" of=\"%s:hive\"/>\n", 5*i, id)
	}
	b.WriteString(" </hives>\n <licences/>\n</bay>\n")
	return []byte(b.String())
}

func (w *World) brassOrchard(b *builder) {
	root := w.path("games", "BrassOrchard")
	b.write(filepath.Join(root, executable()), program(), days(45))
	b.write(filepath.Join(root, "release.ini"), []byte("[Release]\nnumber = 2.3\nname = Quince\n"), days(45))
	for i, c := range cogs {
		b.files(filepath.Join(root, "cogs", c.id), modFiles("cog.json", c), days(60+i))
		if c.id == "ladder-clerks" {
			for _, kind := range []string{"ladder", "lantern"} {
				b.write(filepath.Join(root, "cogs", c.id, "licences", kind+".xml"), fmt.Appendf(nil, "<licence kind=%q of=\"ladder-clerks\"/>\n", kind), days(60+i))
			}
		}
	}
	b.write(filepath.Join(root, "winder", "winder.dll"), program(), days(45))
	b.write(filepath.Join(root, "winder", "winder.ini"), []byte("[winder]\nversion = 5.2\nquiet = no\n"), days(45))
	config := filepath.Join(w.known().Config, "brass-orchard")
	bays, err := json.Marshal(w.bays())
	if err != nil {
		b.err = err
		return
	}
	b.write(filepath.Join(config, "wardens.json"), fmt.Appendf(nil, "{\"current\": {\"name\": \"Pip\", \"bays\": %s}}\n", bays), days(200))
	b.write(filepath.Join(config, "settings.ini"), []byte("[sound]\nbells = 70\n[view]\nrows = 12\n"), days(20))
	for _, o := range ownOrchards() {
		b.write(filepath.Join(w.bays(), o.name), o.xml(), o.when)
	}
}
