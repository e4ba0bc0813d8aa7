package coretest_test

import (
	"archive/zip"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/coretest"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/mods"
	"ostrov/internal/core/plan"
	"ostrov/internal/longtest"
)

// rivets is a game whose mods are merged into the folder of a loader, where several bring the same files. listed tells whether it has a list of
// active mods, whose order is the load order.
func rivets(listed bool) (description string, files map[string]string) {
	description = `
ostrov  = 1
id      = "rivets"
title   = "Rivets"
version = { in = "about", at = "game.version" }
install = { marker = ["rivets.dat"] }
folder  = [
	{ id = "saves", path = "{game}/saves" },
	{ id = "plates", path = "{game}/press/plates", create = true },
]
file = { about = { path = "{game}/about.ini", form = "ini" }, list = { path = "{game}/press/order.txt", form = "lines", optional = true } }
[[save]]
id     = "shift"
unit   = "file"
folder = "saves"
name   = "{name}.shift"
no_mods = true
[save.file.shift]
path = "."
form = "ini"
[[mod]]
id     = "plate"
unit   = "folder"
folder = "plates"
marker = ["plate.ini"]
[mod.file.card]
path = "plate.ini"
form = "ini"
[mod.field]
id      = { in = "card", at = "plate.id" }
version = { in = "card", at = "plate.version" }
[mod.unpack]
merge = { "press" = "{game}/press", "art" = "{game}/art" }
leave = ["readme*"]
`
	files = map[string]string{
		"rivets.dat": "x", "about.ini": "[game]\nversion = 3.1\n", "saves/a.shift": "[shift]\nn = 1\n",
		"press/core.plate": "the game's own", "press/shared/one.txt": "one of the game\n", "press/shared/two.txt": "two of the game\n", "art/hull.art": "hull",
	}
	if listed {
		description += "[active]\nin = \"list\"\neach = \"^(?P<off>-?)(?P<id>[a-z]+)$\"\noff = \"off\"\norder = true\nentry = \"{id}\"\nentry_off = \"-{id}\"\n"
		files["press/order.txt"] = "# plates, in order\n"
	}
	return description, files
}

// shared are paths that several mods bring; some are the game's own.
var shared = []string{"press/core.plate", "press/shared/one.txt", "press/shared/two.txt", "press/shared/deep/three.txt", "art/hull.art", "art/new/sail.art"}

// plate is a version of a mod: what each path holds.
type plate struct {
	id, version string
	files       map[string]string // by path in the game
}

func plates(r *rand.Rand) [][]plate {
	var all [][]plate
	for _, id := range []string{"anvil", "bellows", "chisel", "drill", "emery"} {
		var versions []plate
		for _, v := range []string{"1.0", "1.1", "2.0"} {
			p := plate{id, v, map[string]string{"press/plates/" + id + "/plate.ini": fmt.Sprintf("[plate]\nid = %s\nversion = %s\n", id, v)}}
			for _, path := range append(shared, "press/plates/"+id+"/own.bin", "press/plates/"+id+"/art/a.bin", "press/"+id+".txt") {
				if r.IntN(2) == 0 {
					p.files[path] = fmt.Sprintf("%s of %s %s\n", path, id, v)
				}
			}
			versions = append(versions, p)
		}
		all = append(all, versions)
	}
	return all
}

var plateTime = time.Date(2025, 4, 3, 2, 1, 0, 0, time.UTC)

