// Package job carries out what the commands ask for, one job each: it brings together games, saves, mods, logbook, archive and changes,
// which do not know each other.
//
// It takes and returns plain values and prints nothing, so that every interface shows the same. Whatever it changes in a game's folders goes
// through package change; what it changes in Ostrov's own home is written whole or not at all.
package job

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"ostrov/games"
	"ostrov/internal/core/archive"
	"ostrov/internal/core/durable"
	"ostrov/internal/core/game"
	"ostrov/internal/core/index"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/tree"
)

// Options are what a session is opened with.
type Options struct {
	Home string // Ostrov's own data
	Now  func() time.Time
	Log  *slog.Logger
	// Progress is told what is being done and how far it is, in bytes; total is 0 where unknown. It may be nil.
	Progress func(what string, done, total int64)
}

// Session is Ostrov's data, open. It is not safe for concurrent use.
type Session struct {
	Options
	Games    map[string]*game.Description
	Installs []*game.Install
	Logbook  *logbook.Logbook
	// Unrecorded is why nothing can be recorded in this session, or nil.
	Unrecorded error
	Hasher     *tree.Hasher

	index   *index.Index
	config  config
	archive *archive.Archive
	looks   map[*game.Install]*Look
}

type config struct {
	Format   int      `json:"ostrov_config"`
	Archives []string `json:"archives,omitempty"` // folders; the first is the one that is kept into
	// StoodIn are the snapshots that none of these has yet, since their drives were away.
	StoodIn []stoodIn `json:"stood_in,omitempty"`
}

// Error is what went wrong in words for people: what happened, what is unharmed, what to do.
type Error struct {
	Text string
	Hint string // commands or advice, one a line
	Err  error  // the cause, or nil
}

func (e *Error) Error() string { return e.Text }

// Unwrap is the cause.
func (e *Error) Unwrap() error { return e.Err }

func problem(hint, format string, args ...any) error {
	err := fmt.Errorf(format, args...)
	return &Error{Text: err.Error(), Hint: hint, Err: errors.Unwrap(err)}
}

// Kinds of refusal that have an exit status of their own.
var (
	// ErrBusy says that the game runs, or another Ostrov works on the same folders.
	ErrBusy = errors.New("busy")
	// ErrDeclined says that the player's consent is needed and was not given.
	ErrDeclined = errors.New("declined")
	// ErrUsage says that the request itself makes no sense.
	ErrUsage = errors.New("usage")
)

// usage is a problem with what was asked for.
func usage(hint, format string, args ...any) error {
	return &Error{Text: fmt.Sprintf(format, args...), Hint: hint, Err: ErrUsage}
}

// Open opens the data in Home, making it where it is missing. A home or logbook that cannot be used is no error: Unrecorded says why, and
// what only reads goes on.
func Open(o Options) (*Session, error) {
	s := &Session{Options: o, Games: map[string]*game.Description{}, looks: map[*game.Install]*Look{}}
	if s.Progress == nil {
		s.Progress = func(string, int64, int64) {}
	}
	if err := os.MkdirAll(s.Home, 0o700); err != nil {
		s.Unrecorded = err
	}
	if err := s.loadGames(); err != nil {
		return nil, err
	}
	if err := s.loadInstalls(); err != nil {
		return nil, err
	}
	if err := s.readHome("config.json", &s.config); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var err error
	if s.Logbook, err = logbook.Open(filepath.Join(s.Home, "logbook.sqlite")); err != nil {
		s.Unrecorded = errors.Join(s.Unrecorded, err)
		if s.Logbook, err = logbook.OpenInMemory(); err != nil {
			return nil, err
		}
	}
	s.Hasher = &tree.Hasher{Now: s.Now}
	if s.index, err = index.Open(filepath.Join(s.Home, "index.sqlite")); err != nil {
		s.Log.Warn("no index", "error", err)
	} else {
		s.Hasher.Index, s.Hasher.Notes = s.index, s.index
	}
	return s, nil
}

