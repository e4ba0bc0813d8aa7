package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/assess"
	"ostrov/internal/core/home"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/mods"
	"ostrov/internal/view"
)

func (a *app) restore() *ucli.Command {
	return &ucli.Command{
		Name: "restore", Category: "keep", Usage: "put a snapshot back; what is there now is kept first", ArgsUsage: "SNAPSHOT",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "slot", Usage: "only the save in slot `N`, or of that name"},
			&ucli.StringSliceFlag{Name: "only", Usage: "only `WHAT`: saves, settings, data of mods, mods, pictures; or the game, --to a folder"},
			&ucli.BoolFlag{Name: "all", Usage: "also the settings that stay as they are, by the description of the game"},
			olderFlag(),
			&ucli.StringFlag{Name: "to", Usage: "into the new folder `DIR` instead of the game's", TakesFile: true},
		},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			if err := args(cmd, 1, 1); err != nil {
				return err
			}
			req, err := restoreRequest(cmd)
			if err != nil {
				return err
			}
			h, err := a.open()
			if err != nil {
				return err
			}
			snap, err := h.Snapshot(cmd.Args().First())
			if err != nil {
				return err
			}
			switch to := cmd.String("to"); {
			case slices.Contains(req.Only, archive.Game):
				return a.restoreGame(ctx, h, snap, to)
			case to != "":
				return a.restoreTo(ctx, h, snap, to, req)
			}
			in, err := keep.InstallOf(ctx, h, snap)
			if err != nil {
				return err
			}
			st, _, err := a.see(ctx, h, in)
			if err != nil {
				return err
			}
			p, err := keep.Restore(ctx, h, st, snap, req)
			if err != nil {
				return err
			}
			finder := mods.NewFinder(h)
			defer finder.Close()
			if err := mods.Restored(ctx, finder, assess.Of(st), p, snap); err != nil {
				return err
			}
			if n := len(p.Stayed); n > 0 {
				p.Warnings = append(p.Warnings, fmt.Sprintf("%s as they are, by the description of the game: %s (--all takes them, too)", view.Count(n, "setting stays", "settings stay"), strings.Join(p.Stayed[:min(n, 4)], ", ")))
				p.Reason += " (--all takes them, too)"
			}
			return a.carryOut(ctx, h, carry{command: "restore", plan: p, done: "restored " + snap.Address(), question: "Put this back?", older: cmd.Bool("older")})
		},
	}
}

// restoreRequest reads the flags of restore.
func restoreRequest(cmd *ucli.Command) (keep.RestoreRequest, error) {
	req := keep.RestoreRequest{Slot: cmd.String("slot"), All: cmd.Bool("all")}
	var known []string
	for _, k := range keep.Restorable {
		known = append(known, string(k))
	}
	for _, o := range cmd.StringSlice("only") {
		if !slices.Contains(known, o) {
			return req, &usageError{fmt.Errorf("--only %s is not understood: there are %s", o, strings.Join(known, ", ")), "ostrov restore"}
		}
		req.Only = append(req.Only, archive.Kind(o))
	}
	if slices.Contains(req.Only, archive.Game) && (cmd.String("to") == "" || len(req.Only) > 1) {
		return req, &usageError{errors.New("--only game brings the game back as a second install: say where, with --to DIR, and nothing else"), "ostrov restore"}
	}
	return req, nil
}

func (a *app) restoreTo(ctx context.Context, h *home.Home, snap *archive.Snapshot, to string, req keep.RestoreRequest) error {
	files, err := 0, error(nil)
	if a.dryRun {
		files, err = keep.CheckRestoreTo(ctx, h, snap, to, req)
	} else {
		files, err = keep.RestoreTo(ctx, h, snap, to, req)
	}
	if err != nil {
		return err
	}
	if a.json {
		return view.JSON(a.Stdout, view.WrittenDoc{Head: view.NewHead("restore"), To: to, Files: files, Done: !a.dryRun})
	}
	p := a.printer()
	for _, l := range snap.LeftOut {
		p.Line("not in the snapshot: %s (%s)", view.Text(l.Path), view.Text(l.Why))
	}
	if a.dryRun {
		p.Line("%s would be written to %s: %s. Nothing has been written: --dry-run.", snap.Address(), view.Text(to), view.Count(files, "file", "files"))
		return nil
	}
	p.Line("restored %s to %s: %s; the game's folders are untouched", snap.Address(), view.Text(to), view.Count(files, "file", "files"))
	return nil
}

// restoreGame lays a kept game out as a second install.
func (a *app) restoreGame(ctx context.Context, h *home.Home, snap *archive.Snapshot, to string) error {
	if a.dryRun {
		files, err := keep.CheckRestoreTo(ctx, h, snap, to, keep.RestoreRequest{Only: []archive.Kind{archive.Game}})
		if err != nil {
			return err
		}
		if a.json {
			return view.JSON(a.Stdout, view.WrittenDoc{Head: view.NewHead("restore"), To: to, Files: files})
		}
		a.printer().Line("the game of %s would be laid out in %s and registered. Nothing has been written: --dry-run.", snap.Address(), view.Text(to))
		return nil
	}
	f, err := keep.RestoreGame(ctx, h, snap, to)
	if err != nil {
		return err
	}
	if a.json {
		return view.JSON(a.Stdout, view.Frozen(f))
	}
	a.printer().Frozen(f, snap)
	return nil
}
