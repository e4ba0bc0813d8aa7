// Package cli is the command line: it parses, asks, takes the steps of a command one after the other (settle, look, record, plan, keep
// first, apply), and has package view show what comes back.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"github.com/adrg/xdg"
	ucli "github.com/urfave/cli/v3"
	"golang.org/x/term"

	"ostrov/internal/core/home"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/strict"
	"ostrov/internal/view"
)

// Env is all that a run has of the world outside.
type Env struct {
	Args    []string // the program's name first
	Stdin   io.Reader
	Stdout  io.Writer
	Stderr  io.Writer
	Getenv  func(string) string
	Now     func() time.Time
	Release string
	Commit  string
	// Start runs a game's command; nil runs it as a program.
	Start func(ctx context.Context, command []string) error
}

// Exit statuses; docs/handbook.md lists them.
const (
	exitDone      = 0
	exitError     = 1
	exitUsage     = 2
	exitRisky     = 3
	exitUnfit     = 4
	exitUnclear   = 5
	exitDangerous = 6
	exitDeclined  = 7
)

// Stopped is why a run was stopped from outside: the cause of its context.
type Stopped struct{ Signal int }

func (s *Stopped) Error() string { return fmt.Sprintf("stopped by signal %d", s.Signal) }

// Status is the exit status of a program that a signal stopped.
func (s *Stopped) Status() int { return 128 + s.Signal }

// statusError ends a command with an exit status and nothing more to say.
type statusError int

func (s statusError) Error() string { return fmt.Sprintf("exit status %d", int(s)) }

// usageError is a mistake in the command line that the parser found.
type usageError struct {
	err     error
	command string // "ostrov vet"
}

func (u *usageError) Error() string { return u.err.Error() }

// app is one run.
type app struct {
	Env
	home    string
	json    bool
	dryRun  bool
	whole   bool // nothing is folded that is too much for a glance
	yes     bool
	log     *os.File
	session *home.Home
	// reads tells that the command writes nothing, whatever it is asked: not even what it has seen.
	reads bool
	out   *answer
	// command is the one that runs, without the program's name.
	command string
}

// Run runs the command line and returns the exit status.
func Run(ctx context.Context, env Env) int {
	a := &app{Env: env}
	if _, ok := env.Stdout.(*terminal); !ok {
		a.out = &answer{out: env.Stdout}
		if f, ok := env.Stdout.(*os.File); ok {
			a.out.file = f
		}
		a.Stdout = a.out
	}
	root := a.root()
	err := root.Run(ctx, helpAsked(root, env.Args))
	if e := a.close(); err == nil {
		err = e
	}
	if a.out != nil && a.out.err != nil && err == nil {
		err = fmt.Errorf("the answer could not be written: %w", a.out.err)
	}
	return a.report(ctx, err)
}

func (a *app) root() *ucli.Command {
	usage := func(_ context.Context, cmd *ucli.Command, err error, _ bool) error {
		return &usageError{err, cmd.FullName()}
	}
	root := &ucli.Command{
		Name:            "ostrov",
		Usage:           "keeps the saves, versions and mod sets of modded games consistent",
		Version:         a.version(),
		Writer:          &helpWriter{a: a},
		ErrWriter:       a.Stderr,
		Reader:          a.Stdin,
		ExitErrHandler:  func(context.Context, *ucli.Command, error) {},
		OnUsageError:    usage,
		HideHelpCommand: true,
		Description: "Addresses: a game GAME, an install GAME@INSTALL, a save GAME/SLOT or GAME/NAME, a snapshot PLAYTHROUGH.NUMBER.\n" +
			"GAME may be left out where only one is known.",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "home", Usage: "`DIR` for all of Ostrov's own data", Sources: ucli.EnvVars("OSTROV_HOME"), Destination: &a.home, TakesFile: true},
			&ucli.BoolFlag{Name: "json", Usage: "one JSON document on stdout", Destination: &a.json},
			&ucli.BoolFlag{Name: "dry-run", Usage: "show what would be changed, and change nothing", Destination: &a.dryRun},
			&ucli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &a.yes},
		},
		Commands: []*ucli.Command{
			a.demo(), a.games(),
			a.look(), a.saves(), a.needs(), a.compare(), a.mods(),
			a.fields(), a.find(), a.set(), a.borrow(), a.strip(), a.convert(), a.members(), a.openSave(),
			a.keep(), a.kept(), a.restore(), a.archive(),
			a.vet(), a.place(), a.parcel(),
			a.play(), a.watch(), a.playthroughs(), a.swap(), a.fresh(),
			a.undo(), a.redo(),
			a.help(), a.completion(), a.complete(),
		},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			if cmd.Args().Present() {
				return a.unknownCommand(cmd, cmd.Args().First())
			}
			return a.lookAll(ctx)
		},
	}
	root.CustomRootCommandHelpTemplate = helpOf(root)
	for _, c := range allCommands(root) {
		c.OnUsageError = usage
		c.Before = func(ctx context.Context, cmd *ucli.Command) (context.Context, error) {
			a.command = strings.TrimPrefix(strings.TrimPrefix(cmd.FullName(), "ostrov"), " ")
			return ctx, checkOptions(cmd)
		}
		c.HideHelpCommand = true
	}
	return root
}

