package archive

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"github.com/klauspost/compress/zip"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/tree"
)

// Damage is one thing wrong with an archive and what it touches.
type Damage struct {
	What string `json:"what"`
	// Touches are the saves, settings and mods that cannot be brought back whole: "gannet-rock.3: slot 2 \"Gannet Rock\"".
	Touches []string `json:"touches"`
}

// Report is what Verify found. Damage is sorted.
type Report struct {
	Snapshots int      `json:"snapshots"`
	Files     int      `json:"content_files"`
	Entries   int      `json:"entries"`
	Bytes     int64    `json:"bytes"` // of content, unpacked
	Damage    []Damage `json:"damage"`
}

// report makes damage of what is wrong and whom it touches.
func (r *Report) report(touches map[string][]string) {
	for what, whom := range touches {
		r.Damage = append(r.Damage, Damage{what, whom})
	}
	slices.SortFunc(r.Damage, func(x, y Damage) int { return cmp.Compare(x.What, y.What) })
}

// blob is where Verify found the content of a digest, whole.
type blob struct {
	file int32 // of verifier.files
	size int32
}

// verifier reads an archive through. It believes no cache.
type verifier struct {
	a        *Archive
	report   Report
	progress func(n int64)

	files   []string // content files
	good    map[tree.Digest]blob
	also    map[tree.Digest][]int32 // the other files that hold it
	bad     map[tree.Digest]string  // what is wrong with it
	checked map[tree.Digest]string  // see file: "" where the file comes back whole
	touches map[string][]string     // what is wrong: whom it touches
}

// Verify reads and hashes everything in the archive and names each save that a damage touches. What it finds nothing wrong with comes
// back, byte for byte. progress is told the bytes read.
func (a *Archive) Verify(ctx context.Context, progress func(n int64)) (Report, error) {
	plain := &Archive{Dir: a.Dir, ID: a.ID} // without the cache
	defer plain.Close()
	v := verifier{a: plain, progress: progress, good: map[tree.Digest]blob{}, also: map[tree.Digest][]int32{}, bad: map[tree.Digest]string{},
		checked: map[tree.Digest]string{}, touches: map[string][]string{}}
	err := v.run(ctx)
	v.report.report(v.touches)
	return v.report, err
}

func (v *verifier) run(ctx context.Context) error {
	unsealed, err := v.a.verifySeals()
	if err != nil {
		return err
	}
	if err := v.content(ctx); err != nil {
		return err
	}
	if err := v.downloads(ctx); err != nil {
		return err
	}
	lost, wrong, err := v.a.lost()
	if err != nil {
		return err
	}
	for _, s := range lost {
		v.touch(fmt.Sprintf("playthroughs/%s.json is gone, and nobody cleared it", s), "a snapshot that was kept")
	}
	maps.Copy(unsealed, wrong)
	if err := v.snapshots(ctx, unsealed); err != nil {
		return err
	}
	for file, err := range unsealed {
		v.report.Damage = append(v.report.Damage, Damage{What: fmt.Sprintf("%s: %v", file, err)})
	}
	return nil
}

func (v *verifier) touch(what, whom string) {
	if !slices.Contains(v.touches[what], whom) {
		v.touches[what] = append(v.touches[what], whom)
	}
}

// content reads all content files.
func (v *verifier) content(ctx context.Context) error {
	list, err := os.ReadDir(filepath.Join(v.a.Dir, "content"))
	if err != nil {
		return err
	}
	for _, e := range list {
		if !contentPattern().MatchString(e.Name()) {
			continue
		}
		v.report.Files++
		v.files = append(v.files, e.Name())
		if err := v.zip(ctx, e.Name()); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			v.report.Damage = append(v.report.Damage, Damage{What: err.Error()}) // who uses it is named by entry
		}
	}
	return nil
}

