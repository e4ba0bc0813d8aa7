package cli

import (
	"context"
	"errors"
	"fmt"
	"os/exec"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/job"
	"ostrov/internal/view"
)

func (a *app) play() *ucli.Command {
	return &ucli.Command{
		Name: "play", Category: "play", Usage: "check, start the game, record what it writes, keep a safety copy", ArgsUsage: "[GAME] [-- COMMAND...]",
		Description: "Without COMMAND it waits until you have started and ended the game yourself.",
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			s, err := a.open()
			if err != nil {
				return err
			}
			in, command, err := playArgs(s, cmd.Args().Slice())
			if err != nil {
				return err
			}
			notes := &view.Printer{Out: a.Stderr, Width: 100, Now: a.Now()}
			if err := a.takeTurn(ctx, s, in, notes); err != nil {
				return err
			}
			ready, err := s.BeforePlay(ctx, in, command)
			if err != nil {
				return err
			}
			notes.Ready(ready)
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
				run = func(ctx context.Context) error { return job.AwaitGame(ctx, in.Game) }
			}
			done, ended, err := s.Play(ctx, in, run, notes.Written)
			if err != nil {
				return err
			}
			var exit *exec.ExitError
			if ended != nil && !errors.As(ended, &exit) {
				return &job.Error{Text: "the game did not start: " + ended.Error(), Hint: "ostrov play " + in.Address() + " -- COMMAND", Err: ended}
			}
			return a.watched("play", done, ended)
		},
	}
}

// takeTurn swaps saves where another install of the game has its own in the same folder now.
func (a *app) takeTurn(ctx context.Context, s *job.Session, in *game.Install, notes *view.Printer) error {
	p, err := s.PlanTurn(ctx, in)
	if err != nil || !p.Changes() {
		return err
	}
	notes.Line("%s's saves are in the folder that %s uses too: they are put away, and its own are brought.", p.Install.Address(), in.Address())
	notes.Plan(p)
	if a.dryRun {
		return nil
	}
	if err := a.confirm("Swap them?"); err != nil {
		return err
	}
	_, err = s.Apply(ctx, p)
	return err
}

// playArgs tells the game from the command: the first argument is a game where it names one.
func playArgs(s *job.Session, words []string) (*game.Install, []string, error) {
	if len(words) > 0 {
		if in, err := s.Install(words[0]); err == nil || len(s.Installs) != 1 {
			return in, words[1:], err
		}
	}
	in, err := s.Install("")
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
		Action: a.with(0, 1, func(ctx context.Context, cmd *ucli.Command, s *job.Session) error {
			in, err := s.Install(cmd.Args().First())
			if err != nil {
				return err
			}
			notes := &view.Printer{Out: a.Stderr, Width: 100, Now: a.Now()}
			fmt.Fprintf(a.Stderr, "watching %s; Ctrl-C ends it\n", in.Address())
			done, err := s.Watch(ctx, in, nil, notes.Written)
			if err != nil {
				return err
			}
			return a.watched("watch", done, nil)
		}),
	}
}

func (a *app) watched(command string, done *job.Watched, ended error) error {
	if a.json {
		return view.JSON(a.Stdout, view.Watched(command, done))
	}
	a.printer().Watched(done, ended)
	return nil
}
