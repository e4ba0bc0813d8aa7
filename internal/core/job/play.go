package job

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/check"
	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
)

// Ready is what is known before a game is started.
type Ready struct {
	Look   *Look
	Newest *SaveState // the save that will most likely be loaded, or nil
	// Findings are those of the newest save and those that stand in the way of playing.
	Findings []check.Finding
	Verdict  check.Verdict
}

// BeforePlay vets the newest save before the game is started with command, a program and its arguments; none where the player starts it.
func (s *Session) BeforePlay(ctx context.Context, in *game.Install, command []string) (*Ready, error) {
	l, err := s.Look(ctx, in)
	if err != nil {
		return nil, err
	}
	r := &Ready{Look: l, Verdict: check.Fit}
	current := l.Current()
	for _, st := range l.Saves {
		own := current == nil || st.Playthrough == "" || st.Playthrough == current.Name
		if own && (r.Newest == nil || st.Modified.After(r.Newest.Modified)) {
			r.Newest = st
		}
	}
	if r.Newest != nil {
		r.Findings = slices.Clone(r.Newest.Findings)
		r.Verdict = r.Newest.Verdict
	}
	for _, f := range l.Findings {
		if slices.Contains([]check.Code{check.SettingNeeded, check.RequirementMissing, check.ModsCollide, check.ModUnsupported}, f.Code) {
			r.Findings = append(r.Findings, f)
		}
	}
	if f := r.starter(in.Game, command); f != nil {
		r.Findings = append(r.Findings, *f)
	}
	check.Sort(r.Findings)
	return r, nil
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
		f := check.New(check.WrongStarter, st.Title, fmt.Sprintf("is not for %s, the newest save", slotOrName(r.Newest)))
		for _, other := range d.Starters {
			if fits(other) {
				f.Remedy = fmt.Sprintf("start %s (%s) instead", other.Title, other.File)
				break
			}
		}
		return &f
	}
	return nil
}

// Play runs the game by run, and records meanwhile what it writes. What run returns comes back as ended; a game that ends badly is no error of
// Ostrov's.
func (s *Session) Play(ctx context.Context, in *game.Install, run func(context.Context) error, note func(Written)) (done *Watched, ended, err error) {
	stop := make(chan struct{})
	result := make(chan error, 1)
	go func() {
		result <- run(ctx)
		close(stop)
	}()
	// A stop that the player types reaches the game too: the session ends when the game does, and is recorded whole.
	done, err = s.Watch(context.WithoutCancel(ctx), in, stop, note)
	return done, <-result, err
}

// AwaitGame waits until the game's program has been started and has ended.
func AwaitGame(ctx context.Context, d *game.Description) error {
	if len(d.Install.Process) == 0 {
		return usage("ostrov play "+d.ID+" -- COMMAND", "the description does not say how the program of %s is called", d.Title)
	}
	for started := false; ; {
		running, err := Running(ctx, d.Install.Process)
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

// maxLog bounds the log that is read, in bytes.
const maxLog = 256 << 20

// lookAtLog reads the game's log of the last session and notes which mods that are on were not loaded.
func (s *Session) lookAtLog(ctx context.Context, l *Look) error {
	d := l.Install.Game
	if d.Log == nil {
		return nil
	}
	path, ok, err := l.Install.FilePath(ctx, d.Log.In)
	if err != nil || !ok {
		return err
	}
	e, err := tree.Look(filepath.Dir(path), filepath.Base(path))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil || e.Kind != tree.File {
		return err
	}
	var read game.LogRead
	s.Hasher.Once(path+"\x00log", d.Digest, filepath.Dir(path), slices.Values([]tree.Entry{e}), &read, func() bool {
		read, err = readLog(d, path)
		return err == nil
	})
	if err != nil {
		s.Log.Warn("the game's log cannot be read", "file", path, "error", err)
		return nil
	}
	l.Log, l.logged = &read, e.ModTime
	for _, m := range l.Mods.Mods {
		if !m.On || m.Kind.Base || m.Latest.After(e.ModTime) { // a mod that changed since the session is another one now
			continue
		}
		if slices.ContainsFunc(read.Failed, func(i game.Item) bool { return strings.EqualFold(i.ID, m.ID) }) {
			f := check.New(check.NotLoaded, m.Name(), "the game's log says that it was not loaded in the last session")
			f.Remedy = "read " + path
			l.Findings = append(l.Findings, f)
		}
	}
	return nil
}

func readLog(d *game.Description, path string) (game.LogRead, error) {
	f, err := os.Open(path)
	if err != nil {
		return game.LogRead{}, err
	}
	defer f.Close()
	content, err := d.Files[d.Log.In].Layers.Reader(f, form.Limits{Decoded: maxLog})
	if err != nil {
		return game.LogRead{}, err
	}
	defer content.Close()
	return d.Log.Read(content)
}
