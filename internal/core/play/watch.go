package play

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/record"
	"ostrov/internal/core/tree"
)

// Written is a save that was seen being written.
type Written struct {
	At   time.Time
	Save *facts.Save
	Mods int // that were on
}

const (
	// quiet is how long the folders must have been left alone for a save to count as written whole.
	quiet = 1200 * time.Millisecond
	// poll is how often the folders are looked at even when nothing is reported: not every file system reports.
	poll = 30 * time.Second
)

// watching is one session of play that is being watched.
type watching struct {
	h     *home.Home
	in    *game.Install
	known map[logbook.Key]tree.Digest
	mods  mod.Set // on when it began
	all   []Written
	note  func(Written) // told of each; may be nil
}

func newWatching(h *home.Home, st *facts.State, note func(Written)) *watching {
	w := &watching{h: h, in: st.Install, known: map[logbook.Key]tree.Digest{}, mods: st.Mods, note: note}
	for _, s := range st.Saves {
		w.known[s.Key()] = s.Digest
	}
	return w
}

// modsOn are the mods that are on, as a save of a kind written now needs them, but for those that it lists itself.
func modsOn(set mod.Set, kind *game.Save) []modlist.Needed {
	needed := facts.InferMods(set, kind, time.Time{})
	for i := range needed {
		needed[i].Doubtful = false
	}
	return needed
}

// until records what is written until stop is closed or the context ends, and once more then.
func (w *watching) until(ctx context.Context, stop <-chan struct{}) error {
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	defer watcher.Close()
	if err := w.add(ctx, watcher); err != nil {
		return err
	}
	timer := time.NewTimer(poll)
	defer timer.Stop()
	for {
		select {
		case <-stop:
			return w.settle(ctx)
		case <-ctx.Done():
			return w.settle(context.WithoutCancel(ctx))
		case e := <-watcher.Events:
			if info, err := os.Stat(e.Name); err == nil && info.IsDir() && e.Has(fsnotify.Create) {
				_ = addBelow(watcher, e.Name) // what cannot be watched is polled
			}
			if !tree.Ours(filepath.Base(e.Name)) {
				timer.Reset(quiet)
			}
		case err := <-watcher.Errors:
			w.h.Log.Warn("watching", "error", err)
		case <-timer.C:
			again, err := w.look(ctx)
			if err != nil {
				return err
			}
			if timer.Reset(poll); again {
				timer.Reset(quiet)
			}
		}
	}
}

// add watches all folders of saves, and what a folder that is not there yet would appear in.
func (w *watching) add(ctx context.Context, watcher *fsnotify.Watcher) error {
	for i := range w.in.Game.Saves {
		folders, err := w.in.FoldersOf(ctx, w.in.Game.Saves[i].Folder)
		if err != nil {
			return err
		}
		for _, f := range folders {
			if err := addBelow(watcher, f.Path); errors.Is(err, fs.ErrNotExist) {
				err = watcher.Add(filepath.Dir(f.Path))
				w.h.Log.Info("not there yet", "folder", f.Path, "error", err)
			} else if err != nil {
				return err
			}
		}
	}
	return nil
}

// maxWatched bounds how many folders are watched: systems allow only so many.
const maxWatched = 4000

func addBelow(watcher *fsnotify.Watcher, dir string) error {
	return filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if !d.IsDir() {
			return nil
		}
		if tree.Ours(d.Name()) || len(watcher.WatchList()) >= maxWatched {
			return fs.SkipDir
		}
		return watcher.Add(path)
	})
}