func allCommands(c *ucli.Command) []*ucli.Command {
	all := []*ucli.Command{c}
	for _, sub := range c.Commands {
		all = append(all, allCommands(sub)...)
	}
	return all
}

// unknownCommand says that there is no command of the name below cmd, and which is nearest.
func (a *app) unknownCommand(cmd *ucli.Command, name string) error {
	var names []string
	for _, c := range cmd.Commands {
		names = append(names, c.Name)
	}
	what := fmt.Sprintf("there is no command %q", name)
	if cmd.Root() != cmd {
		what = fmt.Sprintf("%s has no %q: there are %s", cmd.Name, name, strings.Join(names, ", "))
	}
	if near := strict.Nearest(name, names); near != "" {
		what = fmt.Sprintf("%s; did you mean %s?", strings.Split(what, ": there are")[0], near)
	}
	return &usageError{errors.New(what), cmd.FullName()}
}

// version is the release and the commit that the program was built from.
func (a *app) version() string {
	release, commit := a.Release, a.Commit
	if release == "" {
		release = "unreleased"
	}
	if info, ok := debug.ReadBuildInfo(); ok && commit == "" {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" {
				commit = s.Value
			}
		}
	}
	if commit == "" {
		return release + " (commit unknown)"
	}
	return fmt.Sprintf("%s (commit %.12s)", release, commit)
}

// open opens the session, at first use.
func (a *app) open() (*home.Home, error) {
	if a.session != nil {
		return a.session, nil
	}
	dir, err := a.homeDir()
	if err != nil {
		return nil, err
	}
	reads := a.reads || a.dryRun
	log := slog.New(slog.DiscardHandler)
	if !reads {
		log = a.logger(dir)
	}
	a.session, err = home.Open(home.Options{Dir: dir, Now: a.Now, Log: log, Progress: a.progress(), ReadOnly: reads})
	if err != nil {
		return nil, err
	}
	if a.session.Unrecorded != nil {
		fmt.Fprintf(a.Stderr, "ostrov: nothing can be recorded: %s\n", multiline(a.session.Unrecorded.Error()))
	}
	for _, b := range a.session.Broken {
		fmt.Fprintf(a.Stderr, "ostrov: %s cannot be used: %s\n", view.Text(b.File), multiline(b.Err.Error()))
	}
	a.session.ClearParts()
	return a.session, nil
}

func (a *app) homeDir() (string, error) {
	if a.home != "" {
		return filepath.Abs(a.home)
	}
	if !filepath.IsAbs(xdg.DataHome) { // HOME is not a whole path: a home would come to lie wherever one happens to be
		return "", problem.Usage(problem.Advise("set HOME, or name a folder with OSTROV_HOME"), "there is no place for Ostrov's data: %q is not a whole path", xdg.DataHome)
	}
	return filepath.Join(xdg.DataHome, "ostrov"), nil
}

// maxLog is how large the log grows before it is begun anew, in bytes; the one before is kept.
const maxLog = 4 << 20

// logger writes to the file log.txt in Ostrov's home, or nowhere where that cannot be written.
func (a *app) logger(home string) *slog.Logger {
	path := filepath.Join(home, "log.txt")
	if err := os.MkdirAll(home, 0o700); err != nil {
		return slog.New(slog.DiscardHandler)
	}
	if info, err := os.Stat(path); err == nil && info.Size() > maxLog {
		_ = os.Rename(path, path+".old") // a log that cannot be turned over just grows
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return slog.New(slog.DiscardHandler)
	}
	a.log = f
	return slog.New(slog.NewTextHandler(f, nil))
}

