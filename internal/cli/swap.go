package cli

import (
	"context"
	"fmt"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/home"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/mods"
	"ostrov/internal/core/record"
)

func (a *app) swap() *ucli.Command {
	return &ucli.Command{
		Name: "swap", Category: "play", Usage: "put the present playthrough away and bring another one: saves, mod list, settings", ArgsUsage: "PLAYTHROUGH",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "kind", Usage: "only saves of the `KIND`, as the description calls it"},
			olderFlag(),
			&ucli.BoolFlag{Name: "anyway", Usage: "also when a mod that it needs is neither installed nor kept"},
			listFlag(),
		},
		Action: a.with(1, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			list, err := listOf(cmd)
			if err != nil {
				return err
			}
			if list == "" {
				list = askList
			}
			to, err := record.Line(ctx, h, cmd.Args().First())
			if err != nil {
				return err
			}
			in, err := h.Install(to.Game + "@" + to.Install)
			if err != nil {
				return err
			}
			st, _, err := a.see(ctx, h, in)
			if err != nil {
				return err
			}
			p, err := keep.Swap(ctx, h, st, to, keep.SwapRequest{Kind: cmd.String("kind"), Anyway: cmd.Bool("anyway")})
			if err != nil {
				return err
			}
			following := mods.Following{To: to.Name}
			if from := st.Current(); from != nil {
				following.From = from.Name
			}
			finder := mods.NewFinder(h)
			defer finder.Close()
			if err := mods.Follow(ctx, finder, assess.Of(st), p, following); err != nil {
				return err
			}
			return a.carryOut(ctx, h, carry{command: "swap", plan: p, done: "swapped to " + to.Name, question: "Swap to " + to.Name + "?", older: cmd.Bool("older"), list: list})
		}),
	}
}

func (a *app) fresh() *ucli.Command {
	return &ucli.Command{
		Name: "fresh", Category: "play", Usage: "put the present playthrough away and start a new one; settings stay, and mods unless --mods none", ArgsUsage: "TITLE [GAME]",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "kind", Usage: "only saves of the `KIND`, as the description calls it"},
			&ucli.StringFlag{Name: "settings", Usage: "lay the set of settings `NAME` over those that stay"},
			&ucli.StringFlag{Name: "mods", Usage: "`none` sets all mods aside; as-written or as-now: which mod list belongs to the saves that are put away, where it was changed since they were written"},
		},
		Action: a.with(1, 2, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			clean := cmd.String("mods") == noMods
			list := ""
			var err error
			if !clean {
				if list, err = listOf(cmd); err != nil {
					return err
				}
			}
			if list == "" {
				list = askList
			}
			in, err := h.Install(cmd.Args().Get(1))
			if err != nil {
				return err
			}
			st, _, err := a.see(ctx, h, in)
			if err != nil {
				return err
			}
			title := cmd.Args().First()
			p, err := keep.Fresh(ctx, h, st, title, keep.SwapRequest{Kind: cmd.String("kind"), Settings: cmd.String("settings")})
			if err != nil {
				return err
			}
			following := mods.Following{From: st.Current().Name, To: p.Playing(), Clean: clean}
			finder := mods.NewFinder(h)
			defer finder.Close()
			if err := mods.Follow(ctx, finder, assess.Of(st), p, following); err != nil {
				return err
			}
			c := carry{command: "fresh", plan: p, done: fmt.Sprintf("started %q afresh", title), question: "Start afresh?", list: list}
			if clean {
				c.after = func(context.Context) error { return h.SetClean(following.To) }
			}
			return a.carryOut(ctx, h, c)
		}),
	}
}

// noMods is the value of --mods with which a fresh start is one without mods.
const noMods = "none"
