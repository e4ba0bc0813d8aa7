package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/job"
	"ostrov/internal/view"
)

func (a *app) restore() *ucli.Command {
	return &ucli.Command{
		Name: "restore", Category: "keep", Usage: "put a snapshot back; what is there now is kept first", ArgsUsage: "SNAPSHOT",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "slot", Usage: "only the save in slot `N`, or of that name"},
			&ucli.StringSliceFlag{Name: "only", Usage: "only `WHAT`: saves, settings, data of mods, mods, pictures; or the game, --to a folder"},
			&ucli.StringFlag{Name: "to", Usage: "into the new folder `DIR` instead of the game's", TakesFile: true},
		},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			if err := args(cmd, 1, 1); err != nil {
				return err
			}
			for _, o := range cmd.StringSlice("only") {
				if !slices.Contains(job.RestoreOnly, o) {
					return &usageError{fmt.Errorf("--only %s is not understood: there are %s", o, strings.Join(job.RestoreOnly, ", ")), "ostrov restore"}
				}
			}
			onlyGame := slices.Contains(cmd.StringSlice("only"), "game")
			if onlyGame && (cmd.String("to") == "" || len(cmd.StringSlice("only")) > 1) {
				return &usageError{errors.New("--only game brings the game back as a second install: say where, with --to DIR, and nothing else"), "ostrov restore"}
			}
			s, err := a.open()
			if err != nil {
				return err
			}
			snap, err := s.Snapshot(cmd.Args().First())
			if err != nil {
				return err
			}
			req := job.RestoreRequest{Slot: cmd.String("slot"), Only: cmd.StringSlice("only")}
			if onlyGame {
				return a.restoreGame(ctx, s, snap, cmd.String("to"))
			}
			if to := cmd.String("to"); to != "" {
				return a.restoreTo(ctx, s, snap.Address(), to, req)
			}
			p, err := s.PlanRestore(ctx, snap, req)
			if err != nil {
				return err
			}
			return a.carryOut(ctx, "restore", p, "restored "+snap.Address(), "Put this back?")
		},
	}
}

func (a *app) restoreTo(ctx context.Context, s *job.Session, address, to string, req job.RestoreRequest) error {
	snap, err := s.Snapshot(address)
	if err != nil {
		return err
	}
	if a.dryRun {
		fmt.Fprintf(a.Stdout, "%s would be written to %s\n", address, to)
		return nil
	}
	n, err := s.RestoreTo(ctx, snap, to, req)
	if err != nil {
		return err
	}
	if a.json {
		return view.JSON(a.Stdout, view.WrittenDoc{Head: view.NewHead("restore"), To: to, Files: n})
	}
	a.printer().Line("restored %s to %s: %s; the game's folders are untouched", address, to, view.Count(n, "file", "files"))
	return nil
}

// restoreGame lays a kept game out as a second install.
func (a *app) restoreGame(ctx context.Context, s *job.Session, snap *archive.Snapshot, to string) error {
	if a.dryRun {
		fmt.Fprintf(a.Stdout, "the game of %s would be laid out in %s and registered\n", snap.Address(), to)
		return nil
	}
	f, err := s.RestoreGame(ctx, snap, to)
	if err != nil {
		return err
	}
	if a.json {
		return view.JSON(a.Stdout, view.Frozen(f))
	}
	a.printer().Frozen(f, snap)
	return nil
}

