package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/edit"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/handle"
	"ostrov/internal/core/home"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/record"
	"ostrov/internal/core/tree"
	"ostrov/internal/view"
)

// inside is the group of the commands that work inside a save.
const inside = "inside a save"

func (a *app) fields() *ucli.Command {
	return &ucli.Command{
		Name: "fields", Category: inside, Usage: "what the description names in a save, with values, and what may be set", ArgsUsage: "SAVE",
		Action: a.with(1, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			st, s, err := a.findSave(ctx, h, cmd.Args().First())
			if err != nil {
				return err
			}
			if s.Unread != nil {
				return fmt.Errorf("%s cannot be read: %w", s.Path(), s.Unread)
			}
			all, err := edit.Fields(ctx, edit.Of(st, s))
			if err != nil {
				return err
			}
			doc := view.Fields(st.Address(s), all, s.Facts.Problem)
			if a.json {
				return view.JSON(a.Stdout, doc)
			}
			a.printer().Fields(doc)
			return nil
		}),
	}
}

func (a *app) find() *ucli.Command {
	return &ucli.Command{
		Name: "find", Category: inside, Usage: "where a text stands in the decoded files of a save, and the query that leads there", ArgsUsage: "SAVE TEXT",
		Action: a.with(2, 2, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			st, s, err := a.findSave(ctx, h, cmd.Args().First())
			if err != nil {
				return err
			}
			text := cmd.Args().Get(1)
			if text == "" {
				return problem.Usage(nil, "an empty text stands everywhere: say what to find")
			}
			found, err := edit.Find(ctx, edit.Of(st, s), text)
			if err != nil {
				return err
			}
			doc := view.Found(st.Address(s), text, found)
			if a.json {
				return view.JSON(a.Stdout, doc)
			}
			a.printer().Found(doc)
			return nil
		}),
	}
}

func (a *app) set() *ucli.Command {
	return &ucli.Command{
		Name: "set", Category: inside, Usage: "give values in a save others; undo brings it back", ArgsUsage: "SAVE [FIELD=VALUE…]",
		Flags: []ucli.Flag{
			&ucli.StringSliceFlag{Name: "at", Usage: "`FILE:QUERY=VALUE` for a place that the description does not name; find tells both. The value is what follows the last ="},
			&ucli.StringSliceFlag{Name: "value", Usage: "the `VALUE` for the at of the same position, which then is FILE:QUERY alone: for values with = in them"},
			&ucli.StringFlag{Name: "as", Usage: "leave the save as it is, and write the result into a free `SLOT` or name"},
		},
		DisableSliceFlagSeparator: true,
		Action:                    a.with(1, -1, a.setValues),
	}
}

// setValues gives values in a save others.
func (a *app) setValues(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
	wanted, err := assignments(cmd.Args().Tail(), cmd.StringSlice("at"), cmd.StringSlice("value"))
	if err != nil {
		return err
	}
	st, s, err := a.findSave(ctx, h, cmd.Args().First())
	if err != nil {
		return err
	}
	edited, err := edit.Set(ctx, edit.Of(st, s), wanted)
	if err != nil {
		return err
	}
	if len(edited.Written) == 0 {
		p := plan.New(ctx, h, st, "", nil)
		p.Reason = "that is what stands there"
		return a.carryOut(ctx, h, carry{command: "set", plan: p})
	}
	var says []plan.Step
	for _, w := range edited.Written {
		says = append(says, plan.Step{Verb: plan.Set, What: w.What + ": " + cmp.Or(w.Was, "empty") + " → " + cmp.Or(w.Now, "empty")})
	}
	return a.alter(ctx, h, alteration{command: "set", st: st, save: s, edited: edited, as: cmd.String("as"), says: says,
		done: view.Count(len(edited.Written), "value", "values") + " set in", question: "Set it?"})
}