func (v *verifier) zip(ctx context.Context, name string) error {
	path := filepath.Join(v.a.Dir, "content", name)
	sealed := checkContentSeal(path)
	z, err := zip.OpenReader(path)
	if err != nil {
		return fmt.Errorf("content/%s: %v", name, err)
	}
	defer z.Close()
	before, number := len(v.bad), int32(len(v.files)-1)
	for _, f := range z.File {
		if err := ctx.Err(); err != nil {
			return err
		}
		v.report.Entries++
		d, err := tree.ParseDigest(algorithm + f.Name)
		if err != nil {
			return fmt.Errorf("content/%s: the entry %.80q has no digest for a name", name, f.Name)
		}
		data, err := readEntry(f, d)
		if err != nil {
			v.bad[d] = fmt.Sprintf("content/%s: %.12s…: %v", name, f.Name, err)
			continue
		}
		if _, twice := v.good[d]; twice {
			v.also[d] = append(v.also[d], number)
		} else {
			v.good[d] = blob{number, int32(len(data))}
		}
		v.report.Bytes += int64(len(data))
		v.progress(int64(len(data)))
	}
	if sealed != nil && len(v.bad) == before { // else the damage is named where it lies
		return fmt.Errorf("content/%s: %w; what is kept in it is whole", name, sealed)
	}
	return nil
}

// relative is a file of the archive as reports name it.
func (a *Archive) relative(file string) string {
	if rel, err := filepath.Rel(a.Dir, file); err == nil {
		return filepath.ToSlash(rel)
	}
	return file
}

// snapshots reads all snapshots, and takes from unsealed what it names itself.
func (v *verifier) snapshots(ctx context.Context, unsealed map[string]error) error {
	names, err := v.a.Playthroughs()
	if err != nil {
		return err
	}
	for _, name := range names {
		snapshots, broken, err := v.a.Snapshots(name)
		if err != nil {
			return err
		}
		for _, b := range broken {
			file := v.a.relative(b.File)
			v.touch(fmt.Sprintf("%s: %v", file, b.Err), "a snapshot of "+name)
			delete(unsealed, file)
		}
		for _, s := range snapshots {
			v.report.Snapshots++
			if err := v.snapshot(ctx, s); err != nil {
				return err
			}
			if file := v.a.relative(v.a.snapshotFile(name, s.ID)); unsealed[file] != nil {
				v.touch(fmt.Sprintf("%s: %v", file, unsealed[file]), s.Address()+": what is said of it")
				delete(unsealed, file)
			}
		}
	}
	return nil
}

// snapshot notes what of a snapshot is damaged.
func (v *verifier) snapshot(ctx context.Context, s *Snapshot) error {
	listed := map[int32]bool{} // content files that the snapshot says it uses
	for _, name := range s.Content {
		if i, ok := slices.BinarySearch(v.files, name); ok {
			listed[int32(i)] = true
		}
	}
	whose := map[string]*KeptSave{} // path in a root of saves
	missing := map[string]string{}  // a save's file that no root had yet: its SHA-256
	for i := range s.Saves {
		save := &s.Saves[i]
		for _, f := range save.Files {
			key := save.Folder + "\x00" + save.Account + "\x00" + f.Path
			whose[key], missing[key] = save, f.SHA256
		}
	}
	for _, root := range s.Roots {
		if what := v.chunks(root.Listing, listed); what != "" {
			v.touch(what, fmt.Sprintf("%s: all its %s", s.Address(), root.Kind))
		}
		files, bytes := 0, int64(0)
		err := v.a.Nodes(ctx, root, func(n Node) error {
			if n.Kind != tree.File {
				return nil
			}
			files, bytes = files+1, bytes+n.Size
			whom, key := string(root.Kind)+", "+n.Path, root.Folder+"\x00"+root.Account+"\x00"+n.Path
			what := cmp.Or(v.chunks(n.Chunks, listed), v.file(ctx, n))
			if save := whose[key]; save != nil && root.Kind == Saves {
				whom = save.Called()
				if missing[key] != n.SHA256 && what == "" {
					what = fmt.Sprintf("playthroughs/%s.json: it has another SHA-256 for %s than its listing", s.name(), n.Path)
				}
				delete(missing, key)
			}
			if what != "" {
				v.touch(what, s.Address()+": "+whom)
			}
			return ctx.Err()
		})
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err == nil && (files != root.Files || bytes != root.Bytes) {
			err = fmt.Errorf("playthroughs/%s.json: %w: it says that its %s are %d files, and lists %d", s.name(), ErrDamaged, root.Kind, root.Files, files)
		}
		if err != nil {
			v.touch(err.Error(), fmt.Sprintf("%s: %s", s.Address(), root.Kind))
			clear(missing) // they may stand in what could not be read
		}
	}
	for key := range missing {
		v.touch(fmt.Sprintf("playthroughs/%s.json: %v: it names files of saves that its listings do not have", s.name(), ErrDamaged), s.Address()+": "+whose[key].Called())
	}
	return nil
}

