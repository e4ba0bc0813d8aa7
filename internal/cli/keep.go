package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/share"
	"ostrov/internal/view"
)

func (a *app) keep() *ucli.Command {
	return &ucli.Command{
		Name: "keep", Category: "keep", Usage: "snapshot saves, mod list and settings into the archive", ArgsUsage: "[GAME] [FILE...]",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "as", Usage: "keep the playthrough `NAME`"},
			&ucli.StringFlag{Name: "m", Usage: "a `NOTE`, to know it by"},
			&ucli.StringSliceFlag{Name: "tag", Usage: "a `TAG`: PLAYTHROUGH.TAG is its address then, too"},
			&ucli.StringSliceFlag{Name: "with", Usage: "keep `WHAT` too: mods, game (with its mods), pictures; nothing is none of them"},
			&ucli.BoolFlag{Name: "always", Usage: "keep this playthrough with these from now on"},
			&ucli.StringFlag{Name: "settings", Usage: "keep the settings alone, or only those called FILE, as the set `NAME` for any playthrough"},
			&ucli.StringFlag{Name: "from", Usage: "take in the copy in `DIR` that was made by hand", TakesFile: true},
			listFlag(),
			&ucli.BoolFlag{Name: "reread", Usage: "read all files, also those that have not changed"},
		},
		Action: a.with(0, -1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			req, err := keepRequest(cmd)
			if err != nil {
				return err
			}
			files := cmd.Args().Tail()
			if len(files) > 0 && cmd.String("settings") == "" {
				return &usageError{fmt.Errorf("%q is one argument too many", files[0]), "ostrov keep"}
			}
			in, err := h.Install(cmd.Args().First())
			if alone, errAlone := h.Install(""); err != nil && errAlone == nil && cmd.String("settings") != "" { // with one game it need not be named
				in, files, err = alone, cmd.Args().Slice(), nil
			}
			if err != nil {
				return err
			}
			if _, err := settle(ctx, h, in); err != nil {
				return err
			}
			set := cmd.String("settings")
			if a.dryRun {
				return a.keepDry(ctx, h, in, req, set != "")
			}
			if req.List == "" && set == "" && req.From == "" && req.As == "" && a.hasTerminal() {
				st, _, err := a.see(ctx, h, in)
				if err != nil {
					return err
				}
				if req.List, err = a.whichList(h, st, askList); err != nil {
					return err
				}
			}
			var k *keep.Kept
			if set != "" {
				var st *facts.State
				if st, _, err = a.see(ctx, h, in); err == nil {
					k, err = keep.Settings(ctx, h, st, set, req.Note, files)
				}
			} else {
				k, err = keep.Keep(ctx, h, in, req)
			}
			if err != nil {
				return err
			}
			if a.json {
				err = view.JSON(a.Stdout, view.KeptDocument(k))
			} else {
				a.printer().Kept(k)
			}
			if k.Missed && err == nil { // what was kept was kept all the same
				return statusError(exitDeclined)
			}
			return err
		}),
	}
}

// keepRequest reads the flags of keep.
func keepRequest(cmd *ucli.Command) (keep.Request, error) {
	req := keep.Request{As: cmd.String("as"), Note: cmd.String("m"), Tags: cmd.StringSlice("tag"), Always: cmd.Bool("always"), From: cmd.String("from"), Reread: cmd.Bool("reread")}
	var err error
	if req.List, err = listOf(cmd); err != nil {
		return req, err
	}
	for _, w := range cmd.StringSlice("with") {
		switch {
		case slices.Contains(keep.Optional, archive.Kind(w)):
			req.With = append(req.With, archive.Kind(w))
		case w == "nothing":
			req.With = []archive.Kind{}
		default:
			return req, &usageError{fmt.Errorf("--with %s is not understood: there are mods, game, pictures and nothing", w), "ostrov keep"}
		}
	}
	return req, nil
}

// keepDry shows what would be kept.
func (a *app) keepDry(ctx context.Context, h *home.Home, in *game.Install, req keep.Request, settings bool) error {
	pre, err := keep.Look(ctx, h, in, req, settings)
	if err != nil {
		return err
	}
	if a.json {
		doc := view.KeepPlanDoc{Head: view.NewHead("keep"), Playthrough: pre.Playthrough, Takes: pre.Takes, LeftOut: pre.LeftOut}
		for _, other := range pre.Also {
			doc.Also = append(doc.Also, other.Line)
		}
		return view.JSON(a.Stdout, doc)
	}
	a.printer().KeepPlan(pre, in.Address())
	return nil
}

// maxContents bounds how many files of a set of settings are listed.
const maxContents = 200

