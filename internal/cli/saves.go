package cli

import (
	"context"
	"fmt"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/facts"
	"ostrov/internal/core/handle"
	"ostrov/internal/core/home"
	"ostrov/internal/core/plan"
	"ostrov/internal/view"
)

func (a *app) saves() *ucli.Command {
	return &ucli.Command{
		Name: "saves", Category: "see", Usage: "the saves, with the columns that players compare", ArgsUsage: "[GAME]",
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			all, err := a.each(ctx, cmd)
			if err != nil {
				return err
			}
			if a.json {
				doc := view.SavesDoc{Head: view.NewHead("saves"), Saves: []view.SaveDoc{}}
				for _, l := range all {
					doc.Saves = append(doc.Saves, view.Look(l, plan.Settled{}).Saves...)
				}
				return view.JSON(a.Stdout, doc)
			}
			for i, l := range all {
				if i > 0 {
					fmt.Fprintln(a.Stdout)
				}
				a.printer().Saves(l)
			}
			return nil
		},
		Commands: []*ucli.Command{
			a.handles("rename", "give a save another slot or name", "SAVE TO", 2, 2, handle.Rename, "renamed %s", "Rename it?"),
			a.handles("duplicate", "copy a save to another slot or name, or the first that is free", "SAVE [TO]", 1, 2, handle.Duplicate, "copied %s", "Copy it?"),
			a.handles("remove", "take a save away; undo brings it back", "SAVE", 1, 1,
				func(ctx context.Context, h *home.Home, st *facts.State, s *facts.Save, _ string) (*plan.Plan, error) {
					return handle.Remove(ctx, h, st, s)
				},
				"removed %s", "Remove it?"),
		},
	}
}

// handles makes a command that does something with one save; done takes what the save is called.
func (a *app) handles(name, usage, takes string, least, most int, planned func(context.Context, *home.Home, *facts.State, *facts.Save, string) (*plan.Plan, error), done, question string) *ucli.Command {
	return &ucli.Command{Name: name, Usage: usage, ArgsUsage: takes, Action: a.with(least, most, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
		st, s, err := a.findSave(ctx, h, cmd.Args().First())
		if err != nil {
			return err
		}
		p, err := planned(ctx, h, st, s, cmd.Args().Get(1))
		if err != nil {
			return err
		}
		return a.carryOut(ctx, h, carry{command: "saves", plan: p, done: fmt.Sprintf(done, view.Text(plan.Describe(s))), question: question})
	})}
}
