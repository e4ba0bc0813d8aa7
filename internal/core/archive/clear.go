package archive

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"ostrov/internal/core/tree"
)

// Rule says which snapshots stay when an archive is cleared: those of the last days, the newest of each playthrough, and all that were
// kept on purpose, with a note or a tag.
type Rule struct {
	Days  int
	Count int
}

// Clearing is what clearing an archive would do, or did.
type Clearing struct {
	Go   []*Snapshot // snapshots that go, oldest first
	Stay int
	// Freed are bytes of content that nothing uses any more. They are marked first and removed by a later clearing, when nobody can be
	// about to use them: a keep that runs meanwhile would build on them.
	Freed int64
	// Marked are bytes that wait for that.
	Marked int64

	unused, due []string
}

// GracePeriod is how long content is marked before it is removed: longer than any keep runs.
const GracePeriod = 24 * time.Hour

// marks is the file that says since when content files are unused.
const marks = "unused.json"

type marked struct {
	Format int                  `json:"ostrov_unused"`
	Since  map[string]time.Time `json:"since"`
}

func (a *Archive) readMarks() (map[string]time.Time, error) {
	m := marked{Since: map[string]time.Time{}}
	if err := a.readSmall(marks, &m); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return m.Since, nil
}

// PlanClear looks which snapshots go by the rule, and which content nothing would use then.
func (a *Archive) PlanClear(rule Rule, now time.Time) (*Clearing, error) {
	c := &Clearing{}
	names, err := a.Playthroughs()
	if err != nil {
		return nil, err
	}
	used := map[string]bool{}
	for _, name := range names {
		all, broken, err := a.Snapshots(name)
		if err != nil {
			return nil, err
		}
		if len(broken) > 0 {
			return nil, fmt.Errorf("%s cannot be read, so nobody knows what it uses: %w", broken[0].File, broken[0].Err)
		}
		for i, s := range all {
			newest := len(all)-i <= rule.Count
			young := now.Sub(s.Taken) < time.Duration(rule.Days)*24*time.Hour
			if newest || young || s.Note != "" || len(s.Tags) > 0 || s.Set {
				c.Stay++
				for _, content := range s.Content {
					used[content] = true
				}
				continue
			}
			c.Go = append(c.Go, s)
		}
	}
	slices.SortFunc(c.Go, func(x, y *Snapshot) int { return x.Taken.Compare(y.Taken) })
	since, err := a.readMarks()
	if err != nil {
		return nil, err
	}
	list, err := os.ReadDir(filepath.Join(a.Dir, "content"))
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		if !contentPattern().MatchString(e.Name()) || used[e.Name()] {
			continue
		}
		info, err := e.Info()
		if err != nil {
			continue // gone meanwhile
		}
		c.unused = append(c.unused, e.Name())
		if at, ok := since[e.Name()]; ok && now.Sub(at) >= GracePeriod {
			c.due = append(c.due, e.Name())
			c.Freed += info.Size()
		} else {
			c.Marked += info.Size()
		}
	}
	return c, nil
}

// Clear carries out a clearing: it marks what nothing will use, removes the snapshots, and removes the content that has been marked long
// enough and is still unused.
func (a *Archive) Clear(ctx context.Context, rule Rule, c *Clearing, now time.Time) error {
	since, err := a.readMarks()
	if err != nil {
		return err
	}
	kept := map[string]time.Time{}
	for _, name := range c.unused {
		if kept[name] = now; !since[name].IsZero() {
			kept[name] = since[name]
		}
	}
	if err := a.writeMarks(kept); err != nil { // first of all: from now on no keep builds on it
		return err
	}
	if len(c.Go) > 0 {
		if err := a.keepLegacyNumbers(); err != nil {
			return err
		}
	}
	var gone []string
	for _, s := range c.Go {
		gone = append(gone, s.name())
	}
	if err := a.declare(nil, gone); err != nil {
		return err
	}
	for _, s := range c.Go {
		if err := os.Remove(filepath.Join(a.Dir, "playthroughs", s.Playthrough, s.ID+".json")); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		a.dropRemark(s)
	}
	again, err := a.PlanClear(rule, now) // another machine may have kept meanwhile
	if err != nil {
		return err
	}
	if err := a.guardDue(ctx, again); err != nil {
		return err
	}
	if err := a.open.close(); err != nil {
		return err
	}
	a.where = nil
	for _, name := range c.due {
		if !slices.Contains(again.due, name) {
			continue
		}
		if err := os.Remove(filepath.Join(a.Dir, "content", name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		delete(kept, name)
	}
	return a.writeMarks(kept)
}

// guardDue reports an error where a snapshot that stays needs content that is due to go, whatever it says that it uses.
func (a *Archive) guardDue(ctx context.Context, c *Clearing) error {
	if len(c.due) == 0 {
		return nil
	}
	only := map[tree.Digest]string{} // in no file that stays
	for _, name := range c.due {
		digests, err := listZip(filepath.Join(a.Dir, "content", name))
		if err != nil {
			continue // nothing can come back from it
		}
		for _, d := range digests {
			only[d] = name
		}
	}
	list, err := os.ReadDir(filepath.Join(a.Dir, "content"))
	if err != nil {
		return err
	}
	for _, e := range list {
		if !contentPattern().MatchString(e.Name()) || slices.Contains(c.due, e.Name()) {
			continue
		}
		digests, err := listZip(filepath.Join(a.Dir, "content", e.Name()))
		if err != nil {
			return fmt.Errorf("content/%s: %w; nothing is removed while it is damaged", e.Name(), err)
		}
		for _, d := range digests {
			delete(only, d)
		}
	}
	names, err := a.Playthroughs()
	if err != nil {
		return err
	}
	for _, name := range names {
		all, _, err := a.Snapshots(name)
		if err != nil {
			return err
		}
		for _, s := range all {
			if err := a.guardSnapshot(ctx, s, only); err != nil {
				return err
			}
		}
	}
	return nil
}

// guardSnapshot reports an error where a snapshot needs a blob that lies only in the content file named.
func (a *Archive) guardSnapshot(ctx context.Context, s *Snapshot, only map[tree.Digest]string) error {
	needs := func(chunks []Chunk) error {
		for _, c := range chunks {
			if name, ok := only[c.Blob]; ok {
				return fmt.Errorf("%s needs content/%s and does not say so: %w; nothing of the content is removed", s.Address(), name, ErrDamaged)
			}
		}
		return nil
	}
	for _, root := range s.Roots {
		if err := needs(root.Listing); err != nil {
			return err
		}
		if err := a.Nodes(ctx, root, func(n Node) error { return needs(n.Chunks) }); err != nil {
			return err
		}
	}
	return nil
}

func (a *Archive) writeMarks(since map[string]time.Time) error {
	if len(since) == 0 {
		err := os.Remove(filepath.Join(a.Dir, marks))
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	return a.publishSmall(marks, marked{Format: 1, Since: since})
}
