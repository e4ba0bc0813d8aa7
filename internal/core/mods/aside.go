package mods

import (
	"cmp"
	"context"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/home"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// Switching proposes to switch mods on or off: in the game's own list where it has one that can be written, else by setting their files aside
// or bringing them back.
func Switching(ctx context.Context, h *home.Home, now *assess.Install, words []string, on bool) (*Proposal, error) {
	verb := Off
	if on {
		verb = On
	}
	p, err := begin(ctx, h, now.State, "mods "+string(verb)+" "+strings.Join(words, " "))
	if err != nil {
		return nil, err
	}
	w := p.work
	if now.Install.Game.PerSaveMods() {
		p.Warnings = append(p.Warnings, "each save of this game says itself which mods are on: what is switched here is whether they are there at all")
	}
	var changes []assess.Change
	for _, word := range words {
		e, lies, err := w.found(word)
		if err != nil {
			return nil, err
		}
		if e != nil && e.State == ledger.InPlace || e == nil {
			if e != nil {
				lies = w.modsOf(e)
			}
			if w.byList(lies) {
				changes = append(changes, w.switchListed(lies, on)...)
				continue
			}
		}
		more, err := w.switchFiles(e, lies, on)
		if err != nil {
			return nil, err
		}
		changes = append(changes, more...)
	}
	if len(p.Items) == 0 {
		p.Reason = "that is how it is"
	}
	p.suppose(now, changes)
	return p.finish()
}

// byList reports whether mods are switched in the game's list.
func (w *work) byList(mods []*mod.Mod) bool {
	a := w.st.Install.Game.Active
	return a != nil && a.Entry != "" && len(mods) > 0 && w.isListed()
}

// switchListed switches mods in the game's list.
func (w *work) switchListed(mods []*mod.Mod, on bool) []assess.Change {
	var changes []assess.Change
	for _, m := range mods {
		if m.On == on {
			continue
		}
		w.edit().on[strings.ToLower(m.ID)] = on
		changes = append(changes, switched(m, on))
		w.p.Items = append(w.p.Items, Item{Verb: verbOf(on), Name: m.Name(), ID: m.ID, Version: m.Version, Needed: neededBy(w.st, []string{m.ID})})
	}
	return changes
}

func verbOf(on bool) Verb {
	if on {
		return On
	}
	return Off
}

func switched(m *mod.Mod, on bool) assess.Change {
	if on {
		return assess.Change{Words: "with " + m.Name() + " on", On: m}
	}
	return assess.Change{Words: "with " + m.Name() + " off", Off: m}
}

// switchFiles sets a mod's files aside, or brings them back.
func (w *work) switchFiles(e *ledger.Entry, lies []*mod.Mod, on bool) ([]assess.Change, error) {
	there := e == nil || e.State == ledger.InPlace
	if there == on {
		return nil, nil
	}
	if on {
		if err := w.find([]*ledger.Entry{e}); err != nil {
			return nil, err
		}
		return w.bring(e, On)
	}
	if e == nil {
		var err error
		if e, err = w.take(lies[0]); err != nil {
			return nil, err
		}
	}
	return w.setAside(e, ledger.Off, Off)
}

// setAside sets the files of a mod aside.
func (w *work) setAside(e *ledger.Entry, state ledger.State, verb Verb) ([]assess.Change, error) {
	mods := w.modsOf(e)
	var changes []assess.Change
	for _, m := range mods {
		changes = append(changes, switched(m, false))
	}
	after := *e
	after.State, after.Turn = state, w.turn()
	if w.isListed() {
		if err := w.unlist(&after); err != nil {
			return nil, err
		}
	}
	w.replace(e, &after)
	w.ownFolders(e)
	w.p.Items = append(w.p.Items, Item{Verb: verb, Name: e.Name(), ID: e.ID, Version: e.Version, Files: len(e.Files), Bytes: e.Bytes(), Needed: neededBy(w.st, idsOf(e))})
	return changes, nil
}

// turn is the number of what is set aside now.
func (w *work) turn() int64 {
	var last int64
	for _, e := range w.now {
		last = max(last, e.Turn)
	}
	return last + 1
}

// unlist takes the mods of an entry out of the game's list, and notes how they stood there.
func (w *work) unlist(e *ledger.Entry) error {
	items, _, _, err := w.items()
	if err != nil {
		return problem.New(problem.Advise("nothing has been changed"), "the game's list of mods cannot be read: %w", err)
	}
	e.Listed = nil
	for i, it := range items {
		if e.Is(it.id) {
			e.Listed = append(e.Listed, ledger.Listing{ID: it.id, Text: it.text, At: i + 1, On: it.on})
			w.edit().remove = append(w.edit().remove, it.id)
		}
	}
	return nil
}

// ownFolders notes the folders that are a mod's own: they are set aside with all that is in them.
func (w *work) ownFolders(e *ledger.Entry) {
	for _, m := range w.modsOf(e) {
		root, rel, err := w.placeOf(m)
		if err != nil {
			continue
		}
		if m.Pack != "" {
			rel = strings.SplitN(rel, "/", 2)[0]
		}
		others := slices.ContainsFunc(w.now, func(o *ledger.Entry) bool {
			return o.Key() != e.Key() && o.State == ledger.InPlace && slices.ContainsFunc(o.Files, func(f ledger.File) bool {
				return f.Root == root && (f.Path == rel || strings.HasPrefix(f.Path, rel+"/"))
			})
		})
		if !others {
			w.whole[ledger.Place{Root: root, Path: rel}] = true
		}
	}
}

// bring brings the files of a mod back.
func (w *work) bring(e *ledger.Entry, verb Verb) ([]assess.Change, error) {
	after := *e
	after.State, after.Turn, after.Listed = ledger.InPlace, 0, nil
	if missing := w.missing(&after); missing != "" {
		return nil, problem.New(problem.Do("mods verify", w.st.Called).With("fix"), "%s was set aside, and %s is not to be had any more; nothing has been changed", e.Name(), missing)
	}
	var changes []assess.Change
	for _, m := range w.st.Mods.Away {
		if m.Kind.ID == e.Kind && e.Is(m.ID) {
			on := *m
			on.On = true
			changes = append(changes, assess.Change{Words: "with " + m.Name() + " back", Add: &on})
		}
	}
	for _, l := range e.Listed {
		w.edit().add = append(w.edit().add, listedMod{id: l.ID, text: l.Text, at: l.At})
		w.edit().on[strings.ToLower(l.ID)] = l.On
	}
	w.replace(e, &after)
	w.p.Items = append(w.p.Items, Item{Verb: verb, Name: e.Name(), ID: e.ID, Version: e.Version, Files: len(e.Files), Bytes: e.Bytes()})
	return changes, nil
}

// missing is a file of an entry that is to come back and is nowhere, or "".
func (w *work) missing(e *ledger.Entry) string {
	for _, f := range e.Files {
		if f.Digest.IsZero() {
			continue
		}
		if w.h.Store().Has(f.Digest) {
			continue
		}
		if !slices.ContainsFunc(w.leftAt(f.Place()), func(lies string) bool {
			_, err := tree.Stat(filepath.Dir(lies), filepath.Base(lies))
			return err == nil
		}) {
			return f.Path
		}
	}
	return ""
}

// AllAside proposes to set all mods aside but those named, for a clean game.
func AllAside(ctx context.Context, h *home.Home, now *assess.Install, but []string) (*Proposal, error) {
	p, err := begin(ctx, h, now.State, "mods aside")
	if err != nil {
		return nil, err
	}
	w := p.work
	if err := w.asideBut(but); err != nil {
		return nil, err
	}
	var changes []assess.Change
	for _, m := range now.Mods.Mods {
		if !m.Kind.Base && !m.Folder.Managed && w.goes(m) {
			changes = append(changes, switched(m, false))
		}
	}
	for _, m := range now.Mods.Mods {
		if m.Folder.Managed && !m.Kind.Base {
			p.Warnings = append(p.Warnings, m.Name()+" stays: another program owns "+m.Folder.Path+", which is never written")
		}
	}
	if len(p.Items) == 0 {
		p.Reason = now.Called + " has no mods that could be set aside"
	}
	p.suppose(now, changes)
	return p.finish()
}

// goes reports whether a mod is set aside.
func (w *work) goes(m *mod.Mod) bool {
	e := w.owner(m)
	return e == nil
}

// asideBut sets all mods aside but those named.
func (w *work) asideBut(but []string) error {
	stays, err := w.named(but)
	if err != nil {
		return err
	}
	for _, m := range w.st.Mods.Mods {
		if m.Kind.Base || m.Folder.Managed || w.owner(m) != nil || slices.Contains(stays.mods, m) {
			continue
		}
		if _, err := w.take(m); err != nil {
			return err
		}
	}
	for _, e := range slices.Clone(w.then) {
		if e.State != ledger.InPlace || e.Kind == listKind || slices.Contains(stays.entries, e) {
			continue
		}
		if _, err := w.setAside(e, ledger.Aside, Aside); err != nil {
			return err
		}
	}
	return nil
}

// named are the entries and mods that words mean.
type named struct {
	entries []*ledger.Entry
	mods    []*mod.Mod
}

func (w *work) named(words []string) (n named, err error) {
	for _, word := range words {
		e, mods, err := w.found(word)
		if err != nil {
			return n, err
		}
		if e != nil {
			n.entries = append(n.entries, e)
		}
		n.mods = append(n.mods, mods...)
	}
	return n, nil
}

// Returning proposes to bring back what was set aside for a clean game.
func Returning(ctx context.Context, h *home.Home, now *assess.Install) (*Proposal, error) {
	p, err := begin(ctx, h, now.State, "mods back")
	if err != nil {
		return nil, err
	}
	w := p.work
	if n := len(now.Strays.Changed) + len(now.Strays.Missing); n > 0 {
		one := check.New(check.BaseAltered, "", count(n, "file of the game itself is", "files of the game itself are")+" not as recorded")
		one.Severity = check.Note
		p.Findings = append(p.Findings, one.Helped(problem.Do("look", now.Called)))
	}
	var changes []assess.Change
	back := slices.DeleteFunc(slices.Clone(w.now), func(e *ledger.Entry) bool { return e.State != ledger.Aside })
	slices.SortFunc(back, func(a, b *ledger.Entry) int {
		return cmp.Or(cmp.Compare(b.Turn, a.Turn), firstListed(a)-firstListed(b))
	})
	if err := w.find(back); err != nil {
		return nil, err
	}
	for _, e := range back {
		more, err := w.bring(e, Back)
		if err != nil {
			return nil, err
		}
		changes = append(changes, more...)
	}
	if len(p.Items) == 0 {
		p.Reason = "no mod of " + now.Called + " is set aside"
	}
	p.suppose(now, changes)
	return p.finish()
}

func firstListed(e *ledger.Entry) int {
	if len(e.Listed) == 0 {
		return 0
	}
	return e.Listed[0].At
}
