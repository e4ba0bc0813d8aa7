package change

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"path/filepath"
	"time"

	"ostrov/internal/core/tree"
)

// Signature tells, without reading content, whether a target is still what it was: what is there, with sizes and times.
type Signature struct {
	Entries []tree.Entry `json:"entries"` // "." is the target itself; none is a target that is missing
}

// signed is an entry of a signature as JSON has it, which holds no names that are not UTF-8.
type signed tree.Entry

// MarshalJSON spells names as package tree does.
func (p Signature) MarshalJSON() ([]byte, error) {
	out := make([]signed, len(p.Entries))
	for i, e := range p.Entries {
		e.Path, e.Target = tree.Spell(e.Path), tree.Spell(e.Target)
		out[i] = signed(e)
	}
	return json.Marshal(map[string][]signed{"entries": out})
}

// UnmarshalJSON is the reverse.
func (p *Signature) UnmarshalJSON(data []byte) error {
	var in struct {
		Entries []signed `json:"entries"`
	}
	if err := json.Unmarshal(data, &in); err != nil {
		return err
	}
	p.Entries = nil
	for _, s := range in.Entries {
		e := tree.Entry(s)
		var err, targetErr error
		e.Path, err = tree.Unspell(e.Path)
		e.Target, targetErr = tree.Unspell(e.Target)
		if err = errors.Join(err, targetErr); err != nil {
			return err
		}
		p.Entries = append(p.Entries, e)
	}
	return nil
}

// Missing reports whether there was no target.
func (p Signature) Missing() bool { return len(p.Entries) == 0 }

// Equal reports whether two signatures are of the same content, as far as sizes and times tell. Change times and identities are left out:
// renaming alters them. So are the times of folders below, which some systems touch when they are moved.
func (p Signature) Equal(q Signature) bool {
	if len(p.Entries) != len(q.Entries) {
		return false
	}
	for i, a := range p.Entries {
		b := q.Entries[i]
		if a.Path != b.Path || a.Kind != b.Kind || a.Size != b.Size || a.Target != b.Target || a.Mode != b.Mode || a.Kind == tree.File && !a.ModTime.Equal(b.ModTime) {
			return false
		}
	}
	return true
}

// SignatureOf takes the signature of the file or folder at path.
func SignatureOf(ctx context.Context, path string) (Signature, error) {
	e, err := tree.Stat(filepath.Dir(path), filepath.Base(path))
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, errNotDir) {
		return Signature{}, nil
	}
	if err != nil {
		return Signature{}, err
	}
	e.Path = "."
	p := Signature{[]tree.Entry{e}}
	if e.Kind == tree.Dir {
		err = tree.Walk(ctx, path, func(e tree.Entry) error {
			p.Entries = append(p.Entries, e)
			return nil
		})
	}
	for i := range p.Entries {
		p.Entries[i].ChangeTime, p.Entries[i].FileID = time.Time{}, 0
	}
	return p, err
}
