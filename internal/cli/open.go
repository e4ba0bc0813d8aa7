package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/edit"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
	"ostrov/internal/view"
)

func (a *app) openSave() *ucli.Command {
	return &ucli.Command{
		Name: "open", Category: inside, Usage: "edit the decoded text of a save in your own editor", ArgsUsage: "SAVE [FILE...]",
		Flags: []ucli.Flag{&ucli.StringFlag{Name: "with", Usage: "the `EDITOR`; without it that of VISUAL or EDITOR, else the system's"}, asFlag()},
		Action: a.with(1, -1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			st, s, err := a.findSave(ctx, h, cmd.Args().First())
			if err != nil {
				return err
			}
			return a.edit(ctx, h, st, s, cmd.Args().Tail(), cmd.String("with"), cmd.String("as"))
		}),
	}
}

// maxEdited bounds a text that comes back from an editor, in bytes.
const maxEdited = 512 << 20

// edit opens texts of a save in an editor, and plans what has become of them.
func (a *app) edit(ctx context.Context, h *home.Home, st *facts.State, s *facts.Save, words []string, with, as string) (err error) {
	src := edit.Of(st, s)
	was, err := edit.Texts(ctx, src, words)
	if err != nil {
		return err
	}
	dir, err := h.ScratchFolder("open")
	if err != nil {
		return err
	}
	edited := false // the folder has work of the player's that is not in the save
	defer func() {
		if !edited {
			err = errors.Join(err, h.DropScratch(filepath.Dir(dir)))
		} else if err != nil {
			err = problem.New(problem.HintsOf(err).Or(problem.Advise("your text is still in %s", dir)), "%w", err)
		}
	}()
	var files []string
	for i, t := range was {
		name := t.Name
		if slices.ContainsFunc(was[:i], func(o edit.Text) bool { return o.Name == name }) {
			name = fmt.Sprintf("%d-%s", i+1, name)
		}
		file := filepath.Join(dir, name)
		if _, err := h.WriteFile(file, true, func(out io.Writer) error { _, err := out.Write(t.Data); return err }); err != nil {
			return err
		}
		files = append(files, file)
	}
	for {
		if err := a.runEditor(ctx, editorOf(a.Getenv, with), files); err != nil {
			return err
		}
		now := slices.Clone(was)
		for i, file := range files {
			if now[i].Data, err = tree.ReadBounded(file, maxEdited); err != nil {
				return err
			}
		}
		edited = true
		r, err := edit.Reopen(ctx, src, was, now)
		if err == nil && len(r.Files) == 0 {
			edited = false
			p := plan.New(ctx, h, st, "", nil)
			p.Reason = "nothing in it is another"
			return a.carryOut(ctx, h, carry{command: "open", plan: p})
		}
		if err == nil {
			judged, err := edit.Judge(ctx, h, st, src, r.Edited, nil)
			if err != nil {
				return err
			}
			err = a.alter(ctx, h, alteration{command: "open", st: st, save: s, edited: r.Edited, as: as, inside: &view.InsideDoc{Difference: r.Difference}, verdict: judged,
				done: "written:", question: "Write it?"})
			edited = err != nil
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		fmt.Fprintf(a.Stderr, "%s\n", multiline(err.Error()))
		if a.yes || !a.hasTerminal() || a.confirm("Open it again?") != nil {
			return problem.Usage(problem.HintsOf(err), "it cannot be written back: %w; the save is as it was", err)
		}
	}
}

// editorOf is the command line of an editor: the one that is asked for, that of the environment, or the system's.
func editorOf(env func(string) string, with string) []string {
	for _, text := range []string{with, env("VISUAL"), env("EDITOR")} {
		if words := strings.Fields(text); len(words) > 0 {
			if _, err := os.Stat(text); err == nil { // a path with spaces in it
				return []string{text}
			}
			return words
		}
	}
	switch runtime.GOOS {
	case "windows":
		return []string{"notepad.exe"}
	case "darwin":
		return []string{"open", "-t", "-W"}
	}
	for _, name := range []string{"sensible-editor", "nano", "vi", "xdg-open"} {
		if path, err := exec.LookPath(name); err == nil {
			return []string{path}
		}
	}
	return nil
}

// atOnce is how soon an editor returns that only hands the file to a window.
const atOnce = 2 * time.Second

// runEditor opens files in an editor and waits until they have been edited. Of one that returns at once without having changed anything, a window is
// open perhaps: then the files are waited for.
func (a *app) runEditor(ctx context.Context, command, files []string) error {
	if len(command) == 0 {
		return problem.Usage(problem.Advise("the option with says which, or the environment variable EDITOR"), "there is no editor")
	}
	before := stamps(files)
	began := time.Now()
	run := exec.CommandContext(ctx, command[0], append(slices.Clone(command[1:]), files...)...)
	run.Stdin, run.Stdout, run.Stderr = a.Stdin, a.Stderr, a.Stderr
	if err := run.Run(); ctx.Err() != nil {
		return ctx.Err()
	} else if err != nil {
		return problem.New(nil, "the editor %s: %w; nothing has been changed", command[0], err)
	}
	if time.Since(began) > atOnce || !slices.Equal(before, stamps(files)) {
		return nil
	}
	wait := unwatched
	if a.hasTerminal() {
		wait = watched
		fmt.Fprintf(a.Stderr, "waiting for %s to be saved; Ctrl-C leaves the save as it is\n", view.Text(files[0]))
	}
	return waitFor(ctx, files, before, wait)
}

// How long a file is waited for that an editor in a window may still write: where somebody sits before it, and where nobody does.
const (
	watched   = 24 * time.Hour
	unwatched = 5 * time.Second
)

// waitFor waits until files have been written and are left alone for a second, or the time is up.
func waitFor(ctx context.Context, files, before []string, most time.Duration) error {
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	end := time.Now().Add(most)
	last, since := before, time.Now()
	for time.Now().Before(end) {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
		now := stamps(files)
		if !slices.Equal(now, last) {
			last, since = now, time.Now()
		} else if !slices.Equal(now, before) && time.Since(since) > time.Second {
			return nil
		}
	}
	return nil
}

// stamps are the times and sizes of files.
func stamps(files []string) (all []string) {
	for _, file := range files {
		info, err := os.Stat(file)
		if err != nil {
			all = append(all, err.Error())
			continue
		}
		all = append(all, fmt.Sprint(info.Size(), info.ModTime().UnixNano()))
	}
	return all
}
