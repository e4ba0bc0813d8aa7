package demo

import (
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"time"

	"ostrov/internal/core/game"
)

// terrace is the orchard of another player, Wren, as it grows in a year: one evening a month, in a folder of its own.
type terrace struct {
	w       *World
	month   int // of the year, from 1
	release string
	cogs    []modCard
	builder
}

func (t *terrace) path(parts ...string) string {
	return t.w.path(append([]string{"wren"}, parts...)...)
}

func (t *terrace) known() game.Known { return game.HomeKnown(t.path("player")) }

func (t *terrace) config(parts ...string) string {
	return filepath.Join(append([]string{t.known().Config, "brass-orchard"}, parts...)...)
}

func (t *terrace) data(parts ...string) string {
	return filepath.Join(append([]string{t.known().Data, "brass-orchard"}, parts...)...)
}

// when is the evening of play in a month of the year, from 1.
func when(month int) time.Time {
	return time.Date(2025, time.Month(month+2), 9, 20, 40, 0, 0, time.UTC)
}

// year is a year of one playthrough: twelve snapshots, two updates of the game, a cog that vanished and one that was edited. Then come the
// way back to a former version of the game, beside the present one, and another playthrough in between.
func (w *World) year() []Step {
	t := &terrace{w: w}
	step := func(month int, text string, happens func() error, command ...string) Step {
		return Step{Text: text, Happens: happens, Command: command, When: when(month), Home: t.path("ostrov"), Play: t.play}
	}
	evenings := []Step{
		step(1, "", t.begin, "games", "add", "brass-orchard", "--at", t.path("games", "BrassOrchard"), "--player-home", t.path("player"), "--yes"),
		step(1, "", nil, "playthroughs", "start", "High Terrace"),
	}
	for i, e := range []struct {
		happens []func()
		keep    []string
	}{
		{nil, []string{"-m", "first pears", "--with", "mods,pictures", "--always"}},
		{nil, nil},
		{[]func(){t.picture}, []string{"--with", "game,pictures", "--tag", "before-2.2"}},
		{[]func(){func() { t.update("2.2", 0) }}, nil},
		{[]func(){t.edit}, []string{"-m", "bark painted blue"}},
		{[]func(){t.picture}, nil},
		{[]func(){t.vanish}, []string{"-m", "Honey Dials is nowhere to be had any more"}},
		{nil, []string{"--with", "game,pictures", "--tag", "before-2.3"}},
		{[]func(){func() { t.update("2.3", 1) }}, nil},
		{nil, nil},
		{[]func(){t.picture}, nil},
		{nil, []string{"-m", "a year"}},
	} {
		happens := func() error {
			t.month = i + 1
			for _, h := range e.happens {
				h()
			}
			return t.play()
		}
		evenings = append(evenings, step(i+1, "", happens, append([]string{"keep", "brass-orchard"}, e.keep...)...))
	}
	told := step(12, "Wren has kept another orchard once a month for a year, mods and pictures too, and the game itself before each update. Told in sum:", nil, "kept")
	told.Before = evenings
	former := step(12, "Both keep their bays in the same folder. Whichever is played finds its own there.", nil, "play", "brass-orchard@2-2", "--yes", "--", executable())
	former.Play = t.playFormer
	return []Step{
		told,
		step(12, "What has changed in that year? Mods first.", nil, "compare", "high-terrace.1", "high-terrace.12"),
		step(12, "One cog was edited by hand. What was edited?", nil, "compare", "brass-orchard+painted-bark", "high-terrace.4"),
		step(12, "The cog that vanished has left its settings behind. They can go: they are kept, and put aside.", nil, "look", "brass-orchard", "--put-aside", "--yes"),
		step(12, "The game as it was before the last update, with the cogs of then, beside the one of today.", nil,
			"restore", "high-terrace.before-2.3", "--only", "game", "--to", filepath.Join("wren", "games", "BrassOrchard-2.2")),
		former,
		step(12, "And back to today's.", nil, "play", "brass-orchard@main", "--yes", "--", executable()),
		step(12, "Something else for once, with a clean start.", nil, "fresh", "New Ground", "brass-orchard@main", "--yes"),
		step(12, "Back to the terrace: its bays, cog list and settings.", nil, "swap", "high-terrace", "--yes"),
		step(12, "To show it to somebody who has no Ostrov.", nil, "kept", "high-terrace.12", "--export", filepath.Join("wren", "high-terrace.zip")),
		step(12, "And is all of that year still whole? Every byte is read.", nil, "archive", "verify"),
	}
}

