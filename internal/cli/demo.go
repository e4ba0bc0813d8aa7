package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	ucli "github.com/urfave/cli/v3"

	"ostrov/demo"
	"ostrov/internal/core/problem"
	"ostrov/internal/view"
)

func (a *app) demo() *ucli.Command {
	return &ucli.Command{
		Name: "demo", Category: "start", Usage: "the whole job on made-up games, in a folder of its own",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "dir", Usage: "lay it out in `DIR` and keep it", TakesFile: true},
			&ucli.BoolFlag{Name: "quiet", Usage: "lay it out only, without the story"},
		},
		Action: func(ctx context.Context, cmd *ucli.Command) (err error) {
			if err := args(cmd, 0, 0); err != nil {
				return err
			}
			dir := cmd.String("dir")
			if cmd.Bool("quiet") && dir == "" {
				return &usageError{errors.New("--quiet needs --dir: there would be nothing to see"), "ostrov demo"}
			}
			if a.dryRun && dir != "" {
				if a.json {
					return view.JSON(a.Stdout, view.WrittenDoc{Head: view.NewHead("demo"), To: dir})
				}
				a.printer().Line("the demo would be laid out in %s. Nothing has been written: --dry-run.", view.Text(dir))
				return nil
			}
			if dir == "" {
				if dir, err = os.MkdirTemp("", "ostrov-demo-"); err != nil {
					return err
				}
				defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
			}
			world, err := demo.Build(dir)
			if err != nil {
				return problem.New(problem.Do("demo").With("dir", "NEW-FOLDER"), "%w", err)
			}
			if cmd.Bool("quiet") {
				fmt.Fprintln(a.Stdout, world.Dir)
				return nil
			}
			if err := a.tell(ctx, world); err != nil {
				return err
			}
			a.ending(world, cmd.String("dir") != "")
			return nil
		},
	}
}

// tell runs the story. Its commands name files relative to the demo's folder, so it is told from there.
func (a *app) tell(ctx context.Context, world *demo.World) error {
	was, err := os.Getwd()
	if err != nil {
		return err
	}
	if err := os.Chdir(world.Dir); err != nil {
		return err
	}
	defer os.Chdir(was)
	p := a.printer()
	step := lipgloss.NewStyle().Foreground(lipgloss.Color("6")).Bold(true)
	prompt := lipgloss.NewStyle().Bold(true)
	if !p.Color {
		step, prompt = lipgloss.NewStyle(), lipgloss.NewStyle()
	}
	for i, s := range world.Story() {
		if i > 0 {
			p.Line("")
		}
		p.Line("%s", step.Render(fmt.Sprintf("%d. %s", i+1, s.Text)))
		p.Line("")
		for _, before := range s.Before {
			if err := a.take(ctx, world, before, io.Discard); err != nil {
				return fmt.Errorf("before step %d of the demo: %w", i+1, err)
			}
		}
		p.Line("%s", prompt.Render("$ ostrov "+typed(s.Command)))
		if err := a.take(ctx, world, s, &terminal{a.Stdout, p.Color, p.Width}); err != nil {
			return fmt.Errorf("step %d of the demo: %w", i+1, err)
		}
	}
	return nil
}

// take takes one step of the story.
func (a *app) take(ctx context.Context, world *demo.World, s demo.Step, out io.Writer) error {
	if s.Happens != nil {
		if err := s.Happens(); err != nil {
			return err
		}
	}
	env := a.Env
	home := world.Home()
	if s.Home != "" {
		home = s.Home
	}
	env.Args = append([]string{"ostrov", "--home", home}, s.Command...)
	env.Stdout, env.Stderr = out, out
	if t, ok := out.(*terminal); ok {
		env.Stderr = t.Writer
	}
	if !s.When.IsZero() {
		began := time.Now()
		env.Now = func() time.Time { return s.When.Add(time.Since(began)) }
	}
	if s.Play != nil {
		env.Start = func(context.Context, []string) error { return s.Play() } // the made-up games have no real program
	}
	if status := Run(ctx, env); status == exitError || status == exitUsage {
		return fmt.Errorf("%s ended with status %d", typed(s.Command), status)
	}
	return nil
}

// typed is a command as one would type it.
func typed(args []string) string {
	var words []string
	for _, w := range args {
		if strings.ContainsAny(w, " ()") {
			w = `"` + w + `"`
		}
		words = append(words, filepath.ToSlash(w))
	}
	return strings.Join(words, " ")
}

func (a *app) ending(world *demo.World, kept bool) {
	p := a.printer()
	p.Line("")
	if !kept {
		p.Line("That was all in a folder of its own, which is gone now. To keep it and play on:")
		p.Line("")
		p.Line("    ostrov demo --dir ostrov-demo")
		return
	}
	p.Line("It is all in %s. To play on with it:", world.Dir)
	p.Line("")
	p.Line("    cd %s", world.Dir)
	p.Line("    ostrov --home ostrov look")
	p.Line("    ostrov --home ostrov vet downloads/*")
}