// Close writes what was learnt and closes everything.
func (s *Session) Close() error {
	var err error
	if s.archive != nil {
		err = s.archive.Close()
	}
	if s.index != nil {
		if e := s.index.Close(); e != nil {
			s.Log.Warn("the index was not written", "error", e)
		}
	}
	return errors.Join(err, s.Logbook.Close())
}

// RequireRecords fails where nothing can be recorded, for what must not go unrecorded.
func (s *Session) RequireRecords() error {
	if s.Unrecorded == nil {
		return nil
	}
	return problem("nothing has been changed; `vet`, `look`, `kept` and `restore --to` still work", "this cannot be recorded: %w", s.Unrecorded)
}

func (s *Session) readHome(name string, into any) error {
	path := filepath.Join(s.Home, name)
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, into); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

// writeHome writes a file of Ostrov's home whole or not at all.
func (s *Session) writeHome(name string, data []byte) error {
	path := filepath.Join(s.Home, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return durable.Write(path, partName, 0o600, func(w io.Writer) error { _, err := w.Write(data); return err })
}

// loadGames reads the descriptions that ship with Ostrov and the player's own in the home's folder games, which win.
func (s *Session) loadGames() error {
	list, err := fs.ReadDir(games.Files, ".")
	if err != nil {
		return err
	}
	for _, e := range list {
		data, err := fs.ReadFile(games.Files, e.Name())
		if err != nil {
			return err
		}
		d, err := game.Parse("games/"+e.Name(), data)
		if err != nil {
			return err
		}
		s.Games[d.ID] = d
	}
	own, err := filepath.Glob(filepath.Join(s.Home, "games", "*.toml"))
	if err != nil {
		return err
	}
	for _, path := range own {
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		d, err := game.Parse(path, data)
		if err != nil {
			return &Error{Text: err.Error(), Hint: "ostrov games test " + path, Err: err}
		}
		s.Games[d.ID] = d
	}
	return nil
}

func (s *Session) loadInstalls() error {
	path := filepath.Join(s.Home, "installs.json")
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		s.Unrecorded = errors.Join(s.Unrecorded, err)
		return nil
	}
	installs, missing, err := game.DecodeInstalls(data, s.Games)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	for _, id := range missing {
		s.Log.Warn("install of a game without a description", "game", id)
	}
	s.Installs = installs
	return nil
}

func (s *Session) saveInstalls() error {
	data, err := game.EncodeInstalls(s.Installs)
	if err != nil {
		return err
	}
	return s.writeHome("installs.json", append(data, '\n'))
}

// ArchiveDir is the folder of the archive that snapshots go to: that of the open one, else the first one configured, else one in Ostrov's home.
func (s *Session) ArchiveDir() string {
	if s.archive != nil {
		return s.archive.Dir
	}
	return s.ArchiveDirs()[0]
}

// ArchiveDirs are the folders of all archives, the one that is kept into first.
func (s *Session) ArchiveDirs() []string {
	if len(s.config.Archives) > 0 {
		return s.config.Archives
	}
	return []string{s.ownArchive()}
}

// ownArchive is the archive in Ostrov's home, which stands in where no other is there.
func (s *Session) ownArchive() string { return filepath.Join(s.Home, "archive") }

