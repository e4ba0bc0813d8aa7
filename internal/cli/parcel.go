package cli

import (
	"context"
	"fmt"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/job"
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
		Action: a.with(1, 1, func(ctx context.Context, cmd *ucli.Command, s *job.Session) error {
			w, err := s.PlanParcel(ctx, cmd.Args().First(), job.ParcelRequest{Out: cmd.String("o"), Note: cmd.String("note"), Blank: cmd.Bool("blank")})
			if err != nil {
				return err
			}
			if len(w.Private) > 0 && !a.dryRun {
				if !a.json {
					p := a.printer()
					p.Line("%s would tell of you:", view.Text(w.Out))
					p.Line("")
					p.Findings(w.Private)
					p.Line("")
				}
				if err := a.confirm("Hand it out all the same?"); err != nil {
					return a.privateHint(err, cmd)
				}
			}
			if !a.dryRun {
				if err := s.WriteParcel(ctx, w, a.yes); err != nil {
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

// privateHint adds how to empty what the parcel would tell.
func (a *app) privateHint(err error, cmd *ucli.Command) error {
	if cmd.Bool("blank") {
		return err
	}
	return &job.Error{Text: err.Error(), Hint: fmt.Sprintf("ostrov parcel %s --blank\nostrov parcel %s --yes", cmd.Args().First(), cmd.Args().First()), Err: job.ErrDeclined}
}
