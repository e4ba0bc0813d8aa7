package change

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/zeebo/blake3"

	"ostrov/internal/core/tree"
)

// Safe says what keeps the bytes of a target that is replaced or removed. The zero Safe is none: then a target that is there is not
// exchanged.
type Safe struct {
	// Snapshot names one, as PLAYTHROUGH/ID, that holds just these bytes and was read back.
	Snapshot string `json:"snapshot,omitempty"`
	// Aside: they stay where the change moves them until a snapshot holds them.
	Aside bool `json:"aside,omitempty"`
}

// InSnapshot is safe in a snapshot that was read back.
func InSnapshot(playthrough, id string) Safe { return Safe{Snapshot: playthrough + "/" + id} }

// Aside is safe beside the folder, whole.
func Aside() Safe { return Safe{Aside: true} }

// IsZero reports whether nothing keeps the bytes.
func (s Safe) IsZero() bool { return s == Safe{} }

// Record is a change that has been made, or is being made. It lies beside each folder that it concerns, and Ostrov's home knows its digest.
type Record struct {
	Format  int       `json:"ostrov_change"`
	ID      string    `json:"id"`
	Seq     int64     `json:"seq"` // changes are ordered by it, never by the clock
	Title   string    `json:"title"`
	Install string    `json:"install"`
	Time    time.Time `json:"time"`
	State   string    `json:"state"` // applying or done
	// Of is the change that this one takes back (Back) or makes again; its own id for a change as such.
	Of    string     `json:"of"`
	Back  bool       `json:"back,omitempty"`
	Items []Exchange `json:"items"`
}

// Exchange is one target with where its old content went and where its new content came from.
type Exchange struct {
	Root string `json:"root"` // the folder that holds the target
	Name string `json:"name"` // the target in it, slash-separated
	// New and Old are places in the folder's area, ID/new/NUMBER or ID/old/NUMBER: New is "" where the target was removed, Old where there
	// was none.
	New string `json:"new,omitempty"`
	Old string `json:"old,omitempty"`
	// Lent tells that New is a place in which an earlier change left it: taken back, it returns there.
	Lent bool `json:"lent,omitempty"`
	// After is the target as the change left it.
	After Signature `json:"after"`
	// Made counts the folders that were made on the way to the target.
	Made int `json:"made,omitempty"`
	// Safe is what keeps the old content, and Source what keeps the new one.
	Safe   Safe `json:"safe,omitzero"`
	Source Safe `json:"source,omitzero"`
}

// plainExchange is an Exchange without the methods that spell its names.
type plainExchange Exchange

// MarshalJSON spells names as package tree does.
func (x Exchange) MarshalJSON() ([]byte, error) {
	x.Root, x.Name = tree.Spell(x.Root), tree.Spell(x.Name)
	return json.Marshal(plainExchange(x))
}

// UnmarshalJSON is the reverse.
func (x *Exchange) UnmarshalJSON(data []byte) error {
	if err := json.Unmarshal(data, (*plainExchange)(x)); err != nil {
		return err
	}
	var err, nameErr error
	x.Root, err = tree.Unspell(x.Root)
	x.Name, nameErr = tree.Unspell(x.Name)
	return errors.Join(err, nameErr)
}

// Target is where the target lies.
func (x Exchange) Target() string { return filepath.Join(x.Root, filepath.FromSlash(x.Name)) }

// Roots are the folders that a change concerns, each once; the first one leads.
func (r *Record) Roots() []string {
	var roots []string
	for _, x := range r.Items {
		if !slices.Contains(roots, x.Root) {
			roots = append(roots, x.Root)
		}
	}
	return roots
}

// Digest is of all that a record says but how far the change is.
func (r *Record) Digest() string {
	fixed := *r
	fixed.State = ""
	data, err := json.Marshal(fixed)
	if err != nil {
		return ""
	}
	sum := blake3.Sum256(data)
	return fmt.Sprintf("blake3:%x", sum)
}

const (
	applying = "applying"
	done     = "done"
)

// recordFormat is the number of the format of journals and records; format 1 is still read.
const recordFormat = 2

var (
	// idPattern is what a change can be called: a counter and a random word. Those of format 1 began with their time, and sort before.
	idPattern    = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(c\d{10}|\d{8}T\d{6}(\.\d{6})?Z)-[a-z0-9]{6}$`) })
	placePattern = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-zA-Z0-9.-]{1,40}/(new|old)/\d{4,6}$`) })
)

// maxRecord bounds a record that is read, in bytes.
const maxRecord = 64 << 20

