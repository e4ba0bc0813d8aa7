package facts

import (
	"context"
	"errors"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/parcel"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/unpack"
	"ostrov/internal/core/wrap"
)

// Download is what came from elsewhere: opened and inspected, never unpacked into a game's folder. Close it.
type Download struct {
	*unpack.Download
	File string
	// Whole is the digest of the file that the download is; zero until it is taken.
	Whole tree.Digest
	// Parcel is what came with a save, where the download is a parcel.
	Parcel *parcel.Found

	one *Download // see AsOne
}

// Found is a save in a download.
type Found struct {
	*Save
	Candidate save.Candidate
	Game      *game.Description
}

// Words are what the player may call the save, to choose it from several; the best first.
func (f *Found) Words() []string {
	c := f.Candidate
	words := []string{c.Label, path.Base(c.Name), c.Name, f.Facts.Title()}
	if c.Doubtful {
		words = append([]string{f.Kind.ID}, append(words, f.Kind.ID+":"+c.Name)...)
	}
	return slices.DeleteFunc(words, func(w string) bool { return w == "" })
}

// Title is what to call the save before people.
func (f *Found) Title() string {
	if t := f.Facts.Title(); t != "" {
		return t
	}
	return path.Base(f.Candidate.Name)
}

// OpenDownload opens a download and looks through it.
func OpenDownload(ctx context.Context, h *home.Home, file string) (*Download, error) {
	return open(ctx, h, file, false)
}

// OpenMod opens the download of a mod and looks through it. Programs in it are named as code and can be read: some mods are programs.
func OpenMod(ctx context.Context, h *home.Home, file string) (*Download, error) {
	return open(ctx, h, file, true)
}

func open(ctx context.Context, h *home.Home, file string, programs bool) (*Download, error) {
	opened, err := unpack.Open(ctx, file, h.Scratch())
	if err != nil {
		return nil, err
	}
	opened.Programs = programs
	d := &Download{Download: opened, File: file}
	var total int64
	for _, e := range opened.Entries {
		total += e.Size
	}
	if err = opened.Inspect(ctx, h.Counting("read", total)); err == nil && len(opened.Hazards) == 0 {
		d.Parcel, err = parcel.Find(ctx, opened.FS, outside(opened))
	}
	if err != nil {
		opened.Close()
		return nil, err
	}
	return d, nil
}

// AsMod is the download as that of a mod; see OpenMod. It is good until the download is closed.
func (d *Download) AsMod() *Download {
	return &Download{Download: d.Download.AsMod(), File: d.File, Whole: d.Whole, Parcel: d.Parcel}
}

// outside are the entries of a download without those that lie in archives inside it.
func outside(opened *unpack.Download) []tree.Entry {
	if len(opened.Inside) == 0 {
		return opened.Entries
	}
	return slices.DeleteFunc(slices.Clone(opened.Entries), func(e tree.Entry) bool {
		return slices.ContainsFunc(opened.Inside, func(in string) bool { return strings.HasPrefix(e.Path, in+"/") })
	})
}

// archives are those of the games whose saves may be archives themselves.
func archives(games []*game.Description) []*game.Description {
	return slices.DeleteFunc(slices.Clone(games), func(d *game.Description) bool {
		return !slices.ContainsFunc(d.Saves, func(k game.Save) bool {
			for _, f := range k.Files {
				if k.Unit != game.UnitFolder && f.Path == "." && slices.ContainsFunc(f.Layers.Chain, func(l wrap.Layer) bool { return l.Name == "zip" }) {
					return true
				}
			}
			return false
		})
	})
}

// itself finds the save that the download is, where it is an archive and so are the saves of some games. From then on the download is one file.
func (d *Download) itself(ctx context.Context, h *home.Home, games []*game.Description) ([]*Found, error) {
	games = archives(games)
	if d.Kind != "zip" || len(games) == 0 || len(d.Hazards) > 0 {
		return nil, nil
	}
	whole, err := d.AsFile()
	if err == nil {
		err = whole.Inspect(ctx, func(int64) {})
	}
	if err != nil {
		return nil, err
	}
	as := &Download{Download: whole, File: d.File}
	found, err := as.savesOf(ctx, h, games)
	if err != nil || len(found) == 0 {
		return nil, errors.Join(err, whole.Close())
	}
	err = d.Download.Close()
	d.Download = whole
	return found, err
}

// Saves finds the saves in the download: of the games given, else of any game that is described.
func (d *Download) Saves(ctx context.Context, h *home.Home, games []*game.Description) ([]*Found, error) {
	found, err := d.savesOf(ctx, h, games)
	if len(found) == 0 && err == nil {
		found, err = d.itself(ctx, h, games)
	}
	if len(found) > 0 || err != nil {
		return found, err
	}
	var rest []*game.Description
	for _, id := range h.GameIDs() {
		if !slices.Contains(games, h.Game(id)) {
			rest = append(rest, h.Game(id))
		}
	}
	if found, err = d.savesOf(ctx, h, rest); len(found) > 0 || err != nil {
		return found, err
	}
	return d.itself(ctx, h, rest)
}

