package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/facts"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/record"
	"ostrov/internal/core/trial"
	"ostrov/internal/view"
)

func (a *app) games() *ucli.Command {
	return &ucli.Command{
		Name: "games", Category: "start", Usage: "known games and installs",
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			if cmd.Args().Present() {
				return a.unknownCommand(cmd, cmd.Args().First())
			}
			return a.listGames()
		},
		Commands: []*ucli.Command{
			{
				Name: "add", Usage: "add an install: found in the usual folders or --under DIR, or --at DIR", ArgsUsage: "GAME | DESCRIPTION.toml",
				Flags: []ucli.Flag{
					&ucli.StringFlag{Name: "at", Usage: "the install is in `DIR`", TakesFile: true},
					&ucli.StringFlag{Name: "under", Usage: "look for the install in `DIR` and below", TakesFile: true},
					&ucli.StringFlag{Name: "prefix", Usage: "it runs in the compatibility prefix `DIR`", TakesFile: true},
					&ucli.StringFlag{Name: "player-home", Usage: "its player's home is `DIR`, not yours", TakesFile: true},
					&ucli.StringFlag{Name: "name", Usage: "what to call the install in addresses"},
					&ucli.StringFlag{Name: "edition", Usage: "which copy of the game it is, as its description calls them"},
				},
				Action: a.addGame,
			},
			{Name: "forget", Usage: "know an install no more; nothing of the game or of the archive is touched", ArgsUsage: "GAME@INSTALL", Action: a.with(1, 1, a.forgetGame)},
			{Name: "rename", Usage: "call an install by another name; the former one still means it", ArgsUsage: "GAME@INSTALL NAME", Action: a.with(2, 2, a.renameGame)},
			{Name: "show", Usage: "each folder of a game: where it is and why there", ArgsUsage: "[GAME]", Action: a.showGame},
			{
				Name: "test", Usage: "read a description and report all that is wrong with it; with --on, all that it reads out of something", ArgsUsage: "FILE",
				Flags:  []ucli.Flag{&ucli.StringSliceFlag{Name: "on", Usage: "an install, a save, a mod or a download at `PATH`, as often as wanted", TakesFile: true}},
				Action: a.testGame,
			},
			{
				Name: "base", Usage: "record what a clean game consists of, to know what does not belong there", ArgsUsage: "[GAME]",
				Flags:  []ucli.Flag{&ucli.StringFlag{Name: "from", Usage: "an author's list in `FILE` of what may be there: a path or glob a line", TakesFile: true}},
				Action: a.recordBase,
			},
		},
	}
}

// forgetGame makes an install unknown again.
func (a *app) forgetGame(_ context.Context, cmd *ucli.Command, h *home.Home) error {
	in, err := h.Install(cmd.Args().First())
	if err != nil {
		return err
	}
	if !a.dryRun {
		if err := h.Unregister(in); err != nil {
			return err
		}
	}
	if a.json {
		return view.JSON(a.Stdout, view.ForgottenDoc{Head: view.NewHead("games"), Install: in.Address(), Done: !a.dryRun})
	}
	if a.dryRun {
		a.printer().Line("%s would be forgotten. Nothing has been changed: --dry-run.", in.Address())
		return nil
	}
	a.printer().Line("forgot %s; its files and its snapshots are as they were", in.Address())
	a.printer().Next(problem.Do("games add", in.Game.ID).With("at", in.Root))
	return nil
}

// renameGame gives an install another name.
func (a *app) renameGame(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
	in, err := h.Install(cmd.Args().First())
	if err != nil {
		return err
	}
	was, name := in.Address(), cmd.Args().Get(1)
	if err := record.Rename(ctx, h, in, name); err != nil {
		return err
	}
	to := in.Game.ID + "@" + name
	if a.json {
		return view.JSON(a.Stdout, view.RenamedDoc{Head: view.NewHead("games"), Install: to, Was: was, Done: !a.dryRun})
	}
	if a.dryRun {
		a.printer().Line("%s would be %s. Nothing has been changed: --dry-run.", was, to)
		return nil
	}
	a.printer().Line("%s is %s now; %s still means it", was, to, was)
	return nil
}