func (a *app) close() error {
	var err error
	if a.session != nil {
		err = a.session.Close()
		a.session = nil
	}
	if a.log != nil {
		a.log.Close()
		a.log = nil
	}
	return err
}

// printer writes to stdout as its terminal allows.
func (a *app) printer() *view.Printer {
	p := &view.Printer{Out: a.Stdout, Width: 100, Now: a.Now(), Whole: true}
	if a.out != nil && a.out.file != nil && term.IsTerminal(int(a.out.file.Fd())) {
		f := a.out.file
		p.Whole = false
		p.Color = a.Getenv("NO_COLOR") == "" && a.Getenv("TERM") != "dumb"
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
			p.Width = w
		}
	}
	if t, ok := a.Stdout.(*terminal); ok {
		p.Color, p.Width, p.Whole = t.color, t.width, false
	}
	return p
}

// answer is stdout, with the first error that writing to it met: an answer that nobody got is no success.
type answer struct {
	out  io.Writer
	file *os.File // or nil
	err  error
	used bool // something has been written
}

func (w *answer) Write(p []byte) (int, error) {
	w.used = w.used || len(p) > 0
	n, err := w.out.Write(p)
	if err != nil && w.err == nil {
		w.err = err
	}
	return n, err
}

// terminal is a writer that stands for a terminal, for commands that the demo runs.
type terminal struct {
	io.Writer
	color bool
	width int
}

// hasTerminal reports whether there is somebody to ask.
func (a *app) hasTerminal() bool {
	in, ok := a.Stdin.(*os.File)
	return ok && term.IsTerminal(int(in.Fd()))
}

// confirm asks a question that --yes answers. Without a terminal it is a refusal.
func (a *app) confirm(question string) error {
	if a.yes {
		return nil
	}
	if !a.hasTerminal() {
		return problem.Declined(problem.Advise("repeat it with --yes, or look first with --dry-run"), "this needs your consent, and there is no terminal to ask on; nothing has been changed")
	}
	fmt.Fprintf(a.Stderr, "\n%s [y/N] ", question)
	var answer string
	_, _ = fmt.Fscanln(a.Stdin, &answer)
	if strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes") {
		return nil
	}
	return problem.Declined(nil, "declined; nothing has been changed")
}

// multiline makes each line of an error's text safe to show.
func multiline(text string) string {
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		if len(l) < 4096 {
			lines[i] = safe(l)
		}
	}
	return strings.Join(lines, "\n")
}

func safe(line string) string {
	var b strings.Builder
	for len(line) > 0 { // Text cuts what is long; an error's text is shown whole
		n := min(len(line), 150)
		for n < len(line) && line[n]&0xc0 == 0x80 {
			n++
		}
		b.WriteString(view.Text(line[:n]))
		line = line[n:]
	}
	return b.String()
}

// with makes an action out of what a command does in a session: it checks the number of arguments, of which most is -1 for any number, and
// opens the session first.
func (a *app) with(least, most int, do func(context.Context, *ucli.Command, *home.Home) error) ucli.ActionFunc {
	return func(ctx context.Context, cmd *ucli.Command) error {
		if err := args(cmd, least, most); err != nil {
			return err
		}
		s, err := a.open()
		if err != nil {
			return err
		}
		return do(ctx, cmd, s)
	}
}

// reading is with for what touches nothing: neither a game's folders nor Ostrov's own home.
func (a *app) reading(least, most int, do func(context.Context, *ucli.Command, *home.Home) error) ucli.ActionFunc {
	action := a.with(least, most, do)
	return func(ctx context.Context, cmd *ucli.Command) error {
		a.reads = true
		return action(ctx, cmd)
	}
}

// args checks the number of arguments; most is -1 for any number.
func args(cmd *ucli.Command, least, most int) error {
	n := cmd.Args().Len()
	switch {
	case n < least:
		return &usageError{fmt.Errorf("%s is missing", strings.Fields(cmd.ArgsUsage + " an argument")[n]), cmd.FullName()}
	case most >= 0 && n > most:
		return &usageError{fmt.Errorf("%q is one argument too many", cmd.Args().Get(most)), cmd.FullName()}
	}
	return nil
}
