// Package play goes with a session of play: it checks what would be loaded, records what the game writes and under which mods, and reads
// the game's log afterwards.
//
// It starts no program (its caller does) and changes no game's folder. What it sees goes into the logbook as it comes, so that a session
// that is cut short is recorded as far as it went.
package play

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/problem"
)

// Ready is what is known before a game is started.
type Ready struct {
	Install *assess.Install
	Newest  *assess.Save // the save that will most likely be loaded, or nil
	// Findings are those of the newest save and those that stand in the way of playing.
	Findings []check.Finding
	Verdict  check.Verdict
}

// Before vets the newest save before the game is started with command, a program and its arguments; none where the player starts it.
func Before(a *assess.Install, command []string) *Ready {
	r := &Ready{Install: a, Verdict: check.Fit}
	current := a.Current()
	for _, s := range a.Saves {
		own := current == nil || s.Line == "" || s.Line == current.Name
		if own && (r.Newest == nil || s.Modified.After(r.Newest.Modified)) {
			r.Newest = s
		}
	}
	if r.Newest != nil {
		r.Findings = slices.Clone(r.Newest.Findings)
		r.Verdict = r.Newest.Verdict
	}
	for _, f := range a.Findings {
		if slices.Contains([]check.Code{check.SettingNeeded, check.RequirementMissing, check.ModsCollide, check.ModUnsupported}, f.Code) {
			r.Findings = append(r.Findings, f)
		}
	}
	if f := r.starter(a.Install.Game, command); f != nil {
		r.Findings = append(r.Findings, *f)
	}
	check.Sort(r.Findings)
	return r
}

// starter says when the program that is to be started is not for the newest save.
func (r *Ready) starter(d *game.Description, command []string) *check.Finding {
	if len(command) == 0 || r.Newest == nil {
		return nil
	}
	base := func(path string) string { return filepath.Base(strings.ReplaceAll(path, `\`, "/")) }
	fits := func(st game.Starter) bool {
		modded := false
		for _, m := range r.Newest.Needs.Mods {
			modded = modded || m.On
		}
		return (len(st.Saves) == 0 || slices.Contains(st.Saves, r.Newest.Kind.ID)) && (st.Mods == nil || *st.Mods || !modded)
	}
	for _, st := range d.Starters {
		named := slices.ContainsFunc(command, func(word string) bool { return strings.EqualFold(base(word), base(st.File)) })
		if !named || fits(st) {
			continue
		}
		f := check.New(check.WrongStarter, st.Title, fmt.Sprintf("is not for %s, the newest save", r.Newest.Called()))
		for _, other := range d.Starters {
			if fits(other) {
				f.Remedy = problem.Advise("start %s (%s) instead", other.Title, other.File)
				break
			}
		}
		return &f
	}
	return nil
}

// Play runs the game, of which st is the state before, by run, and records meanwhile what it writes. What run returns comes back as ended;
// a game that ends badly is no error of Ostrov's.
func Play(ctx context.Context, h *home.Home, st *facts.State, run func(context.Context) error, note func(Written)) (done *Watched, ended, err error) {
	if err := h.RequireRecords(); err != nil { // before the game starts: a session that cannot be recorded is not begun
		return nil, nil, err
	}
	stop := make(chan struct{})
	result := make(chan error, 1)
	go func() {
		result <- run(ctx)
		close(stop)
	}()
	// A stop that the player types reaches the game too: the session ends when the game does, and is recorded whole.
	done, err = Watch(context.WithoutCancel(ctx), h, st, stop, note)
	return done, <-result, err
}

// AwaitGame waits until the game's program has been started and has ended.
func AwaitGame(ctx context.Context, d *game.Description) error {
	if len(d.Install.Process) == 0 {
		return problem.Usage(problem.Do("play", d.ID, "--", "COMMAND"), "the description does not say how the program of %s is called", d.Title)
	}
	for started := false; ; {
		running, err := facts.Running(ctx, d.Install.Process)
		if err != nil {
			return err
		}
		if started && len(running) == 0 {
			return nil
		}
		started = started || len(running) > 0
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return nil
		}
	}
}
