package cli

import (
	"context"
	"fmt"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/job"
)

func (a *app) swap() *ucli.Command {
	return &ucli.Command{
		Name: "swap", Category: "play", Usage: "put the present playthrough away and bring another one: saves, mod list, settings", ArgsUsage: "PLAYTHROUGH",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "kind", Usage: "only saves of the `KIND`, as the description calls it"},
			&ucli.BoolFlag{Name: "anyway", Usage: "also when a mod that it needs is neither installed nor kept"},
		},
		Action: a.with(1, 1, func(ctx context.Context, cmd *ucli.Command, s *job.Session) error {
			name := cmd.Args().First()
			p, err := s.PlanSwap(ctx, name, job.SwapRequest{Kind: cmd.String("kind"), Anyway: cmd.Bool("anyway")})
			if err != nil {
				return err
			}
			return a.carryOut(ctx, "swap", p, "swapped to "+name, "Swap to "+name+"?")
		}),
	}
}

func (a *app) fresh() *ucli.Command {
	return &ucli.Command{
		Name: "fresh", Category: "play", Usage: "put the present playthrough away and start a new one; settings and mods stay", ArgsUsage: "TITLE [GAME]",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "kind", Usage: "only saves of the `KIND`, as the description calls it"},
			&ucli.StringFlag{Name: "settings", Usage: "lay the set of settings `NAME` over those that stay"},
		},
		Action: a.with(1, 2, func(ctx context.Context, cmd *ucli.Command, s *job.Session) error {
			in, err := s.Install(cmd.Args().Get(1))
			if err != nil {
				return err
			}
			l, err := s.Look(ctx, in)
			if err != nil {
				return err
			}
			title := cmd.Args().First()
			p, err := s.PlanFresh(ctx, l, title, job.SwapRequest{Kind: cmd.String("kind"), Settings: cmd.String("settings")})
			if err != nil {
				return err
			}
			return a.carryOut(ctx, "fresh", p, fmt.Sprintf("started %q afresh", title), "Start afresh?")
		}),
	}
}
