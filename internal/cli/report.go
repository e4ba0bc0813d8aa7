package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"golang.org/x/term"

	"ostrov/internal/core/problem"
	"ostrov/internal/view"
)

// report says what went wrong, if anything, and returns the exit status.
func (a *app) report(ctx context.Context, err error) int {
	status, text, next := a.judged(ctx, err)
	if text == "" {
		return status
	}
	said := "ostrov: " + text + "\n"
	for _, line := range next {
		said += "  " + line + "\n"
	}
	if f, ok := a.Stderr.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
			said = view.Fitted(said, w)
		}
	}
	fmt.Fprint(a.Stderr, said)
	if (a.json || slices.Contains(a.Args, "--json")) && a.out != nil && !a.out.used { // who asked for a document gets one
		if err := view.JSON(a.Stdout, view.ErrorDocument(a.command, text, status, next)); err != nil {
			return exitError
		}
	}
	return status
}

// judged are the exit status of an error, what to say of it, "" for nothing, and what helps.
func (a *app) judged(ctx context.Context, err error) (code int, text string, next []string) {
	var status statusError
	var bad *usageError
	var known *problem.Error
	var stopped *Stopped
	switch {
	case err == nil:
		return exitDone, "", nil
	case errors.As(err, &status):
		return int(status), "", nil
	case errors.As(err, &bad):
		return exitUsage, bad.Error(), []string{bad.command + " --help"}
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		code = exitError
		if errors.As(context.Cause(ctx), &stopped) {
			code = stopped.Status()
		}
		return code, "stopped; what was not finished has been left as it was", nil
	case errors.As(err, &known):
		for _, line := range strings.Split(multiline(strings.Join(view.Commands(known.Hints), "\n")), "\n") {
			if line != "" {
				next = append(next, line)
			}
		}
		switch {
		case errors.Is(err, problem.ErrUsage):
			code = exitUsage
		case errors.Is(err, problem.ErrBusy), errors.Is(err, problem.ErrDeclined):
			code = exitDeclined
		default:
			code = exitError
		}
		return code, multiline(err.Error()), next
	case errors.Is(err, fs.ErrNotExist):
		return exitError, plainPath(err) + " is not there", nil
	}
	return exitError, multiline(err.Error()), nil
}

func plainPath(err error) string {
	if pe := (*fs.PathError)(nil); errors.As(err, &pe) {
		return view.Text(pe.Path)
	}
	return view.Text(err.Error())
}