func (a *app) kept() *ucli.Command {
	return &ucli.Command{
		Name: "kept", Category: "keep", Usage: "the snapshots as a timeline, one of them, or all that was kept of one save", ArgsUsage: "[PLAYTHROUGH[.NUMBER] | GAME/SLOT]",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "export", Usage: "write the snapshot to `FILE`.zip, for people who do not have Ostrov", TakesFile: true},
			&ucli.StringFlag{Name: "m", Usage: "give the snapshot another `NOTE`"},
			&ucli.StringSliceFlag{Name: "tag", Usage: "give it a `TAG` more: PLAYTHROUGH.TAG is its address then, too"},
			&ucli.BoolFlag{Name: "blank", Usage: "with --export: empty or leave out what the description marks as personal"},
		},
		Action: a.with(0, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			address := cmd.Args().First()
			if file := cmd.String("export"); file != "" {
				return a.export(ctx, h, address, file, cmd.Bool("blank"))
			}
			if (cmd.IsSet("m") || cmd.IsSet("tag")) && !strings.Contains(address, ".") {
				return &usageError{errors.New("-m and --tag need a snapshot: PLAYTHROUGH.NUMBER"), "ostrov kept"}
			}
			if strings.Contains(address, "/") {
				return a.history(ctx, h, address)
			}
			if strings.Contains(address, ".") {
				snap, err := h.Snapshot(address)
				if err != nil {
					return err
				}
				if cmd.IsSet("m") || cmd.IsSet("tag") {
					if err := a.remark(h, snap, cmd); err != nil {
						return err
					}
				}
				if a.json {
					return a.keptJSON([]*archive.Snapshot{snap})
				}
				a.printer().Snapshot(snap)
				if snap.Set {
					files, err := keep.Contents(ctx, h, snap, maxContents)
					if err != nil {
						return err
					}
					a.printer().Contents(files, snap)
				}
				a.printer().Next(problem.Do("restore", snap.Address()), problem.Do("restore", snap.Address()).With("to", "DIR"))
				return nil
			}
			return a.timeline(h, address)
		}),
	}
}

// history shows what was kept of one save.
func (a *app) history(ctx context.Context, h *home.Home, address string) error {
	in, folder, name, err := h.SaveAddress(address)
	if err != nil {
		return err
	}
	st, _, err := a.see(ctx, h, in)
	if err != nil {
		return err
	}
	history, err := keep.HistoryOf(ctx, h, st, folder, name)
	if err != nil {
		return err
	}
	if a.json {
		return view.JSON(a.Stdout, view.HistoryDocument(history))
	}
	a.printer().History(st, history)
	return nil
}

// remark gives a snapshot the note and tags of the options.
func (a *app) remark(h *home.Home, snap *archive.Snapshot, cmd *ucli.Command) error {
	note, tags := snap.Note, slices.Clone(snap.Tags)
	if cmd.IsSet("m") {
		note = cmd.String("m")
	}
	for _, t := range cmd.StringSlice("tag") {
		if err := home.CheckTag(t); err != nil {
			return &usageError{err, "ostrov kept"}
		}
		if !slices.Contains(tags, t) {
			tags = append(tags, t)
		}
	}
	if a.dryRun && a.json {
		return nil // the document shows it as it is
	}
	if a.dryRun {
		a.printer().Line("%s would get this note and these tags: %s %s. Nothing has been changed: --dry-run.", snap.Address(), view.Text(note), view.Text(strings.Join(tags, ", ")))
		return nil
	}
	return keep.Remark(h, snap, note, tags)
}

// export writes a snapshot to a zip for others.
func (a *app) export(ctx context.Context, h *home.Home, address, file string, blank bool) error {
	if address == "" {
		return &usageError{errors.New("--export needs a snapshot: PLAYTHROUGH.NUMBER"), "ostrov kept"}
	}
	snap, err := h.Snapshot(address)
	if err != nil {
		return err
	}
	var st *facts.State
	if in, err := keep.InstallOf(ctx, h, snap); err == nil { // what tells of the player is known best where the game is
		st, _, _ = a.see(ctx, h, in)
	}
	e, err := share.PlanExport(ctx, h, st, snap, blank)
	if err != nil {
		return err
	}
	if err := home.CheckFree(file, a.yes); err != nil {
		return err
	}
	if err := a.mayTell(file, e.Private, "kept", address, blank); err != nil {
		return err
	}
	if !a.dryRun {
		if err := e.Write(ctx, file, a.yes); err != nil {
			return err
		}
	}
	if a.json {
		return view.JSON(a.Stdout, view.WrittenDoc{Head: view.NewHead("kept"), To: file, Files: e.Files, Done: !a.dryRun})
	}
	a.printer().Exported(e, file)
	return nil
}

func (a *app) keptJSON(all []*archive.Snapshot) error {
	doc := view.KeptDoc{Head: view.NewHead("kept"), Snapshots: []view.SnapshotDoc{}}
	for _, s := range all {
		doc.Snapshots = append(doc.Snapshots, view.Snapshot(s))
	}
	return view.JSON(a.Stdout, doc)
}

// sayAway names the archives that are not there: what only they have was not listed.
func (a *app) sayAway(h *home.Home) {
	for _, dir := range h.Away() {
		a.notes().Line("%s is not there now: what only it has is not listed.", view.Text(dir))
	}
}

func (a *app) timeline(h *home.Home, only string) error {
	arch, err := h.Archive()
	defer a.sayAway(h)
	if errors.Is(err, fs.ErrNotExist) {
		if a.json {
			return a.keptJSON(nil)
		}
		if len(h.Away()) > 0 {
			a.printer().Line("Nothing is kept in the archives that are there.")
			return nil
		}
		a.printer().Line("Nothing has been kept yet.")
		a.printer().Next(problem.Do("keep"))
		return nil
	}
	if err != nil {
		return err
	}
	names, err := arch.Playthroughs()
	if err != nil {
		return err
	}
	if only != "" {
		if _, err := h.Snapshot(only); err != nil {
			return err
		}
		names = []string{only}
	}
	var all []*archive.Snapshot
	for i, name := range names {
		snapshots, broken, err := arch.Snapshots(name)
		if err != nil {
			return err
		}
		if a.json {
			all = append(all, snapshots...)
			continue
		}
		if i > 0 {
			fmt.Fprintln(a.Stdout)
		}
		a.printer().Timeline(name, snapshots, broken)
	}
	if a.json {
		return a.keptJSON(all)
	}
	return nil
}