func (a *app) listGames() error {
	h, err := a.open()
	if err != nil {
		return err
	}
	doc := view.GamesDoc{Head: view.NewHead("games")}
	for _, id := range h.GameIDs() {
		d := view.GameDoc{ID: id, Title: h.Game(id).Title, Installs: []string{}}
		for _, in := range h.Installs {
			if in.Game.ID == id {
				d.Installs = append(d.Installs, in.Address())
			}
		}
		doc.Games = append(doc.Games, d)
	}
	if a.json {
		return view.JSON(a.Stdout, doc)
	}
	p := a.printer()
	p.Line("%s described, %s added", view.Count(len(doc.Games), "game", "games"), view.Count(len(h.Installs), "install", "installs"))
	p.Line("")
	var next problem.Hints
	for _, d := range doc.Games {
		p.Line("  %-16s %s", d.ID, view.Text(d.Title))
		for _, in := range h.Installs {
			if in.Game.ID == d.ID {
				p.Line("  %-16s   %s  %s", "", in.Address(), in.Root)
			}
		}
		if len(d.Installs) == 0 && next == nil {
			next = problem.Do("games add", d.ID)
		}
	}
	p.Next(next)
	return nil
}

func (a *app) addGame(ctx context.Context, cmd *ucli.Command) error {
	if err := args(cmd, 1, 1); err != nil {
		return err
	}
	h, err := a.open()
	if err != nil {
		return err
	}
	if err := h.RequireRecords(); err != nil {
		return err
	}
	taken, id, err := a.described(h, cmd.Args().First())
	if err != nil {
		return err
	}
	found, err := facts.FindInstall(ctx, h, facts.AddRequest{Game: id, At: cmd.String("at"), Under: cmd.String("under"), Prefix: cmd.String("prefix"), PlayerHome: cmd.String("player-home"), Name: cmd.String("name"), Edition: cmd.String("edition")})
	if err != nil && taken != nil && cmd.String("at") == "" && !errors.Is(err, game.ErrOutOfBounds) {
		return a.onlyDescribed(h, taken, cmd.Args().First(), err)
	}
	if err != nil {
		return err
	}
	in, folders := found.Install, found.Folders
	question := "Are these the right folders?"
	if !a.json {
		groups, err := in.FileGroups(ctx)
		if err != nil {
			return err
		}
		a.printer().Folders(in, folders, groups, facts.Neighbours(ctx, h, in, folders))
		if found.From != "" {
			a.printer().Line("")
			a.printer().Line("  %s was at %s, where it is no more.", in.Address(), view.Text(found.From))
			question = "Has it moved here, and are these the right folders?"
		}
	}
	if !a.dryRun {
		if err := a.confirm(question); err != nil {
			return err
		}
		if taken != nil {
			if err := h.StoreDescription(taken, cmd.Args().First()); err != nil {
				return err
			}
		}
		if err := h.Register(in); err != nil {
			return err
		}
	}
	if a.json {
		return a.installJSON("games add", in, folders)
	}
	p := a.printer()
	if a.dryRun {
		p.Line("")
		p.Line("Nothing has been added: --dry-run.")
		return nil
	}
	p.Line("")
	p.Line("added")
	p.Next(problem.Do("look", h.Called(in)), problem.Do("keep", h.Called(in)))
	return nil
}

// described is the game that the argument of games add means: one that is known, or one that a file describes, which is taken then.
func (a *app) described(h *home.Home, argument string) (taken *game.Description, id string, err error) {
	if !strings.HasSuffix(strings.ToLower(argument), ".toml") {
		return nil, argument, nil
	}
	taken, was, err := h.TakeDescription(argument)
	if err != nil {
		return nil, "", err
	}
	if own := h.Own(taken.ID); !a.json {
		word := "is taken in as"
		if was != nil {
			word = fmt.Sprintf("takes the place of %s, and lies in", was.File)
		}
		a.printer().Line("%s (%s): %s %s %s", view.Text(taken.Title), taken.ID, view.Text(argument), word, own)
		a.printer().Line("")
	}
	return taken, taken.ID, nil
}

// onlyDescribed keeps a description of which no install is found.
func (a *app) onlyDescribed(h *home.Home, d *game.Description, file string, notFound error) error {
	if a.json || a.dryRun {
		return notFound
	}
	a.printer().Line("No install of it is added: %v", notFound)
	a.printer().Line("")
	if err := a.confirm("Keep the description all the same?"); err != nil {
		return err
	}
	if err := h.StoreDescription(d, file); err != nil {
		return err
	}
	a.printer().Line("kept in %s", d.File)
	a.printer().Next(problem.Do("games add", d.ID).With("at", "DIR"))
	return nil
}

