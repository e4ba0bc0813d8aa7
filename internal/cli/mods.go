package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/compare"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/mods"
	"ostrov/internal/core/problem"
	"ostrov/internal/view"
)

func (a *app) mods() *ucli.Command {
	return &ucli.Command{
		Name: "mods", Category: "mods", Usage: "the mod set: on or off, in which order, what each needs; and what is done with it", ArgsUsage: "[GAME]",
		Flags:    []ucli.Flag{&ucli.StringFlag{Name: "write", Usage: "write the mod list to `FILE`: .json, .csv or .md", TakesFile: true}},
		Commands: []*ucli.Command{a.modsAdd(), a.modsDrop(), a.modsSwitch(true), a.modsSwitch(false), a.modsAside(), a.modsBack(), a.modsVerify(), a.modsAdopt(), a.modsOrder(), a.modsPin(), a.modsNeeds()},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			if cmd.Args().Present() && !strings.Contains(cmd.Args().First(), "@") {
				if h, err := a.open(); err == nil && !h.Knows(cmd.Args().First()) && len(h.Installs) > 0 && h.Game(cmd.Args().First()) == nil {
					return a.unknownCommand(cmd, cmd.Args().First())
				}
			}
			return a.listMods(ctx, cmd)
		},
	}
}

// listMods lists the mod sets of installs.
func (a *app) listMods(ctx context.Context, cmd *ucli.Command) error {
	if file := cmd.String("write"); file != "" {
		return a.one(ctx, cmd, func(h *home.Home, l *assess.Install) error { return a.writeMods(h, l, file) })
	}
	all, err := a.each(ctx, cmd)
	if err != nil {
		return err
	}
	if a.json && len(all) == 1 {
		return view.JSON(a.Stdout, view.Mods(all[0]))
	}
	doc := view.AllModsDoc{Head: view.NewHead("mods")}
	for i, l := range all {
		if a.json {
			doc.Installs = append(doc.Installs, view.Mods(l))
			continue
		}
		if i > 0 {
			fmt.Fprintln(a.Stdout)
		}
		a.printer().Mods(l)
	}
	if a.json {
		return view.JSON(a.Stdout, doc)
	}
	return nil
}

// modChange is how a change of the mod set is carried out and told.
type modChange struct {
	command  string
	p        *mods.Proposal
	done     string
	question string
	anyway   bool // also with findings that stop
}

// changeMods shows what a change of the mod set is and what it does to the saves, asks, and makes it.
func (a *app) changeMods(ctx context.Context, h *home.Home, c modChange) error {
	p := c.p
	if p.Dangerous() {
		a.showProposal(p)
		return problem.Declined(problem.Advise("delete it"), "that is dangerous and is not put in place; nothing has been changed")
	}
	if stopped := p.Stopped(); len(stopped) > 0 && (!c.anyway || len(p.Items) == 0) && !a.dryRun {
		a.showProposal(p)
		hints := problem.Advise("repeat it with --anyway, if you know better")
		if len(p.Items) == 0 {
			hints = stopped[0].Remedy
		}
		return problem.Declined(hints, "%s; nothing has been changed", assess.Worst(stopped...))
	}
	if !a.json && !p.Empty() {
		a.showProposal(p)
	}
	question := c.question
	if n := p.Worse(); n > 0 {
		question = fmt.Sprintf("%s would get worse. %s", view.Count(n, "save", "saves"), question)
	}
	return a.carryOut(ctx, h, carry{command: c.command, plan: p.Plan, done: c.done, question: question, judged: p})
}

func (a *app) showProposal(p *mods.Proposal) {
	if !a.json {
		a.printer().Proposal(p)
	}
}

// oneInstall assesses the install that an argument means, "" being the only one.
func (a *app) oneInstall(ctx context.Context, h *home.Home, address string) (*assess.Install, error) {
	in, err := h.Install(address)
	if err != nil {
		return nil, err
	}
	seen, _, err := a.assessed(ctx, h, in)
	return seen, err
}

// ofMods assesses the install that addresses of mods name.
func (a *app) ofMods(ctx context.Context, h *home.Home, addresses []string) (*assess.Install, []string, error) {
	in, names, err := h.ModsAt(addresses...)
	if err != nil {
		return nil, nil, err
	}
	seen, _, err := a.assessed(ctx, h, in)
	return seen, names, err
}

func anywayFlag() ucli.Flag {
	return &ucli.BoolFlag{Name: "anyway", Usage: "also when something speaks against it that is not dangerous"}
}

func (a *app) modsAdd() *ucli.Command {
	return &ucli.Command{
		Name: "add", Usage: "bring mods in: from downloads, folders or checkouts; what it does to the saves is shown first", ArgsUsage: "FILE|FOLDER|URL...",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "for", Usage: "into the install `GAME@INSTALL`"},
			&ucli.StringFlag{Name: "pick", Usage: "of several variants in a download, the one called `NAME`"},
			&ucli.BoolFlag{Name: "update", Usage: "replace what is there by another version; with a mod instead of a file, fetch what its checkout has"},
			&ucli.BoolFlag{Name: "no-download", Usage: "do not keep the download in the archive"},
			&ucli.StringFlag{Name: "like", Usage: "bring in whatever the `LIST` wants (a file, a snapshot, a parcel), from the folder --from", TakesFile: true},
			&ucli.StringFlag{Name: "from", Usage: "the folder of downloads `DIR` that --like takes from", TakesFile: true},
			anywayFlag(),
		},
		Action: a.with(0, -1, a.addMods),
	}
}

