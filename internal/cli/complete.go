package cli

import (
	"context"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/view"
)

// candidate is a word that can stand at a place of the command line, and what it is.
type candidate struct{ word, about string }

// What there may be besides the words that are known.
const (
	onlyWords   = "words"
	alsoFiles   = "files"
	alsoFolders = "folders"
)

// candidates are the words that can stand in the place of the last one, and what else there may be.
func (a *app) candidates(ctx context.Context, words []string) (also string, found []candidate) {
	a.reads = true
	last := words[len(words)-1]
	cmd, option, n, ended := a.walk(words[:len(words)-1])
	c := completing{a: a, ctx: ctx, cmd: cmd, also: onlyWords}
	switch name, _, assigned := strings.Cut(last, "="); {
	case option != nil:
		c.value(option)
	case ended:
		c.also = alsoFiles
	case assigned && strings.HasPrefix(name, "-"):
		if option = optionOf(cmd, name); option != nil {
			c.value(option)
		}
		for i := range c.found {
			c.found[i].word = name + "=" + c.found[i].word
		}
	case strings.HasPrefix(last, "-"):
		c.options()
	default:
		if n == 0 {
			for _, sub := range cmd.Commands {
				if !sub.Hidden {
					c.offer(sub.Name, sub.Usage)
				}
			}
		}
		c.argument(n)
	}
	return c.also, slices.DeleteFunc(c.found, func(f candidate) bool { return !strings.HasPrefix(f.word, last) || strings.ContainsAny(f.word, "\n\t") })
}

// walk follows the words to the command that they name. option is the one whose value comes next, n how many arguments there are already, and
// ended tells that there are only the words of another command after --.
func (a *app) walk(words []string) (cmd *ucli.Command, option ucli.Flag, n int, ended bool) {
	cmd = a.root()
	for i := 0; i < len(words); i++ {
		w := words[i]
		switch {
		case w == "--":
			return cmd, nil, n, true
		case strings.HasPrefix(w, "-"):
			name, value, assigned := strings.Cut(w, "=")
			f := optionOf(cmd, name)
			if f == nil || !takesValue(f) {
				continue
			}
			if !assigned {
				if i == len(words)-1 {
					return cmd, f, n, false
				}
				i++
				value = words[i]
			}
			if slices.Contains(f.Names(), "home") {
				a.home = value
			}
		default:
			if sub := subcommand(cmd, w); sub != nil && n == 0 {
				cmd = sub
				continue
			}
			n++
		}
	}
	return cmd, nil, n, false
}

func subcommand(cmd *ucli.Command, name string) *ucli.Command {
	i := slices.IndexFunc(cmd.Commands, func(c *ucli.Command) bool { return c.Name == name })
	if i < 0 {
		return nil
	}
	return cmd.Commands[i]
}

// optionOf is the option of a command, or of all, that a word names, or nil.
func optionOf(cmd *ucli.Command, word string) ucli.Flag {
	name := strings.TrimLeft(word, "-")
	for _, f := range append(slices.Clone(cmd.Flags), cmd.Root().Flags...) {
		if slices.Contains(f.Names(), name) {
			return f
		}
	}
	return nil
}

func takesValue(f ucli.Flag) bool {
	d, ok := f.(ucli.DocGenerationFlag)
	return ok && d.TakesValue()
}

// completing gathers the candidates for one place of the command line.
type completing struct {
	a     *app
	ctx   context.Context
	cmd   *ucli.Command
	home  *home.Home
	also  string
	found []candidate
}

func (c *completing) offer(word, about string) {
	c.found = append(c.found, candidate{word, view.Text(about)})
}

func (c *completing) open() *home.Home {
	if c.home == nil {
		c.home, _ = c.a.open() // without a home there is nothing to offer
	}
	return c.home
}

func (c *completing) options() {
	flags := slices.Clone(c.cmd.Flags)
	if c.cmd != c.cmd.Root() {
		flags = append(flags, c.cmd.Root().Flags...)
	}
	for _, f := range flags {
		d, ok := f.(ucli.DocGenerationFlag)
		for _, name := range f.Names() {
			if ok && len(name) > 1 {
				c.offer(dashed(name), strings.ReplaceAll(d.GetUsage(), "`", ""))
			}
		}
	}
}

