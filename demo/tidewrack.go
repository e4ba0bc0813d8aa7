package demo

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"time"
)

// captain is the player's account in Tidewrack; stranger is somebody else's.
const (
	captain  = "70431"
	stranger = "70112"
)

// modCard is a mod as a game has it: id, version, title and what it needs ("id range").
type modCard struct {
	id, version, title string
	needs              []string
	off                bool
}

var tidewrackMods = []modCard{
	{id: "lantern-core", version: "1.2.0", title: "Lantern Core"},
	{id: "deep-tides", version: "2.1.0", title: "Deep Tides", needs: []string{"lantern-core >= 1.1"}},
	{id: "rope-and-tar", version: "0.9.0", title: "Rope & Tar", needs: []string{"lantern-core >= 1.0"}},
	{id: "gull-post", version: "1.4.2", title: "Gull Post"},
	{id: "kelp-farms", version: "0.4.0", title: "Kelp Farms", needs: []string{"deep-tides >= 2.0"}},
	{id: "fog-horns", version: "1.1.0", title: "Fog Horns"},
	{id: "storm-lamps", version: "2.0.0", title: "Storm Lamps", needs: []string{"lantern-core >= 1.2"}},
	{id: "night-market", version: "1.3.0", title: "Night Market", needs: []string{"gull-post *"}},
	{id: "painted-hulls", version: "3.0.0", title: "Painted Hulls"},
	{id: "barnacle-fix", version: "1.0.1", title: "Barnacle Fix"},
	{id: "old-charts", version: "1.0.1", title: "Old Charts", off: true},
	{id: "sea-glass", version: "0.2.1", title: "Sea Glass", needs: []string{"lantern-core >= 2.0"}, off: true},
}

// voyage is a save of Tidewrack.
type voyage struct {
	slot    int
	title   string
	version string
	captain string
	mods    []modCard
	hours   int
	when    time.Time
	seed    uint64
}

// on are the mods that are switched on, with changes: "id" leaves one out, "id=version" changes or adds one.
func on(changes ...string) []modCard {
	var list []modCard
	for _, m := range tidewrackMods {
		if !m.off {
			list = append(list, m)
		}
	}
	for _, c := range changes {
		id, version, keep := strings.Cut(c, "=")
		var kept []modCard
		found := false
		for _, m := range list {
			if m.id == id {
				found = true
				if !keep {
					continue
				}
				m.version = version
			}
			kept = append(kept, m)
		}
		if keep && !found {
			kept = append(kept, modCard{id: id, version: version})
		}
		list = kept
	}
	return list
}

// days is the evening n days before the last one.
func days(n int) time.Time { return clock.AddDate(0, 0, -n) }

func ownVoyages() []voyage {
	return []voyage{
		{0, "Gannet Rock", "1.6.2", captain, on(), 212, days(0), 1},
		{1, "Herring Sound", "1.6.2", captain, on(), 96, days(2), 2},
		{2, "The Long Mole", "1.6.1", captain, on(), 87, days(20), 3},
		{3, "Cormorant Stairs", "1.6.0", captain, on("rope-and-tar=0.8.1", "night-market"), 64, days(75), 4},
		{4, "First Light", "1.4.0", captain, on("kelp-farms", "storm-lamps", "night-market", "deep-tides=1.8.0"), 31, days(400), 5},
		{6, "Salt and Lamps", "1.6.2", captain, on("tar-works=1.0.0"), 18, days(9), 6},
		{8, "No Mods Night", "1.6.2", captain, nil, 3, days(5), 7},
	}
}

