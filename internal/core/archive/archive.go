// Package archive keeps snapshots of playthroughs in a folder of ordinary zips and JSON that outlives Ostrov.
//
// It promises that what is the same is stored once, that nothing once published is altered, that everything read back is checked against
// its digest, and that a copy of the README.txt in each archive is enough to get files back without this program. An archive may lie on a
// shared drive and is not trusted: names, sizes and digests in it are checked, and reading is bounded. It knows folders by id and files by
// relative name; where they belong on a machine is its callers' business. The format is specified in docs/formats.md.
package archive

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"ostrov/internal/core/durable"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/tree"
)

// Format is the number of the archive's format.
const Format = 1

// Errors that callers tell apart.
var (
	ErrNewer   = errors.New("was written by a newer Ostrov")
	ErrDamaged = errors.New("damaged")
	// ErrMissing says that a content that a snapshot uses is not in the archive.
	ErrMissing = errors.New("missing from the archive")
)

// Cache remembers which content file holds what, and which number a snapshot has; see package index.
type Cache interface {
	Contents(archive, zip string, size int64) ([]tree.Digest, bool)
	StoreContents(archive, zip string, size int64, digests []tree.Digest)
	tree.Notes
}

// Archive is an open archive.
type Archive struct {
	Dir string
	ID  string

	cache     Cache
	mu        sync.Mutex                // guards where: a keep reads what is there while it adds to it
	where     map[tree.Digest]string    // content file of each entry; nil until loaded
	numbersOf map[string]map[string]int // see knownNumbers
	direct    bool                      // where has been read from the content files, not from the cache
	// marked are content files that a clearing has marked; see clear.go.
	marked map[string]bool

	reading sync.Mutex // guards open and last
	open    openZips
	// last is the entry that was read last: small files lie many in one.
	last struct {
		digest tree.Digest
		data   []byte
	}
}

type head struct {
	Format int    `json:"ostrov_archive"`
	ID     string `json:"id"`
}

// Open opens the archive in dir. The error is fs.ErrNotExist where there is none. cache may be nil.
func Open(dir string, cache Cache) (*Archive, error) {
	data, err := os.ReadFile(filepath.Join(dir, "archive.json"))
	if err != nil {
		return nil, err
	}
	var h head
	if err := json.Unmarshal(data, &h); err != nil {
		return nil, fmt.Errorf("%s: %w: %v", filepath.Join(dir, "archive.json"), ErrDamaged, err)
	}
	if h.Format > Format {
		return nil, fmt.Errorf("the archive in %s %w (format %d, this one reads %d)", dir, ErrNewer, h.Format, Format)
	}
	return &Archive{Dir: dir, ID: h.ID, cache: cache}, nil
}

// Create makes an archive in dir, which must be missing or empty, and opens it.
func Create(dir string, cache Cache) (*Archive, error) {
	list, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if len(list) > 0 {
		return nil, fmt.Errorf("%s is neither an archive nor empty", dir)
	}
	if err := os.MkdirAll(dir, archiveMode); err != nil {
		return nil, err
	}
	for _, sub := range []string{"playthroughs", "content"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), folderMode); err != nil {
			return nil, err
		}
	}
	if err := publish(filepath.Join(dir, "README.txt"), sealText(readme)); err != nil {
		return nil, err
	}
	data, err := json.MarshalIndent(head{Format, strings.ToLower(rand.Text()[:12])}, "", " ")
	if err != nil {
		return nil, err
	}
	if err := publish(filepath.Join(dir, "archive.json"), sealJSON(data)); err != nil {
		return nil, err
	}
	return Open(dir, cache)
}

// Again opens the archive once more, for somebody else who reads from it at the same time. It does not see what is added later.
func (a *Archive) Again() (*Archive, error) {
	if err := a.load(); err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	return &Archive{Dir: a.Dir, ID: a.ID, cache: a.cache, where: a.where, marked: a.marked}, nil
}

// Close frees what the archive holds open.
func (a *Archive) Close() error { return a.open.close() }

// Snapshot is one state of a playthrough.
type Snapshot struct {
	Format      int                 `json:"ostrov_snapshot"`
	ID          string              `json:"id"`
	Playthrough string              `json:"playthrough"`
	Title       string              `json:"title"` // of the playthrough
	Game        string              `json:"game"`
	GameTitle   string              `json:"game_title"`
	Taken       time.Time           `json:"taken"`
	Version     string              `json:"version,omitempty"` // of the game
	Note        string              `json:"note,omitempty"`
	ByHand      bool                `json:"by_hand,omitempty"` // taken in from a copy made by hand
	Before      string              `json:"safety,omitempty"`  // before which command it was taken by itself
	Tags        []string            `json:"tags,omitempty"`    // it can be addressed by each
	Set         bool                `json:"set,omitempty"`     // no playthrough: settings only, to be laid over others
	Fingerprint modlist.Fingerprint `json:"fingerprint,omitempty"`
	Mods        []modlist.Listed    `json:"mods"`
	Roots       []Root              `json:"roots"`
	Saves       []KeptSave          `json:"saves"`
	Content     []string            `json:"content"` // the content files it uses

	// Number counts the playthrough's snapshots, from 1, in the order in which they were kept. It is given once. The first archives did
	// not write it down: there it is the place among those.
	Number  int    `json:"number,omitempty"`
	Machine string `json:"machine,omitempty"` // the name of the one that kept it
	// After is the id of the snapshot that the line stood at where this one was kept: the one before it there, or the one that was brought back.
	// It is "" for the first, for copies made by hand, and in older archives.
	After string `json:"after,omitempty"`
	// LeftOut is what could not be read and is not in it.
	LeftOut []LeftOut `json:"left_out,omitempty"`
	// Twin tells snapshots apart to which two machines gave the same number: "" for the first, then "b", "c".
	Twin string `json:"-"`
}