func (a *app) installJSON(command string, in *game.Install, folders []game.Located) error {
	return view.JSON(a.Stdout, view.FoldersDoc{Head: view.NewHead(command), Install: view.Install(in, folders)})
}

func (a *app) showGame(ctx context.Context, cmd *ucli.Command) error {
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
	all := view.AllFoldersDoc{Head: view.NewHead("games show")}
	for i, in := range installs {
		err := facts.Open(ctx, h, in)
		if err != nil && !errors.Is(err, game.ErrOutOfBounds) && !errors.Is(err, game.ErrUnconfirmed) {
			return err
		}
		folders, err := in.Folders(ctx)
		if err != nil {
			return err
		}
		if a.json {
			if len(installs) == 1 {
				return a.installJSON("games show", in, folders)
			}
			all.Installs = append(all.Installs, view.Install(in, folders))
			continue
		}
		if i > 0 {
			fmt.Fprintln(a.Stdout)
		}
		groups, err := in.FileGroups(ctx)
		if err != nil {
			return err
		}
		a.printer().Folders(in, folders, groups, facts.Neighbours(ctx, h, in, folders))
	}
	if a.json {
		return view.JSON(a.Stdout, all)
	}
	return nil
}

func (a *app) testGame(ctx context.Context, cmd *ucli.Command) error {
	on := cmd.StringSlice("on")
	most := 1
	if len(on) > 0 { // what follows is meant, too, as where a shell has spelled out a glob
		most = -1
	}
	if err := args(cmd, 1, most); err != nil {
		return err
	}
	d, err := home.ReadDescription(cmd.Args().First())
	if err != nil {
		return err
	}
	if len(on) > 0 {
		return a.tryGame(ctx, d, append(on, cmd.Args().Tail()...))
	}
	if a.json {
		return view.JSON(a.Stdout, view.TestDoc{Head: view.NewHead("games test"), ID: d.ID, Title: d.Title, Trees: append([]field.TreeQuery{}, d.Trees...)})
	}
	p := a.printer()
	p.Line("sound: %s (%s)", view.Text(d.Title), d.ID)
	p.Line("")
	p.Line("  %s, %s, %s, %s", view.Count(len(d.Folders), "folder", "folders"), view.Count(len(d.Saves), "kind of save", "kinds of save"),
		view.Count(len(d.Mods), "kind of mod", "kinds of mod"), view.Count(len(d.Rules), "rule", "rules"))
	p.SmallFilesOnly(d.Trees)
	p.Next(problem.Do("games test", cmd.Args().First()).With("on", "PATH").Note("shows what it reads from a save, a mod or an install"),
		problem.Do("games add", cmd.Args().First()).Note("takes it into use"))
	return nil
}

// tryGame shows what a description reads out of what lies at some paths.
func (a *app) tryGame(ctx context.Context, d *game.Description, on []string) error {
	h, err := a.open()
	if err != nil {
		return err
	}
	var things []trial.Thing
	for _, path := range on {
		found, err := trial.On(ctx, h, d, path)
		if err != nil {
			return err
		}
		if len(found) == 0 {
			return problem.Usage(problem.Advise("it may be a folder around what is meant: name the save or mod itself"), "%s holds nothing that %s describes", path, d.File)
		}
		things = append(things, found...)
	}
	if a.json {
		return view.JSON(a.Stdout, view.Tried(d.ID, d.Title, things))
	}
	p := a.printer()
	p.Tried(things)
	p.Next(problem.Do("games add", d.File).Note("takes the description into use"))
	return nil
}

func (a *app) recordBase(ctx context.Context, cmd *ucli.Command) error {
	if err := args(cmd, 0, 1); err != nil {
		return err
	}
	h, err := a.open()
	if err != nil {
		return err
	}
	in, err := h.Install(cmd.Args().First())
	if err != nil {
		return err
	}
	b, err := facts.NewBase(ctx, h, in, cmd.String("from"))
	if err != nil {
		return err
	}
	if !a.dryRun {
		if err := h.RequireRecords(); err != nil {
			return err
		}
		if err := h.Write(facts.BaseName(in), b); err != nil {
			return err
		}
	}
	d, err := facts.StraysOf(ctx, h, in, b)
	if err != nil {
		return err
	}
	if a.json {
		return view.JSON(a.Stdout, view.Base(b, d))
	}
	a.printer().Base(in.Game.Title, b, d, !a.dryRun)
	return nil
}