// files are those of the save's folder.
func (v voyage) files() []file {
	r := rand.New(rand.NewPCG(v.seed, 6))
	var mods, islands []string
	for _, m := range v.mods {
		mods = append(mods, fmt.Sprintf(`{"id": %q, "version": %q}`, m.id, m.version))
	}
	for i := range 40 {
		island := fmt.Sprintf(`{"id": %d, "lamps": %d, "oil": %.2f`, i, r.IntN(12), r.Float64()*100)
		if len(v.mods) > 0 && r.IntN(3) > 0 {
			island += fmt.Sprintf(`, "built": ["%s:pier", "%s:lamp"]`, v.mods[r.IntN(len(v.mods))].id, v.mods[r.IntN(len(v.mods))].id)
		}
		islands = append(islands, island+"}")
	}
	var keepers []string
	for i, name := range []string{"Ansa", "Bero", "Cael", "Dwyn"}[:2+v.seed%3] {
		keepers = append(keepers, fmt.Sprintf(`{"id": %d, "name": %q, "hat": %q, "island": %d}`, i+1, name, []string{"oilskin", "straw", "none"}[(int(v.seed)+i)%3], 3*i+int(v.seed)))
	}
	text := fmt.Sprintf("{\n \"title\": %q,\n \"version\": %q,\n \"captain\": %s,\n \"written\": %q,\n \"played\": %d,\n \"mods\": [%s],\n \"keepers\": [\n  %s\n ],\n \"islands\": [\n  %s\n ]\n}\n",
		v.title, v.version, v.captain, v.when.Format(time.RFC3339), v.hours*3600, strings.Join(mods, ", "), strings.Join(keepers, ",\n  "), strings.Join(islands, ",\n  "))
	chart := make([]byte, 4096+r.IntN(4096))
	for i := range chart {
		chart[i] = byte(r.Uint32())
	}
	copy(chart, "CHART")
	return []file{{"voyage.json.gz", gzipped([]byte(text))}, {"chart.bin", chart}}
}

func gzipped(data []byte) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b) // into memory: cannot fail
	_, _ = z.Write(data)
	_ = z.Close()
	return b.Bytes()
}

// modFiles are those of a mod's folder.
func modFiles(card string, m modCard) []file {
	var needs []string
	for _, n := range m.needs {
		id, r, _ := strings.Cut(n, " ")
		needs = append(needs, fmt.Sprintf(`{"id": %q, "version": %q}`, id, r))
	}
	r := rand.New(rand.NewPCG(uint64(len(m.id)), uint64(m.id[0])))
	art := make([]byte, 2000+r.IntN(6000))
	for i := range art {
		art[i] = byte(r.Uint32())
	}
	return []file{
		{card, jsonLine(`{"id": %q, "version": %q, "title": %q, "needs": [%s]}`, m.id, m.version, m.title, strings.Join(needs, ", "))},
		{"things.json", jsonLine(`{"things": ["%s:pier", "%s:lamp", "%s:crate"]}`, m.id, m.id, m.id)},
		{"art/" + m.id + ".art", append([]byte("ART1"), art...)},
	}
}

func (w *World) tidewrack(b *builder) {
	root := w.path("games", "Tidewrack")
	b.write(filepath.Join(root, "Tidewrack.exe"), program(), days(30))
	b.write(filepath.Join(root, "lantern.dll"), program(), days(300))
	b.write(filepath.Join(root, "version.json"), jsonLine(`{"version": "1.6.2", "build": 8812}`), days(30))
	var order []string
	for i, m := range tidewrackMods {
		b.files(filepath.Join(root, "mods", m.id), modFiles("mod.json", m), days(100+i))
		line := m.id
		if m.off {
			line = "#" + line
		}
		order = append(order, line)
	}
	b.write(filepath.Join(root, "mods", "order.txt"), []byte(strings.Join(order, "\n")+"\n"), days(90))
	b.write(w.path("prefix", "user.reg"), registry(), days(300))
	documents := filepath.Join(w.documents(), "Tidewrack")
	b.write(filepath.Join(documents, "captain.ini"), []byte("[captain]\nid = "+captain+"\nname = Keeper\n"), days(300))
	b.write(filepath.Join(documents, "config", "display.ini"), []byte("[display]\nwidth = 2560\nheight = 1440\nlamps = bright\n"), days(40))
	for _, v := range ownVoyages() {
		b.files(filepath.Join(w.voyages(), fmt.Sprintf("slot_%02d", v.slot)), v.files(), v.when)
	}
}