// chunks is what is wrong with runs of bytes, or "": where they lie is not whole, or not where the snapshot says.
func (v *verifier) chunks(chunks []Chunk, listed map[int32]bool) string {
	for _, c := range chunks {
		b, ok := v.good[c.Blob]
		if !ok {
			if what, bad := v.bad[c.Blob]; bad {
				return what
			}
			return fmt.Sprintf("the content %.12s… is %v", c.Blob.Hex(), ErrMissing)
		}
		if !listed[b.file] && !slices.ContainsFunc(v.also[c.Blob], func(i int32) bool { return listed[i] }) {
			return fmt.Sprintf("content/%s holds what is said to lie elsewhere: %v", v.files[b.file], ErrDamaged)
		}
	}
	return ""
}

// file is what is wrong with a file whose chunks are whole, or "": they do not make up what was kept. A file is read once, however many
// snapshots have it.
func (v *verifier) file(ctx context.Context, n Node) string {
	if n.Size == 0 {
		return ""
	}
	if c := n.Chunks[0]; len(n.Chunks) == 1 && c.Blob == n.Digest && n.SHA256 == "" && c.Offset == 0 && c.Length == int64(v.good[c.Blob].size) {
		return "" // it is the blob
	}
	sum := blake3.New()
	fmt.Fprint(sum, n.Digest, n.SHA256, n.Chunks)
	key := tree.Digest(sum.Sum(nil))
	what, known := v.checked[key]
	if !known {
		what = v.read(ctx, n)
		v.checked[key] = what
	}
	return what
}

// read reads a file back, as restoring it would.
func (v *verifier) read(ctx context.Context, n Node) string {
	sha := sha256.New()
	if err := v.a.Copy(ctx, n, sha); err != nil {
		return err.Error()
	}
	if n.SHA256 != "" && hex.EncodeToString(sha.Sum(nil)) != n.SHA256 {
		return fmt.Sprintf("%s: %v: its SHA-256 is another than was written down", n.Path, ErrDamaged)
	}
	return ""
}

// Called is what to call a kept save before people.
func (s KeptSave) Called() string {
	name := s.Name
	if s.Slot != "" {
		name = "slot " + s.Slot
	}
	if s.Title != "" {
		name += fmt.Sprintf(" %q", s.Title)
	}
	return name
}

// Size is how many bytes the archive takes on disk.
func (a *Archive) Size() (int64, error) {
	var total int64
	err := tree.Walk(context.Background(), a.Dir, func(e tree.Entry) error {
		total += e.Size
		return nil
	})
	return total, err
}

// Place tells places of saves apart: folder, account and name.
func (s KeptSave) Place() string { return s.Folder + "\x00" + s.Account + "\x00" + s.Name }

// Bytes is how many bytes of files a snapshot has.
func (s *Snapshot) Bytes() int64 {
	var total int64
	for _, r := range s.Roots {
		total += r.Bytes
	}
	return total
}
