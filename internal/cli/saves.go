package cli

import (
	"context"
	"fmt"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/handle"
	"ostrov/internal/core/home"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/record"
	"ostrov/internal/view"
)

func (a *app) saves() *ucli.Command {
	return &ucli.Command{
		Name: "saves", Category: "see", Usage: "the saves, with the columns that players compare", ArgsUsage: "[GAME]",
		Flags: []ucli.Flag{&ucli.BoolFlag{Name: "newest", Usage: "of saves that are in several places under one title or name, which is the newest"}},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			all, err := a.each(ctx, cmd)
			if err != nil {
				return err
			}
			if cmd.Bool("newest") {
				return a.newest(all)
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
			{Name: "label", Usage: "call a save by words of your own, which look shows; without WORDS, take them away", ArgsUsage: "SAVE [WORDS]", Action: a.with(1, 2, a.label)},
		},
	}
}

// newest tells which of several copies of one save is the newest.
func (a *app) newest(all []*assess.Install) error {
	copies := assess.CopiesOf(all)
	if a.json {
		return view.JSON(a.Stdout, view.Copies(copies))
	}
	a.printer().Copies(copies)
	return nil
}

// label gives a save words of the player's own.
func (a *app) label(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
	st, s, err := a.findSave(ctx, h, cmd.Args().First())
	if err != nil {
		return err
	}
	words := strings.TrimSpace(cmd.Args().Get(1))
	if err := record.Label(ctx, h, s, words); err != nil {
		return err
	}
	address := st.Address(s)
	if a.json {
		return view.JSON(a.Stdout, view.LabelledDoc{Head: view.NewHead("saves"), Save: address, Label: words, Done: !a.dryRun})
	}
	verb, done := map[bool]string{true: "would be", false: "is"}[a.dryRun], ""
	if a.dryRun {
		done = " Nothing has been changed: --dry-run."
	}
	if words == "" {
		a.printer().Line("%s %s without a label.%s", address, verb, done)
		return nil
	}
	a.printer().Line("%s %s called %q.%s", address, verb, view.Text(words), done)
	return nil
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