func (a *app) addMods(ctx context.Context, cmd *ucli.Command, h *home.Home) (err error) {
	args := cmd.Args().Slice()
	add := mods.NewAddition(h, mods.AdditionRequest{Pick: cmd.String("pick"), Update: cmd.Bool("update"), Keep: !cmd.Bool("no-download")})
	defer func() { err = errors.Join(err, add.Close()) }()
	var now *assess.Install
	switch {
	case cmd.String("like") != "":
		if len(args) > 0 || cmd.String("from") == "" {
			return &usageError{errors.New("--like goes with --from DIR, and with no files"), "ostrov mods add"}
		}
		if now, err = a.oneInstall(ctx, h, cmd.String("for")); err != nil {
			return err
		}
		list, name, err := compare.ListOf(ctx, h, cmd.String("like"))
		if err != nil {
			return err
		}
		if err := add.Like(ctx, now, list, name, cmd.String("from")); err != nil {
			return err
		}
		for _, line := range add.NotThere {
			a.notes().Line("not there: %s", view.Text(line))
		}
	case len(args) == 0:
		return &usageError{errors.New("FILE is missing"), "ostrov mods add"}
	case cmd.Bool("update") && len(args) == 1 && a.isMod(h, args[0]):
		var names []string
		if now, names, err = a.ofMods(ctx, h, args); err != nil {
			return err
		}
		if err := add.Checkout(ctx, now, names[0]); err != nil {
			return err
		}
	default:
		for _, arg := range args {
			if err := add.Open(ctx, arg); err != nil {
				return err
			}
		}
		in, err := a.taker(ctx, h, add, cmd.String("for"), args)
		if err != nil {
			return err
		}
		if now, _, err = a.assessed(ctx, h, in); err != nil {
			return err
		}
	}
	p, err := add.Propose(ctx, now)
	if err != nil {
		return err
	}
	return a.changeMods(ctx, h, modChange{command: "mods add", p: p, done: view.ProposalDone(p), question: "Go on?", anyway: cmd.Bool("anyway")})
}

// isMod reports whether an argument means a mod rather than a file.
func (a *app) isMod(h *home.Home, arg string) bool {
	if mods.IsURL(arg) {
		return false
	}
	_, err := os.Stat(arg)
	return err != nil
}

// taker is the install that what was opened goes into: the one that is said, the only one, or the only one whose game takes it.
func (a *app) taker(ctx context.Context, h *home.Home, add *mods.Addition, said string, args []string) (*game.Install, error) {
	if said != "" || len(h.Installs) < 2 {
		return h.Install(said)
	}
	takers := add.Takers(ctx)
	switch len(takers) {
	case 1:
		return takers[0], nil
	case 0:
		return nil, add.WhyNot(ctx)
	}
	var hints problem.Hints
	for _, in := range takers {
		hints = hints.Or(problem.Do("mods add", args...).With("for", in.Address()))
	}
	return nil, problem.Usage(hints, "several installs could take it: say which")
}

func (a *app) modsDrop() *ucli.Command {
	return &ucli.Command{
		Name: "drop", Usage: "remove mods: exactly their files; what they covered comes back", ArgsUsage: "GAME+MOD...",
		Flags: []ucli.Flag{&ucli.BoolFlag{Name: "settings", Usage: "also their settings that lie elsewhere"}},
		Action: a.with(1, -1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			now, names, err := a.ofMods(ctx, h, cmd.Args().Slice())
			if err != nil {
				return err
			}
			p, err := mods.Dropping(ctx, h, now, mods.DropRequest{Mods: names, Settings: cmd.Bool("settings")})
			if err != nil {
				return err
			}
			return a.changeMods(ctx, h, modChange{command: "mods drop", p: p, done: view.ProposalDone(p), question: "Drop?", anyway: true})
		}),
	}
}

func (a *app) modsSwitch(on bool) *ucli.Command {
	name, usage := "off", "switch mods off: in the game's own list, else by setting their files aside"
	if on {
		name, usage = "on", "switch mods on, or bring back what was switched off"
	}
	return &ucli.Command{
		Name: name, Usage: usage, ArgsUsage: "GAME+MOD...",
		Action: a.with(1, -1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			now, names, err := a.ofMods(ctx, h, cmd.Args().Slice())
			if err != nil {
				return err
			}
			p, err := mods.Switching(ctx, h, now, names, on)
			if err != nil {
				return err
			}
			return a.changeMods(ctx, h, modChange{command: "mods " + name, p: p, done: view.ProposalDone(p), question: "Switch?", anyway: true})
		}),
	}
}

func (a *app) modsAside() *ucli.Command {
	return &ucli.Command{
		Name: "aside", Usage: "set all mods aside, for a clean game", ArgsUsage: "[GAME]",
		Flags: []ucli.Flag{&ucli.StringSliceFlag{Name: "but", Usage: "`MOD` stays"}},
		Action: a.with(0, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			now, err := a.oneInstall(ctx, h, cmd.Args().First())
			if err != nil {
				return err
			}
			p, err := mods.AllAside(ctx, h, now, cmd.StringSlice("but"))
			if err != nil {
				return err
			}
			return a.changeMods(ctx, h, modChange{command: "mods aside", p: p, done: view.ProposalDone(p), question: "Set them aside?", anyway: true})
		}),
	}
}

func (a *app) modsBack() *ucli.Command {
	return &ucli.Command{
		Name: "back", Usage: "bring back what was set aside", ArgsUsage: "[GAME]",
		Action: a.with(0, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			now, err := a.oneInstall(ctx, h, cmd.Args().First())
			if err != nil {
				return err
			}
			p, err := mods.Returning(ctx, h, now)
			if err != nil {
				return err
			}
			return a.changeMods(ctx, h, modChange{command: "mods back", p: p, done: view.ProposalDone(p), question: "Bring them back?", anyway: true})
		}),
	}
}
