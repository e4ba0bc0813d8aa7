package home

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"

	"github.com/zeebo/blake3"

	"ostrov/internal/core/durable"
	"ostrov/internal/core/game"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/tree"
)

const ledgerDir = "ledger"

// entryFile is the file of the home that has the entry of a mod.
func entryFile(gameID string, key ledger.Key) string {
	name := url.QueryEscape(key.Kind + "+" + key.ID)
	if len(name) > 120 {
		sum := blake3.Sum256([]byte(name))
		name = fmt.Sprintf("%.80s-%x", name, sum[:8])
	}
	_, install, _ := cutAddress(key.Install)
	return filepath.ToSlash(filepath.Join(ledgerDir, gameID, url.QueryEscape(install), name+".json"))
}

func cutAddress(address string) (gameID, install string, ok bool) {
	for i := range address {
		if address[i] == '@' {
			return address[:i], address[i+1:], true
		}
	}
	return address, "", false
}

// Ledger are the entries of all mods of an install: its own, and those of other installs of the game that have the same folder of mods, in the
// order in which they came.
func (h *Home) Ledger(ctx context.Context, in *game.Install) ([]*ledger.Entry, error) {
	return h.entries(ctx, in, readEntry)
}

// LedgerHeads is Ledger without the files: what a list of mods needs.
func (h *Home) LedgerHeads(ctx context.Context, in *game.Install) ([]*ledger.Entry, error) {
	return h.entries(ctx, in, readHead)
}

func (h *Home) entries(ctx context.Context, in *game.Install, read func(path string) (*ledger.Entry, error)) ([]*ledger.Entry, error) {
	var all []*ledger.Entry
	dirs, err := os.ReadDir(filepath.Join(h.Dir, ledgerDir, in.Game.ID))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, dir := range dirs {
		name, err := url.QueryUnescape(dir.Name())
		if err != nil || !dir.IsDir() {
			continue
		}
		of := h.Named(in.Game.ID + "@" + name)
		if of != in && (of == nil || !sameMods(ctx, in, of)) {
			continue
		}
		files, err := h.List(filepath.ToSlash(filepath.Join(ledgerDir, in.Game.ID, dir.Name())), ".json")
		if err != nil {
			return nil, err
		}
		for _, file := range files {
			path := filepath.Join(h.Dir, ledgerDir, in.Game.ID, dir.Name(), file)
			e, err := read(path)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", path, err)
			}
			all = append(all, e)
		}
	}
	slices.SortFunc(all, func(a, b *ledger.Entry) int { return int(a.Order - b.Order) })
	return all, nil
}

func readEntry(path string) (*ledger.Entry, error) {
	data, err := tree.ReadBounded(path, ledger.MaxSize)
	if err != nil {
		return nil, err
	}
	return ledger.ParseOwn(data)
}

// readHead reads an entry up to its files.
func readHead(path string) (*ledger.Entry, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	head := make([]byte, 16<<10)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, err
	}
	if e, ok := ledger.ParseHead(head[:n]); ok {
		return e, nil
	}
	return readEntry(path)
}

// sameMods reports whether two installs have a folder of mods in common.
func sameMods(ctx context.Context, in, other *game.Install) bool {
	if other.Open() != nil {
		return false
	}
	for i := range in.Game.Mods {
		mine, err := in.FoldersOf(ctx, in.Game.Mods[i].Folder)
		theirs, err2 := other.FoldersOf(ctx, in.Game.Mods[i].Folder)
		if err != nil || err2 != nil {
			continue
		}
		for _, f := range mine {
			if slices.ContainsFunc(theirs, func(o game.Located) bool { return o.Real == f.Real && !f.Managed }) {
				return true
			}
		}
	}
	return false
}

// LedgerDir is the folder of the home with the entries of an install's own mods, one JSON file each.
func (h *Home) LedgerDir(in *game.Install) string {
	return filepath.Join(h.Dir, ledgerDir, in.Game.ID, url.QueryEscape(in.Name))
}

// NoteEntry stores an entry as it is to be after a change, and returns the digest by which SetEntries finds it; zero for nil, none.
func (h *Home) NoteEntry(ctx context.Context, e *ledger.Entry) (tree.Digest, error) {
	if e == nil {
		return tree.Digest{}, nil
	}
	data, err := e.Encode()
	if err != nil {
		return tree.Digest{}, err
	}
	sums, _, err := tree.SumReader(ctx, bytes.NewReader(data), false, io.Discard)
	if err != nil {
		return tree.Digest{}, err
	}
	return sums.Blake3, h.Store().Put(ctx, sums.Blake3, bytes.NewReader(data))
}

// NotedEntry is an entry that was noted.
func (h *Home) NotedEntry(d tree.Digest) (*ledger.Entry, error) { return readEntry(h.Store().path(d)) }

// Entered is what the ledger is to say of a mod: the entry that was noted, zero for none.
type Entered struct {
	Game  string
	Key   ledger.Key
	Noted tree.Digest
}

// SetEntries makes noted entries the present ones of their mods, and removes those of which none is noted. It may be repeated.
func (h *Home) SetEntries(all []Entered) error {
	if h.ReadOnly {
		return errors.New("the home of Ostrov is open to read only")
	}
	var batch durable.Batch
	var dirs []string
	written := map[string]string{} // by its name until all are on the drive
	for _, e := range all {
		file := filepath.Join(h.Dir, filepath.FromSlash(entryFile(e.Game, e.Key)))
		if e.Noted.IsZero() {
			if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			continue
		}
		data, err := tree.ReadBounded(h.Store().path(e.Noted), ledger.MaxSize)
		if err != nil {
			return err
		}
		dir := filepath.Dir(file)
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
		f, err := os.CreateTemp(dir, PartName)
		if err != nil {
			return err
		}
		_, err = f.Write(data)
		if err == nil {
			err = batch.Wrote(f)
		}
		if err = errors.Join(err, f.Close()); err != nil {
			return errors.Join(err, os.Remove(f.Name()))
		}
		written[f.Name()] = file
		if !slices.Contains(dirs, dir) {
			dirs = append(dirs, dir)
		}
	}
	if err := batch.End(dirs...); err != nil {
		return err
	}
	for temp, file := range written {
		if err := durable.Rename(temp, file); err != nil {
			return err
		}
	}
	for _, dir := range dirs {
		if err := durable.SyncDir(dir); err != nil {
			return err
		}
	}
	return nil
}