// Archive opens the archive: the first of those configured that is there. With create one in Ostrov's home is made where none is, so that a keep
// before a change never fails for an absent drive; without, that is fs.ErrNotExist.
func (s *Session) Archive(create bool) (*archive.Archive, error) {
	if s.archive != nil {
		return s.archive, nil
	}
	first := error(nil)
	for _, dir := range append(slices.Clone(s.ArchiveDirs()), s.ownArchive()) {
		a, err := archive.Open(dir, s.archiveCache())
		if err == nil {
			s.archive = a
			if err := s.gather(context.Background(), a); err != nil {
				s.Log.Warn("what stood in was not copied yet", "error", err)
			}
			return a, nil
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		if first == nil {
			first = err
		}
	}
	if !create {
		return nil, first
	}
	a, err := archive.Create(s.ownArchive(), s.archiveCache())
	if err != nil {
		return nil, err
	}
	s.archive = a
	return a, nil
}

func (s *Session) archiveCache() archive.Cache {
	if s.index == nil {
		return nil
	}
	return s.index
}

// AddArchive makes dir the archive that snapshots go to. It is created where it is missing. An archive inside a game's folders, or around
// them, is refused. What the archive in use has until now is copied into it, so that it stays in sight; what was
// interrupted goes on from there.
func (s *Session) AddArchive(ctx context.Context, dir string) (created bool, copied archive.Copied, err error) {
	if dir, err = filepath.Abs(dir); err != nil {
		return false, copied, err
	}
	if real, err := filepath.EvalSymlinks(filepath.Dir(dir)); err == nil {
		dir = filepath.Join(real, filepath.Base(dir))
	}
	for _, in := range s.Installs {
		if err := in.Open(); err != nil {
			continue
		}
		folders, err := in.Folders(ctx)
		if err != nil {
			return false, copied, err
		}
		for _, path := range append([]string{in.Root}, folderPaths(folders)...) {
			if dir == path || game.Within(dir, path) || game.Within(path, dir) {
				return false, copied, usage("choose a folder elsewhere, best on another drive", "%s overlaps %s, a folder of %s: the game would find the snapshots there", dir, path, in.Game.Title)
			}
		}
	}
	a, err := archive.Open(dir, nil)
	if errors.Is(err, fs.ErrNotExist) {
		a, err = archive.Create(dir, nil)
		created = true
	}
	if err != nil {
		return false, copied, err
	}
	defer a.Close()
	if before, err := s.Archive(false); err == nil && before.Dir != a.Dir {
		size, err := before.Size()
		if err != nil {
			return created, copied, err
		}
		if copied, err = before.CopyTo(ctx, a, s.counting("copy", size)); err != nil {
			return created, copied, err
		}
		s.archive = nil
		if err := before.Close(); err != nil {
			return created, copied, err
		}
	}
	archives := []string{dir}
	for _, other := range s.config.Archives {
		if other != dir {
			archives = append(archives, other)
		}
	}
	s.config.Archives = archives
	return created, copied, s.writeConfig()
}

func (s *Session) writeConfig() error {
	s.config.Format = 1
	data, err := json.MarshalIndent(s.config, "", "  ")
	if err != nil {
		return err
	}
	return s.writeHome("config.json", data)
}

func folderPaths(folders []game.Located) []string {
	var paths []string
	for _, f := range folders {
		paths = append(paths, f.Path)
	}
	return paths
}

// meter adds up bytes that several goroutines report, and tells the sum as the progress of what. There may come more to do than was known.
type meter struct {
	s           *Session
	what        string
	mu          sync.Mutex
	done, total int64
}

func (s *Session) meter(what string) *meter { return &meter{s: s, what: what} }

// more says that there are n bytes more to be dealt with.
func (m *meter) more(n int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.total += n
}

// did says that n bytes have been dealt with.
func (m *meter) did(n int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.done += n
	m.s.Progress(m.what, min(m.done, m.total), m.total)
}

// counting is a meter of which the total is known.
func (s *Session) counting(what string, total int64) func(n int64) {
	m := s.meter(what)
	m.more(total)
	return m.did
}

// forbidden are the folders of Ostrov itself, which no description may reach.
func (s *Session) forbidden() []string {
	return append([]string{s.Home}, s.ArchiveDirs()...)
}

// GameIDs are the ids of all games that have a description, sorted.
func (s *Session) GameIDs() []string {
	var ids []string
	for id := range s.Games {
		ids = append(ids, id)
	}
	sort.Strings(ids)
	return ids
}

// slug makes a name for addresses out of a title: "Gannet Rock!" is gannet-rock.
func slug(title string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(title) {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	return strings.Trim(b.String(), "-")
}