// begin lays out Wren's game.
func (t *terrace) begin() error {
	t.month, t.release = 1, "2.1"
	root := t.path("games", "BrassOrchard")
	t.write(filepath.Join(root, executable()), program(), when(0))
	t.write(filepath.Join(root, "bells.dat"), []byte("the bells of 2.1"), when(0))
	t.update(t.release, 0)
	for _, c := range cogs[:7] {
		c.version = "1.0.0"
		if c.id == "mainspring" {
			c.version = "2.0.0"
		}
		c.needs = nil
		t.cogs = append(t.cogs, c)
	}
	t.cogs = append(t.cogs, modCard{id: "honey-dials", version: "1.0.0", title: "Honey Dials"})
	for _, c := range t.cogs {
		t.files(filepath.Join(root, "cogs", c.id), modFiles("cog.json", c), when(0))
	}
	bays, err := json.Marshal(t.path("player", "Orchards"))
	if err != nil {
		return err
	}
	t.write(t.config("wardens.json"), fmt.Appendf(nil, "{\"current\": {\"name\": \"Wren\", \"bays\": %s}}\n", bays), when(0))
	t.write(t.config("settings.ini"), []byte("[sound]\nbells = 40\n[view]\nrows = 9\n"), when(0))
	t.write(t.config("cogs", "honey-dials.ini"), []byte("[dials]\nbees = many\n"), when(1))
	t.write(t.config("cogs", "cider-press.ini"), []byte("[press]\nhours = 6..9\n"), when(1))
	return errors.Join(t.err, t.play())
}

// playFormer is an evening with the game before its last update.
func (t *terrace) playFormer() error {
	release := t.release
	t.month, t.release = 13, "2.2"
	err := t.play()
	t.release = release
	return err
}

// play is an evening: the orchard grows, and one of three seasons is written over.
func (t *terrace) play() error {
	o := orchard{title: "High Terrace", release: t.release, coins: 100 * t.month, when: when(min(t.month, 12)), trees: 60}
	for _, c := range t.cogs {
		o.cogs = append(o.cogs, c.id+"="+c.version)
	}
	t.write(t.path("player", "Orchards", "bay_a.orchard"), o.xml(), o.when)
	o.title = "High Terrace, " + when(t.month).Format("January")
	t.write(t.path("player", "Orchards", fmt.Sprintf("season_%02d.orchard", t.month%3+1)), o.xml(), o.when)
	t.write(t.data("plans", "ladder-clerks.json"), jsonLine(`{"ladders": %d}`, t.month), o.when)
	return t.err
}

// update updates the game, and so many of the cogs.
func (t *terrace) update(release string, updated int) {
	t.release = release
	root := t.path("games", "BrassOrchard")
	t.write(filepath.Join(root, "release.ini"), []byte("[Release]\nnumber = "+release+"\nname = Quince\n"), when(t.month))
	for i := range t.cogs[:min(updated, len(t.cogs))] {
		t.cogs[i].version = "2.0.1"
		t.files(filepath.Join(root, "cogs", t.cogs[i].id), modFiles("cog.json", t.cogs[i]), when(t.month))
	}
}

// edit changes a cog by hand; it still says the version that it had.
func (t *terrace) edit() {
	t.write(t.path("games", "BrassOrchard", "cogs", "painted-bark", "things.json"), jsonLine(`{"things": ["painted-bark:pier", "painted-bark:blue-lamp", "painted-bark:crate"]}`), when(t.month))
}

// vanish takes a cog away. Its settings stay behind.
func (t *terrace) vanish() {
	t.cogs = t.cogs[:len(t.cogs)-1]
	t.err = errors.Join(t.err, os.RemoveAll(t.path("games", "BrassOrchard", "cogs", "honey-dials")))
}

// picture takes a picture of the orchard.
func (t *terrace) picture() {
	p := image.NewGray(image.Rect(0, 0, 96, 64))
	for i := range p.Pix {
		p.Pix[i] = color.Gray{Y: uint8(i * t.month / 7)}.Y
	}
	path := t.data("pictures", fmt.Sprintf("%s.png", when(t.month).Format("2006-01-02")))
	t.err = errors.Join(t.err, os.MkdirAll(filepath.Dir(path), 0o755))
	f, err := os.Create(path)
	if err != nil {
		t.err = errors.Join(t.err, err)
		return
	}
	t.err = errors.Join(t.err, png.Encode(f, p), f.Close(), os.Chtimes(path, when(t.month), when(t.month)))
}
