package demo

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	git "github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing/object"
)

// modDownloads are downloads of mods: in three layouts, in several parts, half unpacked, in each other's way, for a loader that is not there,
// hostile, two versions whose settings clash, and a checkout.
func (w *World) modDownloads(b *builder) {
	when := days(4)
	readme := file{"readme.txt", []byte("Needs Lantern Core 1.2. Put the folder into mods.\n")}
	whales := modCard{id: "whale-songs", version: "1.0.0", title: "Whale Songs", needs: []string{"lantern-core >= 1.2"}}
	w.download(b, "whale-songs-1.0.0.zip", zipped(append(under("Whale Songs v1/whale-songs", modFiles("mod.json", whales)), readme), when), when)

	lights := modCard{id: "kelp-lights", version: "1.0.0", title: "Kelp Lights"}
	w.download(b, "kelp-lights-1.0.0.zip", zipped(under("kelp-lights", append(modFiles("mod.json", lights), lightSettings(4, 30))), when), when)
	lights.version = "1.1.0"
	w.download(b, "kelp-lights-1.1.0.zip", zipped(under("kelp-lights", append(modFiles("mod.json", lights), lightSettings(4, 45))), days(2)), days(2))
	lights.version = "2.0.0"
	w.download(b, "kelp-lights-2.0.0.zip", zipped(under("kelp-lights", append(modFiles("mod.json", lights), lightSettings(9, 45))), days(1)), days(1))

	charts := modCard{id: "harbour-signs", version: "1.1.0", title: "Harbour Signs"}
	both := append(under("large print", under("harbour-signs", modFiles("mod.json", charts))), under("small print", under("harbour-signs", modFiles("mod.json", charts)))...)
	w.download(b, "harbour-signs.zip", zipped(both, when), when)

	half := zipped(under("tide-bells", modFiles("mod.json", modCard{id: "tide-bells", version: "0.3.0", title: "Tide Bells"})), when)
	w.download(b, "tide-bells-half.zip", half[:len(half)*2/3], when)
	gold := append(modFiles("mod.json", modCard{id: "gold-lamps", version: "9.9", title: "Gold Lamps"}), file{"art/gold.png", program()})
	w.download(b, "gold-lamps.zip", zipped(under("gold-lamps", gold), when), when)

	w.orchardModDownloads(b, when)
	w.checkout(b)
}

func lightSettings(brightness, reach int) file {
	return file{"options.ini", fmt.Appendf(nil, "[lights]\nbrightness = %d\nrange = %d\ncolour = green\n", brightness, reach)}
}

func (w *World) orchardModDownloads(b *builder, when time.Time) {
	spring := func(text string) []byte { return append(program(), []byte(text)...) }
	brass := []file{
		{"winder/springs/brass-voice.spring", spring("brass voice 1")},
		{"winder/springs/shared/bell.wav", []byte("RIFF a bell of brass\n")},
		{"winder/winder.ini", []byte("[winder]\nversion = 5.2\nquiet = yes\n")},
		{"readme.txt", []byte("Copy the folder winder over the game's.\n")},
	}
	w.download(b, "brass-voice.zip", zipped(under("Brass Voice", brass), when), when)
	copper := []file{
		{"springs/copper-voice.spring", spring("copper voice 1")},
		{"springs/shared/bell.wav", []byte("RIFF a bell of copper\n")},
	}
	w.download(b, "copper-voice.zip", zipped(copper, when), when)
	w.download(b, "quick-winder-1.4.zip", zipped([]file{{"quick-winder.spring", spring("quick winder")}, {"readme.md", []byte("A bare file.\n")}}, when), when)
	w.download(b, "clock-faces.zip", zipped([]file{{"clock-faces.dial", spring("for the dial room")}}, when), when)

	card := modCard{id: "glass-pears", version: "2.0.0", title: "Glass Pears", needs: []string{"mainspring >= 2.0"}}
	shapes := func(n string) []file {
		return []file{{"shapes/pear.shape", []byte("SHAPE pear " + n + "\n")}, {"shapes/quince.shape", []byte("SHAPE quince " + n + "\n")}}
	}
	w.download(b, "glass-pears-2.0.0.zip", zipped(under("glass-pears", modFiles("cog.json", card)), when), when)
	w.download(b, "glass-pears-shapes-2.0.0.zip", zipped(shapes("2.0.0"), when), when)
	w.download(b, "glass-pears-shapes-1.9.0.zip", zipped(shapes("1.9.0"), days(30)), days(30))
}

// checkout is a repository of a depot of Night Tram's, the depot one level down in it, with two commits; the branch is at the first one.
func (w *World) checkout(b *builder) {
	if b.err != nil {
		return
	}
	dir := w.path("repositories", "moon-line")
	if b.err = os.MkdirAll(dir, 0o755); b.err != nil {
		return
	}
	r, err := git.PlainInit(dir, false)
	if err != nil {
		b.err = err
		return
	}
	if b.err = w.commit(b, r, dir, moonLine("0.1.0"), days(50)); b.err != nil {
		return
	}
	// What git remembers of times and numbers of files is another each time; it finds them out anew.
	if b.err = os.Remove(filepath.Join(dir, git.GitDirName, "index")); b.err != nil {
		return
	}
	b.err = filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Chtimes(path, days(50), days(50))
	})
}

func moonLine(version string) []file {
	return []file{
		{"readme.md", []byte("The depot is in the folder moon-line.\n")},
		{"moon-line/depot.ini", fmt.Appendf(nil, "[depot]\nid = moon-line\nversion = %s\ntitle = Moon Line\ngame = >= 3\n", version)},
		{"moon-line/stops.txt", []byte("Moon Gate\nSea of Rails\n")},
	}
}

// Pushed makes the repository of the moon line what its author has pushed since.
func (w *World) Pushed() error {
	dir := w.path("repositories", "moon-line")
	r, err := git.PlainOpen(dir)
	if err != nil {
		return err
	}
	return w.commit(&builder{}, r, dir, moonLine("0.2.0"), days(1))
}

// commit commits files, at a time that is the same each time.
func (w *World) commit(b *builder, r *git.Repository, dir string, files []file, when time.Time) error {
	b.files(dir, files, when)
	if b.err != nil {
		return b.err
	}
	tree, err := r.Worktree()
	if err != nil {
		return err
	}
	if err := tree.AddGlob("."); err != nil {
		return err
	}
	who := &object.Signature{Name: "Selene", Email: "selene@example.invalid", When: when}
	_, err = tree.Commit("Moon Line as of "+when.Format(time.DateOnly), &git.CommitOptions{Author: who, Committer: who})
	return err
}

// brighter is what the player changes in the settings of a mod.
func (w *World) brighter() error {
	path := w.path("games", "Tidewrack", "mods", "kelp-lights", "options.ini")
	return os.WriteFile(path, []byte("[lights]\nbrightness = 7\nrange = 30\ncolour = green\n"), 0o644)
}
