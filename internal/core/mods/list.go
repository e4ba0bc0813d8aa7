package mods

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/field"
	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
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
		return nil, fmt.Errorf("a list that is packed %w", form.ErrNotWritable)
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
		return nil, fmt.Errorf("%d elements say which mod they are of and %d are there, so it %w", len(said), len(texts), form.ErrNotWritable)
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
	wanted, err := l.apply(a, items)
	if err != nil {
		return err
	}
	var texts []string
	for _, i := range wanted {
		texts = append(texts, i.text)
	}
	declared := w.st.Install.Game.Files[a.In]
	written, err := declared.Spec().Relist(data, a.Each, texts)
	if err != nil {
		return problem.New(problem.Advise("nothing has been changed"), "the game's list of mods %s cannot be written: %w", full, err)
	}
	again, err := w.said(written)
	same := func(a, b item) bool { return strings.EqualFold(a.id, b.id) && a.on == b.on }
	if err != nil || !slices.EqualFunc(again, wanted, same) {
		return problem.New(problem.Advise("the description's entry is not what its pattern reads"), "what would be written into %s does not say what it is to say; nothing has been changed", full)
	}
	return w.putList(full, data, written)
}

// apply is the list as it is to be.
func (l *listEdit) apply(a *game.Active, items []item) ([]item, error) {
	is := func(ids []string, id string) bool {
		return slices.ContainsFunc(ids, func(o string) bool { return strings.EqualFold(o, id) })
	}
	wanted := slices.DeleteFunc(slices.Clone(items), func(i item) bool { return is(l.remove, i.id) })
	for _, m := range l.add {
		if slices.ContainsFunc(wanted, func(i item) bool { return strings.EqualFold(i.id, m.id) }) {
			continue
		}
		text := m.text
		if text == "" {
			if text = spell(a.Entry, m); text == "" {
				return nil, errNoEntry()
			}
		}
		one := item{m.id, text, true}
		if m.text != "" {
			one.on = l.wasOn(m.id)
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
		template := a.Entry
		if !on {
			template = a.EntryOff
		}
		if a.Entry == "" {
			return nil, errNoEntry()
		}
		wanted[i] = item{it.id, spell(template, listedMod{id: it.id}), on}
	}
	wanted = slices.DeleteFunc(wanted, func(i item) bool { return i.text == "" })
	for id, on := range l.on { // one that is in no list is off, and comes in
		if on && !slices.ContainsFunc(wanted, func(i item) bool { return strings.EqualFold(i.id, id) }) {
			text := spell(a.Entry, listedMod{id: id})
			if text == "" {
				return nil, errNoEntry()
			}
			wanted = append(wanted, item{id, text, true})
		}
	}
	return l.inOrder(wanted), nil
}

// wasOn reports whether a mod that comes back was on.
func (l *listEdit) wasOn(id string) bool {
	on, said := l.on[strings.ToLower(id)]
	delete(l.on, strings.ToLower(id))
	return on || !said
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

func errNoEntry() error {
	return problem.Usage(problem.Advise("add `entry` to [active] of the description, or switch the mod in the game"), "the description of the game does not say how the list of mods is written; nothing has been changed")
}

// spell is an element as the description writes it; "" where the mod does not say what stands in it.
func spell(template string, m listedMod) string {
	text := strings.ReplaceAll(template, "{id}", m.id)
	if strings.Contains(text, "{") && m.m != nil {
		text = strings.NewReplacer("{title}", m.m.Title, "{version}", m.m.Version, "{folder}", path.Base(m.m.Path)).Replace(text)
		for name, value := range m.m.Fields {
			text = strings.ReplaceAll(text, "{field:"+name+"}", value)
		}
	}
	for _, left := range []string{"{title}", "{version}", "{folder}", "{field:"} {
		if strings.Contains(text, left) {
			return ""
		}
	}
	return text
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
