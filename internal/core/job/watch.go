package job

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// Written is a save that was seen being written.
type Written struct {
	At   time.Time
	Save *SaveState
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
	s     *Session
	in    *game.Install
	known map[logbook.Key]tree.Digest
	mods  []logbook.Needed // on when it began
	all   []Written
	note  func(Written) // told of each; may be nil
}

func (s *Session) newWatching(l *Look, note func(Written)) *watching {
	w := &watching{s: s, in: l.Install, known: map[logbook.Key]tree.Digest{}, mods: modsOn(l.Mods), note: note}
	for _, st := range l.Saves {
		w.known[st.Key()] = st.Digest
	}
	return w
}

// modsOn are the mods that are on, as a save written now needs them.
func modsOn(set mod.Set) []logbook.Needed {
	needed := inferMods(set, time.Time{})
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
			if !strings.HasPrefix(filepath.Base(e.Name), save.Hidden) {
				timer.Reset(quiet)
			}
		case err := <-watcher.Errors:
			w.s.Log.Warn("watching", "error", err)
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
				w.s.Log.Info("not there yet", "folder", f.Path, "error", err)
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
		if strings.HasPrefix(d.Name(), save.Hidden) || len(watcher.WatchList()) >= maxWatched {
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

// look records the saves that are new or changed since the last look. It reports whether one is being written still.
func (w *watching) look(ctx context.Context) (again bool, err error) {
	delete(w.s.looks, w.in)
	l, err := w.s.Look(ctx, w.in)
	if err != nil {
		return false, err
	}
	for _, st := range l.Saves {
		if slices.ContainsFunc(st.Findings, func(f check.Finding) bool { return f.Code == check.BeingWritten }) {
			again = true
			continue
		}
		if w.known[st.Key()] == st.Digest || st.Facts.Problem != nil {
			again = again || st.Facts.Problem != nil && w.known[st.Key()] != st.Digest && w.s.Now().Sub(st.Modified) < 2*quiet
			continue
		}
		w.known[st.Key()] = st.Digest
		e := logbook.Evidence{Kind: check.Seen, At: w.s.Now(), Version: l.Version}
		if len(l.Install.Game.Mods) > 0 && !l.Install.Game.PerSaveMods() && !st.Kind.NoMods {
			e.Mods = w.mods
		}
		if err := w.s.Logbook.Add(ctx, st.Digest, e); err != nil {
			return again, err
		}
		written := Written{At: st.Modified, Save: st, Mods: len(e.Mods)}
		w.all = append(w.all, written)
		if w.note != nil {
			w.note(written)
		}
	}
	return again, nil
}

// Watched is what a session of play left.
type Watched struct {
	Look    *Look
	Written []Written
	// Log is what the game's log says of the session, or nil where there is none.
	Log      *game.LogRead
	Findings []check.Finding
	Kept     *Kept // the safety copy, or nil where nothing was written
}

// Watch records what the game writes, and under which mods, until stop is closed or the context ends. Then it reads the game's log and keeps a
// safety copy. note is told of each save as it is written.
func (s *Session) Watch(ctx context.Context, in *game.Install, stop <-chan struct{}, note func(Written)) (*Watched, error) {
	if err := s.RequireRecords(); err != nil {
		return nil, err
	}
	l, err := s.Look(ctx, in)
	if err != nil {
		return nil, err
	}
	began := s.Now()
	w := s.newWatching(l, note)
	if err := w.until(ctx, stop); err != nil {
		return nil, err
	}
	return w.finish(context.WithoutCancel(ctx), began)
}

// finish adds what the log says and keeps a safety copy.
func (w *watching) finish(ctx context.Context, began time.Time) (*Watched, error) {
	delete(w.s.looks, w.in)
	l, err := w.s.Look(ctx, w.in)
	if err != nil {
		return nil, err
	}
	done := &Watched{Look: l, Written: w.all}
	if l.Log != nil && l.logged.After(began.Add(-time.Second)) {
		done.Log = l.Log
		if err := w.loaded(ctx, l); err != nil {
			return nil, err
		}
		for _, f := range l.Findings {
			if f.Code == check.NotLoaded {
				done.Findings = append(done.Findings, f)
			}
		}
	}
	if len(w.all) == 0 {
		return done, nil
	}
	delete(w.s.looks, w.in)
	if done.Kept, err = w.s.Keep(ctx, w.in, KeepRequest{safety: "the next session"}); err != nil {
		return nil, err
	}
	done.Look, err = w.s.Look(ctx, w.in)
	return done, err
}

// loaded records for each save written which mods the log says were loaded meanwhile.
func (w *watching) loaded(ctx context.Context, l *Look) error {
	if len(l.Log.Loaded) == 0 {
		return nil
	}
	mods := []logbook.Needed{}
	for _, item := range l.Log.Loaded {
		listed := mod.Listed{ID: item.ID, Version: item.Version, On: true}
		for _, m := range l.Mods.Mods {
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
			mods = append(mods, logbook.Needed{Listed: listed})
		}
	}
	for _, written := range w.all {
		e := logbook.Evidence{Kind: check.Loaded, At: w.s.Now(), Version: l.Version, Mods: mods}
		if err := w.s.Logbook.Add(ctx, written.Save.Digest, e); err != nil {
			return err
		}
	}
	return nil
}
