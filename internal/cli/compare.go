package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/compare"
	"ostrov/internal/core/home"
	"ostrov/internal/core/modlist"
	"ostrov/internal/view"
)

func (a *app) compare() *ucli.Command {
	return &ucli.Command{
		Name: "compare", Category: "see", Usage: "what differs between two of: install, snapshot, save, mod list, parcel; mods first", ArgsUsage: "A B",
		Description: "compare GAME+MOD SNAPSHOT shows what was edited in a mod since it was kept.",
		Action: a.reading(2, 2, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			c, err := compare.Compare(ctx, h, cmd.Args().Get(0), cmd.Args().Get(1))
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
func (a *app) writeMods(h *home.Home, l *assess.Install, file string) error {
	list := modlist.NewFile(l.Install.Game.ID, l.Version, l.Mods.Ordered, l.List)
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
	if a.dryRun {
		if err := home.CheckFree(file, a.yes); err != nil {
			return err
		}
	} else if _, err := h.WriteFile(file, a.yes, write); err != nil {
		return err
	}
	if a.json {
		return view.JSON(a.Stdout, view.WrittenDoc{Head: view.NewHead("mods"), To: file, Files: 1, Done: !a.dryRun})
	}
	would := map[bool]string{true: "would be written; nothing has been: --dry-run"}[a.dryRun]
	a.printer().Line("%s", strings.TrimSpace(fmt.Sprintf("%s: %s %s", file, view.Count(len(list.Mods), "mod", "mods"), would)))
	return nil
}
