package mods

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// listKind is the kind of the ledger's entry for the game's list of active mods: the file is nobody's mod, and what it was before Ostrov first
// wrote it is kept like what a mod covers, so that it comes back with its times once it says the same again.
const listKind = "@list"

// listEdit is what becomes of the game's list of active mods.
type listEdit struct {
	remove []string
	add    []listedMod
	on     map[string]bool // by id in lower case
	order  []string        // ids, in the order that they are to have; others stay where they are
}

// listedMod is a mod that comes into the list.
type listedMod struct {
	id   string
	m    *mod.Mod // what it says of itself; may be nil
	text string   // how it stood there before, or ""
	at   int      // and where, from 1; 0 is at the end
}

// item is one element of the list.
type item struct {
	id   string
	text string
	on   bool
}

func (l *listEdit) empty() bool {
	return l == nil || len(l.remove)+len(l.add)+len(l.on)+len(l.order) == 0
}

// edit is the change of the list, which begins here.
func (w *work) edit() *listEdit {
	if w.list == nil {
		w.list = &listEdit{on: map[string]bool{}}
	}
	return w.list
}

// isListed reports whether the game has a list of active mods and it is there.
func (w *work) isListed() bool {
	a := w.st.Install.Game.Active
	if a == nil {
		return false
	}
	full, ok, err := w.st.Install.ActiveFile(w.ctx)
	if err != nil || !ok {
		return false
	}
	_, err = os.Stat(full)
	return err == nil
}

// items reads the list.
func (w *work) items() (items []item, data []byte, full string, err error) {
	a := w.st.Install.Game.Active
	if full, _, err = w.st.Install.ActiveFile(w.ctx); err != nil {
		return nil, nil, "", err
	}
	full = tree.Real(full)
	if data, err = tree.ReadBounded(full, maxList); err != nil {
		return nil, nil, full, err
	}
	items, err = w.itemsOf(a, data)
	if err != nil {
		return nil, nil, full, fmt.Errorf("%s: %w", full, err)
	}
	return items, data, full, nil
}

// maxList bounds a list of active mods that is written, in bytes.
const maxList = 64 << 20

func (w *work) itemsOf(a *game.Active, data []byte) ([]item, error) {
	declared := w.st.Install.Game.Files[a.In]
	if len(declared.Layers.Layers.Chain) > 0 {
		return nil, fmt.Errorf("a list that is packed %w", wrap.ErrNotWritable)
	}
	texts, err := declared.Spec().Elements(data, a.Each)
	if err != nil {
		return nil, err
	}
	said, err := w.said(data)
	if err != nil {
		return nil, err
	}
	if len(said) != len(texts) {
		return nil, fmt.Errorf("%d elements say which mod they are of and %d are there, so it %w", len(said), len(texts), wrap.ErrNotWritable)
	}
	items := make([]item, len(texts))
	for i, l := range said {
		items[i] = item{l.id, texts[i], l.on}
	}
	return items, nil
}

// said is what a list says, read as the game's is.
func (w *work) said(data []byte) ([]item, error) {
	d := w.st.Install.Game
	file := d.Files[d.Active.In]
	name := path.Base(filepath.ToSlash(file.Path))
	file.Path = "."
	files := field.InFS(tree.Contents{name: bytes.NewReader(data)}, name, []string{name}, map[string]field.File{d.Active.In: file})
	defer files.Close()
	list, _, err := mod.ReadActive(w.ctx, d, files)
	var items []item
	for _, l := range list {
		items = append(items, item{id: l.ID, on: l.On})
	}
	return items, err
}

// plan plans the change of the list.
func (l *listEdit) plan(w *work) error {
	if l.empty() || !w.isListed() {
		return nil
	}
	a := w.st.Install.Game.Active
	items, data, full, err := w.items()
	if err != nil {
		return problem.New(problem.Advise("nothing has been changed"), "the game's list of mods cannot be written: %w", err)
	}
	if w.p.Touches(filepath.Dir(full), filepath.Base(full)) {
		return nil // the plan brings the list itself
	}
	spec := w.st.Install.Game.Files[a.In].Spec()
	for _, whole := range []bool{false, true} { // what else stands in an entry stays, if the list then says what it is to say
		wanted, err := l.apply(entries{active: a, spec: spec, known: w.listable, whole: whole}, items)
		if err != nil {
			return err
		}
		var texts []string
		for _, i := range wanted {
			texts = append(texts, i.text)
		}
		written, err := spec.Relist(data, a.Each, texts)
		if err != nil {
			return problem.New(problem.Advise("nothing has been changed"), "the game's list of mods %s cannot be written: %w", full, err)
		}
		again, err := w.said(written)
		if err == nil && slices.EqualFunc(again, wanted, func(a, b item) bool { return strings.EqualFold(a.id, b.id) && a.on == b.on }) {
			return w.putList(full, data, written)
		}
	}
	return problem.New(problem.Advise("the description's entry is not what its pattern reads"), "what would be written into %s does not say what it is to say; nothing has been changed", full)
}

