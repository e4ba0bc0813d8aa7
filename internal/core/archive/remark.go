package archive

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// remark is what was said of a snapshot after it was kept. It lies beside it, in ID.remark.json, as what is published is never altered.
type remark struct {
	Format int      `json:"ostrov_remark"`
	Note   string   `json:"note,omitempty"`
	Tags   []string `json:"tags,omitempty"`
}

func (a *Archive) remarkFile(playthrough, id string) string {
	return filepath.Join("playthroughs", playthrough, id+".remark.json")
}

// Remark gives a snapshot another note and other tags.
func (a *Archive) Remark(s *Snapshot, note string, tags []string) error {
	if err := a.publishSmall(a.remarkFile(s.Playthrough, s.ID), remark{1, note, tags}); err != nil {
		return err
	}
	s.Note, s.Tags = note, tags
	return nil
}

// remarked is the snapshot with what was said of it since. A remark that cannot be read is as none: Verify names it.
func (a *Archive) remarked(s *Snapshot) *Snapshot {
	var r remark
	if a.readSmall(a.remarkFile(s.Playthrough, s.ID), &r) == nil {
		s.Note, s.Tags = r.Note, r.Tags
	}
	return s
}

// copyRemark copies what was said of a snapshot, where that other archive has nothing said of it.
func (a *Archive) copyRemark(to *Archive, s *Snapshot) error {
	file := to.remarkFile(s.Playthrough, s.ID)
	if _, err := os.Stat(filepath.Join(to.Dir, file)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	var r remark
	if a.readSmall(a.remarkFile(s.Playthrough, s.ID), &r) != nil {
		return nil
	}
	return to.publishSmall(file, r)
}

// dropRemark removes what was said of a snapshot that is gone.
func (a *Archive) dropRemark(s *Snapshot) {
	_ = os.Remove(filepath.Join(a.Dir, a.remarkFile(s.Playthrough, s.ID)))
}
