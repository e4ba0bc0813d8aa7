package cli

import (
	"context"
	"errors"
	"maps"
	"slices"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/home"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/view"
)

func (a *app) archive() *ucli.Command {
	return &ucli.Command{
		Name: "archive", Category: "keep", Usage: "where snapshots are kept, and whether they are whole",
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			if cmd.Args().Present() {
				return a.unknownCommand(cmd, cmd.Args().First())
			}
			return a.showArchive(ctx)
		},
		Commands: []*ucli.Command{
			{Name: "add", Usage: "keep into the archive in DIR from now on, making it where there is none", ArgsUsage: "DIR", Action: a.with(1, 1, a.addArchive)},
			{
				Name: "verify", Usage: "read everything in the archive and prove it whole",
				Flags: []ucli.Flag{
					&ucli.BoolFlag{Name: "fast", Usage: "only look whether everything is there"},
					&ucli.StringFlag{Name: "repair", Usage: "replace what is damaged by that of the archive in `DIR`", TakesFile: true},
				},
				Action: a.verifyArchive,
			},
			{Name: "copy", Usage: "copy into the archive in DIR what it lacks", ArgsUsage: "DIR", Action: a.copyArchive},
			{
				Name: "clear-old", Usage: "make room: remove old snapshots, all with a note excepted",
				Flags: []ucli.Flag{
					&ucli.IntFlag{Name: "days", Value: 90, Usage: "all of the last `N` days stay"},
					&ucli.IntFlag{Name: "count", Value: 20, Usage: "the newest `N` of each playthrough stay"},
				},
				Action: a.clearOld,
			},
		},
	}
}

func (a *app) addArchive(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
	dir, err := keep.CheckArchive(ctx, h, cmd.Args().First())
	if err != nil {
		return err
	}
	p := a.printer()
	if a.dryRun {
		if a.json {
			return view.JSON(a.Stdout, view.ArchiveDoc{Head: view.NewHead("archive add"), Dir: dir})
		}
		p.Line("snapshots would go to %s from now on. Nothing has been changed: --dry-run.", view.Text(dir))
		return nil
	}
	created, copied, err := keep.AddArchive(ctx, h, dir)
	if err != nil {
		return err
	}
	if a.json {
		return a.archiveJSON(h, "archive add", 0)
	}
	p.Line("%s", map[bool]string{true: "made and added ", false: "added "}[created]+h.ArchiveDir())
	if copied.Snapshots > 0 {
		p.Line("  %s that you had are in it too.", view.Count(copied.Snapshots, "snapshot", "snapshots"))
	}
	p.Next(problem.Do("keep"))
	return nil
}

func (a *app) archiveJSON(h *home.Home, command string, size int64) error {
	return view.JSON(a.Stdout, view.ArchiveDoc{Head: view.NewHead(command), Dir: h.ArchiveDir(), Size: size})
}

func (a *app) showArchive(ctx context.Context) error {
	h, err := a.open()
	if err != nil {
		return err
	}
	all, err := keep.Archives(h)
	if err != nil {
		return err
	}
	aside := map[string][]plan.Beside{}
	for _, in := range h.Installs {
		kept, err := plan.Aside(ctx, h, in)
		if err == nil && len(kept) > 0 { // of an install that is away nothing is known
			aside[in.Address()] = kept
		}
	}
	if a.json {
		doc := view.ArchiveDoc{Head: view.NewHead("archive"), Dir: h.ArchiveDir(), Archives: all, Aside: aside}
		if len(all) > 0 {
			doc.Size = all[0].Size
		}
		return view.JSON(a.Stdout, doc)
	}
	p := a.printer()
	if len(all) == 0 {
		p.Line("%s: not there yet; the first keep makes it", h.ArchiveDir())
		p.Next(problem.Do("keep"), problem.Do("archive add", "DIR"))
		return nil
	}
	p.Archives(all)
	if len(aside) > 0 {
		p.Line("")
		p.Line("Beside the saves:")
		for _, in := range slices.Sorted(maps.Keys(aside)) {
			p.Aside(in, aside[in])
		}
	}
	p.Next(problem.Do("kept"), problem.Do("archive verify"))
	return nil
}

