package archive

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// Each machine that writes into an archive says in a file of its own, machines/NAME.json, which snapshots it published and which it
// cleared. A snapshot that was published, that nobody cleared and that is not there has been lost, and Verify says so. Nobody writes
// another machine's file, so none waits for another.
type published struct {
	Format    int      `json:"ostrov_published"`
	Published []string `json:"published"` // PLAYTHROUGH/ID
	Cleared   []string `json:"cleared,omitempty"`
}

const machines = "machines"

var (
	machinePattern   = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9-]{1,64}\.json$`) })
	publishedPattern = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}/\d{4}-\d\d-\d\dT\d{6}Z-[a-z0-9]{6}$`)
	})
)

// attempts is how often two processes of one machine try to write its file at once.
const attempts = 10

// declare adds to what this machine says it published and cleared. Another process of the machine may write the file at the same moment:
// it is read again, and written again if need be.
func (a *Archive) declare(publishedNow, clearedNow []string) error {
	if err := os.MkdirAll(filepath.Join(a.Dir, machines), folderMode); err != nil {
		return err
	}
	name := filepath.Join(machines, host()+".json")
	for range attempts {
		var said published
		err := a.readSmall(name, &said)
		if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, ErrDamaged) {
			return err
		}
		all, gone := merged(said.Published, publishedNow), merged(said.Cleared, clearedNow)
		if len(all) == len(said.Published) && len(gone) == len(said.Cleared) {
			return nil
		}
		if err := a.publishSmall(name, published{1, all, gone}); err != nil {
			return err
		}
	}
	return nil // another process writes all the time; it is only not guarded
}

// merged is a sorted list with more in it.
func merged(list, more []string) []string {
	list = append(slices.Clone(list), more...)
	slices.Sort(list)
	return slices.Compact(list)
}

// declared is what all machines say together. wrong names files that cannot be read, slash-separated.
func (a *Archive) declared() (all, cleared map[string]bool, wrong map[string]error, err error) {
	all, cleared, wrong = map[string]bool{}, map[string]bool{}, map[string]error{}
	list, err := os.ReadDir(filepath.Join(a.Dir, machines))
	if errors.Is(err, fs.ErrNotExist) {
		return all, cleared, wrong, nil
	}
	if err != nil {
		return nil, nil, nil, err
	}
	for _, e := range list {
		if !machinePattern().MatchString(e.Name()) {
			continue
		}
		name := machines + "/" + e.Name()
		if err := checkSealedFile(filepath.Join(a.Dir, machines, e.Name())); err != nil {
			wrong[name] = err
			continue
		}
		var said published
		if err := a.readSmall(filepath.Join(machines, e.Name()), &said); err != nil {
			wrong[name] = err
			continue
		}
		for _, s := range said.Published {
			all[s] = publishedPattern().MatchString(s)
		}
		for _, s := range said.Cleared {
			cleared[s] = true
		}
	}
	return all, cleared, wrong, nil
}

// lost names the snapshots that were published, that nobody cleared and that are not there.
func (a *Archive) lost() (lost []string, wrong map[string]error, err error) {
	all, cleared, wrong, err := a.declared()
	if err != nil {
		return nil, nil, err
	}
	for s, ok := range all {
		playthrough, id, _ := strings.Cut(s, "/")
		if ok && !cleared[s] && !a.Has(playthrough, id) {
			lost = append(lost, s)
		}
	}
	slices.Sort(lost)
	return lost, wrong, nil
}

// name is what the files of machines call a snapshot.
func (s *Snapshot) name() string { return fmt.Sprintf("%s/%s", s.Playthrough, s.ID) }