func (p plate) pack(t testing.TB, dir string) string {
	at := filepath.Join(dir, p.id+"-"+p.version+".zip")
	f, err := os.Create(at)
	require.NoError(t, err)
	w := zip.NewWriter(f)
	for _, name := range slices.Sorted(maps.Keys(p.files)) {
		e, err := w.CreateHeader(&zip.FileHeader{Name: "outer/" + name, Method: zip.Deflate, Modified: plateTime})
		require.NoError(t, err)
		_, err = e.Write([]byte(p.files[name]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, f.Close())
	return at
}

// laidPlate is what the model knows of a mod.
type laidPlate struct {
	plate
	came  int
	state string // "" is in place
	on    bool   // in the list
}

// modWalk is a player who does anything with five mods that overlap.
type modWalk struct {
	*coretest.World
	t      *testing.T
	r      *rand.Rand
	game   string
	zips   string
	listed bool
	all    [][]plate
	first  map[string]string // what the folders were
	base   map[string]string // content by path
	have   []laidPlate
	order  []string // of the list
	came   int
	past   []modState // before each change
	done   []string
}

type modState struct {
	have  []laidPlate
	order []string
	came  int
}

func (w *modWalk) state() modState {
	return modState{slices.Clone(w.have), slices.Clone(w.order), w.came}
}

// now is what each path of the model holds.
func (w *modWalk) now() map[string]string {
	want := maps.Clone(w.base)
	have := slices.Clone(w.have)
	rank := func(p laidPlate) int { return slices.Index(w.order, p.id) }
	slices.SortStableFunc(have, func(a, b laidPlate) int {
		if w.listed && rank(a) != rank(b) {
			return rank(a) - rank(b)
		}
		return a.came - b.came
	})
	for _, p := range have {
		if p.state != "" {
			continue
		}
		for path, text := range p.files {
			want[path] = text
		}
	}
	if w.listed {
		text := w.base["press/order.txt"]
		for _, id := range w.order {
			if i := w.index(id); w.have[i].state == "" {
				if !w.have[i].on {
					text += "-"
				}
				text += id + "\n"
			}
		}
		want["press/order.txt"] = text
	}
	return want
}

func (w *modWalk) index(id string) int {
	return slices.IndexFunc(w.have, func(p laidPlate) bool { return p.id == id })
}

// lies is what lies in the game's folder, but for what Ostrov leaves there.
func lies(t testing.TB, dir string, times bool) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.Name() == ".ostrov" {
			return fs.SkipDir
		}
		rel, err := filepath.Rel(dir, path)
		require.NoError(t, err)
		rel = filepath.ToSlash(rel)
		if d.IsDir() {
			if times {
				all[rel+"/"] = ""
			}
			return nil
		}
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		all[rel] = string(data)
		if times {
			info, err := d.Info()
			require.NoError(t, err)
			all[rel] += fmt.Sprint(" ", info.Mode(), info.ModTime().UTC())
		}
		return nil
	}))
	return all
}

func (w *modWalk) see() *assess.Install { return assess.Of(w.See("rivets")) }

// do carries a proposal out, as a command does.
func (w *modWalk) do(what string, p *mods.Proposal, err error) bool {
	w.t.Helper()
	require.NoError(w.t, err, "%s after %s", what, strings.Join(w.done, ", "))
	if p.Empty() {
		return false
	}
	_, err = keep.Before(w.t.Context(), w.Home, p.Plan, "")
	require.NoError(w.t, err)
	before := w.state()
	_, err = p.Apply(w.t.Context())
	require.NoError(w.t, err, "%s after %s", what, strings.Join(w.done, ", "))
	w.past = append(w.past, before)
	w.done = append(w.done, what)
	return true
}

func (w *modWalk) incoming(p plate, update bool) (*mods.Proposal, func(), error) {
	add := mods.NewAddition(w.Home, mods.AdditionRequest{Update: update, Keep: w.r.IntN(2) == 0})
	require.NoError(w.t, add.Open(w.t.Context(), filepath.Join(w.zips, p.id+"-"+p.version+".zip")))
	prop, err := add.Propose(w.t.Context(), w.see())
	return prop, func() { require.NoError(w.t, add.Close()) }, err
}

func (w *modWalk) add() {
	versions := w.all[w.r.IntN(len(w.all))]
	p := versions[w.r.IntN(len(versions))]
	i := w.index(p.id)
	if i >= 0 && w.have[i].state != "" {
		return
	}
	prop, done, err := w.incoming(p, i >= 0)
	defer done()
	if !w.do("add "+p.id+" "+p.version, prop, err) {
		return
	}
	w.came++
	if i >= 0 {
		w.have[i].plate = p
		return
	}
	w.have = append(w.have, laidPlate{plate: p, came: w.came, on: true})
	w.order = append(w.order, p.id)
}

