package job

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path"
	"sort"
	"strings"

	"github.com/zeebo/blake3"

	"ostrov/internal/core/check"
	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/refer"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// referring finds out how often saves of an install refer to each mod.
type referring struct {
	finder *refer.Finder
	digest tree.Digest       // of all identifiers
	titles map[string]string // of mods whose identifiers are known, by their ids in lower case
}

// identify learns the identifiers of the mods of an install, and recalls those of mods that are gone.
func (s *Session) identify(ctx context.Context, l *Look) error {
	d := l.Install.Game
	if len(d.References) == 0 {
		return nil
	}
	known, err := s.Logbook.Identifiers(ctx, d.ID)
	if err != nil {
		return err
	}
	now := map[string]game.Added{}
	titles := map[string]string{}
	for _, m := range l.Mods.Mods {
		if !m.Kind.Base && len(m.Adds.Exact)+len(m.Adds.Prefixes) > 0 {
			now[m.ID] = m.Adds
			titles[m.ID] = m.Name()
		}
	}
	if err := s.Logbook.SetIdentifiers(ctx, d.ID, now, known); err != nil {
		return err
	}
	for id, added := range known {
		if _, here := now[id]; !here {
			now[id] = added
		}
	}
	l.refs = newReferring(d, now, titles)
	return nil
}

func newReferring(d *game.Description, all map[string]game.Added, titles map[string]string) *referring {
	var list []refer.Identifiers
	for id, added := range all {
		list = append(list, refer.Identifiers{Mod: id, Exact: added.Exact, Prefixes: added.Prefixes})
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Mod < list[j].Mod })
	sum := blake3.New()
	fmt.Fprintf(sum, "%x %q", d.Digest, list)
	r := &referring{digest: tree.Digest(sum.Sum(nil)), titles: map[string]string{}}
	for _, one := range list {
		title := titles[one.Mod]
		r.titles[strings.ToLower(one.Mod)] = title
	}
	r.finder = refer.New(list)
	return r
}

// count looks through one save; files are all its files, relative to fsys. What cannot be read is not counted: the save is damaged then, and
// that is said elsewhere.
func (r *referring) count(ctx context.Context, d *game.Description, kind *game.Save, fsys fs.FS, name string, files []string) (refer.Counts, error) {
	counts := refer.Counts{}
	for _, ref := range d.References {
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

func (r *referring) countIn(ctx context.Context, ref game.Reference, declared game.File, fsys fs.FS, file string, counts refer.Counts) error {
	limits := form.Limits{Decoded: maxReferring}
	if ref.At != "" {
		row := 0
		return form.Values(ctx, fsys, file, declared.Spec(), ref.At, ref.Layers.Layers, limits, func(value []byte) error {
			row++
			r.finder.Search(value, fmt.Sprintf("%s, value %d", path.Base(file), row), counts)
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
	return r.finder.Read(content, path.Base(file), counts)
}

// refer fills in how often a save of the install refers to each mod, as far as that is not remembered.
func (s *Session) refer(ctx context.Context, l *Look, st *SaveState) {
	if l.refs == nil || st.Facts.Problem != nil {
		return
	}
	place := keyPlace(st.Save)
	st.Refs = refer.Counts{}
	s.Hasher.Once(place+"\x00references", l.refs.digest, st.Folder.Path, st.Files, &st.Refs, func() bool {
		var err error
		st.Refs, err = l.refs.count(ctx, l.Install.Game, st.Kind, os.DirFS(st.Folder.Path), st.Name, st.Paths())
		if err != nil {
			s.Log.Warn("references not counted", "save", st.Name, "error", err)
		}
		return err == nil
	})
}

// needsFor are the needs of a save as a check takes them, with what the save refers to.
func (l *Look) needsFor(facts save.Facts, needs logbook.Needs, refs refer.Counts) check.Needs {
	c := needs.ForCheck(l.Mods.Ordered)
	c.Build = facts.Fields["build"].Raw
	if l.refs == nil || refs == nil {
		return c
	}
	byID := map[string]refer.Count{}
	for id, n := range refs {
		byID[strings.ToLower(id)] = n
	}
	for i := range c.Mods {
		id := strings.ToLower(c.Mods[i].ID)
		if _, c.Mods[i].Counted = l.refs.titles[id]; c.Mods[i].Counted {
			c.Mods[i].Refs = byID[id].N
		}
		delete(byID, id)
	}
	var rest []string
	for id := range refs {
		if _, ok := byID[strings.ToLower(id)]; ok {
			rest = append(rest, id)
		}
	}
	sort.Strings(rest)
	for _, id := range rest {
		c.Mods = append(c.Mods, check.Mod{ID: id, Title: l.refs.titles[strings.ToLower(id)], Refs: refs[id].N, Counted: true, By: check.Referred})
	}
	return c
}
