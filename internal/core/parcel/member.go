package parcel

import (
	"archive/zip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"time"
)

// Member is what member.json says of a member of a save (a character, a town) that was taken out of it: a zip of member.json and the member itself, as it
// stood in the save, in the file member. docs/parcel.md explains it for others.
type Member struct {
	Format  int       `json:"ostrov_member"`
	Game    string    `json:"game"`              // id of the description
	Kind    string    `json:"kind"`              // of save
	Called  string    `json:"called,omitempty"`  // what it is, for people
	Version string    `json:"version,omitempty"` // of the game that wrote the save
	ID      string    `json:"id"`
	Title   string    `json:"title,omitempty"`
	Owner   string    `json:"owner,omitempty"`
	Name    string    `json:"name,omitempty"` // of its file, where it was one
	Made    time.Time `json:"made"`
}

// maxMember bounds a member, in bytes, and maxCard what is said of it.
const (
	maxMember = 64 << 20
	maxCard   = 1 << 20
)

// WriteMember writes a member.
func WriteMember(out io.Writer, m Member, piece []byte) error {
	m.Format = Format
	card, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	z := zip.NewWriter(out)
	for _, one := range []struct {
		name string
		data []byte
	}{{"member.json", append(card, '\n')}, {"member", piece}} {
		w, err := z.CreateHeader(&zip.FileHeader{Name: one.name, Method: zip.Deflate, Modified: m.Made})
		if err != nil {
			return err
		}
		if _, err := w.Write(one.data); err != nil {
			return err
		}
	}
	return z.Close()
}

// ErrNoMember says that a download holds no member.
var ErrNoMember = errors.New("it holds no member of a save")

// FindMember reads what a download says of the member in it; the error is ErrNoMember where it holds none.
func FindMember(fsys fs.FS) (*Member, error) {
	data, err := bounded(fsys, "member.json", maxCard)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNoMember
	}
	if err != nil {
		return nil, err
	}
	var m Member
	if err := json.Unmarshal(data, &m); err != nil || m.Format == 0 {
		return nil, ErrNoMember
	}
	if m.Format > Format {
		return nil, fmt.Errorf("it was made by a newer Ostrov, with the format %d", m.Format)
	}
	return &m, nil
}

// MemberPiece is the member itself.
func MemberPiece(fsys fs.FS) ([]byte, error) { return bounded(fsys, "member", maxMember) }

func bounded(fsys fs.FS, name string, most int64) ([]byte, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(data)) > most {
		err = fmt.Errorf("%s has more than %d bytes", name, most)
	}
	return data, err
}
