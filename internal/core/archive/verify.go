package archive

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"github.com/klauspost/compress/zip"

	"ostrov/internal/core/tree"
)

// Damage is one thing wrong with an archive and what it touches.
type Damage struct {
	What string `json:"what"`
	// Touches are the saves, settings and mods that cannot be brought back whole: "gannet-rock.3: slot 2 \"Gannet Rock\"".
	Touches []string `json:"touches"`
}

// Report is what Verify found.
type Report struct {
	Snapshots int      `json:"snapshots"`
	Files     int      `json:"content_files"`
	Entries   int      `json:"entries"`
	Bytes     int64    `json:"bytes"` // of content, unpacked
	Damage    []Damage `json:"damage"`
}

// Verify reads and hashes everything in the archive and names each save that a damage touches. progress is told the bytes read.
func (a *Archive) Verify(ctx context.Context, progress func(n int64)) (Report, error) {
	var r Report
	bad := map[tree.Digest]string{} // entry: what is wrong with it
	good := map[tree.Digest]bool{}
	list, err := os.ReadDir(filepath.Join(a.Dir, "content"))
	if err != nil {
		return r, err
	}
	unsealed, err := a.verifySeals()
	if err != nil {
		return r, err
	}
	var orphaned []Damage
	for _, e := range list {
		if !contentPattern.MatchString(e.Name()) {
			continue
		}
		r.Files++
		if err := a.verifyZip(ctx, e.Name(), &r, good, bad, progress); err != nil {
			if ctx.Err() != nil {
				return r, ctx.Err()
			}
			orphaned = append(orphaned, Damage{What: err.Error()})
		}
	}
	names, err := a.Playthroughs()
	if err != nil {
		return r, err
	}
	touches := map[string][]string{} // what is wrong: what it touches
	for _, name := range names {
		snapshots, broken, err := a.Snapshots(name)
		if err != nil {
			return r, err
		}
		for _, b := range broken {
			file := a.relative(b.File)
			touches[fmt.Sprintf("%s: %v", file, b.Err)] = []string{"a snapshot of " + name}
			delete(unsealed, file)
		}
		for _, s := range snapshots {
			r.Snapshots++
			if err := a.verifySnapshot(ctx, s, good, bad, touches); err != nil {
				return r, err
			}
			if file := a.relative(a.snapshotFile(name, s.ID)); unsealed[file] != nil {
				touches[fmt.Sprintf("%s: %v", file, unsealed[file])] = []string{s.Address() + ": what is said of it"}
				delete(unsealed, file)
			}
		}
	}
	for _, file := range slices.Sorted(maps.Keys(unsealed)) {
		r.Damage = append(r.Damage, Damage{What: fmt.Sprintf("%s: %v", file, unsealed[file])})
	}
	for what, whom := range touches {
		r.Damage = append(r.Damage, Damage{what, whom})
	}
	r.Damage = append(r.Damage, orphaned...) // nothing uses these, or what uses them is named above by entry
	return r, nil
}

func (a *Archive) verifyZip(ctx context.Context, name string, r *Report, good map[tree.Digest]bool, bad map[tree.Digest]string, progress func(int64)) error {
	path := filepath.Join(a.Dir, "content", name)
	sealed := checkContentSeal(path)
	z, err := zip.OpenReader(path)
	if err != nil {
		return fmt.Errorf("content/%s: %v", name, err)
	}
	defer z.Close()
	before := len(bad)
	for _, f := range z.File {
		if err := ctx.Err(); err != nil {
			return err
		}
		r.Entries++
		d, err := tree.ParseDigest("blake3:" + f.Name)
		if err != nil {
			return fmt.Errorf("content/%s: the entry %.80q has no digest for a name", name, f.Name)
		}
		data, err := readEntry(f, d)
		if err != nil {
			bad[d] = fmt.Sprintf("content/%s: %.12s…: %v", name, f.Name, err)
			continue
		}
		good[d] = true
		r.Bytes += int64(len(data))
		progress(int64(len(data)))
	}
	if sealed != nil && len(bad) == before { // else the damage is named where it lies
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

// verifySnapshot notes what of a snapshot is damaged, under what is wrong.
func (a *Archive) verifySnapshot(ctx context.Context, s *Snapshot, good map[tree.Digest]bool, bad map[tree.Digest]string, touches map[string][]string) error {
	whose := map[string]string{} // path in a root of saves: what to call the save
	for _, save := range s.Saves {
		for _, f := range save.Files {
			whose[save.Folder+"\x00"+save.Account+"\x00"+f.Path] = save.Called()
		}
	}
	wrong := func(parts []Chunk) string {
		for _, p := range parts {
			if !good[p.Blob] {
				if what, ok := bad[p.Blob]; ok {
					return what
				}
				return fmt.Sprintf("the content %.12s… is %v", p.Blob.Hex(), ErrMissing)
			}
		}
		return ""
	}
	note := func(what, whom string) {
		for _, known := range touches[what] {
			if known == whom {
				return
			}
		}
		touches[what] = append(touches[what], whom)
	}
	for _, root := range s.Roots {
		if what := wrong(root.Listing); what != "" {
			note(what, fmt.Sprintf("%s: all its %s", s.Address(), root.Kind))
			continue
		}
		err := a.Nodes(ctx, root, func(n Node) error {
			if what := wrong(n.Chunks); what != "" {
				whom := string(root.Kind) + ", " + n.Path
				if called, ok := whose[root.Folder+"\x00"+root.Account+"\x00"+n.Path]; ok {
					whom = called
				}
				note(what, s.Address()+": "+whom)
			}
			return nil
		})
		if errors.Is(err, context.Canceled) {
			return err
		}
		if err != nil {
			note(err.Error(), fmt.Sprintf("%s: %s", s.Address(), root.Kind))
		}
	}
	return nil
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