func (w *modWalk) pick(ok func(laidPlate) bool) int {
	var may []int
	for i, p := range w.have {
		if ok(p) {
			may = append(may, i)
		}
	}
	if len(may) == 0 {
		return -1
	}
	return may[w.r.IntN(len(may))]
}

func (w *modWalk) drop() {
	i := w.pick(func(p laidPlate) bool { return p.state == "" })
	if i < 0 {
		return
	}
	id := w.have[i].id
	prop, err := mods.Dropping(w.t.Context(), w.Home, w.see(), mods.DropRequest{Mods: []string{id}})
	if w.do("drop "+id, prop, err) {
		w.have = slices.Delete(w.have, i, i+1)
		w.order = slices.DeleteFunc(w.order, func(o string) bool { return o == id })
	}
}

func (w *modWalk) turn() {
	on := w.r.IntN(2) == 0
	i := w.pick(func(p laidPlate) bool {
		return w.listed && p.state == "" && p.on != on || !w.listed && (p.state == "off") == on && p.state != "aside"
	})
	if i < 0 {
		return
	}
	prop, err := mods.Switching(w.t.Context(), w.Home, w.see(), []string{w.have[i].id}, on)
	if w.do(fmt.Sprint("switch ", w.have[i].id, " ", on), prop, err) {
		if w.listed {
			w.have[i].on = on
		} else {
			w.have[i].state = map[bool]string{false: "off"}[on]
		}
	}
}

func (w *modWalk) aside() {
	prop, err := mods.AllAside(w.t.Context(), w.Home, w.see(), nil)
	if w.do("aside", prop, err) {
		for i := range w.have {
			if w.have[i].state == "" {
				w.have[i].state = "aside"
			}
		}
	}
}

func (w *modWalk) back() {
	prop, err := mods.Returning(w.t.Context(), w.Home, w.see())
	if w.do("back", prop, err) {
		for i := range w.have {
			if w.have[i].state == "aside" {
				w.have[i].state = ""
			}
		}
	}
}

func (w *modWalk) reorder() {
	if !w.listed || len(w.order) < 2 {
		return
	}
	a, b := w.order[w.r.IntN(len(w.order))], w.order[w.r.IntN(len(w.order))]
	if a == b || w.have[w.index(a)].state != "" || w.have[w.index(b)].state != "" {
		return
	}
	prop, err := mods.Ordering(w.t.Context(), w.Home, w.see(), mods.OrderRequest{Mod: a, Before: b})
	if w.do("order "+a+" before "+b, prop, err) {
		w.order = slices.DeleteFunc(w.order, func(o string) bool { return o == a })
		w.order = slices.Insert(w.order, slices.Index(w.order, b), a)
	}
}

func (w *modWalk) undo() {
	if len(w.past) == 0 {
		return
	}
	w.see()
	u, err := plan.Undo(w.t.Context(), w.Home, w.In("rivets"))
	require.NoError(w.t, err, "undo after %s", strings.Join(w.done, ", "))
	_, err = keep.Before(w.t.Context(), w.Home, u.Plan, "")
	require.NoError(w.t, err)
	_, err = u.Apply(w.t.Context())
	require.NoError(w.t, err, "undo after %s", strings.Join(w.done, ", "))
	was := w.past[len(w.past)-1]
	w.past = w.past[:len(w.past)-1]
	w.have, w.order, w.came = was.have, was.order, was.came
	w.done = append(w.done, "undo")
}

