package durable

import (
	"errors"
	"os"
	"sync/atomic"
)

// Batch makes many files last that are written one after the other, or side by side. Waiting for the drive after each of them takes longer
// than writing them; where the system can be asked for a whole volume at once, it is, when they are all written. The zero Batch is ready
// to use.
type Batch struct {
	files atomic.Int64
	later atomic.Bool // some are left to End
}

// few is how many files are synced one by one: asking for a volume waits for what other programs have written there too.
const few = 16

// Wrote is told of a file that has been written and is still open.
func (b *Batch) Wrote(f *os.File) error {
	if b.files.Add(1) > few && canSyncVolume {
		b.later.Store(true)
		startWriting(f)
		return nil
	}
	return f.Sync()
}

// End returns when all files are on the drive. dirs are folders on the volumes that they lie on.
func (b *Batch) End(dirs ...string) error {
	if !b.later.Load() {
		return nil
	}
	var err error
	for _, dir := range dirs {
		err = errors.Join(err, syncVolume(dir))
	}
	return err
}
