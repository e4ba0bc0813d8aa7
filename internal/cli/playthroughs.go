package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/record"
	"ostrov/internal/view"
)

func (a *app) playthroughs() *ucli.Command {
	return &ucli.Command{
		Name: "playthroughs", Category: "play", Usage: "lines of play, and which saves belong to which",
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			if cmd.Args().Present() {
				return a.unknownCommand(cmd, cmd.Args().First())
			}
			return a.listPlaythroughs(ctx)
		},
		Commands: []*ucli.Command{
			{Name: "start", Usage: "start one: saves written from now on belong to it", ArgsUsage: "TITLE [GAME]", Action: a.with(1, 2, a.startPlaythrough),
				Flags: []ucli.Flag{&ucli.BoolFlag{Name: "resting", Usage: "it is not played now: to file an old copy under"}}},
			{Name: "assign", Usage: "make saves belong to a playthrough, or say that it is played on a second install, too", ArgsUsage: "PLAYTHROUGH SAVE|GAME@INSTALL...", Action: a.with(2, -1, a.assign)},
			a.changesPlaythrough("activate", "saves written from now on belong to it", "", func(p *logbook.Playthrough, _ string) { p.Active, p.Closed = true, false }),
			a.changesPlaythrough("close", "it is over; its saves stay", "", func(p *logbook.Playthrough, _ string) { p.Active, p.Closed = false, true }),
			a.changesPlaythrough("note", "say something about it, to know it by", " NOTE", func(p *logbook.Playthrough, note string) { p.Note = note }),
			a.changesPlaythrough("rename", "give it another title; snapshots keep the name they have", " TITLE", func(p *logbook.Playthrough, title string) { p.Title = title }),
		},
	}
}

func (a *app) startPlaythrough(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
	in, err := h.Install(cmd.Args().Get(1))
	if err != nil {
		return err
	}
	st, _, err := a.see(ctx, h, in)
	if err != nil {
		return err
	}
	p, err := record.StartLine(ctx, h, st, cmd.Args().First(), cmd.Bool("resting"))
	if err != nil {
		return err
	}
	return a.listOrSay(ctx, fmt.Sprintf("%s would be started on %s", p.Name, st.Called))
}

func (a *app) assign(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
	p, err := record.Line(ctx, h, cmd.Args().First())
	if err != nil {
		return err
	}
	assigned := 0
	for _, address := range cmd.Args().Tail() {
		if in, err := h.Install(address); err == nil && strings.Contains(address, "@") {
			if err := a.playWith(ctx, h, p, in); err != nil {
				return err
			}
			continue
		}
		st, found, err := a.findSaves(ctx, h, address)
		if err != nil {
			return err
		}
		for _, s := range found {
			if err := record.Assign(ctx, h, st, s, p); err != nil {
				return err
			}
		}
		assigned += len(found)
	}
	return a.listOrSay(ctx, fmt.Sprintf("%s would get %s", p.Name, view.Count(assigned, "save", "saves")))
}

// playWith says that the lines of a playthrough's install are played on another one, too.
func (a *app) playWith(ctx context.Context, h *home.Home, p logbook.Playthrough, in *game.Install) error {
	first, err := h.Install(p.Game + "@" + p.Install)
	if err != nil {
		return err
	}
	st, _, err := a.see(ctx, h, first)
	if err != nil {
		return err
	}
	return record.PlayWith(h, in, st)
}

// changesPlaythrough makes a command that changes what is said of a playthrough; more is the argument that it takes besides its name.
func (a *app) changesPlaythrough(name, usage, more string, change func(*logbook.Playthrough, string)) *ucli.Command {
	n := 1
	if more != "" {
		n = 2
	}
	return &ucli.Command{Name: name, Usage: usage, ArgsUsage: "PLAYTHROUGH" + more, Action: a.with(n, n, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
		line := cmd.Args().First()
		if err := record.ChangeLine(ctx, h, line, func(p *logbook.Playthrough) { change(p, cmd.Args().Get(1)) }); err != nil {
			return err
		}
		return a.listOrSay(ctx, fmt.Sprintf("%s would be changed: %s", line, name))
	})}
}

// listOrSay lists the playthroughs, as they are now; a dry run says what would be.
func (a *app) listOrSay(ctx context.Context, would string) error {
	if err := a.listPlaythroughs(ctx); err != nil || !a.dryRun || a.json {
		return err
	}
	a.printer().Line("")
	a.printer().Line("%s. Nothing has been changed: --dry-run.", view.Text(would))
	return nil
}

func (a *app) listPlaythroughs(ctx context.Context) error {
	h, err := a.open()
	if err != nil {
		return err
	}
	saves := map[string]int{}
	for _, in := range h.Installs {
		st, _, err := a.see(ctx, h, in)
		if err != nil {
			continue // its saves cannot be counted now
		}
		for _, s := range st.Saves {
			if slices.ContainsFunc(st.Lines, func(p logbook.Playthrough) bool { return p.Name == s.Line }) { // else another install's look counts it
				saves[s.Line]++
			}
		}
	}
	all, err := h.Logbook.Playthroughs(ctx)
	if err != nil {
		return err
	}
	if a.json {
		doc := view.PlaythroughsDoc{Head: view.NewHead("playthroughs"), Playthroughs: []view.PlaythroughDoc{}}
		for _, p := range all {
			doc.Playthroughs = append(doc.Playthroughs, view.PlaythroughDoc{Playthrough: p, Saves: saves[p.Name]})
		}
		return view.JSON(a.Stdout, doc)
	}
	a.printer().Playthroughs(all, saves)
	if len(all) == 0 {
		a.printer().Next(problem.Do("keep"), problem.Do("playthroughs start", "TITLE"))
	}
	return nil
}
