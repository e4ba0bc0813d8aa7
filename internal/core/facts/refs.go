package facts

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"

	"github.com/zeebo/blake3"

	"ostrov/internal/core/check"
	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/refer"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// references finds out how often saves refer to each mod.
type references struct {
	game   *game.Description
	all    map[string]game.Added // by the mod's id
	digest tree.Digest           // of all identifiers
	titles map[string]string     // of mods whose identifiers are known, by their ids in lower case
	finder *refer.Finder         // see find
}

// identifiers learns the identifiers of the mods of an install, and recalls those of mods that are gone.
func (g gathering) identifiers() error {
	d := g.Install.Game
	if len(d.References) == 0 {
		return nil
	}
	known, err := g.h.Logbook.Identifiers(g.ctx, d.ID)
	if err != nil {
		return err
	}
	now := map[string]game.Added{}
	titles := map[string]string{}
	for _, m := range g.Mods.Mods {
		if !m.Kind.Base && len(m.Adds.Exact)+len(m.Adds.Prefixes) > 0 {
			now[m.ID] = m.Adds
			titles[m.ID] = m.Name()
		}
	}
	g.Learnt.Identifiers = map[string]game.Added{}
	for id, added := range now {
		if old, ok := known[id]; !ok || !slices.Equal(old.Exact, added.Exact) || !slices.Equal(old.Prefixes, added.Prefixes) {
			g.Learnt.Identifiers[id] = added
		}
	}
	for id, added := range known {
		if _, here := now[id]; !here {
			now[id] = added
		}
	}
	g.refs = newReferences(d, now, titles)
	return nil
}

func newReferences(d *game.Description, all map[string]game.Added, titles map[string]string) *references {
	r := &references{game: d, all: all, titles: map[string]string{}}
	sum := blake3.New()
	fmt.Fprintf(sum, "%x", d.Digest)
	for _, id := range slices.Sorted(maps.Keys(all)) {
		fmt.Fprintf(sum, "%q %q", id, all[id])
		r.titles[strings.ToLower(id)] = titles[id]
	}
	r.digest = tree.Digest(sum.Sum(nil))
	return r
}

// with is r with the mods that a save lists and of which nothing else is known: where the game's mods name their things by their own id,
// that is enough to count them.
func (r *references) with(listed []game.Item) *references {
	var prefixes []string
	for i := range r.game.Mods {
		for _, a := range r.game.Mods[i].Adds {
			if strings.Contains(a.Prefix, "{id}") && !slices.Contains(prefixes, a.Prefix) {
				prefixes = append(prefixes, a.Prefix)
			}
		}
	}
	if len(prefixes) == 0 {
		return r
	}
	var more map[string]game.Added
	for _, item := range listed {
		if _, known := r.titles[strings.ToLower(item.ID)]; known {
			continue
		}
		if more == nil {
			more = maps.Clone(r.all)
		}
		var added game.Added
		for _, p := range prefixes {
			added.Prefixes = append(added.Prefixes, strings.ReplaceAll(p, "{id}", item.ID))
		}
		more[item.ID] = added
	}
	if more == nil {
		return r
	}
	titles := map[string]string{}
	for id := range r.all {
		titles[id] = r.titles[strings.ToLower(id)]
	}
	return newReferences(r.game, more, titles)
}

// find is the finder, built at first need.
func (r *references) find() *refer.Finder {
	if r.finder == nil {
		var list []refer.Identifiers
		for _, id := range slices.Sorted(maps.Keys(r.all)) {
			list = append(list, refer.Identifiers{Mod: id, Exact: r.all[id].Exact, Prefixes: r.all[id].Prefixes})
		}
		r.finder = refer.New(list)
	}
	return r.finder
}

// count looks through one save; files are all its files, relative to fsys. What cannot be read is not counted: the save is damaged then,
// and that is said elsewhere.
func (r *references) count(ctx context.Context, kind *game.Save, fsys fs.FS, name string, files []string) (refer.Counts, error) {
	counts := refer.Counts{}
	for _, ref := range r.game.References {
		declared, ok := kind.Files[ref.In]
		if !ok || ref.Save != "" && ref.Save != kind.ID {
			continue
		}
		for _, file := range save.FilesOf(kind, declared, name, files) {
			if err := r.countIn(ctx, ref, declared, fsys, file, counts); err != nil {
				return counts, fmt.Errorf("%s: %w", file, err)
			}
		}
	}
	return counts, nil
}

// maxReferring bounds the content of one file that is looked through, unwrapped, in bytes.
const maxReferring = 8 << 30

func (r *references) countIn(ctx context.Context, ref game.Reference, declared game.File, fsys fs.FS, file string, counts refer.Counts) error {
	limits := form.Limits{Decoded: maxReferring}
	if ref.At != "" {
		row := 0
		return form.Values(ctx, fsys, file, declared.Spec(), ref.At, ref.Layers.Layers, limits, func(value []byte) error {
			row++
			r.find().Search(value, fmt.Sprintf("%s, value %d", path.Base(file), row), counts)
			return nil
		})
	}
	f, err := fsys.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	content, err := declared.Layers.Reader(f, limits)
	if err != nil {
		return err
	}
	defer content.Close()
	return r.find().Read(content, path.Base(file), counts)
}

// refer fills in how often a save of the install refers to each mod, as far as that is not remembered.
func (g gathering) refer(s *Save) {
	if g.refs == nil || s.Facts.Problem != nil || s.Unread != nil {
		return
	}
	s.refs = g.refs.with(s.Facts.Mods)
	s.Refs = refer.Counts{}
	g.h.Hasher.Once(s.Path()+"\x00references", s.refs.digest, s.Folder.Path, slices.Values(s.Files), &s.Refs, func() bool {
		var err error
		s.Refs, err = s.refs.count(g.ctx, s.Kind, tree.DirFS(s.Folder.Path), s.Name, s.Paths())
		if err != nil {
			g.h.Log.Warn("references not counted", "save", s.Name, "error", err)
		}
		return err == nil
	})
}

// Required are the needs of a save as a check takes them, with what it refers to.
func (st *State) Required(s *Save) check.Needs {
	c := s.Needs.ForCheck(st.Mods.Ordered)
	c.Build = s.Facts.Fields["build"].Raw
	if s.refs == nil || s.Refs == nil {
		return c
	}
	byID := map[string]refer.Count{}
	for id, n := range s.Refs {
		byID[strings.ToLower(id)] = n
	}
	for i := range c.Mods {
		id := strings.ToLower(c.Mods[i].ID)
		if _, c.Mods[i].Counted = s.refs.titles[id]; c.Mods[i].Counted {
			c.Mods[i].Refs = byID[id].N
		}
		delete(byID, id)
	}
	var rest []string
	for id := range s.Refs {
		if _, ok := byID[strings.ToLower(id)]; ok {
			rest = append(rest, id)
		}
	}
	sort.Strings(rest)
	for _, id := range rest {
		c.Mods = append(c.Mods, check.Mod{ID: id, Title: s.refs.titles[strings.ToLower(id)], Refs: s.Refs[id].N, Counted: true, By: check.Referred})
	}
	return c
}

// Refer counts how often a save of a download refers to the mods that the install knows of; files are in fsys, and name is the save's path
// there.
func (st *State) Refer(ctx context.Context, s *Save, fsys fs.FS, name string, files []string) error {
	if st.refs == nil || s.Facts.Problem != nil {
		return nil
	}
	var err error
	s.refs = st.refs.with(s.Facts.Mods)
	s.Refs, err = s.refs.count(ctx, s.Kind, fsys, name, files)
	return err
}
