package cli

import (
	"context"
	"errors"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/view"
)

func (a *app) undo() *ucli.Command {
	return &ucli.Command{
		Name: "undo", Category: "take back", Usage: "take back the last change; again, the one before it", ArgsUsage: "[GAME]",
		Flags: []ucli.Flag{
			&ucli.BoolFlag{Name: "list", Usage: "show the changes, and which of them have been taken back"},
			&ucli.BoolFlag{Name: "unfinished", Usage: "put in order a change that was begun with another home of Ostrov's and is not finished"},
		},
		Action: a.with(0, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			only, err := a.ofInstall(ctx, cmd, h)
			switch {
			case err != nil:
				return err
			case cmd.Bool("unfinished"):
				return a.unfinished(ctx, h, only)
			}
			if err := a.settleAll(ctx, h, only); err != nil { // which change is the last is known only then
				return err
			}
			if cmd.Bool("list") {
				return a.listChanges(ctx, h, only)
			}
			u, err := plan.Undo(ctx, h, only)
			if err != nil {
				return err
			}
			return a.takeBack(ctx, h, u, "undo", "taken back: "+view.Text(u.Of.Title), "Take it back?")
		}),
	}
}

func (a *app) redo() *ucli.Command {
	return &ucli.Command{
		Name: "redo", Category: "take back", Usage: "make again what undo took back last", ArgsUsage: "[GAME]",
		Action: a.with(0, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			only, err := a.ofInstall(ctx, cmd, h)
			if err != nil {
				return err
			}
			if err := a.settleAll(ctx, h, only); err != nil {
				return err
			}
			u, err := plan.Redo(ctx, h, only)
			if err != nil {
				return err
			}
			return a.takeBack(ctx, h, u, "redo", "made again: "+view.Text(u.Of.Title), "Make it again?")
		}),
	}
}

// ofInstall is the install that the command's argument names, or nil for all.
func (a *app) ofInstall(_ context.Context, cmd *ucli.Command, h *home.Home) (*game.Install, error) {
	if !cmd.Args().Present() {
		return nil, nil
	}
	return h.Install(cmd.Args().First())
}

// settleAll puts in order what interrupted commands left, of one install or of all; a dry run only finds out. An install that is away
// hinders nothing.
func (a *app) settleAll(ctx context.Context, h *home.Home, only *game.Install) error {
	installs := h.Installs
	if only != nil {
		installs = []*game.Install{only}
	}
	for _, in := range installs {
		_, _, err := a.see(ctx, h, in)
		if err != nil && (errors.Is(err, problem.ErrBusy) || errors.Is(err, problem.ErrDeclined) || only != nil) {
			return err
		}
	}
	return nil
}

func (a *app) takeBack(ctx context.Context, h *home.Home, u *plan.Undoing, command, done, question string) error {
	if !a.json {
		a.printer().Change(u.Of, map[bool]string{true: "making again", false: "taking back"}[u.Again])
	}
	return a.carryOut(ctx, h, carry{command: command, plan: u.Plan, apply: u, done: done, question: question})
}

// listChanges shows what can be taken back and made again.
func (a *app) listChanges(ctx context.Context, h *home.Home, only *game.Install) error {
	list, err := plan.History(ctx, h, only)
	if err != nil {
		return err
	}
	if a.json {
		return view.JSON(a.Stdout, view.Changes(list))
	}
	a.printer().Changes(list)
	return nil
}

// unfinished puts a change in order that this home knows nothing of, once the player has seen each path that it concerns.
func (a *app) unfinished(ctx context.Context, h *home.Home, only *game.Install) error {
	installs := h.Installs
	if only != nil {
		installs = []*game.Install{only}
	}
	for _, in := range installs {
		title, paths, digest, err := plan.Unknown(ctx, h, in)
		if err != nil {
			return err
		}
		if digest == "" {
			continue
		}
		p := a.printer()
		p.Line("beside the folders of %s lies a change that is not finished: %s", in.Address(), view.Text(title))
		p.Line("")
		for _, path := range paths {
			p.Line("  %s", view.Text(path))
		}
		p.Line("")
		if a.dryRun {
			p.Line("Nothing has been changed: --dry-run.")
			return nil
		}
		if err := a.confirm("It was not begun from here. Put these files in order by what it says?"); err != nil {
			return err
		}
		settled, err := plan.SettleUnknown(ctx, h, in, digest)
		if err != nil {
			return err
		}
		for _, t := range settled.Undone {
			p.Line("put back: %s", view.Text(t))
		}
		for _, t := range settled.Finished {
			p.Line("finished: %s", view.Text(t))
		}
		return nil
	}
	return problem.Usage(nil, "there is no change that was begun elsewhere and is not finished")
}
