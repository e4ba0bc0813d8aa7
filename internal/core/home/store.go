package home

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"ostrov/internal/core/durable"
	"ostrov/internal/core/tree"
)

// Store keeps contents by their digests in Ostrov's home: what lies under the files of mods, and what the ledger said at each change. A file
// of it is written whole or not at all and never altered. It is safe for concurrent use.
type Store struct {
	dir      string
	readOnly bool
	batch    durable.Batch
}

// Store is the home's own.
func (h *Home) Store() *Store {
	if h.store == nil {
		h.store = &Store{dir: filepath.Join(h.Dir, "store"), readOnly: h.ReadOnly}
	}
	return h.store
}

func (s *Store) path(d tree.Digest) string {
	hex := d.Hex()
	return filepath.Join(s.dir, hex[:2], hex)
}

// Has reports whether the store has a content.
func (s *Store) Has(d tree.Digest) bool {
	_, err := os.Stat(s.path(d))
	return err == nil
}

// Open opens a content. The error is fs.ErrNotExist where the store does not have it. What is read is to be checked by its digest.
func (s *Store) Open(d tree.Digest) (*os.File, error) { return os.Open(s.path(d)) }

// Put stores what r gives, which must have the digest. It is on the drive once Sync has returned.
func (s *Store) Put(ctx context.Context, want tree.Digest, r io.Reader) error {
	if s.readOnly {
		return errors.New("the home of Ostrov is open to read only")
	}
	if s.Has(want) {
		return nil
	}
	to := s.path(want)
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(to), PartName)
	if err != nil {
		return err
	}
	sums, _, err := tree.SumReader(ctx, r, false, f)
	if err == nil && sums.Blake3 != want {
		err = fmt.Errorf("it is not what it was: %w", fs.ErrInvalid)
	}
	if err == nil {
		err = s.batch.Wrote(f)
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = durable.Rename(f.Name(), to)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

// Sync waits until all that was put is on the drive.
func (s *Store) Sync() error {
	if _, err := os.Stat(s.dir); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return s.batch.End(s.dir)
}
