// Package plan is one list of steps: proven safe, shown, carried out, taken back. It is the only room that changes a game's folders.
//
// A step that replaces or removes something cannot be built without saying what keeps the old bytes (Safeguard): the line whose snapshot
// is to hold them, or that they stay aside. Before a plan is carried out each such step is secured: by a snapshot that was read back and
// holds just these bytes, else by keeping them aside for as long as nothing else does. What the logbook is to know afterwards, and what
// undo has to do, follows from the steps. A plan that moves nothing but changes who owns what is a change like any other.
//
// Settle puts in order what an interrupted command left. It is a step of its own, which vet, completion and dry runs do not take: these
// ask Unfinished.
package plan

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/change"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/tree"
)

// Stage is where the new content of a target is written.
type Stage = change.Stage

// Fill writes what a target is to become.
type Fill = func(ctx context.Context, stage *Stage) error

// Safe is what keeps the bytes of a target.
type Safe = change.Safe

// InSnapshot is safe in a snapshot.
func InSnapshot(playthrough, id string) Safe { return change.InSnapshot(playthrough, id) }

// Safeguard says how what is there now will be kept.
type Safeguard struct{ line string }

// KeepLine has the line kept first: its snapshot is to hold what goes.
func KeepLine(name string) Safeguard { return Safeguard{name} }

// LeaveAside leaves what goes beside the folder.
func LeaveAside() Safeguard { return Safeguard{} }

// Guard keeps the line that a save belongs to, and leaves one that belongs to none aside. nil is no save.
func Guard(s *facts.Save) Safeguard {
	if s == nil || s.Line == "" {
		return LeaveAside()
	}
	return KeepLine(s.Line)
}

// Verb is what a step does.
type Verb string

// Verbs.
const (
	Put     Verb = "put"
	Replace Verb = "replace"
	Remove  Verb = "remove"
	Leave   Verb = "leave"
	Set     Verb = "set"
)

// Step is one thing that a plan does, as it is shown.
type Step struct {
	Verb Verb
	What string // for people: a title, a file
	Was  string // what is there now, for people; "" where nothing is
	Root string
	Name string // in Root, slash-separated; the first of its targets
	Note string
	// Saved is when the save that is put was written, WasSaved the one that is there; zero where that is not known.
	Saved, WasSaved time.Time
	// Played is how long the save that is put was played, WasPlayed the one that is there; 0 where that is not read, or where the two are no states
	// of one save.
	Played, WasPlayed time.Duration

	targets []target
	effects []Effect
}

// Older reports whether a step puts a save over one that is farther on: played longer, or, where that is not read or the same, written later.
func (s Step) Older() bool {
	if s.Verb == Replace && s.Played > 0 && s.WasPlayed > 0 && s.Played != s.WasPlayed {
		return s.Played < s.WasPlayed
	}
	return s.Verb == Replace && !s.Saved.IsZero() && s.Saved.Before(s.WasSaved.Truncate(time.Second))
}

// Older counts the steps that put a save over one that is farther on.
func (p *Plan) Older() int {
	n := 0
	for _, s := range p.Steps {
		if s.Older() {
			n++
		}
	}
	return n
}

// Path is where the step's first target lies.
func (s Step) Path() string { return filepath.Join(s.Root, filepath.FromSlash(s.Name)) }

// SafeBy is what keeps what the step replaces or removes; zero before it is secured.
func (s Step) SafeBy() Safe {
	for _, t := range s.targets {
		if !t.before.Missing() {
			return t.safe
		}
	}
	return Safe{}
}

// target is one file or folder that a step alters.
//
// root is the folder's real path: installs that reach it in different ways alter the same target.
type target struct {
	root, name string
	shown      string // the folder as the install calls it
	fill       Fill   // nil removes it, without a place
	place      string // beside the folder, from which it is moved in
	before     change.Signature
	guard      Safeguard
	safe       Safe
	source     Safe
	content    map[string]tree.Sums
}

func (t target) path() string { return filepath.Join(t.root, filepath.FromSlash(t.name)) }

// Plan is a change of one install's folders that can be shown before it is made.
type Plan struct {
	State *facts.State // of the install, as it is
	Title string       // for people: what undo calls it
	Steps []Step
	// Stayed are settings that differ and stay as they are, by the description.
	Stayed []string
	// Warnings are what the player should know before agreeing.
	Warnings []string
	// Reason says why there is nothing to do, where there is nothing.
	Reason string

	h       *home.Home
	effects Effects
	guard   func() error
	keep    []string // lines that are kept in any case
	entries []entering
	held    []holding
	first   []func(context.Context) error
	err     error // the first that building met
}

