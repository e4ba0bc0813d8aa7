// Package problem says what went wrong in words for people, and what they can do next.
//
// An Error tells what happened, to what, and what is unharmed; its Hints are commands as data, so that the core knows nothing of command
// lines: only package view writes them out. Kinds of refusal that have an exit status of their own are sentinels, found with errors.Is.
package problem

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Kinds of refusal that have an exit status of their own.
var (
	// ErrBusy says that the game runs, or another Ostrov works on the same folders.
	ErrBusy = errors.New("busy")
	// ErrDeclined says that the player's consent is needed and was not given.
	ErrDeclined = errors.New("declined")
	// ErrUsage says that the request itself makes no sense.
	ErrUsage = errors.New("usage")
)

// Error is what went wrong, and what to do next.
type Error struct {
	Text  string
	Hints Hints
	Err   error // the cause, or the kind of refusal; nil where there is neither
}

func (e *Error) Error() string { return e.Text }

// Unwrap is the cause.
func (e *Error) Unwrap() error { return e.Err }

// New is an error with hints. A cause that the format wraps with %w is its cause.
func New(hints Hints, format string, args ...any) error {
	err := fmt.Errorf(format, args...)
	return &Error{Text: err.Error(), Hints: hints, Err: errors.Unwrap(err)}
}

// Usage is a mistake in what was asked for.
func Usage(hints Hints, format string, args ...any) error {
	return refusal(ErrUsage, hints, format, args)
}

// Busy is a refusal because someone else is at work.
func Busy(hints Hints, format string, args ...any) error {
	return refusal(ErrBusy, hints, format, args)
}

// Declined is a refusal for want of consent.
func Declined(hints Hints, format string, args ...any) error {
	return refusal(ErrDeclined, hints, format, args)
}

func refusal(kind error, hints Hints, format string, args []any) error {
	return &Error{Text: fmt.Errorf(format, args...).Error(), Hints: hints, Err: kind} // which takes %w, too
}

// HintsOf are the hints of an error, or nil.
func HintsOf(err error) Hints {
	if known := (*Error)(nil); errors.As(err, &known) {
		return known.Hints
	}
	return nil
}

// Hint is one thing to do next: a command, or advice in words.
type Hint struct {
	Command string   // "games add"; "" for advice
	Args    []string // not quoted
	Options []Option
	Text    string // the advice, or what to know of the command: "on a drive that has room"
}

// Option is an option of a command; its value is "" for a switch.
type Option struct{ Name, Value string }

// Hints are things to do next, the best first; nil is none.
type Hints []Hint

// Do hints at a command. What stands for something that the player fills in is written in capitals.
func Do(command string, args ...string) Hints { return Hints{{Command: command, Args: args}} }

// Advise hints in words.
func Advise(format string, args ...any) Hints { return Hints{{Text: fmt.Sprintf(format, args...)}} }

// With adds an option to the last command. Several values are the option several times.
func (h Hints) With(name string, values ...string) Hints {
	last := &h[len(h)-1]
	if len(values) == 0 {
		last.Options = append(last.Options, Option{Name: name})
	}
	for _, v := range values {
		last.Options = append(last.Options, Option{name, v})
	}
	return h
}

// Note says what to know of the last command.
func (h Hints) Note(text string) Hints {
	h[len(h)-1].Text = text
	return h
}

// Or adds other hints.
func (h Hints) Or(others ...Hints) Hints {
	for _, o := range others {
		h = append(h, o...)
	}
	return h
}

// About says what a word in capitals stands for.
func (h Hints) About(word, value string) Hints {
	about := make(Hints, len(h))
	for i, hint := range h {
		hint.Args = slices.Clone(hint.Args)
		for j, arg := range hint.Args {
			if arg == word {
				hint.Args[j] = value
			}
		}
		about[i] = hint
	}
	return about
}

// Near hints at the name that was probably meant, or else at what there is.
func Near(name string, names []string, nearest func(string, []string) string) Hints {
	if near := nearest(name, names); near != "" && near != name {
		return Advise("did you mean %s?", near)
	}
	if len(names) == 0 {
		return nil
	}
	return Advise("there are: %s", strings.Join(names, ", "))
}
