package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/mods"
	"ostrov/internal/core/problem"
	"ostrov/internal/view"
)

func (a *app) look() *ucli.Command {
	return &ucli.Command{
		Name: "look", Category: "see", Usage: "the state at a glance: version, mods, every save with its verdict", ArgsUsage: "[GAME]",
		Flags: []ucli.Flag{
			&ucli.BoolFlag{Name: "all", Usage: "list every save, also where there are many"},
			&ucli.BoolFlag{Name: "check", Usage: "exit with the status of the worst save"},
			&ucli.StringSliceFlag{Name: "if", Usage: "how it would be after `CHANGE`: drop:MOD, add:FILE or version:V"},
			&ucli.BoolFlag{Name: "put-aside", Usage: "put aside the settings of mods that are gone"},
		},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			a.whole = cmd.Bool("all")
			if cmd.Bool("put-aside") {
				return a.putAside(ctx, cmd)
			}
			if ifs := cmd.StringSlice("if"); len(ifs) > 0 {
				return a.one(ctx, cmd, func(h *home.Home, l *assess.Install) error { return a.suppose(ctx, h, l, ifs, cmd.Bool("check")) })
			}
			if err := args(cmd, 0, 1); err != nil {
				return err
			}
			h, err := a.open()
			if err != nil {
				return err
			}
			installs, err := h.InstallsOf(cmd.Args().First())
			if err != nil {
				return err
			}
			return a.lookAt(ctx, installs, cmd.Bool("check"))
		},
	}
}

// putAside puts aside the settings whose mods are gone.
func (a *app) putAside(ctx context.Context, cmd *ucli.Command) error {
	return a.with(0, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
		in, err := h.Install(cmd.Args().First())
		if err != nil {
			return err
		}
		st, _, err := a.see(ctx, h, in)
		if err != nil {
			return err
		}
		p, err := keep.PutAside(ctx, h, st)
		if err != nil {
			return err
		}
		return a.carryOut(ctx, h, carry{command: "look", plan: p, done: "put aside the settings of mods that are gone", question: "Put them aside?"})
	})(ctx, cmd)
}

// suppose shows how every save would stand after changes that are not made.
func (a *app) suppose(ctx context.Context, h *home.Home, now *assess.Install, ifs []string, judge bool) error {
	var changes []assess.Change
	for _, text := range ifs {
		more, err := changesOf(ctx, h, now, text)
		if err != nil {
			return err
		}
		changes = append(changes, more...)
	}
	sup := assess.Suppose(now, changes)
	doc := view.Supposed(sup)
	var err error
	if a.json {
		err = view.JSON(a.Stdout, doc)
	} else {
		a.printer().Supposed(sup)
	}
	if err == nil && judge {
		err = status(doc.Verdict)
	}
	return err
}

// changesOf reads what is supposed: drop:MOD, add:FILE or version:V.
func changesOf(ctx context.Context, h *home.Home, now *assess.Install, text string) ([]assess.Change, error) {
	what, arg, _ := strings.Cut(text, ":")
	switch {
	case arg == "":
	case what == "drop":
		for _, m := range now.Mods.Mods {
			if m.HiddenBy == "" && (strings.EqualFold(m.ID, arg) || strings.EqualFold(m.Name(), arg)) {
				return []assess.Change{{Words: "without " + m.Name(), Drop: m}}, nil
			}
		}
		return nil, problem.Usage(problem.Do("mods", now.Called), "%s has no mod %q", now.Called, arg)
	case what == "version":
		return []assess.Change{{Words: fmt.Sprintf("at %s instead of %s", arg, now.Version), Version: arg}}, nil
	case what == "add":
		found, unsafe, err := mods.ModsIn(ctx, h, now.Install, arg)
		if err != nil {
			return nil, err
		}
		changes := []assess.Change{{Words: "with what " + filepath.Base(arg) + " holds", Unsafe: unsafe}}
		if len(found) > 0 {
			changes = nil
		}
		for i, m := range found {
			words := "with " + strings.TrimSpace(m.Name()+" "+m.Version)
			for _, old := range now.Mods.Mods {
				if strings.EqualFold(old.ID, m.ID) && !old.Kind.Base {
					words += " instead of " + old.Version
				}
			}
			c := assess.Change{Words: words, Add: m}
			if i == 0 {
				c.Unsafe = unsafe
			}
			changes = append(changes, c)
		}
		return changes, nil
	}
	return nil, &usageError{fmt.Errorf("%q is nothing that could be supposed: there are drop:MOD, add:FILE and version:V", text), "ostrov look"}
}

// lookAll is what ostrov does alone.
func (a *app) lookAll(ctx context.Context) error {
	h, err := a.open()
	if err != nil {
		return err
	}
	if len(h.Installs) > 0 || a.json {
		return a.lookAt(ctx, h.Installs, false)
	}
	p := a.printer()
	p.Line("Ostrov knows no game yet. Three ways to start:")
	p.Line("")
	p.Line("    ostrov demo             the whole job on made-up games, in a folder of its own")
	p.Line("    ostrov games            the games that can be added")
	p.Line("    ostrov games add GAME   add one of yours")
	return nil
}

func (a *app) lookAt(ctx context.Context, installs []*game.Install, judge bool) error {
	h := a.session
	doc := view.LooksDoc{Head: view.NewHead("look"), Installs: []view.LookDoc{}}
	doc.Verdict = check.Fit
	p := a.printer()
	var failed error
	var next problem.Hints
	for i, in := range installs {
		seen, settled, err := a.assessed(ctx, h, in)
		if err != nil {
			if len(installs) == 1 || ctx.Err() != nil {
				return err
			}
			failed = err
			a.report(ctx, wrapped(in.Address(), err))
			continue
		}
		doc.Worst(seen)
		if a.json {
			doc.Installs = append(doc.Installs, view.Look(seen, settled))
			continue
		}
		if i > 0 {
			p.Line("")
		}
		p.All = a.whole
		p.Look(seen, settled)
		next = next.Or(view.LookNext(seen))
	}
	if a.json {
		if err := view.JSON(a.Stdout, doc); err != nil {
			return err
		}
	} else {
		p.Next(next)
	}
	if failed != nil {
		return statusError(exitError)
	}
	if judge {
		return status(doc.Verdict)
	}
	return nil
}

// wrapped says of which install an error is, and keeps its hints.
func wrapped(address string, err error) error {
	var said *problem.Error
	if !errors.As(err, &said) {
		return fmt.Errorf("%s: %w", address, err)
	}
	return &problem.Error{Text: address + ": " + said.Text, Hints: said.Hints, Err: said.Err}
}

func status(v check.Verdict) error {
	switch v {
	case check.Risky:
		return statusError(exitRisky)
	case check.Unfit:
		return statusError(exitUnfit)
	case check.Unclear:
		return statusError(exitUnclear)
	}
	return nil
}
