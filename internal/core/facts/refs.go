package facts

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/zeebo/blake3"

	"ostrov/internal/core/check"
	"ostrov/internal/core/doc"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/refer"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// references finds out how often saves refer to each mod.
type references struct {
	game   *game.Description
	all    map[string]game.Added // by the mod's id
	digest tree.Digest           // of all identifiers
	titles map[string]string     // of mods whose identifiers are known, by their ids in lower case
	partly map[string]bool       // ids, in lower case, of which not all identifiers are known: nothing found does not mean that nothing is there
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
		if !m.Kind.Base && len(m.Adds.Exact)+len(m.Adds.Prefixes)+len(m.Adds.Suffixes) > 0 {
			now[m.ID] = m.Adds
			titles[m.ID] = m.Name()
		}
	}
	g.Learnt.Identifiers = map[string]game.Added{}
	for id, added := range now {
		if old, ok := known[id]; !ok || !slices.Equal(old.Exact, added.Exact) || !slices.Equal(old.Prefixes, added.Prefixes) || !slices.Equal(old.Suffixes, added.Suffixes) {
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

// with is r with the mods that a save of a kind lists and of which nothing else is known: where all the mods that they may be name their things by
// their own id, that is enough to count them.
func (r *references) with(kind *game.Save, listed []field.Item) *references {
	var more map[string]game.Added
	partly := map[string]bool{}
	for _, item := range listed {
		if _, known := r.titles[strings.ToLower(item.ID)]; known {
			continue
		}
		added, whole := byID(r.game.MayBe(kind, item.Expects, item.Kind), item.ID)
		if len(added.Prefixes)+len(added.Suffixes) == 0 {
			continue
		}
		if more == nil {
			more = maps.Clone(r.all)
		}
		more[item.ID] = added
		partly[strings.ToLower(item.ID)] = !whole
	}
	if more == nil {
		return r
	}
	titles := map[string]string{}
	for id := range r.all {
		titles[id] = r.titles[strings.ToLower(id)]
	}
	all := newReferences(r.game, more, titles)
	all.partly = partly
	return all
}

// byID are the identifiers of a mod of which only the id is known; whole is false where a kind that it may be has others.
func byID(kinds []*game.Mod, id string) (added game.Added, whole bool) {
	whole = len(kinds) > 0
	add := func(list []string, template string) []string {
		if text := strings.ReplaceAll(template, "{id}", id); text != "" && !slices.Contains(list, text) {
			return append(list, text)
		}
		return list
	}
	for _, k := range kinds {
		whole = whole && len(k.Adds) > 0
		for _, a := range k.Adds {
			for _, t := range []struct {
				template string
				into     *[]string
			}{{a.Prefix, &added.Prefixes}, {a.Suffix, &added.Suffixes}} {
				if strings.Contains(t.template, "{id}") && !strings.Contains(t.template, "{field:") {
					*t.into = add(*t.into, t.template)
				} else if t.template != "" {
					whole = false
				}
			}
			whole = whole && a.In == ""
		}
	}
	return added, whole
}

// find is the finder, built at first need.
func (r *references) find() *refer.Finder {
	if r.finder == nil {
		var list []refer.Identifiers
		for _, id := range slices.Sorted(maps.Keys(r.all)) {
			list = append(list, refer.Identifiers{Mod: id, Exact: r.all[id].Exact, Prefixes: r.all[id].Prefixes, Suffixes: r.all[id].Suffixes})
		}
		r.finder = refer.New(list)
	}
	return r.finder
}

// referred is how often a save refers to mods.
type referred struct {
	Counts refer.Counts
	// Whole tells that all places in which identifiers may stand were there and looked through: only then nothing found means that nothing is there.
	Whole bool
}

// count looks through one save; files are all its files, relative to fsys, and read are values that have been read already.
func (r *references) count(ctx context.Context, kind *game.Save, fsys fs.FS, name string, files []string, read map[game.Spot][]string) (referred, error) {
	found := referred{refer.Counts{}, true}
	for i, ref := range r.game.References {
		if r.again(i) {
			continue
		}
		declared, ok := kind.Files[ref.In]
		if ref.Save != "" && ref.Save != kind.ID {
			continue
		}
		in := save.FilesOf(kind, declared, name, files)
		if !ok || len(in) == 0 { // such things may be kept elsewhere
			found.Whole = false
		}
		if values, ok := read[game.Spot{In: ref.In, At: ref.At}]; ok && len(in) == 1 {
			for i, v := range values {
				r.find().Search([]byte(v), path.Base(in[0])+", value "+strconv.Itoa(i+1), found.Counts)
			}
			continue
		}
		for _, file := range in {
			if err := r.countIn(ctx, ref, declared, fsys, file, found.Counts); err != nil {
				return found, fmt.Errorf("%s: %w", file, err)
			}
		}
	}
	return found, nil
}

// again reports whether a reference of the description is to what another one counts already: those of a file that is counted as a whole, and those that
// differ only in what is taken out.
func (r *references) again(i int) bool {
	ref := &r.game.References[i]
	for j := range r.game.References {
		other := &r.game.References[j]
		same := i != j && ref.In == other.In && ref.Save == other.Save
		if same && (other.At == "" && (ref.At != "" || j < i) || j < i && ref.At == other.At) {
			return true
		}
	}
	return false
}

// maxReferring bounds the content of one file that is looked through, unwrapped, in bytes.
const maxReferring = 8 << 30

func (r *references) countIn(ctx context.Context, ref game.Reference, declared field.File, fsys fs.FS, file string, counts refer.Counts) error {
	limits := wrap.Limits{Decoded: maxReferring}
	if ref.At != "" {
		row := 0
		finder, at := r.find(), path.Base(file)+", value "
		return doc.Values(ctx, fsys, file, declared.Spec(), ref.At, ref.Layers.Layers, limits, func(value []byte) error {
			row++
			finder.Search(value, at+strconv.Itoa(row), counts)
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
	text := io.Reader(content)
	if doc.IsText(declared.Form) {
		if text, err = doc.TextReader(content, declared.Spec()); err != nil {
			return err
		}
	}
	if err := r.find().Read(text, path.Base(file), counts); err != nil || !doc.IsTree(declared.Form) {
		return err
	}
	return r.countRespelled(ctx, declared, fsys, file, limits, counts)
}

// countRespelled counts what is referred to in names and values that are spelled with escapes or entities, where it is not found in their spelling.
func (r *references) countRespelled(ctx context.Context, declared field.File, fsys fs.FS, file string, limits wrap.Limits, counts refer.Counts) error {
	d, err := doc.Open(ctx, fsys, file, declared.Spec(), limits)
	if err != nil {
		return err
	}
	err = d.EachRespelled(ctx, func(_ doc.Node, raw []byte, says string) error {
		spelled, decoded := refer.Counts{}, refer.Counts{}
		r.find().Search(raw, path.Base(file), spelled)
		r.find().Search([]byte(says), path.Base(file), decoded)
		for mod, n := range decoded {
			if n.N -= spelled[mod].N; n.N > 0 {
				n.N += counts[mod].N
				counts[mod] = n
			}
		}
		return nil
	})
	return errors.Join(err, d.Close())
}

// refer fills in how often a save of the install refers to each mod, as far as that is not remembered. That a place cannot be read through is a
// problem of the save.
func (g gathering) refer(s *Save) {
	if g.refs == nil || s.Facts.Problem != nil || s.Unread != nil {
		return
	}
	s.refs = g.refs.with(s.Kind, s.Facts.Mods)
	s.Refs = referred{}
	g.h.Hasher.Once(s.placeOfReferences(), s.refs.digest, s.Folder.Path, slices.Values(s.Files), &s.Refs, func() bool {
		var err error
		s.Refs, err = s.refs.count(g.ctx, s.Kind, s.FS(), s.Name, s.Paths(), s.Facts.Referring)
		s.notReferred(g.ctx, err)
		return err == nil
	})
}

// soonRead is up to what size, in bytes, a save is read again rather than foretold.
const soonRead = 4 << 20

// Foresee looks through a save of the install as it is going to be: says is what it will say, files are all its files, in fsys, and contents those that are
// other ones than now. What it returns notes that, once they have taken their place, so that a large save is not read again.
func (st *State) Foresee(ctx context.Context, s *Save, says save.Facts, fsys fs.FS, files []string, contents tree.Contents) (note func(context.Context, *tree.Hasher), err error) {
	if s.Size <= soonRead || says.Problem != nil {
		return func(context.Context, *tree.Hasher) {}, nil
	}
	var refs *references
	var refers referred
	if st.refs != nil {
		refs = st.refs.with(s.Kind, says.Mods)
		if refers, err = refs.count(ctx, s.Kind, fsys, s.Name, files, says.Referring); ctx.Err() != nil {
			return nil, err
		}
	}
	return func(ctx context.Context, h *tree.Hasher) {
		now, ok := s.Foretell(ctx, st.Install, h, says, files, contents)
		if ok && refs != nil && err == nil {
			h.Note(s.placeOfReferences(), refs.digest, s.Folder.Path, slices.Values(now), refers)
		}
	}, nil
}

// placeOfReferences names the note of what the save refers to.
func (s *Save) placeOfReferences() string { return s.Path() + "\x00references" }

// notReferred notes why a save could not be looked through.
func (s *Save) notReferred(ctx context.Context, err error) {
	if err != nil && ctx.Err() == nil && !errors.Is(err, wrap.ErrTooLarge) {
		s.Facts.Problem = err
	}
	if err != nil {
		s.refs = nil
	}
}

// Finder finds the identifiers of the mods that are known, and of those that a save lists; nil where the description does not say where they stand.
func (st *State) Finder(s *Save) *refer.Finder {
	if st.refs == nil {
		return nil
	}
	return st.refs.with(s.Kind, s.Facts.Mods).find()
}

// Required are the needs of a save as a check takes them, with what it refers to.
func (st *State) Required(s *Save) check.Needs {
	c := s.Needs.ForCheck(st.Mods.Ordered)
	c.Build, c.Format, c.Unmapped = s.Facts.Fields["build"].Raw, s.Facts.Fields["format"].Raw, s.Facts.Fields["version"].Unmapped
	c.Fields = map[string]string{}
	for id, v := range s.Facts.Fields {
		if v.Unmapped == "" {
			c.Fields[id] = v.Raw
		}
	}
	for i := range c.Mods {
		c.Mods[i].Kind, c.Mods[i].Affects = alike(st.Install.Game.MayBe(s.Kind, c.Mods[i].In, c.Mods[i].Of))
	}
	if s.refs == nil || s.Refs.Counts == nil {
		return c
	}
	byID := map[string]refer.Count{}
	for id, n := range s.Refs.Counts {
		byID[strings.ToLower(id)] = n
	}
	for i := range c.Mods {
		id := strings.ToLower(c.Mods[i].ID)
		_, known := s.refs.titles[id]
		c.Mods[i].Refs = byID[id].N
		c.Mods[i].Counted = known && (s.Refs.Whole && !s.refs.partly[id] || byID[id].N > 0)
		delete(byID, id)
	}
	var rest []string
	for id := range s.Refs.Counts {
		if _, ok := byID[strings.ToLower(id)]; ok {
			rest = append(rest, id)
		}
	}
	sort.Strings(rest)
	for _, id := range rest {
		m := check.Mod{ID: id, Title: s.refs.titles[strings.ToLower(id)], Refs: s.Refs.Counts[id].N, Counted: true, By: check.Referred}
		m.Kind, m.Affects = alike(st.Install.Game.MayBe(s.Kind, "", ""))
		c.Mods = append(c.Mods, m)
	}
	return c
}

// alike is what is known of a mod that may be of any of kinds: which it is where there is one, and what it affects where all affect the same.
func alike(kinds []*game.Mod) (names []string, affects string) {
	for i, k := range kinds {
		if i == 0 {
			names, affects = k.Names(), k.Affects
			continue
		}
		names = nil
		if k.Affects != affects {
			return nil, ""
		}
	}
	return names, affects
}

// Refer counts how often a save of a download refers to the mods that the install knows of; files are in fsys, and name is the save's path
// there.
func (st *State) Refer(ctx context.Context, s *Save, fsys fs.FS, name string, files []string) error {
	if st.refs == nil || s.Facts.Problem != nil {
		return nil
	}
	s.refs = st.refs.with(s.Kind, s.Facts.Mods)
	var err error
	s.Refs, err = s.refs.count(ctx, s.Kind, fsys, name, files, nil)
	s.notReferred(ctx, err)
	return ctx.Err()
}