// LeftOut is something that could not be kept, and why.
type LeftOut struct {
	Path string `json:"path"` // on the machine
	Why  string `json:"why"`
}

// Address is how commands name the snapshot.
func (s *Snapshot) Address() string { return fmt.Sprintf("%s.%d%s", s.Playthrough, s.Number, s.Twin) }

// Holds reports whether the snapshot has files of one sort.
func (s *Snapshot) Holds(kind Kind) bool {
	return slices.ContainsFunc(s.Roots, func(r Root) bool { return r.Kind == kind })
}

// Kind is what a root holds.
type Kind string

// Kinds of roots.
const (
	Saves    Kind = "saves"
	Settings Kind = "settings"
	Mods     Kind = "mods"
	Game     Kind = "game"     // the game itself, without what lies in its other folders
	Data     Kind = "data"     // what mods store beside saves
	Pictures Kind = "pictures" // those taken on the way
	Ledger   Kind = "ledger"   // what is known of the mods: whose each file is, and where it came from
)

// Root is one folder of the game of which something was kept.
type Root struct {
	// Folder is the id of a folder of saves or mods. Of other files it is only a label, for people: they are named by Pattern.
	Folder  string  `json:"folder"`
	Account string  `json:"account,omitempty"`
	Pattern string  `json:"pattern,omitempty"` // as the description has it; the first archives did not say it
	Kind    Kind    `json:"what"`              // saves, settings, mods, game, data or pictures
	Listing []Chunk `json:"listing"`           // where the listing of its files lies
	Files   int     `json:"files"`
	Bytes   int64   `json:"bytes"`
}

// Key tells roots of one snapshot apart.
func (r Root) Key() string {
	if r.Pattern != "" {
		return string(r.Kind) + "=" + r.Pattern + ":" + r.Account
	}
	return string(r.Kind) + ":" + r.Folder + ":" + r.Account
}

// notPlain are letters that the name of a folder outside the archive does without.
var notPlain = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

// RootName is what to call the folder of a root outside the archive.
func (s *Snapshot) RootName(i int) string {
	root := s.Roots[i]
	parts := []string{root.Folder}
	if root.Kind == Saves || root.Kind == Mods { // settings-1 says both
		parts = []string{string(root.Kind), root.Folder}
	}
	if root.Account != "" {
		parts = append(parts, root.Account)
	}
	return notPlain.ReplaceAllString(strings.Join(parts, "-"), "-")
}

// KeptSave is one save in a snapshot.
type KeptSave struct {
	Kind     string      `json:"kind"`
	Folder   string      `json:"folder"`
	Account  string      `json:"account,omitempty"`
	Name     string      `json:"name"`
	Slot     string      `json:"slot,omitempty"` // as the game shows it
	Title    string      `json:"title,omitempty"`
	Version  string      `json:"version,omitempty"`
	Digest   tree.Digest `json:"digest"`
	Bytes    int64       `json:"bytes"`
	Modified time.Time   `json:"modified"`
	// Columns are the values of the fields that lists show, as text, by the id of the field. What the description marks as personal is not among them.
	Columns map[string]string `json:"columns,omitempty"`
	Played  int64             `json:"played_seconds,omitempty"` // where the description reads it
	Broken  string            `json:"broken,omitempty"`         // empty, cut or damaged, where it was that when it was kept
	Files   []KeptFile        `json:"files"`
}

// KeptFile is one file of a save with its SHA-256, in hex, which can be checked without Ostrov.
type KeptFile struct {
	Path   string `json:"path"` // in the root
	SHA256 string `json:"sha256"`
}

// Chunk is a run of bytes of a file: a slice of one entry of a content file.
type Chunk struct {
	Blob   tree.Digest `json:"entry"`
	Offset int64       `json:"offset,omitempty"`
	Length int64       `json:"length"`
}