// carryOut shows a plan, asks, and makes the change.
func (a *app) carryOut(ctx context.Context, command string, pl *job.Planned, done, question string) error {
	p := a.printer()
	doc := view.ChangeDoc{Head: view.NewHead(command), Plan: pl.Steps, Warnings: pl.Warnings}
	if doc.Plan == nil {
		doc.Plan = []job.Step{}
	}
	if doc.Warnings == nil {
		doc.Warnings = []string{}
	}
	if !pl.Changes() && !pl.Activates() {
		if a.json {
			return view.JSON(a.Stdout, doc)
		}
		p.Line("nothing to do: all of it is as it should be")
		return nil
	}
	show := func() {
		if !a.json {
			p.Plan(pl)
		}
	}
	if a.dryRun {
		if a.json {
			return view.JSON(a.Stdout, doc)
		}
		if pl.Changes() {
			p.Line("%s would do this, in %s", command, pl.Install.Address())
			p.Line("")
			show()
		} else {
			p.Line("%s would move nothing in %s; another playthrough would be played", command, pl.Install.Address())
		}
		p.Line("")
		p.Line("Nothing has been changed: --dry-run.")
		return nil
	}
	if !a.yes {
		show()
		if err := a.confirm(question); err != nil {
			return err
		}
	}
	made, err := a.session.Apply(ctx, pl)
	if err != nil {
		return err
	}
	if a.json {
		if doc.Done = true; made.Record != nil {
			doc.Change = made.Record.ID
		}
		if made.Safety != nil {
			d := view.Snapshot(made.Safety)
			doc.Safety = &d
		}
		return view.JSON(a.Stdout, doc)
	}
	p.Line("%s", done)
	if made.Record == nil {
		p.Line("")
		p.Line("  There was nothing to move.")
		p.Next("ostrov look " + pl.Called())
		return nil
	}
	if a.yes {
		p.Line("")
		show()
	}
	if made.Safety != nil {
		p.Line("")
		p.Line("  What was there before is kept as %s.", made.Safety.Address())
	}
	p.Next("ostrov look "+pl.Called(), "ostrov undo")
	return nil
}

func (a *app) undo() *ucli.Command {
	return &ucli.Command{
		Name: "undo", Category: "take back", Usage: "take back the last change",
		Action: a.with(0, 0, func(ctx context.Context, cmd *ucli.Command, s *job.Session) error {
			r, err := s.LastChange()
			if err != nil {
				return err
			}
			played, err := s.PlayedOn(ctx, r)
			if err != nil {
				return err
			}
			doc := view.ChangeDoc{Head: view.NewHead("undo"), Plan: []job.Step{}, Warnings: []string{}}
			for _, x := range r.Items {
				step := job.Step{Do: "replace", What: "the former state", Path: x.Target}
				switch {
				case x.Old == "":
					step = job.Step{Do: "remove", What: "what was put there", Path: x.Target}
				case x.New == "":
					step = job.Step{Do: "put", What: "what was taken away", Path: x.Target}
				}
				doc.Plan = append(doc.Plan, step)
			}
			for _, path := range played {
				doc.Warnings = append(doc.Warnings, path+" has changed since; its present state is kept first")
			}
			return a.takeBack(ctx, s, r.Title, doc, func() (*job.Done, error) { return s.Undo(ctx, r, len(played) > 0) }, job.DescribeChange(r))
		}),
	}
}

func (a *app) takeBack(ctx context.Context, s *job.Session, title string, doc view.ChangeDoc, do func() (*job.Done, error), described string) error {
	p := a.printer()
	if !a.json {
		if a.dryRun {
			p.Line("would take back: %s", view.Text(described))
		} else {
			p.Line("taking back: %s", view.Text(described))
		}
		p.Line("")
		p.Plan(&job.Planned{Steps: doc.Plan, Warnings: doc.Warnings})
	}
	if a.dryRun {
		if a.json {
			return view.JSON(a.Stdout, doc)
		}
		p.Line("")
		p.Line("Nothing has been changed: --dry-run.")
		return nil
	}
	if err := a.confirm("Take it back?"); err != nil {
		return err
	}
	done, err := do()
	if err != nil {
		return err
	}
	if a.json {
		doc.Done, doc.Change = true, done.Record.ID
		return view.JSON(a.Stdout, doc)
	}
	p.Line("")
	p.Line("taken back: everything is as it was before it")
	if done.Safety != nil {
		p.Line("  What was there is kept as %s.", done.Safety.Address())
	}
	return nil
}
