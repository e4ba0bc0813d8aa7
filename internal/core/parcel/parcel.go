// Package parcel writes and reads parcels: a save made ready to hand to others, with what it needs.
//
// A parcel is a zip of a BagIt bag (RFC 8493) in one folder: data/save/ has the save under the name that its game expects, data/needs.json
// what it needs, data/READ-ME.txt the same for people, and the manifests the SHA-512 of everything. It can be unpacked, checked and used
// without Ostrov. The package knows nothing of installs: what goes in is given to it, what comes out is not trusted.
package parcel

import (
	"context"
	"crypto/sha512"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"sort"
	"strings"
	"time"

	"ostrov/internal/core/bag"
	"ostrov/internal/core/check"
	"ostrov/internal/core/tree"
)

// Format is the number of the format of needs.json.
const Format = 1

// Needs is data/needs.json: what a save needs in order to load. docs/parcel.md explains it for others who write or read it.
type Needs struct {
	Format          int            `json:"ostrov_needs"`
	Game            string         `json:"game"`                 // id of the description
	GameTitle       string         `json:"game_title,omitempty"` // for people
	Version         string         `json:"version,omitempty"`    // of the game that wrote the save
	VersionEvidence check.Evidence `json:"version_evidence,omitempty"`
	Clean           bool           `json:"clean,omitempty"` // it needs a game without mods
	// Mods is null where nothing says which mods it needs, and empty where it needs none.
	Mods         []Mod          `json:"mods"`
	ModsEvidence check.Evidence `json:"mods_evidence,omitempty"`
	Ordered      bool           `json:"ordered,omitempty"` // the mods are in load order
	Save         Save           `json:"save"`
	Note         string         `json:"note,omitempty"` // of whoever made the parcel
	Made         time.Time      `json:"made"`
}

// Mod is one mod that the save needs.
type Mod struct {
	ID      string `json:"id"`
	Version string `json:"version,omitempty"`
	Title   string `json:"title,omitempty"`
	Digest  string `json:"digest,omitempty"` // of its content, with the algorithm's name in front
	// Needs are what the sender stated that it needs and no file of it says, as "ID RANGE"; Source is where it came from.
	Needs  []string `json:"needs,omitempty"`
	Source string   `json:"source,omitempty"`
	// Doubtful marks one that may have changed since the save was written, and References counts how often the save refers to it.
	Doubtful   bool `json:"doubtful,omitempty"`
	References *int `json:"references,omitempty"`
}

// Save is which save it is.
type Save struct {
	Kind   string      `json:"kind"` // id in the description
	Name   string      `json:"name"` // of the file or folder in data/save
	Slot   string      `json:"slot,omitempty"`
	Title  string      `json:"title,omitempty"`
	Label  string      `json:"label,omitempty"`  // which variant it is
	Folder string      `json:"folder,omitempty"` // where the game keeps such saves, for people
	Digest tree.Digest `json:"digest"`
}

// File is one file of the save.
type File struct {
	Path string // in data/save, slash-separated
	Time time.Time
	Open func() (io.ReadCloser, error)
}

// Paths inside a parcel.
const (
	needsPath  = "data/needs.json"
	readMePath = "data/READ-ME.txt"
	savePrefix = "data/save/"
)

// Write writes a parcel whose folder is called name.
func Write(ctx context.Context, out io.Writer, name string, needs Needs, files []File) error {
	needs.Format = Format
	data, err := json.MarshalIndent(needs, "", "  ")
	if err != nil {
		return err
	}
	w := bag.NewWriter(out, name, needs.Made)
	for _, f := range files {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := w.File(savePrefix+f.Path, f.Time, f.copy); err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
	}
	return errors.Join(w.Text(needsPath, append(data, '\n')), w.Text(readMePath, []byte(readMe(needs))), w.Close(needs.describe()))
}

func (f File) copy(w io.Writer) error {
	in, err := f.Open()
	if err != nil {
		return err
	}
	_, err = io.Copy(w, in)
	return errors.Join(err, in.Close())
}

// describe says in one sentence what the parcel holds.
func (n Needs) describe() string {
	text := fmt.Sprintf("a save of %s", n.GameTitle)
	if n.Save.Title != "" {
		text = fmt.Sprintf("%q, %s", n.Save.Title, text)
	}
	if n.Version != "" {
		text += ", made with " + n.Version
	}
	switch {
	case n.Clean:
		text += ", for a game without mods"
	case n.Mods != nil:
		text += fmt.Sprintf(", %d mods", len(n.Mods))
	}
	return text
}

// readMe is the note for people without Ostrov.
func readMe(n Needs) string {
	var b strings.Builder
	title := n.Save.Title
	if title == "" {
		title = n.Save.Name
	}
	fmt.Fprintf(&b, "%s\n%s\n\nA save of %s", title, strings.Repeat("=", len([]rune(title))), n.GameTitle)
	if n.Version != "" {
		fmt.Fprintf(&b, ", made with version %s", n.Version)
	}
	b.WriteString(".\n")
	if n.Note != "" {
		fmt.Fprintf(&b, "\n%s\n", n.Note)
	}
	fmt.Fprintf(&b, "\nTo use it\n---------\n1. Make a copy of your own saves first.\n2. Copy %q out of the folder \"save\" beside this file", n.Save.Name)
	if n.Save.Folder != "" {
		fmt.Fprintf(&b, " into the game's folder of %s", n.Save.Folder)
	}
	b.WriteString(".\n   If there is one of that name already, rename yours or choose another slot.\n")
	switch {
	case n.Clean:
		b.WriteString("\nIt needs a game without any mods.\n")
	case n.Mods == nil:
		b.WriteString("\nNobody knows which mods it needs.\n")
	case len(n.Mods) == 0:
		b.WriteString("\nIt needs no mods.\n")
	default:
		fmt.Fprintf(&b, "\nIt needs these %d mods", len(n.Mods))
		if n.Ordered {
			b.WriteString(", in this order")
		}
		b.WriteString(":\n")
		for _, m := range n.Mods {
			name := m.Title
			if name == "" {
				name = m.ID
			}
			fmt.Fprintf(&b, "  %s", strings.TrimSpace(name+" "+m.Version))
			if m.Doubtful {
				b.WriteString("  (perhaps)")
			}
			b.WriteString("\n")
		}
	}
	b.WriteString("\nWhether everything arrived whole:  sha512sum -c manifest-sha512.txt  in the folder above.\n")
	return b.String()
}