// argument offers what the usage of the command says of its argument number n, counted from 0.
func (c *completing) argument(n int) {
	places := strings.Fields(strings.ReplaceAll(c.cmd.ArgsUsage, " | ", "|"))
	if len(places) == 0 {
		return
	}
	if n >= len(places) {
		if !strings.HasSuffix(places[len(places)-1], "...") {
			return
		}
		n = len(places) - 1
	}
	for _, kind := range strings.Split(strings.Trim(strings.TrimSuffix(places[n], "..."), "[]"), "|") {
		c.kind(kind)
	}
}

// value offers what can be the value of an option, by the word for it in its usage.
func (c *completing) value(f ucli.Flag) {
	d, ok := f.(ucli.DocGenerationFlag)
	if !ok {
		return
	}
	_, rest, _ := strings.Cut(d.GetUsage(), "`")
	kind, _, _ := strings.Cut(rest, "`")
	switch name := f.Names()[0]; {
	case kind == "WHAT":
		_, list, _ := strings.Cut(d.GetUsage(), ":")
		for _, word := range []string{"saves", "settings", "data", "mods", "pictures", "game"} {
			if strings.Contains(list, word) {
				c.offer(word, "")
			}
		}
	case name == "as" && kind == "NAME":
		c.kind("PLAYTHROUGH")
	case name == "state":
		c.offer("clean", "it needs a game without mods")
		c.offer("version ", "")
		c.eachState(func(_ *game.Install, st *facts.State) {
			for _, m := range st.Mods.Mods {
				c.offer("mod "+m.ID, m.Name())
			}
		})
	default:
		c.kind(kind)
	}
}

// kind offers all words of one kind, as usages call it.
func (c *completing) kind(kind string) {
	switch kind {
	case "FILE":
		c.also = alsoFiles
	case "DIR":
		c.also = alsoFolders
	case "SHELL":
		for _, s := range shells {
			c.offer(s, "")
		}
	case "COMMAND":
		for _, s := range c.cmd.Root().Commands {
			if !s.Hidden {
				c.offer(s.Name, s.Usage)
			}
		}
	case "GAME", "GAME@INSTALL":
		c.games(kind)
	case "SAVE", "GAME/SLOT":
		c.eachState(func(_ *game.Install, st *facts.State) {
			for _, s := range st.Saves {
				c.offer(st.Address(s), s.Title())
			}
		})
	case "PLAYTHROUGH":
		c.lines()
	case "SNAPSHOT", "PLAYTHROUGH[.NUMBER]":
		c.snapshots()
	case "KIND":
		c.kindsOfSave()
	case "CHANGE":
		for _, word := range []string{"add:", "version:"} {
			c.offer(word, "")
		}
		c.eachState(func(_ *game.Install, st *facts.State) {
			for _, m := range st.Mods.Mods {
				c.offer("drop:"+m.ID, m.Name())
			}
		})
	case "A", "B":
		c.snapshots()
		c.games("GAME@INSTALL")
		c.kind("SAVE")
		c.also = alsoFiles
	}
}

func (c *completing) games(kind string) {
	h := c.open()
	if h == nil {
		return
	}
	if c.cmd.Name == "add" {
		for _, id := range h.GameIDs() {
			c.offer(id, h.Game(id).Title)
		}
		return
	}
	for _, in := range h.Installs {
		if !slices.ContainsFunc(c.found, func(f candidate) bool { return f.word == in.Game.ID }) && kind == "GAME" {
			c.offer(in.Game.ID, in.Game.Title)
		}
		if kind == "GAME@INSTALL" || h.Called(in) != in.Game.ID {
			c.offer(in.Address(), in.Root)
		}
	}
}

func (c *completing) eachState(do func(in *game.Install, st *facts.State)) {
	h := c.open()
	if h == nil {
		return
	}
	for _, in := range h.Installs {
		if st, _, err := c.a.see(c.ctx, h, in); err == nil {
			do(in, st)
		}
	}
}

func (c *completing) lines() {
	if h := c.open(); h != nil {
		all, _ := h.Logbook.Playthroughs(c.ctx)
		for _, p := range all {
			c.offer(p.Name, p.Title)
		}
	}
}

func (c *completing) snapshots() {
	h := c.open()
	if h == nil {
		return
	}
	arch, err := h.Archive()
	if err != nil {
		return
	}
	names, _ := arch.Playthroughs()
	for _, name := range names {
		c.offer(name, "")
		addresses, _ := arch.Addresses(name)
		for _, address := range addresses {
			c.offer(address, "")
		}
	}
}

func (c *completing) kindsOfSave() {
	h := c.open()
	if h == nil {
		return
	}
	for _, in := range h.Installs {
		for i := range in.Game.Saves {
			c.offer(in.Game.Saves[i].ID, in.Game.Title)
		}
	}
}
