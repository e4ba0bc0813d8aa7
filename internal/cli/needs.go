package cli

import (
	"context"
	"slices"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/record"
	"ostrov/internal/view"
)

func (a *app) needs() *ucli.Command {
	return &ucli.Command{
		Name: "needs", Category: "see", Usage: "what a save needs, and how that is known", ArgsUsage: "SAVE",
		Flags: []ucli.Flag{
			&ucli.StringSliceFlag{Name: "state", Usage: "record what you know: \"mod ID VERSION\", \"version V\" or clean", Config: ucli.StringConfig{TrimSpace: true}},
			&ucli.StringFlag{Name: "note", Usage: "how you know it"},
			&ucli.StringSliceFlag{Name: "forget", Usage: "take back what is known by `KIND`: stated, parcel, loaded, seen or descends"},
		},
		Action: a.with(1, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			address := cmd.Args().First()
			st, s, err := a.findSave(ctx, h, address)
			if err != nil {
				return err
			}
			if statements := cmd.StringSlice("state"); len(statements) > 0 {
				if err := record.Stated(ctx, h, st, s, statements, cmd.String("note")); err != nil {
					return err
				}
			}
			for _, kind := range cmd.StringSlice("forget") {
				if err := record.Forgotten(ctx, h, st, s, kind); err != nil {
					return err
				}
			}
			if cmd.IsSet("state") || cmd.IsSet("forget") {
				if st, s, err = a.findSave(ctx, h, address); err != nil {
					return err
				}
			}
			evidence, err := h.Logbook.Evidence(ctx, s.Digest)
			if err != nil {
				return err
			}
			evidence = slices.DeleteFunc(evidence, func(e logbook.Evidence) bool { return !e.Says() })
			all := assess.Of(st)
			if !a.json {
				a.printer().Needs(all, all.Save(s), evidence)
				return nil
			}
			return view.JSON(a.Stdout, view.NeedsOf(all, all.Save(s), evidence))
		}),
	}
}
