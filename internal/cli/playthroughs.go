package cli

import (
	"context"
	"fmt"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/job"
	"ostrov/internal/core/logbook"
	"ostrov/internal/view"
)

func (a *app) playthroughs() *ucli.Command {
	return &ucli.Command{
		Name: "playthroughs", Category: "play", Usage: "lines of play, and which saves belong to which",
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			if cmd.Args().Present() {
				return &usageError{fmt.Errorf("playthroughs has no %q: there are start, assign, activate, note, rename and close", cmd.Args().First()), "ostrov playthroughs"}
			}
			return a.listPlaythroughs(ctx)
		},
		Commands: []*ucli.Command{
			{Name: "start", Usage: "start one: saves written from now on belong to it", ArgsUsage: "TITLE [GAME]", Action: a.with(1, 2, func(ctx context.Context, cmd *ucli.Command, s *job.Session) error {
				in, err := s.Install(cmd.Args().Get(1))
				if err != nil {
					return err
				}
				if _, err := s.StartPlaythrough(ctx, in, cmd.Args().First()); err != nil {
					return err
				}
				return a.listPlaythroughs(ctx)
			})},
			{Name: "assign", Usage: "make saves belong to a playthrough", ArgsUsage: "PLAYTHROUGH SAVE...", Action: a.with(2, -1, func(ctx context.Context, cmd *ucli.Command, s *job.Session) error {
				if err := s.Assign(ctx, cmd.Args().First(), cmd.Args().Tail()); err != nil {
					return err
				}
				return a.listPlaythroughs(ctx)
			})},
			a.changesPlaythrough("activate", "saves written from now on belong to it", func(p *logbook.Playthrough) { p.Active, p.Closed = true, false }),
			a.changesPlaythrough("close", "it is over; its saves stay", func(p *logbook.Playthrough) { p.Active, p.Closed = false, true }),
			{Name: "note", Usage: "say something about it, to know it by", ArgsUsage: "PLAYTHROUGH NOTE", Action: func(ctx context.Context, cmd *ucli.Command) error {
				if err := args(cmd, 2, 2); err != nil {
					return err
				}
				note := cmd.Args().Get(1)
				return a.changePlaythrough(ctx, cmd.Args().First(), func(p *logbook.Playthrough) { p.Note = note })
			}},
			{Name: "rename", Usage: "give it another title; snapshots keep the name they have", ArgsUsage: "PLAYTHROUGH TITLE", Action: func(ctx context.Context, cmd *ucli.Command) error {
				if err := args(cmd, 2, 2); err != nil {
					return err
				}
				title := cmd.Args().Get(1)
				return a.changePlaythrough(ctx, cmd.Args().First(), func(p *logbook.Playthrough) { p.Title = title })
			}},
		},
	}
}

func (a *app) changesPlaythrough(name, usage string, change func(*logbook.Playthrough)) *ucli.Command {
	return &ucli.Command{Name: name, Usage: usage, ArgsUsage: "PLAYTHROUGH", Action: func(ctx context.Context, cmd *ucli.Command) error {
		if err := args(cmd, 1, 1); err != nil {
			return err
		}
		return a.changePlaythrough(ctx, cmd.Args().First(), change)
	}}
}

func (a *app) changePlaythrough(ctx context.Context, name string, change func(*logbook.Playthrough)) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	if err := s.ChangePlaythrough(ctx, name, change); err != nil {
		return err
	}
	return a.listPlaythroughs(ctx)
}

func (a *app) listPlaythroughs(ctx context.Context) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	all, saves, err := s.Playthroughs(ctx)
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
		a.printer().Next("ostrov keep", "ostrov playthroughs start TITLE")
	}
	return nil
}