// New begins a plan for an install. guard says why it may not be carried out at a moment; nil is that the game runs.
func New(ctx context.Context, h *home.Home, st *facts.State, title string, guard func() error) *Plan {
	if guard == nil {
		guard = func() error { return MayChange(ctx, st.Install, nil, nil) }
	}
	return &Plan{h: h, State: st, Title: title, guard: guard}
}

// Install is whose folders the plan changes.
func (p *Plan) Install() *game.Install { return p.State.Install }

// Empty reports whether the plan does nothing.
func (p *Plan) Empty() bool { return !p.Moves() && p.effects.empty() && len(p.entries) == 0 }

// Moves reports whether the plan alters anything in folders.
func (p *Plan) Moves() bool {
	return slices.ContainsFunc(p.Steps, func(s Step) bool { return len(s.targets) > 0 })
}

// Err is what went wrong while the plan was made.
func (p *Plan) Err() error { return p.err }

// Target is something that is to be put somewhere.
type Target struct {
	Root, Name string
	Fill       Fill
	Place      string // instead of Fill: where it lies beside the folder; see LeftBy
	Source     Safe   // what keeps the new content, where something does
	// Content is what the files in it will be, by path relative to Root, where that is known: then they are not read again afterwards.
	Content map[string]tree.Sums
}

// Save is what a step means for a save: where, and whose it is before and after.
type Save struct {
	Key    logbook.Key
	Before Stand
	After  Stand
}

func (s Save) effect() Effect { return Effect{Key: s.Key, Before: s.Before, After: s.After} }

// Put plans to put targets where nothing is, or where guard keeps what is. s says which save they make up, or is nil.
func (p *Plan) Put(ctx context.Context, step Step, guard Safeguard, s *Save, targets ...Target) {
	step.Verb = Put
	for _, t := range targets {
		root := tree.Real(t.Root)
		before := p.look(ctx, root, t.Name)
		if !before.Missing() {
			step.Verb = Replace
		}
		by := guard
		if dropped := p.drop(root, t.Name); dropped != nil { // what was to go is what is replaced
			by = dropped.guard
		}
		step.targets = append(step.targets, target{root, t.Name, t.Root, t.Fill, t.Place, before, by, Safe{}, t.Source, t.Content})
	}
	p.add(step, s)
}

// Remove plans to take names in a folder away, kept by guard. What is not there is passed over.
func (p *Plan) Remove(ctx context.Context, step Step, guard Safeguard, s *Save, names ...string) {
	step.Verb = Remove
	root := tree.Real(step.Root)
	for _, name := range names {
		if before := p.look(ctx, root, name); !before.Missing() && !p.has(root, name) {
			step.targets = append(step.targets, target{root: root, name: name, shown: step.Root, before: before, guard: guard})
		}
	}
	if len(step.targets) > 0 || s != nil {
		p.add(step, s)
	}
}

// Replacing adds to the last step names that go as well: those of the save that was there before.
func (p *Plan) Replacing(ctx context.Context, root string, guard Safeguard, names ...string) {
	last, shown := &p.Steps[len(p.Steps)-1], root
	root = tree.Real(root)
	for _, name := range names {
		if before := p.look(ctx, root, name); !before.Missing() && !p.has(root, name) {
			last.targets = append(last.targets, target{root: root, name: name, shown: shown, before: before, guard: guard})
		}
	}
}

// Say adds a step that alters nothing.
func (p *Plan) Say(step Step) { p.Steps = append(p.Steps, step) }

// Own plans that a save belongs to a line from now on, wherever it stands.
func (p *Plan) Own(s Save) { p.effects.Saves = append(p.effects.Saves, s.effect()) }

// Start plans that a playthrough is begun.
func (p *Plan) Start(l logbook.Playthrough) { p.effects.Start = &l }

// Activate plans that another line is the one that is played.
func (p *Plan) Activate(name string) {
	p.effects.Active = name
	if current := p.State.Current(); current != nil {
		p.effects.WasActive = current.Name
	}
}

// StandAt plans that a line stands at a snapshot afterwards, since its saves are brought back from it.
func (p *Plan) StandAt(line, id string) {
	was := ""
	for _, l := range p.State.Lines {
		if l.Name == line {
			was = l.At
		}
	}
	p.effects.At = append(p.effects.At, LineAt{line, was, id})
}

// Playing is the line that is played once the plan is carried out; "" where that stays as it is.
func (p *Plan) Playing() string { return p.effects.Active }

// Activates reports whether another line is played once the plan is carried out.
func (p *Plan) Activates() bool { return p.effects.Active != "" }

func (p *Plan) add(step Step, s *Save) {
	if step.Root == "" && len(step.targets) > 0 {
		step.Root = step.targets[0].shown
	}
	if step.Name == "" && len(step.targets) > 0 {
		step.Name = step.targets[0].name
	}
	if s != nil {
		step.effects = append(step.effects, s.effect())
	}
	p.Steps = append(p.Steps, step)
}

