package cli

import (
	"context"
	"errors"
	"io"
	"path/filepath"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/job"
	"ostrov/internal/view"
)

func (a *app) compare() *ucli.Command {
	return &ucli.Command{
		Name: "compare", Category: "see", Usage: "what differs between two of: install, snapshot, save, mod list, parcel; mods first", ArgsUsage: "A B",
		Description: "compare GAME+MOD SNAPSHOT shows what was edited in a mod since it was kept.",
		Action: a.with(2, 2, func(ctx context.Context, cmd *ucli.Command, s *job.Session) error {
			c, err := s.Compare(ctx, cmd.Args().Get(0), cmd.Args().Get(1))
			if err != nil {
				return err
			}
			if a.json {
				return view.JSON(a.Stdout, view.Compared(c))
			}
			a.printer().Compared(c)
			return nil
		}),
	}
}

// writeMods writes the mod list into a file, in the form that its ending says.
func (a *app) writeMods(l *job.Look, file string) error {
	list := job.ModListOf(l)
	var write func(io.Writer) error
	switch strings.ToLower(filepath.Ext(file)) {
	case ".json":
		write = func(w io.Writer) error { return view.JSON(w, list) }
	case ".csv":
		write = func(w io.Writer) error { return view.ModListCSV(w, list) }
	case ".md":
		write = func(w io.Writer) error { return view.ModListMarkdown(w, l.Install.Game.Title, list) }
	default:
		return &usageError{errors.New("--write takes a file that ends in .json, .csv or .md"), "ostrov mods"}
	}
	if _, err := job.WriteFile(file, a.yes, write); err != nil {
		return err
	}
	a.printer().Line("%s: %s", file, view.Count(len(list.Mods), "mod", "mods"))
	return nil
}