// alteration is what is to become of a save.
type alteration struct {
	command  string
	st       *facts.State
	save     *facts.Save
	edited   *edit.Edited
	as       string        // the slot or name beside, or ""
	folder   *game.Located // another folder that the result goes to, or nil
	says     []plan.Step   // what to say of it besides
	inside   *view.InsideDoc
	verdict  edit.Judged
	done     string // before what the save is called
	question string
}

// alter carries out a change of what is in a save, in its place or beside it.
func (a *app) alter(ctx context.Context, h *home.Home, of alteration) error {
	st, s := of.st, of.save
	if len(of.edited.Files) == 0 {
		p := plan.New(ctx, h, st, "", nil)
		p.Reason = "nothing in it would be another"
		return a.carryOut(ctx, h, carry{command: of.command, plan: p})
	}
	folder := s.Folder
	if of.folder != nil {
		folder = *of.folder
	}
	p, err := handle.Alter(ctx, h, st, s, of.edited.Files, folder, of.as)
	if err != nil {
		return err
	}
	name, began := p.Steps[0].Name, h.Now()
	for _, step := range of.says {
		step.Root, step.Name = folder.Path, name
		p.Say(step)
	}
	inPlace := name == s.Name && folder.Path == s.Folder.Path
	note := func(context.Context, *tree.Hasher) {}
	if inPlace {
		if note, err = st.Foresee(ctx, s, of.edited.Facts, of.edited.FS, of.edited.Paths, of.edited.Files); err != nil {
			return err
		}
	}
	after := func(ctx context.Context) error {
		note(ctx, h.Hasher)
		now, _, err := a.see(ctx, h, st.Install)
		if err != nil {
			return err
		}
		made := now.At(folder, name)
		if made == nil {
			return fmt.Errorf("the changed save is not among the saves of %s", now.Called)
		}
		return record.Altered(ctx, h, now, made, s.Digest, of.edited.Out, began)
	}
	done := of.done + " " + view.Text(plan.Describe(s))
	if !inPlace {
		done += " as " + view.Text(name)
	}
	return a.carryOut(ctx, h, carry{command: of.command, plan: p, done: done, question: of.question, after: after, inside: of.inside, verdict: of.verdict})
}

// assignments takes FIELD=VALUE and FILE:QUERY=VALUE apart. The values of the option value belong to the places in their order.
func assignments(fields, places, values []string) ([]edit.Assignment, error) {
	var all []edit.Assignment
	for _, text := range fields {
		field, value, ok := strings.Cut(text, "=")
		if !ok || field == "" {
			return nil, problem.Usage(nil, "%q is not FIELD=VALUE", text)
		}
		if slices.ContainsFunc(all, func(a edit.Assignment) bool { return a.Field == field }) {
			return nil, problem.Usage(nil, "%s is set twice", field)
		}
		all = append(all, edit.Assignment{Field: field, Value: value})
	}
	if len(values) > 0 && len(values) != len(places) {
		return nil, problem.Usage(problem.Advise("give each place a value of its own, in the same order"), "%s for %s", view.Count(len(values), "value", "values"), view.Count(len(places), "place", "places"))
	}
	for n, text := range places {
		file, query, ok := strings.Cut(text, ":")
		if len(values) > 0 {
			if !ok || file == "" || query == "" {
				return nil, problem.Usage(nil, "%q is not FILE:QUERY", text)
			}
			all = append(all, edit.Assignment{File: file, Query: query, Value: values[n]})
			continue
		}
		i := strings.LastIndex(query, "=")
		if !ok || file == "" || i <= 0 {
			return nil, problem.Usage(nil, "%q is not FILE:QUERY=VALUE", text)
		}
		all = append(all, edit.Assignment{File: file, Query: query[:i], Value: query[i+1:]})
	}
	if len(all) == 0 {
		return nil, problem.Usage(problem.Advise("fields tells what may be set"), "say what to set: FIELD=VALUE, or --at FILE:QUERY=VALUE")
	}
	return all, nil
}
