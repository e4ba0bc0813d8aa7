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
	"ostrov/internal/core/job"
	"ostrov/internal/view"
)

func (a *app) keep() *ucli.Command {
	return &ucli.Command{
		Name: "keep", Category: "keep", Usage: "snapshot saves, mod list and settings into the archive", ArgsUsage: "[GAME]",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "as", Usage: "keep the playthrough `NAME`"},
			&ucli.StringFlag{Name: "m", Usage: "a `NOTE`, to know it by"},
			&ucli.StringSliceFlag{Name: "with", Usage: "keep mods too"},
			&ucli.StringFlag{Name: "from", Usage: "take in the copy in `DIR` that was made by hand", TakesFile: true},
			&ucli.BoolFlag{Name: "reread", Usage: "read all files, also those that have not changed"},
		},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			if err := args(cmd, 0, 1); err != nil {
				return err
			}
			for _, w := range cmd.StringSlice("with") {
				if w != "mods" {
					return &usageError{fmt.Errorf("--with %s is not understood: there is mods", w), "ostrov keep"}
				}
			}
			s, err := a.open()
			if err != nil {
				return err
			}
			in, err := s.Install(cmd.Args().First())
			if err != nil {
				return err
			}
			if a.dryRun {
				l, err := s.Look(ctx, in)
				if err != nil {
					return err
				}
				if a.json {
					return view.JSON(a.Stdout, view.LooksDoc{Head: view.NewHead("keep"), Installs: []view.LookDoc{view.Look(l)}})
				}
				a.printer().Look(l)
				fmt.Fprintln(a.Stdout, "\nNothing has been kept: --dry-run.")
				return nil
			}
			k, err := s.Keep(ctx, in, job.KeepRequest{As: cmd.String("as"), Note: cmd.String("m"), Mods: slices.Contains(cmd.StringSlice("with"), "mods"), From: cmd.String("from"), Reread: cmd.Bool("reread")})
			if err != nil {
				return err
			}
			if a.json {
				doc := view.KeepDoc{Head: view.NewHead("keep"), Snapshot: view.Snapshot(k.Snapshot), Archive: k.Archive, Read: k.Copied, Reused: k.Reused, Stored: k.Stored}
				doc.Findings = k.Findings
				return view.JSON(a.Stdout, doc)
			}
			a.printer().Kept(k)
			return nil
		},
	}
}

func (a *app) kept() *ucli.Command {
	return &ucli.Command{
		Name: "kept", Category: "keep", Usage: "the snapshots as a timeline, or one of them", ArgsUsage: "[PLAYTHROUGH[.NUMBER]]",
		Action: a.with(0, 1, func(_ context.Context, cmd *ucli.Command, s *job.Session) error {
			address := cmd.Args().First()
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
