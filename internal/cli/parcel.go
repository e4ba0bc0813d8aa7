package cli

import (
	"context"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/check"
	"ostrov/internal/core/home"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/share"
	"ostrov/internal/view"
)

func (a *app) parcel() *ucli.Command {
	return &ucli.Command{
		Name: "parcel", Category: "bring in", Usage: "make a save ready to hand to others: with what it needs, and a note for people", ArgsUsage: "SAVE",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "o", Usage: "write the parcel to `FILE`", TakesFile: true},
			&ucli.StringFlag{Name: "note", Usage: "what whoever gets it should know"},
			&ucli.BoolFlag{Name: "blank", Usage: "empty or leave out what the description marks as personal"},
		},
		Action: a.with(1, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			address := cmd.Args().First()
			st, s, err := a.findSave(ctx, h, address)
			if err != nil {
				return err
			}
			w, err := share.Wrap(ctx, h, st, s, share.Request{Out: cmd.String("o"), Note: cmd.String("note"), Blank: cmd.Bool("blank")})
			if err != nil {
				return err
			}
			if err := a.mayTell(w.Out, w.Private, "parcel", address, cmd.Bool("blank")); err != nil {
				return err
			}
			if !a.dryRun {
				if err := w.Write(ctx, h, a.yes); err != nil {
					return err
				}
			}
			if a.json {
				return view.JSON(a.Stdout, view.Wrapped(w))
			}
			a.printer().Wrapped(w)
			return nil
		}),
	}
}

// mayTell shows what a file for others would tell of the player, and asks whether it may.
func (a *app) mayTell(file string, private []check.Finding, command, address string, blanked bool) error {
	if len(private) == 0 || a.dryRun {
		return nil
	}
	if !a.json {
		p := a.printer()
		p.Line("%s would tell of you:", view.Text(file))
		p.Line("")
		p.Findings(private)
		p.Line("")
	}
	err := a.confirm("Hand it out all the same?")
	if err == nil || blanked {
		return err
	}
	hint := func() problem.Hints {
		if command == "kept" {
			return problem.Do(command, address).With("export", file)
		}
		return problem.Do(command, address)
	}
	return problem.Declined(hint().With("blank").Or(hint().With("yes")), "%s", err.Error())
}