// readRecord reads a journal or record. What it says is checked for form only: whether it is to be believed is for Vouch to say.
func readRecord(file string) (*Record, error) {
	info, err := os.Lstat(file)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > maxRecord {
		return nil, fmt.Errorf("%s is no record of a change", file)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	r, err := parseRecord(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return r, nil
}

func parseRecord(data []byte) (*Record, error) {
	var r Record
	if err := json.Unmarshal(data, &r); err != nil {
		return nil, err
	}
	switch {
	case r.Format == 1:
		return parseFirst(data)
	case r.Format != recordFormat:
		return nil, fmt.Errorf("is of format %d; this Ostrov reads %d", r.Format, recordFormat)
	}
	return &r, r.check()
}

// check refuses what no Ostrov writes.
func (r *Record) check() error {
	if !idPattern().MatchString(r.ID) || !idPattern().MatchString(r.Of) || r.State != applying && r.State != done || len(r.Items) == 0 {
		return errors.New("is no record of a change")
	}
	for _, x := range r.Items {
		switch {
		case !filepath.IsAbs(x.Root) || filepath.Clean(x.Root) != x.Root:
			return fmt.Errorf("%.200q is no whole path", x.Root)
		case !fs.ValidPath(x.Name) && !validName(x.Name) || x.Name == ".":
			return fmt.Errorf("%.200q leads out of its folder", x.Name)
		case x.New != "" && !placePattern().MatchString(x.New), x.Old != "" && !placePattern().MatchString(x.Old):
			return errors.New("it names a place that is not its own")
		case x.Made < 0 || x.Made > maxMade:
			return errors.New("it made too many folders")
		}
	}
	return nil
}

// validName is fs.ValidPath for names of bytes.
func validName(name string) bool {
	return name != "" && path.Clean(name) == name && !path.IsAbs(name) && name != ".." && !strings.HasPrefix(name, "../") && !strings.ContainsRune(name, 0)
}

// maxMade bounds how many folders are made on the way to one target.
const maxMade = 64

// first is a record of format 1, which named whole paths.
type first struct {
	ID      string    `json:"id"`
	Title   string    `json:"title"`
	Install string    `json:"install"`
	Time    time.Time `json:"time"`
	State   string    `json:"state"`
	Undoes  string    `json:"undoes"`
	Dir     string    `json:"dir"`
	Items   []struct {
		Root   string    `json:"root"`
		Target string    `json:"target"`
		New    string    `json:"new"`
		Old    string    `json:"old"`
		After  Signature `json:"after"`
		Made   []string  `json:"made"`
	} `json:"items"`
}

// parseFirst reads a record of format 1.
func parseFirst(data []byte) (*Record, error) {
	var f first
	if err := json.Unmarshal(data, &f); err != nil {
		return nil, err
	}
	r := &Record{Format: recordFormat, ID: f.ID, Title: f.Title, Install: f.Install, Time: f.Time, State: f.State, Of: f.ID}
	if f.Undoes != "" {
		r.Of, r.Back = f.Undoes, true
	}
	for _, i := range f.Items {
		name, err := filepath.Rel(i.Root, i.Target)
		if err != nil {
			return nil, err
		}
		x := Exchange{Root: i.Root, Name: filepath.ToSlash(name), After: i.After, Made: len(i.Made), Safe: Aside()}
		for from, to := range map[string]*string{i.New: &x.New, i.Old: &x.Old} {
			if from == "" {
				continue
			}
			parts := strings.Split(filepath.ToSlash(from), "/")
			*to = path.Join(parts[max(0, len(parts)-3):]...)
		}
		r.Items = append(r.Items, x)
	}
	return r, r.check()
}

// firstPointer reads the journal of format 1 of an area that another one leads. The root of the area that it returns is the change's id.
func firstPointer(file string) (*area, bool) {
	data, err := os.ReadFile(file)
	var p struct{ Lead, ID string }
	if err != nil || json.Unmarshal(data, &p) != nil || p.Lead == "" || !filepath.IsAbs(p.Lead) || !idPattern().MatchString(p.ID) {
		return nil, false
	}
	return &area{root: p.ID, dir: p.Lead}, true
}

// ReadFirst reads a record of format 1, or one that was written over it, from the folder of the change that the home names.
func ReadFirst(dir string) (*Record, error) { return readRecord(filepath.Join(dir, recordName)) }

// Left is where, beside its folder, the old content of an exchange lies; "" where it is not there any more.
func (x Exchange) Left(listed []string) (place, full string) {
	a, err := findArea(x.Root, listed, false)
	if err != nil || a == nil || x.Old == "" || !exists(a.place(x.Old)) {
		return "", ""
	}
	return x.Old, a.place(x.Old)
}