func (p *Plan) look(ctx context.Context, root, name string) change.Signature {
	before, err := change.SignatureOf(ctx, filepath.Join(root, filepath.FromSlash(name)))
	if err != nil && p.err == nil {
		p.err = err
	}
	return before
}

// has reports whether a step alters a target already.
func (p *Plan) has(root, name string) bool {
	return slices.ContainsFunc(p.Steps, func(s Step) bool {
		return slices.ContainsFunc(s.targets, func(t target) bool { return t.root == root && t.name == name })
	})
}

// Touches reports whether a step alters a path below a folder, or a folder around it.
func (p *Plan) Touches(root, name string) bool {
	return slices.ContainsFunc(p.Steps, func(s Step) bool {
		return slices.ContainsFunc(s.targets, func(t target) bool {
			return t.root == root && (t.name == name || strings.HasPrefix(name, t.name+"/") || strings.HasPrefix(t.name, name+"/"))
		})
	})
}

// drop takes back the removal of a target that is to be put after all, and returns it: an exchange moves aside what was there by itself.
func (p *Plan) drop(root, name string) *target {
	for i := range p.Steps {
		for j, t := range p.Steps[i].targets {
			if t.fill == nil && t.place == "" && t.root == root && t.name == name {
				p.Steps[i].targets = slices.Delete(p.Steps[i].targets, j, j+1)
				return &t
			}
		}
	}
	return nil
}

// Spare takes back the removal of what is to stay after all.
func (p *Plan) Spare(root, name string) {
	p.drop(tree.Real(root), name)
	p.Steps = slices.DeleteFunc(p.Steps, func(s Step) bool {
		return s.Verb == Remove && len(s.targets) == 0 && len(s.effects) == 0
	})
}

// Lines are the lines that have to be kept before the plan is carried out.
func (p *Plan) Lines() []string {
	lines := slices.Clone(p.keep)
	for _, s := range p.Steps {
		for _, t := range s.targets {
			if t.guard.line != "" && !t.before.Missing() && !slices.Contains(lines, t.guard.line) {
				lines = append(lines, t.guard.line)
			}
		}
	}
	return lines
}

// Bytes is how much is put and how much moved aside, in bytes, as far as that is known.
func (p *Plan) Bytes() (aside int64) {
	for _, s := range p.Steps {
		for _, t := range s.targets {
			for _, e := range t.before.Entries {
				aside += e.Size
			}
		}
	}
	return aside
}

// Secure says for each step what keeps what it replaces: kept for a line reports the digests of what a snapshot holds, by path on this
// machine, and which snapshot that is; anything that it does not hold just so stays aside.
func (p *Plan) Secure(ctx context.Context, kept func(line string) (held map[string]tree.Digest, by Safe)) error {
	for i := range p.Steps {
		for j := range p.Steps[i].targets {
			t := &p.Steps[i].targets[j]
			if t.before.Missing() {
				continue
			}
			t.safe = change.Aside()
			if t.guard.line == "" || kept == nil {
				continue
			}
			held, by := kept(t.guard.line)
			holds, err := p.holds(ctx, t, held)
			if err != nil {
				return err
			}
			if holds {
				t.safe = by
			}
		}
	}
	return nil
}

// holds reports whether all files of a target are among what is held, byte for byte. Links and empty folders are not bytes.
func (p *Plan) holds(ctx context.Context, t *target, held map[string]tree.Digest) (bool, error) {
	if len(held) == 0 {
		return false, nil
	}
	for _, e := range t.before.Entries {
		if e.Kind == tree.Dir {
			continue
		}
		path, dir, name := t.path(), t.shown, t.name
		if e.Path != "." {
			path, dir, name = filepath.Join(path, filepath.FromSlash(e.Path)), filepath.Join(dir, filepath.FromSlash(name)), e.Path
		}
		want, ok := held[path]
		if !ok || e.Kind != tree.File {
			return false, nil
		}
		now, err := tree.Stat(dir, name)
		if err != nil {
			return false, err
		}
		sums, err := p.h.Hasher.File(ctx, dir, now, false)
		if err != nil {
			return false, err
		}
		if sums.Blake3 != want {
			return false, nil
		}
	}
	return true, nil
}

// Describe is a save in words for a step.
func Describe(s *facts.Save) string {
	text := fmt.Sprintf("%q", s.Title())
	if v := s.Facts.Version(); v != "" {
		text += ", " + v
	}
	return text + ", " + day(s.Modified)
}

// day is a time for people, with the year where it is not of the last eleven months before the save's own.
func day(t time.Time) string { return strings.TrimSpace(t.Local().Format("2 January 2006 15:04")) }

// Keep has a line kept before the plan is carried out, also where none of its saves is touched.
func (p *Plan) Keep(name string) { p.keep = append(p.keep, name) }