// listable is the installed mod with an id, or nil.
func (w *work) listable(id string) *mod.Mod {
	for _, m := range w.st.Mods.Mods {
		if strings.EqualFold(m.ID, id) {
			return m
		}
	}
	return nil
}

// apply is the list as it is to be.
func (l *listEdit) apply(e entries, items []item) ([]item, error) {
	is := func(ids []string, id string) bool {
		return slices.ContainsFunc(ids, func(o string) bool { return strings.EqualFold(o, id) })
	}
	wanted := slices.DeleteFunc(slices.Clone(items), func(i item) bool { return is(l.remove, i.id) })
	for _, m := range l.add {
		if slices.ContainsFunc(wanted, func(i item) bool { return strings.EqualFold(i.id, m.id) }) {
			continue
		}
		one := item{m.id, m.text, true}
		if m.text != "" {
			on, said := l.on[strings.ToLower(m.id)]
			one.on = on || !said
		} else if one.text = e.spell(e.active.Entry, m.id, m.m); one.text == "" {
			return nil, errNoEntry()
		}
		if m.at > 0 && m.at <= len(wanted) {
			wanted = slices.Insert(wanted, m.at-1, one)
		} else {
			wanted = append(wanted, one)
		}
	}
	for i, it := range wanted {
		on, changes := l.on[strings.ToLower(it.id)]
		if !changes || on == it.on {
			continue
		}
		text, err := e.turned(it, on)
		if err != nil {
			return nil, err
		}
		wanted[i] = item{it.id, text, on}
	}
	wanted = slices.DeleteFunc(wanted, func(i item) bool { return i.text == "" })
	for _, id := range slices.Sorted(maps.Keys(l.on)) { // one that is in no list is off, and comes in
		if l.on[id] && !slices.ContainsFunc(wanted, func(i item) bool { return strings.EqualFold(i.id, id) }) {
			m := e.known(id)
			if m != nil {
				id = m.ID // as the mod itself spells it
			}
			text := e.spell(e.active.Entry, id, m)
			if text == "" {
				return nil, errNoEntry()
			}
			wanted = append(wanted, item{id, text, true})
		}
	}
	return l.inOrder(wanted), nil
}

// inOrder puts the mods that are named in order into the places that they have now.
func (l *listEdit) inOrder(items []item) []item {
	if len(l.order) == 0 {
		return items
	}
	place := map[string]int{}
	for i, id := range l.order {
		place[strings.ToLower(id)] = i
	}
	var named []item
	for _, i := range items {
		if _, ok := place[strings.ToLower(i.id)]; ok {
			named = append(named, i)
		}
	}
	slices.SortStableFunc(named, func(a, b item) int { return place[strings.ToLower(a.id)] - place[strings.ToLower(b.id)] })
	for k, i := range items {
		if _, ok := place[strings.ToLower(i.id)]; ok {
			items[k], named = named[0], named[1:]
		}
	}
	return items
}

// putList plans to write the list, and notes what it was before Ostrov first wrote it.
func (w *work) putList(full string, data, written []byte) error {
	if bytes.Equal(data, written) {
		return nil
	}
	dir, name := filepath.Split(full)
	dir = filepath.Clean(dir)
	e, err := tree.Stat(dir, name)
	if err != nil {
		return err
	}
	lies := ledger.File{Root: "active", Path: name, Digest: digestOf(data), Size: int64(len(data)), Mode: e.Mode.Perm(), Time: e.ModTime.UTC()}
	will := lies
	will.Digest, will.Size, will.Time = digestOf(written), int64(len(written)), w.h.Now().UTC()
	var had *ledger.Entry
	if i := slices.IndexFunc(w.now, func(e *ledger.Entry) bool { return e.Kind == listKind }); i >= 0 {
		had = w.now[i]
	}
	first := lies
	if had != nil && len(had.Covered) == 1 && len(had.Files) == 1 && had.Files[0].Digest == lies.Digest {
		first = had.Covered[0]
	}
	w.sourceBytes(lies.Digest, data)
	w.sourceBytes(will.Digest, written)
	if first.Digest == will.Digest {
		will = first
		w.p.Enter(had, nil)
	} else {
		w.hold(&first)
		w.p.Enter(had, &ledger.Entry{Game: w.st.Install.Game.ID, Install: w.st.Install.Address(), Kind: listKind, ID: listKind, Came: w.h.Now().UTC(), Covered: []ledger.File{first}, Files: []ledger.File{will}})
	}
	t := plan.Target{Root: dir, Name: name, Content: map[string]tree.Sums{name: {Blake3: will.Digest}}}
	t.Fill = func(_ context.Context, stage *plan.Stage) error {
		return stage.Write(".", will.Entry(), func(to io.Writer) error { _, err := to.Write(written); return err })
	}
	w.p.Put(w.ctx, plan.Step{What: "the game's list of mods"}, plan.LeaveAside(), nil, t)
	return nil
}
