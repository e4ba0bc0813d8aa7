package cli

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/strict"
)

// scripts are what each shell is told of completion. They ask `ostrov complete` and know nothing themselves.
//
//go:embed shells
var scripts embed.FS

// shells are those that completion is for.
var shells = []string{"bash", "zsh", "fish", "pwsh"}

func (a *app) completion() *ucli.Command {
	return &ucli.Command{
		Name: "completion", Hidden: true, Usage: "print the completion script for a shell: " + strings.Join(shells, ", "), ArgsUsage: "SHELL",
		Action: func(_ context.Context, cmd *ucli.Command) error {
			if err := args(cmd, 1, 1); err != nil {
				return err
			}
			shell := cmd.Args().First()
			if !slices.Contains(shells, shell) {
				text := fmt.Sprintf("no completion for %q; there is one for %s", shell, strings.Join(shells, ", "))
				if near := strict.Nearest(shell, shells); near != "" {
					text = fmt.Sprintf("no completion for %q; did you mean %s?", shell, near)
				}
				return &usageError{errors.New(text), cmd.FullName()}
			}
			script, err := scripts.ReadFile("shells/" + shell)
			if err == nil {
				_, err = a.Stdout.Write(script)
			}
			return err
		},
	}
}

// complete answers the scripts: the first line says what else there may be (words: nothing; files; folders), and each further line is a word, with
// a tab and what it is behind it where the shell shows that. The words are those of the command line as far as the cursor, the last one being what
// is completed; bash hands over the line itself, since it takes words apart at characters that are in addresses.
func (a *app) complete() *ucli.Command {
	return &ucli.Command{
		Name: "complete", Hidden: true, Usage: "what completion scripts ask", ArgsUsage: "SHELL WORD...", SkipFlagParsing: true,
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			words := cmd.Args().Slice()
			if len(words) > 1 && words[1] == "--" {
				words = slices.Delete(words, 1, 2)
			}
			if len(words) < 2 {
				return nil
			}
			shell, words := words[0], words[1:]
			show := func(c candidate) string { return c.word + "\t" + c.about }
			if shell == "bash" {
				if len(words) < 2 {
					return nil
				}
				line := splitLine(words[1], words[0])
				words = line.words
				show = line.quoted
			}
			if len(words) == 0 {
				return nil
			}
			also, found := a.candidates(ctx, words)
			fmt.Fprintln(a.Stdout, also)
			for _, c := range found {
				fmt.Fprintln(a.Stdout, strings.TrimSuffix(show(c), "\t"))
			}
			return nil
		},
	}
}

// bashLine is a command line as bash hands it over.
type bashLine struct {
	words []string // without the command's own name; the last one is what is completed
	quote rune     // that is open at its end, or 0
	typed string   // what bash leaves of the last word as it is: all before the last character at which it takes words apart, unquoted
}

// splitLine takes a line apart as the shell does; breaks are the characters at which bash's completion takes words apart besides.
func splitLine(text, breaks string) bashLine {
	var l bashLine
	var word strings.Builder
	begun := false
	end := func() {
		if begun {
			l.words = append(l.words, word.String())
		}
		word.Reset()
		begun, l.typed = false, ""
	}
	escaped := false
	for _, c := range text {
		switch {
		case escaped:
			if l.quote == '"' && !strings.ContainsRune("\"\\$`", c) {
				word.WriteRune('\\')
			}
			word.WriteRune(c)
			escaped = false
		case c == '\\' && l.quote != '\'':
			escaped, begun = true, true
		case l.quote != 0 && c == l.quote:
			l.quote = 0
		case l.quote != 0:
			word.WriteRune(c)
		case c == '\'' || c == '"':
			l.quote, begun, l.typed = c, true, word.String()
		case c == ' ' || c == '\t':
			end()
		default:
			word.WriteRune(c)
			if begun = true; strings.ContainsRune(breaks, c) {
				l.typed = word.String()
			}
		}
	}
	l.words = append(l.words, word.String())
	l.words = l.words[1:]
	return l
}

// special are the characters that mean something to bash.
const special = " \t\n\\'\"`$&|;<>()*?[]!#~{}"

// quoted is what bash puts in the place of the part of the word that it knows.
func (l bashLine) quoted(c candidate) string {
	rest := strings.TrimPrefix(c.word, l.typed)
	var b strings.Builder
	for _, r := range rest {
		switch {
		case l.quote == 0 && strings.ContainsRune(special, r), l.quote == '"' && strings.ContainsRune("\"\\$`", r):
			b.WriteRune('\\')
		case l.quote == '\'' && r == '\'':
			b.WriteString(`'\'`)
		}
		b.WriteRune(r)
	}
	return b.String()
}