func newModWalk(t *testing.T, seed uint64, listed bool) *modWalk {
	r := rand.New(rand.NewPCG(seed, 11))
	description, files := rivets(listed)
	w := &modWalk{World: coretest.Bare(t), t: t, r: r, listed: listed, all: plates(r), base: files, zips: t.TempDir()}
	w.game = w.Describe(description, files)
	for _, versions := range w.all {
		for _, p := range versions {
			p.pack(t, w.zips)
		}
	}
	require.NoError(t, os.MkdirAll(filepath.Join(w.game, "press", "plates"), 0o755))
	w.first = lies(t, w.game, true)
	return w
}

// TestWalksOfMods has a player do anything with five overlapping mods: at each step each path holds what the pile says, and after dropping all
// every folder is as it was, byte, time and mode.
func TestWalksOfMods(t *testing.T) {
	for i, stride := longtest.Share(41, 5); i <= 500; i += stride {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			t.Parallel()
			w := newModWalk(t, uint64(i), i%2 == 1)
			acts := []func(){w.add, w.add, w.add, w.drop, w.turn, w.turn, w.aside, w.back, w.reorder, w.undo}
			for range 14 {
				acts[w.r.IntN(len(acts))]()
				require.Equal(t, w.now(), lies(t, w.game, false), strings.Join(w.done, ", "))
			}
			w.clean()
			require.Equal(t, w.first, lies(t, w.game, true), strings.Join(w.done, ", "))
		})
	}
}

// clean drops all mods.
func (w *modWalk) clean() {
	for len(w.have) > 0 {
		i := w.r.IntN(len(w.have))
		id := w.have[i].id
		prop, err := mods.Dropping(w.t.Context(), w.Home, w.see(), mods.DropRequest{Mods: []string{id}})
		w.do("drop "+id, prop, err)
		w.have = slices.Delete(w.have, i, i+1)
		w.order = slices.DeleteFunc(w.order, func(o string) bool { return o == id })
	}
}

// TestEditsInMods has the player change files of mods, too: whatever is done with the mods then, each text that the player wrote is to be had, in
// its place, beside it, or where Ostrov keeps things.
func TestEditsInMods(t *testing.T) {
	for i, stride := longtest.Share(17, 5); i <= 100; i += stride {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			t.Parallel()
			w := newModWalk(t, uint64(1000+i), i%2 == 1)
			var wrote []string
			edit := func() {
				var may []string
				for path := range lies(t, w.game, false) {
					if strings.HasPrefix(path, "press/") || strings.HasPrefix(path, "art/") {
						may = append(may, path)
					}
				}
				slices.Sort(may)
				path := may[w.r.IntN(len(may))]
				if strings.HasSuffix(path, ".ini") || path == "press/order.txt" {
					return
				}
				before := lies(t, w.game, false)[path]
				wrote = slices.DeleteFunc(wrote, func(text string) bool { return text == before }) // the player writes over it
				text := fmt.Sprintf("%s as the player wants it, %d\n", path, len(wrote))
				require.NoError(t, os.WriteFile(filepath.Join(w.game, filepath.FromSlash(path)), []byte(text), 0o644))
				wrote = append(wrote, text)
				w.done = append(w.done, "edit "+path)
			}
			acts := []func(){w.add, w.add, w.drop, w.turn, w.aside, w.back, w.reorder, edit, edit, edit}
			for range 14 {
				acts[w.r.IntN(len(acts))]()
				all := everything(t, filepath.Dir(w.game), w.Dir)
				for _, text := range wrote {
					require.True(t, all[text] || w.merged(text), "%q is nowhere after %s", text, strings.Join(w.done, ", "))
				}
			}
		})
	}
}

// merged reports whether a text of the player's is part of a file that was merged.
func (w *modWalk) merged(text string) bool {
	for _, now := range lies(w.t, w.game, false) {
		if strings.Contains(now, text) {
			return true
		}
	}
	return false
}

// everything is what all files below some folders hold.
func everything(t testing.TB, dirs ...string) map[string]bool {
	all := map[string]bool{}
	for _, dir := range dirs {
		require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			data, err := os.ReadFile(path)
			all[string(data)] = true
			return err
		}))
	}
	return all
}