// Node is one line of a listing.
type Node struct {
	Path   string      `json:"path"` // slash-separated, in the root
	Kind   tree.Kind   `json:"kind"`
	Size   int64       `json:"size,omitempty"`
	Mode   string      `json:"mode,omitempty"` // octal permission bits
	Time   time.Time   `json:"time"`
	Target string      `json:"target,omitempty"` // of a link
	Digest tree.Digest `json:"digest,omitzero"`  // of the whole file
	SHA256 string      `json:"sha256,omitempty"` // of files of saves
	Chunks []Chunk     `json:"parts,omitempty"`
}

var (
	namePattern     = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}$`) })
	snapshotPattern = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^\d{4}-\d\d-\d\dT\d{6}Z-[a-z0-9]{6}$`) })
	contentPattern  = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^\d{4}-\d\d-\d\dT\d{6}Z-[a-z0-9]{6}\.zip$`) })
)

// CheckName reports whether a playthrough can be called name.
func CheckName(name string) error {
	if !namePattern().MatchString(name) {
		return fmt.Errorf("%.80q cannot name a playthrough: use a-z, 0-9 and -", name)
	}
	return nil
}

// newID names a snapshot or content file: its time and a random word, so that two machines may write into one archive. Sorted, IDs are in
// order of time: the first two letters of the word count the milliseconds, in an alphabet that sorts as it counts.
func newID(now time.Time) string {
	const letters = "234567abcdefghijklmnopqrstuvwxyz"
	ms := now.UTC().Nanosecond() / int(time.Millisecond)
	return now.UTC().Format("2006-01-02T150405Z") + "-" + letters[ms/32:ms/32+1] + letters[ms%32:ms%32+1] + strings.ToLower(rand.Text()[:4])
}

// maxSnapshot bounds the JSON of one snapshot, in bytes.
const maxSnapshot = 64 << 20

func (a *Archive) snapshotFile(playthrough, id string) string {
	return filepath.Join(a.Dir, "playthroughs", playthrough, id+".json")
}

func parseSnapshot(data []byte) (*Snapshot, error) {
	var s Snapshot
	if err := json.Unmarshal(data, &s); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	if s.Format > Format {
		return nil, ErrNewer
	}
	for _, name := range s.Content {
		if !contentPattern().MatchString(name) {
			return nil, fmt.Errorf("%w: it names the content file %.80q", ErrDamaged, name)
		}
	}
	for i := range s.Saves {
		names := []*string{&s.Saves[i].Name}
		for j := range s.Saves[i].Files {
			names = append(names, &s.Saves[i].Files[j].Path)
		}
		if err := unspell(names...); err != nil {
			return nil, err
		}
	}
	for i := range s.LeftOut {
		if err := unspell(&s.LeftOut[i].Path); err != nil {
			return nil, err
		}
	}
	return &s, nil
}

// spelled is the snapshot as its file has it: JSON holds no names that are not UTF-8.
func (s *Snapshot) spelled() *Snapshot {
	out := *s
	out.Saves, out.LeftOut = slices.Clone(s.Saves), slices.Clone(s.LeftOut)
	for i := range out.Saves {
		save := &out.Saves[i]
		save.Name, save.Files = tree.Spell(save.Name), slices.Clone(save.Files)
		for j := range save.Files {
			save.Files[j].Path = tree.Spell(save.Files[j].Path)
		}
	}
	for i := range out.LeftOut {
		out.LeftOut[i].Path = tree.Spell(out.LeftOut[i].Path)
	}
	return &out
}

// host names this machine in the names of temporary files.
func host() string {
	name, _ := os.Hostname()
	return regexp.MustCompile(`[^A-Za-z0-9-]`).ReplaceAllString(name, "-")
}

// publish writes a file of the archive.
func publish(path string, data []byte) error {
	return durable.Write(path, partName(), fileMode, func(w io.Writer) error { _, err := w.Write(data); return err })
}

// Modes of what an archive consists of, before the player's umask. An archive itself is private: saves tell of their player.
const (
	fileMode    = 0o644
	folderMode  = 0o755
	archiveMode = 0o700
)

// readSmall reads a small JSON file of the archive.
func (a *Archive) readSmall(name string, into any) error {
	data, err := readBounded(filepath.Join(a.Dir, name))
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, into); err != nil {
		return fmt.Errorf("%s: %w: %v", filepath.Join(a.Dir, name), ErrDamaged, err)
	}
	return nil
}

// publishSmall writes a small JSON file of the archive, sealed.
func (a *Archive) publishSmall(name string, what any) error {
	data, err := json.MarshalIndent(what, "", " ")
	if err != nil {
		return err
	}
	return publish(filepath.Join(a.Dir, name), sealJSON(data))
}

// partOf is how the names begin that files have while they are written.
const partOf = ".part-"

// partName is the pattern of those names. It tells the machine and the process; see clearTemps.
func partName() string { return fmt.Sprintf("%s%s-%d-*", partOf, host(), os.Getpid()) }

// Writable reports, by a trial, why nothing can be kept into the archive, or nil.
func (a *Archive) Writable() error {
	f, err := os.CreateTemp(a.Dir, partName())
	if err != nil {
		return err
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}