// Limits of a parcel that is read.
const (
	maxNeeds    = 8 << 20  // bytes of needs.json
	maxManifest = 64 << 20 // bytes of a manifest
	maxMods     = 100_000
)

// Found is a parcel in a download.
type Found struct {
	Root  string // the folder of the bag in the download, "." for the download itself
	Needs Needs
	// Wrong is why the bag cannot be relied on, each half a sentence, or empty.
	Wrong []string
}

// Own reports whether a path in the download is part of the parcel besides the save.
func (f *Found) Own(p string) bool {
	inside, ok := strings.CutPrefix(path.Clean(p), f.Root+"/")
	if f.Root == "." {
		inside, ok = p, true
	}
	return ok && !strings.HasPrefix(inside, savePrefix)
}

// Find looks for a parcel among the entries of a download and checks its manifests. It is nil where there is none.
func Find(ctx context.Context, fsys fs.FS, entries []tree.Entry) (*Found, error) {
	for _, e := range entries {
		root, ok := strings.CutSuffix("/"+e.Path, "/"+needsPath)
		if !ok {
			continue
		}
		f := &Found{Root: path.Clean("." + root)}
		if _, err := read(fsys, f.at(bag.Declaration), maxManifest); err != nil {
			continue
		}
		data, err := read(fsys, e.Path, maxNeeds)
		if err == nil {
			f.Needs, err = Parse(data)
		}
		if err != nil {
			f.Wrong = append(f.Wrong, "needs.json cannot be read: "+err.Error())
			return f, nil
		}
		return f, f.verify(ctx, fsys, entries)
	}
	return nil, nil
}

func (f *Found) at(p string) string { return path.Join(f.Root, p) }

// Parse reads needs.json.
func Parse(data []byte) (Needs, error) {
	var n Needs
	if err := json.Unmarshal(data, &n); err != nil {
		return Needs{}, err
	}
	switch {
	case n.Format < 1 || n.Format > Format:
		return Needs{}, fmt.Errorf("it is of format %d; this Ostrov reads %d", n.Format, Format)
	case n.Game == "":
		return Needs{}, errors.New("it names no game")
	case len(n.Mods) > maxMods:
		return Needs{}, fmt.Errorf("it lists more than %d mods", maxMods)
	}
	return n, nil
}

func read(fsys fs.FS, name string, limit int64) ([]byte, error) {
	file, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	data, err := io.ReadAll(io.LimitReader(file, limit+1))
	if err == nil && int64(len(data)) > limit {
		err = fmt.Errorf("it is larger than %d bytes", limit)
	}
	return data, err
}

// verify holds everything in the bag against its manifests.
func (f *Found) verify(ctx context.Context, fsys fs.FS, entries []tree.Entry) error {
	want := map[string]string{}
	for _, name := range []string{bag.Manifest, bag.TagManifest} {
		data, err := read(fsys, f.at(name), maxManifest)
		if err != nil {
			f.Wrong = append(f.Wrong, name+" is missing")
			continue
		}
		for _, l := range strings.Split(strings.TrimSpace(string(data)), "\n") {
			sum, p, ok := strings.Cut(strings.TrimRight(l, "\r"), " ")
			p = strings.TrimPrefix(strings.TrimLeft(p, " "), "*")
			if !ok || !fs.ValidPath(p) {
				f.Wrong = append(f.Wrong, name+" cannot be read")
				break
			}
			want[p] = strings.ToLower(sum)
		}
	}
	for _, e := range entries {
		inside, ok := strings.CutPrefix("/"+e.Path, strings.TrimPrefix("/"+f.Root, "/.")+"/")
		if e.Kind != tree.File || !ok || inside == bag.TagManifest {
			continue
		}
		if strings.EqualFold(inside, bag.Fetch) {
			f.Wrong = append(f.Wrong, inside+" has readers fetch files from elsewhere, of which nobody can say what they are")
		}
		listed, ok := want[inside]
		delete(want, inside)
		switch {
		case !ok && strings.HasPrefix(inside, "data/"):
			f.Wrong = append(f.Wrong, inside+" is not in its manifest")
		case ok:
			sum, err := sumOf(ctx, fsys, e.Path)
			if err != nil {
				return err
			}
			if sum != listed {
				f.Wrong = append(f.Wrong, inside+" is not what its manifest says")
			}
		}
	}
	var missing []string
	for p := range want {
		missing = append(missing, p+" is in the manifest and not in the parcel")
	}
	sort.Strings(missing)
	f.Wrong = append(f.Wrong, missing...)
	return nil
}

func sumOf(ctx context.Context, fsys fs.FS, name string) (string, error) {
	if err := ctx.Err(); err != nil {
		return "", err
	}
	file, err := fsys.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	sum := sha512.New()
	_, err = io.Copy(sum, file)
	return hex.EncodeToString(sum.Sum(nil)), err
}