func (d *Download) savesOf(ctx context.Context, h *home.Home, games []*game.Description) ([]*Found, error) {
	var found []*Found
	entries := map[string]tree.Entry{}
	for _, e := range d.Entries {
		entries[e.Path] = e
	}
	begin := save.Begin(d.FS, games...)
	for _, g := range games {
		for _, c := range save.Recognise(ctx, g, begin, d.Entries) {
			sv := &save.Save{Kind: c.Kind, Name: c.Name, Captures: c.Captures, Digest: d.digest(c), Facts: c.Facts}
			for _, file := range c.Files {
				e := entries[file]
				sv.Files, sv.Size = append(sv.Files, e), sv.Size+e.Size
				if e.ModTime.After(sv.Modified) {
					sv.Modified = e.ModTime
				}
			}
			slices.SortFunc(sv.Files, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
			f := &Found{&Save{Save: sv}, c, g}
			if err := d.needs(ctx, h, f); err != nil {
				return nil, err
			}
			found = append(found, f)
		}
	}
	return found, nil
}

func (d *Download) digest(c save.Candidate) tree.Digest {
	var list []tree.Named
	for _, f := range c.Files {
		digest, ok := d.Digests[f]
		if !ok {
			return tree.Digest{}
		}
		list = append(list, tree.Named{Path: save.Inside(c.Kind, c.Name, f), Digest: digest})
	}
	return save.DigestOf(c.Kind, list)
}

// needs finds out what a save of the download needs: what it says itself, what came with it, and what was known of it before.
func (d *Download) needs(ctx context.Context, h *home.Home, f *Found) error {
	if f.Digest.IsZero() {
		return nil
	}
	f.fresh = append(f.fresh, written(f.Game, f.Facts, h.Now()))
	if e := d.cameWith(h, f); e != nil {
		f.fresh = append(f.fresh, *e)
	}
	var err error
	f.Needs, err = h.Logbook.Needs(ctx, f.Digest, f.fresh...)
	return err
}

// cameWith is what a parcel says of its save, where the digests match, or nil.
func (d *Download) cameWith(h *home.Home, f *Found) *logbook.Evidence {
	if d.Parcel == nil || len(d.Parcel.Wrong) > 0 || d.Parcel.Needs.Save.Digest != f.Digest || d.Parcel.Needs.Game != f.Game.ID {
		return nil
	}
	n := d.Parcel.Needs
	return &logbook.Evidence{Kind: check.Parcel, At: h.Now(), Version: n.Version, Clean: n.Clean, Note: n.Note, Mods: ListOfParcel(n)}
}

// ListOfParcel is the mod list of a parcel, or nil where it has none.
func ListOfParcel(n parcel.Needs) []modlist.Needed {
	if n.Mods == nil {
		return nil
	}
	list := []modlist.Needed{}
	for _, m := range n.Mods {
		digest, _ := tree.ParseDigest(m.Digest) // another algorithm's is of no use here
		list = append(list, modlist.Needed{Listed: modlist.Listed{ID: m.ID, Version: m.Version, Title: m.Title, Digest: digest, On: true, Needs: m.Needs, Source: m.Source}, Doubtful: m.Doubtful})
	}
	return list
}

// Learnt is what the logbook is to know of a save of the download, once it is used.
func (f *Found) Learnt() Learnt {
	l := Learnt{States: []logbook.State{{Digest: f.Digest, Game: f.Game.ID, Kind: f.Kind.ID, Title: f.Facts.Title(), Size: f.Size, Foreign: true}}}
	for _, e := range f.fresh {
		l.Evidence = append(l.Evidence, OfState{f.Digest, e})
	}
	return l
}

// Mods finds the mods of a game in the download.
func (d *Download) Mods(ctx context.Context, g *game.Description) []*mod.Mod {
	found := mod.OnePerPlace(g, mod.InDownload(ctx, g, d.FS, d.Entries))
	name := filepath.Base(d.File)
	archive := func(m game.Mod) bool {
		return m.Unit == game.UnitFile && !m.Base && (m.Is != nil || m.Name == "" || doublestar.MatchUnvalidated(m.Name, name))
	}
	if len(found) > 0 || d.Kind != "zip" || len(d.Hazards) > 0 || !slices.ContainsFunc(g.Mods, archive) {
		return found
	}
	whole, err := d.AsFile() // a mod may be an archive itself
	if err != nil {
		return nil
	}
	defer whole.Close()
	return mod.OnePerPlace(g, mod.InDownload(ctx, g, whole.FS, whole.Entries))
}

// AsOne is the download as the one file that it is, where it is an archive: a mod may be one. It is nil where it is none, and closed with the
// download.
func (d *Download) AsOne(ctx context.Context) (*Download, error) {
	if d.Kind != "zip" || len(d.Hazards) > 0 {
		return nil, nil
	}
	if d.one == nil {
		one, err := d.AsFile()
		if err == nil {
			err = one.Inspect(ctx, func(int64) {})
		}
		if err != nil {
			return nil, err
		}
		d.one = &Download{Download: one, File: d.File}
	}
	return d.one, nil
}

// Close frees what the download holds.
func (d *Download) Close() error {
	var err error
	if d.one != nil {
		err = d.one.Close()
	}
	return errors.Join(err, d.Download.Close())
}

// Around returns what reports whether an entry is an archive that a save lies in, or lies in an archive that is the save.
func (d *Download) Around(f *Found) func(path string) bool {
	archives, own, around := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, in := range d.Inside {
		archives[in] = true
	}
	for _, file := range f.Candidate.Files {
		own[file] = archives[file]
		for dir := path.Dir(file); dir != "."; dir = path.Dir(dir) {
			around[dir] = archives[dir]
		}
	}
	return func(p string) bool {
		is := around[p]
		for dir := path.Dir(p); dir != "." && !is; dir = path.Dir(dir) {
			is = own[dir]
		}
		return is
	}
}
