package change

import (
	"context"
	"errors"
	"io"
	"os"
	"path"
	"runtime"
	"time"

	"golang.org/x/sync/errgroup"

	"ostrov/internal/core/durable"
	"ostrov/internal/core/tree"
)

// Stage is where the new content of one target is written. All names are slash-separated and relative to the target; "." is the target
// itself, for a target that is a file. Nothing can be written outside of it. All is on the drive before the exchange.
type Stage struct {
	root  *os.Root
	name  string
	dirs  []stagedDir
	batch *durable.Batch
}

type stagedDir struct {
	name  string
	entry tree.Entry
}

// openStage makes the stage name in the folder dir.
func openStage(dir, name string, batch *durable.Batch) (*Stage, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return &Stage{root: root, name: name, batch: batch}, nil
}

func (s *Stage) path(name string) string { return path.Join(s.name, name) }

// Mkdir makes a folder with the mode and times of e. Folders on the way to it are made too.
func (s *Stage) Mkdir(name string, e tree.Entry) error {
	if err := fault("write"); err != nil {
		return err
	}
	s.dirs = append(s.dirs, stagedDir{s.path(name), e})
	return s.root.MkdirAll(s.path(name), 0o700)
}

// Write writes a file with the mode and times of e, the content coming from write.
func (s *Stage) Write(name string, e tree.Entry, write func(io.Writer) error) error {
	return s.write(name, e, write, s.batch.Wrote)
}

// Summed is Write that reads back what was written, while the drive takes it, and returns the digests of that.
func (s *Stage) Summed(ctx context.Context, name string, e tree.Entry, write func(io.Writer) error) (sums tree.Sums, err error) {
	err = s.write(name, e, write, func(f *os.File) error {
		var wait errgroup.Group
		wait.Go(func() error {
			back, err := s.root.Open(s.path(name))
			if err != nil {
				return err
			}
			defer back.Close()
			sums, _, err = tree.SumReader(ctx, back, false, io.Discard)
			return err
		})
		return errors.Join(s.batch.Wrote(f), wait.Wait())
	})
	return sums, err
}

func (s *Stage) write(name string, e tree.Entry, write func(io.Writer) error, written func(*os.File) error) error {
	if err := fault("write"); err != nil {
		return err
	}
	full := s.path(name)
	if dir := path.Dir(full); dir != "." {
		if err := s.root.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	if err := fault("create"); err != nil {
		return err
	}
	f, err := s.root.OpenFile(full, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	err = write(f)
	if err == nil && runtime.GOOS != "windows" {
		err = f.Chmod(e.Mode.Perm())
	}
	if err == nil {
		err = written(f)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return s.root.Chtimes(full, time.Time{}, e.ModTime)
}

// Symlink makes a link that points to target, which must lead to inside the stage's own target; that is the caller's to check.
func (s *Stage) Symlink(name, target string) error {
	if err := fault("symlink"); err != nil {
		return err
	}
	return s.root.Symlink(target, s.path(name))
}

// finish sets what could not be set while folders were being filled.
func (s *Stage) finish() error {
	var err error
	for i := len(s.dirs) - 1; i >= 0; i-- {
		d := s.dirs[i]
		if runtime.GOOS != "windows" {
			err = errors.Join(err, s.root.Chmod(d.name, d.entry.Mode.Perm()))
		}
		err = errors.Join(err, s.root.Chtimes(d.name, time.Time{}, d.entry.ModTime))
		if f, openErr := s.root.Open(d.name); openErr == nil {
			if runtime.GOOS != "windows" {
				err = errors.Join(err, s.batch.Wrote(f))
			}
			f.Close()
		}
	}
	return errors.Join(err, s.root.Close())
}
