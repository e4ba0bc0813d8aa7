package view

import (
	"slices"
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/problem"
)

// Command is a hint as it is typed, or as it is said.
func Command(h problem.Hint) string {
	if h.Command == "" {
		return h.Text
	}
	words := []string{"ostrov", h.Command}
	for _, a := range h.Args {
		words = append(words, quoted(a))
	}
	for _, o := range h.Options {
		name := "--" + o.Name
		if len(o.Name) == 1 {
			name = "-" + o.Name
		}
		words = append(words, name)
		if o.Value != "" {
			words = append(words, quoted(o.Value))
		}
	}
	text := strings.Join(words, " ")
	if h.Text != "" {
		text += "   (" + h.Text + ")"
	}
	return text
}

// Commands are hints, each in a line of its own.
func Commands(hints problem.Hints) []string {
	var lines []string
	for _, h := range hints {
		lines = append(lines, strings.Split(Command(h), "\n")...)
	}
	return lines
}

// quoted is text as an argument on a command line, quoted where it needs that.
func quoted(text string) string {
	if text != "" && !strings.ContainsAny(text, " \t\n'\"\\$&;|<>()*?[]#~`!{}") {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

// Next writes what helps, and last the commands to type next.
func (p *Printer) Next(hints ...problem.Hints) {
	var advice, commands []string
	for _, h := range slices.Concat(hints...) {
		text := Command(h)
		switch {
		case text == "" || slices.Contains(advice, text) || slices.Contains(commands, text):
		case h.Command != "":
			commands = append(commands, text)
		default:
			advice = append(advice, text)
		}
	}
	p.list("What helps", advice)
	p.list("Next", commands)
}

// FindingDoc is a finding in JSON.
type FindingDoc struct {
	Code     check.Code     `json:"code"`
	Severity check.Severity `json:"severity"`
	Subject  string         `json:"subject"`  // what it is about: a mod, a path in the download; "" is the save itself
	Evidence string         `json:"evidence"` // what was found, as half a sentence
	Effect   string         `json:"effect"`   // what the game does then, observed; "" where nobody has said
	Remedy   string         `json:"remedy"`   // a command, or what to do where no command does it
}

// findingDocs are findings in JSON.
func findingDocs(found []check.Finding) []FindingDoc {
	docs := []FindingDoc{}
	for _, f := range found {
		docs = append(docs, FindingDoc{f.Code, f.Severity, f.Subject, f.Evidence, f.Effect, strings.Join(Commands(f.Remedy), "\n")})
	}
	return docs
}
