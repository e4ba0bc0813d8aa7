package cli

import (
	"context"
	"fmt"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/job"
	"ostrov/internal/view"
)

func (a *app) look() *ucli.Command {
	return &ucli.Command{
		Name: "look", Category: "see", Usage: "the state at a glance: version, mods, every save with its verdict", ArgsUsage: "[GAME]",
		Flags: []ucli.Flag{
			&ucli.BoolFlag{Name: "check", Usage: "exit with the status of the worst save"},
			&ucli.StringSliceFlag{Name: "if", Usage: "how it would be after `CHANGE`: drop:MOD, add:FILE or version:V"},
			&ucli.BoolFlag{Name: "put-aside", Usage: "put aside the settings of mods that are gone"},
		},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			if cmd.Bool("put-aside") {
				return a.putAside(ctx, cmd)
			}
			if ifs := cmd.StringSlice("if"); len(ifs) > 0 {
				return a.one(ctx, cmd, func(s *job.Session, l *job.Look) error { return a.suppose(ctx, s, l, ifs, cmd.Bool("check")) })
			}
			if err := args(cmd, 0, 1); err != nil {
				return err
			}
			s, err := a.open()
			if err != nil {
				return err
			}
			installs, err := s.InstallsOf(cmd.Args().First())
			if err != nil {
				return err
			}
			return a.lookAt(ctx, installs, cmd.Bool("check"))
		},
	}
}

// putAside puts aside the settings whose mods are gone.
func (a *app) putAside(ctx context.Context, cmd *ucli.Command) error {
	return a.with(0, 1, func(ctx context.Context, cmd *ucli.Command, s *job.Session) error {
		in, err := s.Install(cmd.Args().First())
		if err != nil {
			return err
		}
		p, err := s.PlanAside(ctx, in)
		if err != nil {
			return err
		}
		return a.carryOut(ctx, "look", p, "put aside the settings of mods that are gone", "Put them aside?")
	})(ctx, cmd)
}

// suppose shows how every save would stand after changes that are not made.
func (a *app) suppose(ctx context.Context, s *job.Session, l *job.Look, ifs []string, judge bool) error {
	sup, err := s.Suppose(ctx, l, ifs)
	if err != nil {
		return err
	}
	doc := view.Supposed(sup)
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

// lookAll is what ostrov does alone.
func (a *app) lookAll(ctx context.Context) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	if len(s.Installs) > 0 || a.json {
		return a.lookAt(ctx, s.Installs, false)
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
	s := a.session
	doc := view.LooksDoc{Head: view.NewHead("look"), Installs: []view.LookDoc{}}
	doc.Verdict = check.Fit
	p := a.printer()
	var failed error
	var next []string
	for i, in := range installs {
		l, err := s.Look(ctx, in)
		if err != nil {
			if len(installs) == 1 {
				return err
			}
			failed = err
			a.report(ctx, fmt.Errorf("%s: %w", in.Address(), err))
			continue
		}
		doc.Worst(l)
		if a.json {
			doc.Installs = append(doc.Installs, view.Look(l))
			continue
		}
		if i > 0 {
			p.Line("")
		}
		p.Look(l)
		next = append(next, view.LookNext(l)...)
	}
	if a.json {
		if err := view.JSON(a.Stdout, doc); err != nil {
			return err
		}
	} else {
		p.Next(next...)
	}
	if failed != nil {
		return statusError(exitError)
	}
	if judge {
		return status(doc.Verdict)
	}
	return nil
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

// one runs what needs the look at one install.
func (a *app) one(ctx context.Context, cmd *ucli.Command, do func(*job.Session, *job.Look) error) error {
	if err := args(cmd, 0, 1); err != nil {
		return err
	}
	s, err := a.open()
	if err != nil {
		return err
	}
	in, err := s.Install(cmd.Args().First())
	if err != nil {
		return err
	}
	l, err := s.Look(ctx, in)
	if err != nil {
		return err
	}
	return do(s, l)
}

func (a *app) saves() *ucli.Command {
	return &ucli.Command{
		Name: "saves", Category: "see", Usage: "the saves, with the columns that players compare", ArgsUsage: "[GAME]",
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			return a.one(ctx, cmd, func(_ *job.Session, l *job.Look) error {
				if a.json {
					return view.JSON(a.Stdout, view.SavesDoc{Head: view.NewHead("saves"), Saves: view.Look(l).Saves})
				}
				a.printer().Saves(l)
				return nil
			})
		},
	}
}

func (a *app) mods() *ucli.Command {
	return &ucli.Command{
		Name: "mods", Category: "see", Usage: "the mod set: on or off, in which order, what each needs", ArgsUsage: "[GAME]",
		Flags: []ucli.Flag{&ucli.StringFlag{Name: "write", Usage: "write the mod list to `FILE`: .json, .csv or .md", TakesFile: true}},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			return a.one(ctx, cmd, func(_ *job.Session, l *job.Look) error {
				if file := cmd.String("write"); file != "" {
					return a.writeMods(l, file)
				}
				if a.json {
					return view.JSON(a.Stdout, view.Mods(l))
				}
				a.printer().Mods(l)
				return nil
			})
		},
	}
}

func (a *app) needs() *ucli.Command {
	return &ucli.Command{
		Name: "needs", Category: "see", Usage: "what a save needs, and how that is known", ArgsUsage: "SAVE",
		Flags: []ucli.Flag{
			&ucli.StringSliceFlag{Name: "state", Usage: "record what you know: \"mod ID VERSION\", \"version V\" or clean", Config: ucli.StringConfig{TrimSpace: true}},
			&ucli.StringFlag{Name: "note", Usage: "how you know it"},
		},
		Action: a.with(1, 1, func(ctx context.Context, cmd *ucli.Command, s *job.Session) error {
			address := cmd.Args().First()
			if statements := cmd.StringSlice("state"); len(statements) > 0 {
				if err := s.State(ctx, address, statements, cmd.String("note")); err != nil {
					return err
				}
			}
			n, err := s.Needs(ctx, address)
			if err != nil {
				return err
			}
			if !a.json {
				a.printer().Needs(n)
				return nil
			}
			return view.JSON(a.Stdout, view.NeedsOf(n))
		}),
	}
}