func (a *app) verifyArchive(ctx context.Context, cmd *ucli.Command) error {
	if err := args(cmd, 0, 0); err != nil {
		return err
	}
	h, err := a.open()
	if err != nil {
		return err
	}
	if dir := cmd.String("repair"); dir != "" {
		if err := a.noDryRun("archive verify --repair", "look first with verify"); err != nil {
			return err
		}
		repaired, err := keep.RepairArchive(ctx, h, dir)
		if err != nil {
			return err
		}
		if !a.json {
			a.printer().Line("%s taken from %s", view.Count(len(repaired), "file was", "files were"), dir)
		}
	}
	all, err := keep.VerifyArchives(ctx, h, cmd.Bool("fast"))
	if err != nil {
		return err
	}
	if a.json {
		err = view.JSON(a.Stdout, view.VerifyDoc{Head: view.NewHead("archive verify"), Archives: all})
	} else {
		a.printer().Verified(all, !cmd.Bool("fast"))
	}
	if err == nil && slices.ContainsFunc(all, func(s keep.ArchiveState) bool { return s.Away || len(s.Report.Damage) > 0 }) {
		return statusError(exitError)
	}
	return err
}

func (a *app) copyArchive(ctx context.Context, cmd *ucli.Command) error {
	if err := args(cmd, 1, 1); err != nil {
		return err
	}
	h, err := a.open()
	if err != nil {
		return err
	}
	done, err := keep.CopyArchive(ctx, h, cmd.Args().First(), !a.dryRun)
	if err != nil {
		return err
	}
	if a.json {
		return view.JSON(a.Stdout, view.CopiedDoc{Head: view.NewHead("archive copy"), From: h.ArchiveDir(), To: cmd.Args().First(), Copied: done})
	}
	if a.dryRun {
		a.printer().Line("%s would be copied to %s, %s. Nothing has been copied: --dry-run.", view.Count(done.Snapshots, "snapshot", "snapshots"), view.Text(cmd.Args().First()), view.Size(done.Bytes))
		return nil
	}
	if done.Snapshots == 0 {
		a.printer().Line("%s has everything already", cmd.Args().First())
		return nil
	}
	a.printer().Line("copied %s to %s, %s", view.Count(done.Snapshots, "snapshot", "snapshots"), cmd.Args().First(), view.Size(done.Bytes))
	return nil
}

func (a *app) clearOld(ctx context.Context, cmd *ucli.Command) error {
	if err := args(cmd, 0, 0); err != nil {
		return err
	}
	rule := archive.Rule{Days: int(cmd.Int("days")), Count: int(cmd.Int("count"))}
	if rule.Days < 0 || rule.Count < 1 {
		return &usageError{errors.New("at least the newest snapshot of each playthrough stays: --count 1"), "ostrov archive clear-old"}
	}
	h, err := a.open()
	if err != nil {
		return err
	}
	arch, err := h.Existing()
	if err != nil {
		return err
	}
	c, err := arch.PlanClear(rule, a.Now())
	if err != nil {
		return err
	}
	doc := view.Clearing(c, !a.dryRun)
	if !a.json {
		a.printer().Clearing(c)
	}
	if !a.dryRun {
		if len(c.Go) > 0 {
			if err := a.confirm("Remove these snapshots?"); err != nil {
				return err
			}
		}
		if err := arch.Clear(ctx, rule, c, a.Now()); err != nil {
			return err
		}
	}
	if a.json {
		return view.JSON(a.Stdout, doc)
	}
	if a.dryRun {
		a.printer().Line("\nNothing has been removed: --dry-run.")
	}
	return nil
}