// settle records what was written last, once it is whole.
func (w *watching) settle(ctx context.Context) error {
	const tries = 5
	for range tries {
		again, err := w.look(ctx)
		if err != nil || !again {
			return err
		}
		select {
		case <-time.After(quiet):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

// see looks at the install and records what it sees.
func (w *watching) see(ctx context.Context) (*facts.State, error) {
	st, err := facts.Gather(ctx, w.h, w.in)
	if err != nil {
		return nil, err
	}
	return st, record.Seen(ctx, w.h, st)
}

// look records the saves that are new or changed since the last look. It reports whether one is being written still.
func (w *watching) look(ctx context.Context) (again bool, err error) {
	st, err := w.see(ctx)
	if err != nil {
		return false, err
	}
	for _, s := range st.Saves {
		if s.Unread != nil {
			again = again || s.BeingWritten()
			continue
		}
		if w.known[s.Key()] == s.Digest || s.Facts.Damaged() {
			again = again || s.Facts.Damaged() && w.known[s.Key()] != s.Digest && w.h.Now().Sub(s.Modified) < 2*quiet
			continue
		}
		w.known[s.Key()] = s.Digest
		e := logbook.Evidence{Kind: check.Seen, At: w.h.Now(), Version: st.Version}
		if len(st.Install.Game.Mods) > 0 && !st.Install.Game.PerSaveMods() && !s.Kind.NoMods && st.Problems.Mods == nil {
			e.Mods = modsOn(w.mods, s.Kind)
		}
		if err := w.h.Logbook.Add(ctx, s.Digest, e); err != nil {
			return again, err
		}
		written := Written{At: s.Modified, Save: s, Mods: len(e.Mods)}
		w.all = append(w.all, written)
		if w.note != nil {
			w.note(written)
		}
	}
	return again, nil
}

// Watched is what a session of play left.
type Watched struct {
	State   *facts.State
	Written []Written
	// Log is what the game's log says of the session, or nil where there is none.
	Log      *game.LogRead
	Findings []check.Finding
}

// Watch records what the game writes after the state st, and under which mods, until stop is closed or the context ends. Then it reads the
// game's log. note is told of each save as it is written.
func Watch(ctx context.Context, h *home.Home, st *facts.State, stop <-chan struct{}, note func(Written)) (*Watched, error) {
	if err := h.RequireRecords(); err != nil {
		return nil, err
	}
	began := h.Now()
	w := newWatching(h, st, note)
	if err := w.until(ctx, stop); err != nil {
		return nil, err
	}
	return w.finish(context.WithoutCancel(ctx), began)
}

// finish adds what the log says.
func (w *watching) finish(ctx context.Context, began time.Time) (*Watched, error) {
	st, err := w.see(ctx)
	if err != nil {
		return nil, err
	}
	done := &Watched{State: st, Written: w.all}
	if st.Log == nil || !st.Logged.After(began.Add(-time.Second)) {
		return done, nil
	}
	done.Log = st.Log
	for _, f := range assess.Of(st).Findings {
		if f.Code == check.NotLoaded {
			done.Findings = append(done.Findings, f)
		}
	}
	return done, w.loaded(ctx, st)
}

// loaded records for each save written which mods the log says were loaded meanwhile.
func (w *watching) loaded(ctx context.Context, st *facts.State) error {
	if len(st.Log.Loaded) == 0 {
		return nil
	}
	mods := []modlist.Needed{}
	for _, item := range st.Log.Loaded {
		listed := modlist.Listed{ID: item.ID, Version: item.Version, On: true}
		for _, m := range st.Mods.Mods {
			if strings.EqualFold(m.ID, item.ID) {
				listed.ID, listed.Title, listed.Digest = m.ID, m.Title, m.Digest
				if listed.Version == "" {
					listed.Version = m.Version
				}
				if m.Kind.Base {
					listed.ID = ""
				}
			}
		}
		if listed.ID != "" {
			mods = append(mods, modlist.Needed{Listed: listed})
		}
	}
	for _, written := range w.all {
		e := logbook.Evidence{Kind: check.Loaded, At: w.h.Now(), Version: st.Version, Mods: mods}
		if err := w.h.Logbook.Add(ctx, written.Save.Digest, e); err != nil {
			return err
		}
	}
	return nil
}
