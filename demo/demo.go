// Package demo makes the demo world: made-up games with installs, saves, mods and downloads, and a story that walks through the whole job
// on them. Everything is generated, small, and the same each time. It depends on no other part of Ostrov but package game, which it asks
// where a platform has its known folders.
package demo

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"ostrov/internal/core/game"
)

// World is a demo world laid out in a folder.
type World struct{ Dir string }

// clock is the evening on which the demo world was last played in.
var clock = time.Date(2026, 3, 1, 21, 14, 2, 0, time.UTC)

// Build lays the world out in dir, which must be missing or empty.
func Build(dir string) (*World, error) {
	list, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	if len(list) > 0 {
		return nil, fmt.Errorf("%s is not empty", dir)
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	if dir, err = filepath.EvalSymlinks(dir); err != nil {
		return nil, err
	}
	w := &World{dir}
	b := &builder{}
	w.tidewrack(b)
	w.brassOrchard(b)
	w.nightTram(b)
	w.tidewrackDownloads(b)
	w.brassDownloads(b)
	w.tramDownloads(b)
	w.modDownloads(b)
	return w, b.err
}

// Places in the world.
func (w *World) path(parts ...string) string {
	return filepath.Join(append([]string{w.Dir}, parts...)...)
}

// Home is where the demo's Ostrov keeps its own data.
func (w *World) Home() string { return w.path("ostrov") }

// documents is the player's folder of documents in the compatibility prefix that Tidewrack runs in.
func (w *World) documents() string {
	return w.path("prefix", "drive_c", "users", "keeper", "Documents")
}

// voyages is where Tidewrack keeps the player's saves.
func (w *World) voyages() string { return filepath.Join(w.documents(), "Tidewrack", "lit", captain) }

// bays is where Brass Orchard keeps the player's saves.
func (w *World) bays() string { return w.path("player", "Orchards") }

// builder writes files and remembers the first error.
type builder struct{ err error }

func (b *builder) write(path string, data []byte, when time.Time) {
	if b.err != nil {
		return
	}
	if b.err = os.MkdirAll(filepath.Dir(path), 0o755); b.err != nil {
		return
	}
	if b.err = os.WriteFile(path, data, 0o644); b.err == nil {
		b.err = os.Chtimes(path, when, when)
	}
}

// files writes a tree of files and gives the folders the same time.
func (b *builder) files(dir string, files []file, when time.Time) {
	for _, f := range files {
		b.write(filepath.Join(dir, filepath.FromSlash(f.name)), f.data, when)
	}
	if b.err == nil {
		b.err = os.Chtimes(dir, when, when)
	}
}

// file is a file of a save, mod or download.
type file struct {
	name string // slash-separated
	data []byte
}

// under puts files below a folder.
func under(dir string, files []file) []file {
	var moved []file
	for _, f := range files {
		moved = append(moved, file{dir + "/" + f.name, f.data})
	}
	return moved
}

// program is the beginning of a Windows program that does nothing.
func program() []byte {
	b := make([]byte, 512)
	copy(b, "MZ")
	b[0x3c] = 0x80
	copy(b[0x80:], "PE\x00\x00\x64\x86")
	return b
}

func jsonLine(format string, args ...any) []byte { return []byte(fmt.Sprintf(format, args...) + "\n") }

// Step is one step of the story: something that happens in the game, then a command.
type Step struct {
	Text    string       // what the player does and why
	Happens func() error // what happens in the game before the command, or nil
	Command []string
	// Before are steps that are only told in sum: they are done, and not shown.
	Before []Step
	// When it happens; the zero time is now.
	When time.Time
	Home string       // where Ostrov keeps its own data then; "" is where it always does
	Play func() error // what happens in the game while the command runs it, or nil
}

// Story walks through the whole job in the world, and then through a year of another player's.
func (w *World) Story() []Step { return append(w.evening(), w.year()...) }

// evening is the job on the three games of the world, as it is there.
func (w *World) evening() []Step {
	d := func(name string) string { return filepath.Join("downloads", name) }
	return []Step{
		{Text: "Three games have been played here for a while. Tell Ostrov where they are: it shows every folder before it uses it.",
			Command: []string{"games", "add", "tidewrack", "--at", filepath.Join("games", "Tidewrack"), "--prefix", "prefix", "--yes"}},
		{Text: "The second one's save folder is named in a file of its own, so that is confirmed once.",
			Command: []string{"games", "add", "brass-orchard", "--at", filepath.Join("games", "BrassOrchard"), "--player-home", "player", "--yes"}},
		{Text: "And the third.",
			Command: []string{"games", "add", "night-tram", "--at", filepath.Join("games", "NightTram"), "--player-home", "player", "--yes"}},
		{Text: "Which saves are there, and does each still load with the version and mods of today?",
			Command: []string{"look"}},
		{Text: "What does the save in slot 7 need, and how is that known?",
			Command: []string{"needs", "tidewrack/7"}},
		{Text: "Before trying anything: keep saves, mod list and settings, away from the game.",
			Command: []string{"keep", "tidewrack", "-m", "before trying downloads"}},
		{Text: "A save from a forum. Would it load here?",
			Command: []string{"vet", d("finished-harbour.zip")}},
		{Text: "Another one, said to be harmless.",
			Command: []string{"vet", d("free-lamps.zip")}},
		{Text: "A third. It is somebody else's, for another slot, inside a folder that only says what it is.",
			Command: []string{"vet", d("quiet-cove.zip")}},
		{Text: "That one may go in: the right name, a free slot, the own account.",
			Command: []string{"place", d("quiet-cove.zip"), "--yes"}},
		{Text: "A world of the third game holds code that would run inside the game.",
			Command: []string{"vet", d("free-fares.tramworld")}},
		{Text: "Could a mod go? Every save's verdict as it would be then, without doing it.",
			Command: []string{"look", "night-tram", "--if", "drop:copper-line"}},
		{Text: "A mod from a forum: what is it, and what would it do to the saves?",
			Command: []string{"vet", d("whale-songs-1.0.0.zip")}},
		{Text: "It may come in. Its outer folder is passed over, its read-me left out, and the game's list of mods gets a line.",
			Command: []string{"mods", "add", d("whale-songs-1.0.0.zip"), "--yes"}},
		{Text: "Another mod has been there for a while, and its settings were changed. Its new version changes them, too: both changes are joined.",
			Before:  []Step{{Command: []string{"mods", "add", d("kelp-lights-1.0.0.zip"), "--yes"}}},
			Happens: w.brighter,
			Command: []string{"mods", "add", d("kelp-lights-1.1.0.zip"), "--update", "--yes"}},
		{Text: "A mod in two downloads. They are not of one version, which would show only in the game, if at all.",
			Command: []string{"mods", "add", d("glass-pears-2.0.0.zip"), d("glass-pears-shapes-1.9.0.zip"), "--yes"}},
		{Text: "Two mods that bring the same file: the later one lies on top, and what it covers is kept.",
			Before:  []Step{{Command: []string{"mods", "add", d("brass-voice.zip"), "--yes"}}},
			Command: []string{"mods", "add", d("copper-voice.zip"), "--yes"}},
		{Text: "One that would do harm.",
			Command: []string{"mods", "add", d("gold-lamps.zip"), "--yes"}},
		{Text: "A mod that its author keeps in a repository, one folder down in it. Somebody has pushed since: it moves forward.",
			Before:  []Step{{Command: []string{"mods", "add", filepath.Join("repositories", "moon-line"), "--yes"}}},
			Happens: w.Pushed,
			Command: []string{"mods", "add", "--update", "night-tram+moon-line", "--yes"}},
		{Text: "All mods aside, for a clean game: every save says what it would lack.",
			Command: []string{"mods", "aside", "brass-orchard", "--yes"}},
		{Text: "And back, to the byte. Every file of every mod is as it came.",
			Before:  []Step{{Command: []string{"mods", "back", "brass-orchard", "--yes"}}},
			Command: []string{"mods", "verify", "brass-orchard"}},
		{Text: "Inside a save: a value is set, in a copy that the game lists beside it.",
			Command: []string{"set", "brass-orchard/B", "coins=9000", "--as", "E", "--yes"}},
		{Text: "A mod is to go, and a save has its things. They are taken out first; the numbers that count them follow.",
			Command: []string{"strip", "brass-orchard/E", "--of", "copper-wasps", "--yes"}},
		{Text: "A save of a former version, converted step by step.",
			Command: []string{"convert", "brass-orchard/C", "--yes"}},
		{Text: "One driver of a downloaded roster goes over into one's own, with an id that is free there; the checksum is made anew.",
			Command: []string{"members", "copy", d("night-owls.drivers"), "Otto", "--into", "night-tram/1", "--yes"}},
		{Text: "An evening of play: the newest save is vetted, what the game writes is recorded, its log is read, a safety copy is kept.",
			Command: []string{"play", "night-tram", "--", "night-tram.x86_64"}, Play: w.PlayTram},
		{Text: "A save to hand out: with what it needs, checked for what it tells of the player.",
			Command: []string{"parcel", "tidewrack/1", "--blank", "-o", "gannet-rock.zip", "--note", "all lamps lit"}},
		{Text: "Whoever gets it can see at once whether it fits.",
			Command: []string{"vet", "gannet-rock.zip"}},
		{Text: "The next evening the game crashes, empties slot 1 and loses slot 2.", Happens: w.crash,
			Command: []string{"look", "tidewrack"}},
		{Text: "Each comes back alone, from the last snapshot that has it whole: what was played in the others stays.",
			Command: []string{"restore", "tidewrack.1", "--slot", "1", "--yes"}},
		{Text: "The lost one, too.",
			Command: []string{"restore", "tidewrack.1", "--slot", "2", "--yes"}},
		{Text: "An evening in slot 3 is kept. Overnight a cloud believes that its own copy is the right one, and puts that back.",
			Before:  []Step{{Happens: w.longEvening, Command: []string{"keep", "tidewrack", "-m", "an evening at the mole"}}},
			Happens: w.cloud().Down, Command: []string{"look", "tidewrack"}},
		{Text: "All that was kept of this save.",
			Command: []string{"kept", "tidewrack/3"}},
		{Text: "The evening comes back.",
			Command: []string{"restore", "tidewrack", "--slot", "3", "--yes"}},
		{Text: "Every change can be taken back, this one too; here only shown.",
			Command: []string{"undo", "--dry-run"}},
		{Text: "What the archive has by now.",
			Command: []string{"kept"}},
	}
}

// cloud watches over the voyage in slot 3.
func (w *World) cloud() Cloud {
	return Cloud{Folder: filepath.Join(w.voyages(), "slot_02"), Copy: w.path("cloud", "slot_02")}
}

// longEvening is played in slot 3, after the cloud has taken its copy.
func (w *World) longEvening() error {
	if err := w.cloud().Up(); err != nil {
		return err
	}
	chart := filepath.Join(w.voyages(), "slot_02", "chart.bin")
	data, err := os.ReadFile(chart)
	if err != nil {
		return err
	}
	return os.WriteFile(chart, append(data, "the mole is finished"...), 0o644)
}

// crash is what a crashing game leaves.
func (w *World) crash() error {
	if err := os.WriteFile(filepath.Join(w.voyages(), "slot_00", "voyage.json.gz"), nil, 0o644); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(w.voyages(), "slot_00", "chart.bin"), nil, 0o644); err != nil {
		return err
	}
	return os.RemoveAll(filepath.Join(w.voyages(), "slot_01"))
}

// known are the known folders of the demo's player.
func (w *World) known() game.Known { return game.HomeKnown(w.path("player")) }

// executable is the file that is an install of Brass Orchard on this platform.
func executable() string {
	if runtime.GOOS == "windows" {
		return "BrassOrchard.exe"
	}
	return "brass-orchard.x86_64"
}

// registry is the registry of the prefix, which says where the player's folders are.
func registry() []byte {
	return []byte(strings.Join([]string{
		"REGISTRY Version 2", "",
		`[Software\\Windows\\CurrentVersion\\Explorer\\Shell Folders] 1772000000`,
		`"Personal"="C:\\users\\keeper\\Documents"`,
		`"AppData"="C:\\users\\keeper\\AppData\\Roaming"`, "",
		"[Volatile Environment] 1772000000",
		`"USERPROFILE"="C:\\users\\keeper"`, "",
	}, "\n"))
}
