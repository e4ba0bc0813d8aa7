package job

import (
	"context"
	"fmt"
	"io"
	"slices"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/change"
	"ostrov/internal/core/tree"
)

// Apply carries out a plan: it keeps what the plan touches, then changes, then records.
func (s *Session) Apply(ctx context.Context, p *Planned) (*Done, error) {
	done := &Done{}
	worth, err := s.worthKeeping(p)
	if err != nil {
		return nil, err
	}
	if worth {
		if done.Safety, err = s.keepBefore(ctx, p); err != nil {
			return nil, err
		}
	}
	if !p.Changes() && p.Activates() {
		clear(s.looks)
		return done, s.learn(ctx, p.Install.Address(), p.outcome)
	}
	p.plan.Announce = s.announce(p.outcome, p.undone)
	r, err := change.Apply(ctx, p.plan)
	if err != nil {
		return nil, s.changeError(err)
	}
	done.Record = r
	s.recordDone(ctx, p, r)
	for _, record := range p.records {
		if err := record(ctx); err != nil {
			s.Log.Error("the change is made but not recorded", "error", err)
		}
	}
	clear(s.looks) // installs may share folders
	return done, nil
}

// worthKeeping reports whether there is anything to keep before a plan is carried out: saves, or that there are none any more, which is as they must come
// back.
func (s *Session) worthKeeping(p *Planned) (bool, error) {
	current := p.look.Current()
	switch {
	case p.safety == "", current == nil && !p.Changes():
		return false, nil
	case len(p.look.Saves) > 0 || current == nil:
		return len(p.look.Saves) > 0, nil
	}
	newest, err := s.newestOf(current.Name)
	return newest != nil && len(newest.Saves) > 0, err
}

// recordDone makes the logbook know what a change meant. The change has happened: what fails here is caught up with by the next command.
func (s *Session) recordDone(ctx context.Context, p *Planned, r *change.Record) {
	if p.outcome == nil {
		return
	}
	pointer := pointerTo{ID: r.ID, Title: r.Title, Install: r.Install, Dir: r.Dir, Outcome: p.outcome, OnUndo: p.undone}
	if err := s.finishOutcome(ctx, pointer); err != nil {
		s.Log.Error("the change is made but not recorded", "error", err)
	}
}

// keepBefore keeps the playthrough that a plan touches, unless the newest snapshot has it just so.
func (s *Session) keepBefore(ctx context.Context, p *Planned) (*archive.Snapshot, error) {
	kept, err := s.Keep(ctx, p.Install, KeepRequest{safety: p.safety})
	if err != nil {
		return nil, fmt.Errorf("the present state could not be kept first, so nothing has been changed: %w", err)
	}
	if err := s.prove(ctx, kept.Snapshot); err != nil {
		return nil, problem("ostrov archive verify", "what was kept first cannot be read back, so nothing has been changed: %w", err)
	}
	if kept.Unchanged {
		return nil, nil
	}
	return kept.Snapshot, nil
}

// prove reads back what a change may take away and a snapshot has: saves, settings, what mods stored. Mods that are replaced are moved aside whole.
func (s *Session) prove(ctx context.Context, snap *archive.Snapshot) error {
	a, err := s.Archive(false)
	if err != nil {
		return err
	}
	progress := s.meter("verify")
	for _, root := range snap.Roots {
		if !slices.Contains([]string{archive.Saves, archive.Settings, archive.Data}, root.What) {
			continue
		}
		progress.more(root.Bytes)
		err := a.Nodes(ctx, root, func(n archive.Node) error {
			if n.Kind != tree.File {
				return nil
			}
			progress.did(n.Size)
			return a.Copy(ctx, n, io.Discard)
		})
		if err != nil {
			return err
		}
	}
	return nil
}
