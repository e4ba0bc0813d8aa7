// Package home is Ostrov's own data on this machine: descriptions, installs, logbook, archives, what is remembered of files, and the
// clock.
//
// It says what there is and decides nothing. What it writes lies in its own folder, and is written whole or not at all. Opened to read
// only, it writes nothing anywhere, not even a cache: vet, completion and every dry run open it so. What cannot be read is named (Broken,
// Unrecorded) and hinders nothing else. It never reaches into a game's folder.
package home

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sort"
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/durable"
	"ostrov/internal/core/game"
	"ostrov/internal/core/index"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// Options are what a home is opened with.
type Options struct {
	Dir string // absolute
	Now func() time.Time
	Log *slog.Logger
	// Progress is told what is being done and how far it is, in bytes; total is 0 where unknown. It may be nil.
	Progress func(what string, done, total int64)
	// ReadOnly writes nothing at all.
	ReadOnly bool
}

// Home is Ostrov's data, open. It is not safe for concurrent use.
type Home struct {
	Options
	Installs []*game.Install
	// Broken are descriptions and installs that cannot be used, each with why.
	Broken  []Broken
	Logbook *logbook.Logbook
	// Unrecorded is why nothing can be recorded, or nil.
	Unrecorded error
	Hasher     *tree.Hasher

	games   map[string]*described
	lost    []game.LostInstall // installs without a description: they stay in the file
	index   *index.Index
	config  config
	archive *archive.Archive
	scratch string // "" until it is needed
	store   *Store // nil until it is needed
}

// Broken is one of the player's own files that cannot be used.
type Broken struct {
	File string
	Err  error
	Game string // the game's id that has no description therefore, or ""
}

// configFormat is the number of the format of config.json.
const configFormat = 1

type config struct {
	Format   int      `json:"ostrov_config"`
	Archives []string `json:"archives,omitempty"` // folders; the first is the one that is kept into
	// Missed are, for each of these, the snapshots that it does not have yet, since its drive was away.
	Missed map[string][]missed `json:"missed,omitempty"`
	// StoodIn is what the first homes had instead: those that none of these has.
	StoodIn []missed `json:"stood_in,omitempty"`
}

// Open opens the data in a folder, making it where it is missing. A home or logbook that cannot be used is no error: Unrecorded says why,
// and what only reads goes on.
func Open(o Options) (*Home, error) {
	h := &Home{Options: o, games: map[string]*described{}}
	if h.Progress == nil {
		h.Progress = func(string, int64, int64) {}
	}
	if !filepath.IsAbs(h.Dir) {
		return nil, problem.Usage(problem.Advise("name a whole path"), "Ostrov's home %q is not a whole path", h.Dir)
	}
	if !h.ReadOnly {
		if err := os.MkdirAll(h.Dir, 0o700); err != nil {
			h.Unrecorded = err
		}
	}
	if err := h.loadGames(); err != nil {
		return nil, err
	}
	h.loadInstalls()
	h.loadConfig()
	var err error
	book := filepath.Join(h.Dir, "logbook.sqlite")
	if h.ReadOnly {
		h.Logbook, err = logbook.OpenToRead(book)
	} else {
		h.Logbook, err = logbook.Open(book)
	}
	if err != nil {
		h.Unrecorded = errors.Join(h.Unrecorded, err)
		if h.Logbook, err = logbook.OpenInMemory(); err != nil {
			return nil, err
		}
	}
	h.Hasher = &tree.Hasher{Now: h.Now}
	if h.index, err = index.Open(filepath.Join(h.Dir, "index.sqlite"), h.ReadOnly); err != nil {
		h.Log.Warn("no index", "error", err)
	} else {
		h.Hasher.Index, h.Hasher.Notes = h.index, h.index
	}
	return h, nil
}

func (h *Home) loadConfig() {
	err := h.Read("config.json", &h.config)
	if err == nil && h.config.Format > configFormat {
		err = fmt.Errorf("%s is of format %d; this Ostrov reads %d", filepath.Join(h.Dir, "config.json"), h.config.Format, configFormat)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		h.config = config{}
		h.Unrecorded = errors.Join(h.Unrecorded, err)
	}
}

// Close writes what was learnt about files and closes everything.
func (h *Home) Close() error {
	var err error
	if h.archive != nil {
		err = h.archive.Close()
	}
	if h.index != nil {
		if e := h.index.Close(); e != nil {
			h.Log.Warn("the index was not written", "error", e)
		}
	}
	if h.scratch != "" && h.ReadOnly {
		err = errors.Join(err, os.RemoveAll(h.scratch))
	}
	return errors.Join(err, h.Logbook.Close())
}

// RequireRecords fails where nothing can be recorded, for what must not go unrecorded.
func (h *Home) RequireRecords() error {
	if h.Unrecorded == nil {
		return nil
	}
	return problem.New(problem.Advise("nothing has been changed; vet, look, kept and restore to a folder still work"), "this cannot be recorded: %w", h.Unrecorded)
}

// Read reads a JSON file of the home. The error is fs.ErrNotExist where it is not there.
func (h *Home) Read(name string, into any) error {
	path := filepath.Join(h.Dir, filepath.FromSlash(name))
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, into); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

// PartName is the pattern of the names that files have while Ostrov writes them where the player said.
const PartName = ".part-ostrov-*"

// Write writes a file of the home as JSON, whole or not at all.
func (h *Home) Write(name string, what any) error {
	data, err := json.MarshalIndent(what, "", " ")
	if err != nil {
		return err
	}
	return h.writeBytes(name, append(data, '\n'))
}

func (h *Home) writeBytes(name string, data []byte) error {
	if h.ReadOnly {
		return errors.New("the home of Ostrov is open to read only")
	}
	path := filepath.Join(h.Dir, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return durable.Write(path, PartName, 0o600, func(w io.Writer) error { _, err := w.Write(data); return err })
}

// Remove removes a file of the home; one that is not there is no error.
func (h *Home) Remove(name string) error {
	if err := os.Remove(filepath.Join(h.Dir, filepath.FromSlash(name))); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// List names the files in a folder of the home that end in suffix, sorted; none where there is no such folder.
func (h *Home) List(dir, suffix string) ([]string, error) {
	list, err := os.ReadDir(filepath.Join(h.Dir, dir))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var names []string
	for _, e := range list {
		if !e.IsDir() && filepath.Ext(e.Name()) == suffix {
			names = append(names, e.Name())
		}
	}
	return names, nil
}

// Scratch is a folder for what has to be unpacked to be read.
func (h *Home) Scratch() string {
	if h.scratch != "" {
		return h.scratch
	}
	h.scratch = filepath.Join(h.Dir, "scratch")
	if h.ReadOnly {
		h.scratch, _ = os.MkdirTemp("", "ostrov-")
	} else if err := os.MkdirAll(h.scratch, 0o700); err != nil {
		h.scratch = os.TempDir()
	}
	return h.scratch
}

// GameIDs are the ids of all games that have a description, sorted.
func (h *Home) GameIDs() []string {
	var ids []string
	for id := range h.games {
		ids = append(ids, id)
	}
	sort.Strings(ids)
	return ids
}

// Forbidden are the folders of Ostrov itself, which no description may reach.
func (h *Home) Forbidden() []string { return append([]string{h.Dir}, h.ArchiveDirs()...) }
