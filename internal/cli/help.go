package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/view"
)

// help shows the help of the whole program, or that of a command.
func (a *app) help() *ucli.Command {
	return &ucli.Command{
		Name: "help", Usage: "this page, or that of a command", ArgsUsage: "[COMMAND...]", Hidden: true,
		Action: func(_ context.Context, cmd *ucli.Command) error {
			of := cmd.Root()
			for _, name := range cmd.Args().Slice() {
				next := of.Command(name)
				if next == nil || next.Hidden {
					return a.unknownCommand(of, name)
				}
				of = next
			}
			if of == cmd.Root() {
				return ucli.ShowRootCommandHelp(of)
			}
			return ucli.ShowSubcommandHelp(of)
		},
	}
}

// helpAsked is what is asked for where --help stands behind what a command is about, as in set SAVE --help: the help of that command. The parser would take
// SAVE for a command.
func helpAsked(root *ucli.Command, args []string) []string {
	words := args
	if i := slices.Index(args, "--"); i >= 0 {
		words = args[:i]
	}
	if !slices.Contains(words, "--help") && !slices.Contains(words, "-h") || len(words) < 2 {
		return args
	}
	of, help := root, []string{words[0]}
	for i, word := range words[1:] {
		if of == root && isValued(root, words[i]) {
			continue
		}
		if next := of.Command(word); next != nil && !next.Hidden {
			of, help = next, append(help, word)
		} else if !strings.HasPrefix(word, "-") {
			if of == root { // no command: that is to be said
				return []string{words[0], word}
			}
			break // what the command is about
		}
	}
	return append(help, "--help")
}

// isValued reports whether a word is an option of a command that the next word is the value of.
func isValued(of *ucli.Command, word string) bool {
	name, dashed := strings.CutPrefix(word, "-")
	return dashed && slices.ContainsFunc(of.Flags, func(f ucli.Flag) bool {
		_, valued := f.(*ucli.StringFlag)
		return valued && slices.Contains(f.Names(), strings.TrimPrefix(name, "-"))
	})
}

// helpOf is the help of the whole program: the commands in their groups, in the order in which a player meets them. The parser's own help
// would sort the groups by name.
func helpOf(root *ucli.Command) string {
	width := 0
	for _, c := range root.Commands {
		width = max(width, len(c.Name))
	}
	var b strings.Builder
	fmt.Fprintf(&b, "ostrov %s\n\n  ostrov COMMAND [OPTIONS]\n", root.Usage)
	group := ""
	for _, c := range root.Commands {
		if c.Hidden {
			continue
		}
		if c.Category != group {
			group = c.Category
			fmt.Fprintf(&b, "\n%s\n", group)
		}
		fmt.Fprintf(&b, "  %-*s  %s\n", width, c.Name, c.Usage)
	}
	fmt.Fprintf(&b, "\n%s\n\nevery command\n", root.Description)
	for _, f := range root.Flags {
		fmt.Fprintf(&b, "  %s\n", f)
	}
	return b.String()
}

// helpWriter is where the parser writes help, piece by piece: lines come out no wider than the terminal.
type helpWriter struct {
	a    *app
	line strings.Builder
}

func (w *helpWriter) Write(text []byte) (int, error) {
	p := w.a.printer()
	if p.Whole {
		return w.a.Stdout.Write(text)
	}
	whole, rest, ended := cutLast(string(text), "\n")
	w.line.WriteString(whole)
	if !ended {
		return len(text), nil
	}
	_, err := io.WriteString(w.a.Stdout, view.Fitted(w.line.String(), p.Width))
	w.line.Reset()
	w.line.WriteString(rest)
	return len(text), err
}

// cutLast cuts a text behind the last end.
func cutLast(text, end string) (before, after string, found bool) {
	i := strings.LastIndex(text, end)
	if i < 0 {
		return text, "", false
	}
	return text[:i+len(end)], text[i+len(end):], true
}
