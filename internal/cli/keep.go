package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/game"
	"ostrov/internal/core/job"
	"ostrov/internal/view"
)

func (a *app) keep() *ucli.Command {
	return &ucli.Command{
		Name: "keep", Category: "keep", Usage: "snapshot saves, mod list and settings into the archive", ArgsUsage: "[GAME]",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "as", Usage: "keep the playthrough `NAME`"},
			&ucli.StringFlag{Name: "m", Usage: "a `NOTE`, to know it by"},
			&ucli.StringSliceFlag{Name: "tag", Usage: "a `TAG`: PLAYTHROUGH.TAG is its address then, too"},
			&ucli.StringSliceFlag{Name: "with", Usage: "keep `WHAT` too: mods, game (with its mods), pictures; nothing is none of them"},
			&ucli.BoolFlag{Name: "always", Usage: "keep this playthrough with these from now on"},
			&ucli.StringFlag{Name: "settings", Usage: "keep the settings alone, as the set `NAME` for any playthrough"},
			&ucli.StringFlag{Name: "from", Usage: "take in the copy in `DIR` that was made by hand", TakesFile: true},
			&ucli.BoolFlag{Name: "reread", Usage: "read all files, also those that have not changed"},
		},
		Action: a.with(0, 1, func(ctx context.Context, cmd *ucli.Command, s *job.Session) error {
			req, err := keepRequest(cmd)
			if err != nil {
				return err
			}
			in, err := s.Install(cmd.Args().First())
			if err != nil {
				return err
			}
			if a.dryRun {
				return a.keepDry(ctx, s, in, req, cmd.String("settings") != "")
			}
			var k *job.Kept
			if set := cmd.String("settings"); set != "" {
				k, err = s.KeepSettings(ctx, in, set, req.Note)
			} else {
				k, err = s.Keep(ctx, in, req)
			}
			if err != nil {
				return err
			}
			if a.json {
				return view.JSON(a.Stdout, view.KeptDocument(k))
			}
			a.printer().Kept(k)
			return nil
		}),
	}
}

// keepRequest reads the flags of keep.
func keepRequest(cmd *ucli.Command) (job.KeepRequest, error) {
	req := job.KeepRequest{As: cmd.String("as"), Note: cmd.String("m"), Tags: cmd.StringSlice("tag"), Always: cmd.Bool("always"), From: cmd.String("from"), Reread: cmd.Bool("reread")}
	for _, w := range cmd.StringSlice("with") {
		switch {
		case slices.Contains(job.KeepWith, w):
			req.With = append(req.With, w)
		case w == "nothing":
			req.With = []string{}
		default:
			return req, &usageError{fmt.Errorf("--with %s is not understood: there are %s and nothing", w, strings.Join(job.KeepWith, ", ")), "ostrov keep"}
		}
	}
	if req.Always && req.With == nil {
		return req, &usageError{errors.New("--always needs --with: what is to be kept always?"), "ostrov keep"}
	}
	if cmd.String("settings") != "" && (req.As != "" || req.With != nil || req.From != "" || len(req.Tags) > 0) {
		return req, &usageError{errors.New("--settings keeps settings alone: it goes with -m only"), "ostrov keep"}
	}
	return req, nil
}

// keepDry shows what would be kept.
func (a *app) keepDry(ctx context.Context, s *job.Session, in *game.Install, req job.KeepRequest, settings bool) error {
	plan, err := s.PlanKeep(ctx, in, req, settings)
	if err != nil {
		return err
	}
	if a.json {
		return view.JSON(a.Stdout, view.KeepPlanDoc{Head: view.NewHead("keep"), Playthrough: plan.Playthrough, Takes: plan.Takes})
	}
	a.printer().KeepPlan(plan, in.Address())
	return nil
}

func (a *app) kept() *ucli.Command {
	return &ucli.Command{
		Name: "kept", Category: "keep", Usage: "the snapshots as a timeline, or one of them", ArgsUsage: "[PLAYTHROUGH[.NUMBER]]",
		Flags: []ucli.Flag{&ucli.StringFlag{Name: "export", Usage: "write the snapshot to `FILE`.zip, for people who do not have Ostrov", TakesFile: true}},
		Action: a.with(0, 1, func(ctx context.Context, cmd *ucli.Command, s *job.Session) error {
			address := cmd.Args().First()
			if file := cmd.String("export"); file != "" {
				return a.export(ctx, s, address, file)
			}
			if strings.Contains(address, ".") {
				snap, err := s.Snapshot(address)
				if err != nil {
					return err
				}
				if a.json {
					return a.keptJSON([]*archive.Snapshot{snap})
				}
				a.printer().Snapshot(snap)
				a.printer().Next("ostrov restore "+snap.Address(), "ostrov restore "+snap.Address()+" --to DIR")
				return nil
			}
			return a.timeline(s, address)
		}),
	}
}

// export writes a snapshot to a zip for others.
func (a *app) export(ctx context.Context, s *job.Session, address, file string) error {
	if address == "" {
		return &usageError{errors.New("--export needs a snapshot: PLAYTHROUGH.NUMBER"), "ostrov kept"}
	}
	e, err := s.Export(ctx, address, file, a.yes)
	if err != nil {
		return err
	}
	if a.json {
		return view.JSON(a.Stdout, view.WrittenDoc{Head: view.NewHead("kept"), To: file, Files: e.Files})
	}
	a.printer().Exported(e, file)
	return nil
}

func (a *app) keptJSON(all []*archive.Snapshot) error {
	doc := view.KeptDoc{Head: view.NewHead("kept"), Snapshots: []view.SnapshotDoc{}}
	for _, s := range all {
		doc.Snapshots = append(doc.Snapshots, view.Snapshot(s))
	}
	return view.JSON(a.Stdout, doc)
}

func (a *app) timeline(s *job.Session, only string) error {
	arch, err := s.Archive(false)
	if errors.Is(err, fs.ErrNotExist) {
		if a.json {
			return a.keptJSON(nil)
		}
		a.printer().Line("Nothing has been kept yet.")
		a.printer().Next("ostrov keep")
		return nil
	}
	if err != nil {
		return err
	}
	names, err := arch.Playthroughs()
	if err != nil {
		return err
	}
	if only != "" {
		if _, err := s.Snapshot(only); err != nil {
			return err
		}
		names = []string{only}
	}
	var all []*archive.Snapshot
	for i, name := range names {
		snapshots, broken, err := arch.Snapshots(name)
		if err != nil {
			return err
		}
		if a.json {
			all = append(all, snapshots...)
			continue
		}
		if i > 0 {
			fmt.Fprintln(a.Stdout)
		}
		a.printer().Timeline(name, snapshots, broken)
	}
	if a.json {
		return a.keptJSON(all)
	}
	return nil
}
