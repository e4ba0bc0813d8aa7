package cli

import (
	"context"
	"errors"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/compare"
	"ostrov/internal/core/home"
	"ostrov/internal/core/mods"
	"ostrov/internal/view"
)

func (a *app) modsVerify() *ucli.Command {
	return &ucli.Command{
		Name: "verify", Usage: "read every file of every mod: what is gone, altered or nobody's, and what does not go together", ArgsUsage: "[GAME]",
		Flags: []ucli.Flag{&ucli.BoolFlag{Name: "fix", Usage: "bring back what is gone or broken from the archive, and write the values that the game needs"}},
		Action: a.with(0, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) (err error) {
			now, err := a.oneInstall(ctx, h, cmd.Args().First())
			if err != nil {
				return err
			}
			v, err := mods.Verify(ctx, h, now)
			if err != nil {
				return err
			}
			if !cmd.Bool("fix") {
				if a.json {
					return view.JSON(a.Stdout, view.VerifiedMods(v))
				}
				a.printer().VerifiedMods(v)
				return nil
			}
			finder := mods.NewFinder(h)
			defer func() { err = errors.Join(err, finder.Close()) }()
			p, err := v.Fixing(ctx, finder)
			if err != nil {
				return err
			}
			if !a.json {
				a.printer().VerifiedMods(v)
			}
			return a.carryOut(ctx, h, carry{command: "mods verify", plan: p.Plan, done: "brought back", question: "Bring it back?"})
		}),
	}
}

func (a *app) modsAdopt() *ucli.Command {
	return &ucli.Command{
		Name: "adopt", Usage: "take over mods that lie there and came some other way", ArgsUsage: "[GAME | GAME+MOD...]",
		Action: a.with(0, -1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			now, names, err := a.gameOrMods(ctx, h, cmd.Args().Slice())
			if err != nil {
				return err
			}
			p, err := mods.Adopting(ctx, h, now, names)
			if err != nil {
				return err
			}
			return a.changeMods(ctx, h, modChange{command: "mods adopt", p: p, done: view.ProposalDone(p), question: "Take them over?", anyway: true})
		}),
	}
}

// gameOrMods assesses the install that arguments name: a game, or mods of one.
func (a *app) gameOrMods(ctx context.Context, h *home.Home, args []string) (*assess.Install, []string, error) {
	if len(args) == 0 || len(args) == 1 && h.Knows(args[0]) {
		address := ""
		if len(args) == 1 {
			address = args[0]
		}
		now, err := a.oneInstall(ctx, h, address)
		return now, nil, err
	}
	return a.ofMods(ctx, h, args)
}

func (a *app) modsOrder() *ucli.Command {
	return &ucli.Command{
		Name: "order", Usage: "change the load order, in the game's own file", ArgsUsage: "GAME+MOD",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "before", Usage: "before `MOD`"},
			&ucli.StringFlag{Name: "after", Usage: "after `MOD`"},
			&ucli.StringFlag{Name: "like", Usage: "as in the `LIST`: a file, a snapshot or a parcel", TakesFile: true},
		},
		Action: a.with(0, 1, a.orderMods),
	}
}

func (a *app) orderMods(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
	req := mods.OrderRequest{Before: cmd.String("before"), After: cmd.String("after")}
	given := 0
	for _, o := range []string{req.Before, req.After, cmd.String("like")} {
		if o != "" {
			given++
		}
	}
	if given != 1 {
		return &usageError{errors.New("say one of --before MOD, --after MOD and --like LIST"), "ostrov mods order"}
	}
	var now *assess.Install
	var err error
	if list := cmd.String("like"); list != "" {
		if now, err = a.oneInstall(ctx, h, cmd.Args().First()); err != nil {
			return err
		}
		if req.Like, req.LikeName, err = compare.ListOf(ctx, h, list); err != nil {
			return err
		}
	} else {
		if cmd.Args().Len() == 0 {
			return &usageError{errors.New("MOD is missing"), "ostrov mods order"}
		}
		var names []string
		if now, names, err = a.ofMods(ctx, h, cmd.Args().Slice()); err != nil {
			return err
		}
		req.Mod = names[0]
	}
	p, err := mods.Ordering(ctx, h, now, req)
	if err != nil {
		return err
	}
	return a.changeMods(ctx, h, modChange{command: "mods order", p: p, done: "the load order is changed", question: "Change the order?", anyway: true})
}

func (a *app) modsPin() *ucli.Command {
	return &ucli.Command{
		Name: "pin", Usage: "copy what another program manages into the game's own folder, so that no update reaches it", ArgsUsage: "[GAME | GAME+MOD...]",
		Action: a.with(0, -1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) (err error) {
			now, names, err := a.gameOrMods(ctx, h, cmd.Args().Slice())
			if err != nil {
				return err
			}
			req, err := mods.Pinning(ctx, h, now, names)
			defer func() {
				for _, d := range req.Parts {
					err = errors.Join(err, d.Close())
				}
			}()
			if err != nil {
				return err
			}
			p, err := mods.Incoming(ctx, h, now, req)
			if err != nil {
				return err
			}
			return a.changeMods(ctx, h, modChange{command: "mods pin", p: p, done: view.ProposalDone(p), question: "Copy them?", anyway: true})
		}),
	}
}

func (a *app) modsNeeds() *ucli.Command {
	return &ucli.Command{
		Name: "needs", Usage: `remember what a page says that a mod needs and no file does: "loader >= 5.4"`, ArgsUsage: "GAME+MOD NEED",
		Flags: []ucli.Flag{&ucli.BoolFlag{Name: "forget", Usage: "forget it again"}},
		Action: a.with(2, 2, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			now, names, err := a.ofMods(ctx, h, cmd.Args().Slice()[:1])
			if err != nil {
				return err
			}
			m, need, err := mods.Stated(now, names[0], cmd.Args().Get(1))
			if err != nil {
				return err
			}
			if !a.dryRun {
				if err := h.RequireRecords(); err != nil {
					return err
				}
				if err := h.StateNeed(now.Install.Game.ID, m.ID, need, cmd.Bool("forget")); err != nil {
					return err
				}
			}
			again, err := a.oneInstall(ctx, h, now.Install.Address())
			if err != nil {
				return err
			}
			if a.json {
				return view.JSON(a.Stdout, view.Mods(again))
			}
			a.printer().StatedNeed(again, m.ID, need, cmd.Bool("forget"), a.dryRun)
			return nil
		}),
	}
}
