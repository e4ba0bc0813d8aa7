package cli

import (
	"context"
	"errors"
	"fmt"
	"os/exec"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/play"
	"ostrov/internal/core/problem"
	"ostrov/internal/view"
)

func (a *app) play() *ucli.Command {
	return &ucli.Command{
		Name: "play", Category: "play", Usage: "check, start the game, record what it writes, keep a safety copy", ArgsUsage: "[GAME] [-- COMMAND...]",
		Description: "Without COMMAND it waits until you have started and ended the game yourself.",
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			h, err := a.open()
			if err != nil {
				return err
			}
			in, command, err := playArgs(h, cmd.Args().Slice())
			if err != nil {
				return err
			}
			if !a.dryRun {
				if err := h.RequireRecords(); err != nil { // before anything is started
					return err
				}
			}
			return a.playGame(ctx, h, in, command)
		},
	}
}

func (a *app) playGame(ctx context.Context, h *home.Home, in *game.Install, command []string) error {
	notes := a.notes()
	if err := a.takeTurn(ctx, h, in, notes); err != nil {
		return err
	}
	st, _, err := a.see(ctx, h, in)
	if err != nil {
		return err
	}
	ready := play.Before(assess.Of(st), command)
	notes.Ready(ready)
	if a.dryRun && a.json {
		return view.JSON(a.Stdout, view.Watched("play", &play.Watched{State: st}, nil))
	}
	if a.dryRun {
		return nil
	}
	if ready.Verdict == check.Unfit {
		if err := a.confirm("Start it all the same?"); err != nil {
			return err
		}
	}
	run := func(ctx context.Context) error { return a.start(ctx, command) }
	if len(command) == 0 {
		fmt.Fprintf(a.Stderr, "Start %s now; this ends when it has ended.\n", in.Game.Title)
		run = func(ctx context.Context) error { return play.AwaitGame(ctx, in.Game) }
	}
	done, ended, err := play.Play(ctx, h, st, run, notes.Written)
	if err != nil {
		return err
	}
	var exit *exec.ExitError
	if ended != nil && !errors.As(ended, &exit) {
		return problem.New(problem.Do("play", in.Address(), "--", "COMMAND"), "the game did not start: %w", ended)
	}
	return a.played(context.WithoutCancel(ctx), h, "play", done, ended)
}

// notes are for people who watch, beside the answer.
func (a *app) notes() *view.Printer { return &view.Printer{Out: a.Stderr, Width: 100, Now: a.Now()} }

// takeTurn swaps saves where another install of the game has its own in the same folder now.
func (a *app) takeTurn(ctx context.Context, h *home.Home, in *game.Install, notes *view.Printer) error {
	st, _, err := a.see(ctx, h, in)
	if err != nil {
		return err
	}
	for _, other := range st.Sharers {
		if in.PlaysWith(other) {
			continue
		}
		there, _, err := a.see(ctx, h, other)
		if err != nil {
			return err
		}
		p, err := keep.Turn(ctx, h, st, there)
		if err != nil {
			return err
		}
		if !p.Moves() {
			continue
		}
		notes.Line("%s's saves are in the folder that %s uses too: they are put away, and its own are brought.", p.Install().Address(), in.Address())
		notes.Plan(p, nil)
		if a.dryRun {
			return nil
		}
		if err := a.confirm("Swap them?"); err != nil {
			return err
		}
		if _, err := keep.Before(ctx, h, p, keep.WrittenList); err != nil {
			return err
		}
		_, err = p.Apply(ctx)
		return err
	}
	return nil
}

// playArgs tells the game from the command: the first argument is a game where it names one.
func playArgs(h *home.Home, words []string) (*game.Install, []string, error) {
	if len(words) > 0 {
		if in, err := h.Install(words[0]); err == nil || len(h.Installs) != 1 {
			return in, words[1:], err
		}
	}
	in, err := h.Install("")
	return in, words, err
}

// start runs the game's own command with what the player's terminal gives; its output is not part of the answer.
func (a *app) start(ctx context.Context, command []string) error {
	if a.Start != nil {
		return a.Start(ctx, command)
	}
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = a.Stdin, a.Stderr, a.Stderr
	cmd.Cancel = func() error { return nil } // a stop that is typed reaches the game by itself
	return cmd.Run()
}

func (a *app) watch() *ucli.Command {
	return &ucli.Command{
		Name: "watch", Category: "play", Usage: "record what the game writes until you stop it with Ctrl-C, then keep a safety copy", ArgsUsage: "[GAME]",
		Action: a.with(0, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			in, err := h.Install(cmd.Args().First())
			if err != nil {
				return err
			}
			st, _, err := a.see(ctx, h, in)
			if err != nil {
				return err
			}
			if a.dryRun && a.json {
				return view.JSON(a.Stdout, view.Watched("watch", &play.Watched{State: st}, nil))
			}
			if a.dryRun {
				a.printer().Line("%s would be watched. Nothing has been recorded: --dry-run.", in.Address())
				return nil
			}
			fmt.Fprintf(a.Stderr, "watching %s; Ctrl-C ends it\n", in.Address())
			done, err := play.Watch(ctx, h, st, nil, a.notes().Written)
			if err != nil {
				return err
			}
			return a.played(context.WithoutCancel(ctx), h, "watch", done, nil)
		}),
	}
}

// played keeps a safety copy of what a session wrote, and tells of both.
func (a *app) played(ctx context.Context, h *home.Home, command string, done *play.Watched, ended error) error {
	var kept *keep.Kept
	if len(done.Written) > 0 {
		var err error
		if kept, err = keep.Keep(ctx, h, done.State.Install, keep.Request{Before: "the next session"}); err != nil {
			return err
		}
	}
	if a.json {
		return view.JSON(a.Stdout, view.Watched(command, done, kept))
	}
	a.printer().Watched(done, kept, ended)
	return nil
}
