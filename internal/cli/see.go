package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/assess"
	"ostrov/internal/core/edit"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/mods"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/record"
	"ostrov/internal/view"
)

// see puts in order what an interrupted command left of an install, looks at it, and records what it sees. A command that is to change
// nothing only looks, and judges no half state.
func (a *app) see(ctx context.Context, h *home.Home, in *game.Install) (*facts.State, plan.Settled, error) {
	settled, err := settle(ctx, h, in)
	if err != nil {
		return nil, settled, err
	}
	st, err := facts.Gather(ctx, h, in)
	if err != nil || !writes(h) {
		return st, settled, err
	}
	return st, settled, record.Seen(ctx, h, st)
}

func writes(h *home.Home) bool { return !h.ReadOnly && h.Unrecorded == nil }

// settle puts in order what an interrupted command left, or, in a command that changes nothing, refuses what is not in order.
func settle(ctx context.Context, h *home.Home, in *game.Install) (plan.Settled, error) {
	if writes(h) {
		return plan.Settle(ctx, h, in)
	}
	return plan.Settled{}, plan.Unfinished(ctx, h, in)
}

// assessed sees an install and judges it.
func (a *app) assessed(ctx context.Context, h *home.Home, in *game.Install) (*assess.Install, plan.Settled, error) {
	st, settled, err := a.see(ctx, h, in)
	if err != nil {
		return nil, settled, err
	}
	return assess.Of(st), settled, nil
}

// one does something with the one install that the command's argument means.
func (a *app) one(ctx context.Context, cmd *ucli.Command, do func(*home.Home, *assess.Install) error) error {
	if err := args(cmd, 0, 1); err != nil {
		return err
	}
	h, err := a.open()
	if err != nil {
		return err
	}
	in, err := h.Install(cmd.Args().First())
	if err != nil {
		return err
	}
	seen, _, err := a.assessed(ctx, h, in)
	if err != nil {
		return err
	}
	return do(h, seen)
}

// each assesses the installs that a command's only argument names: all there are where it names none.
func (a *app) each(ctx context.Context, cmd *ucli.Command) ([]*assess.Install, error) {
	if err := args(cmd, 0, 1); err != nil {
		return nil, err
	}
	h, err := a.open()
	if err != nil {
		return nil, err
	}
	installs, err := h.InstallsOf(cmd.Args().First())
	if err != nil {
		return nil, err
	}
	var all []*assess.Install
	for _, in := range installs {
		seen, _, err := a.assessed(ctx, h, in)
		if err != nil {
			return nil, err
		}
		all = append(all, seen)
	}
	return all, nil
}

// findSave sees the install that an address names, and finds the save in it.
func (a *app) findSave(ctx context.Context, h *home.Home, address string) (*facts.State, *facts.Save, error) {
	st, folder, name, err := a.addressed(ctx, h, address)
	if err != nil {
		return nil, nil, err
	}
	s, err := st.Find(folder, name)
	return st, s, err
}

// findSaves is findSave for an address whose slot or name may be a pattern.
func (a *app) findSaves(ctx context.Context, h *home.Home, address string) (*facts.State, []*facts.Save, error) {
	st, folder, name, err := a.addressed(ctx, h, address)
	if err != nil {
		return nil, nil, err
	}
	if found := st.Matching(folder, name); len(found) > 0 && strings.ContainsAny(name, "*?[{") {
		return st, found, nil
	}
	s, err := st.Find(folder, name)
	return st, []*facts.Save{s}, err
}

// saveOrDownload is for an argument that means a save or a download. A file is a download, and so is a folder where no save is called so; the save
// is nil then.
func (a *app) saveOrDownload(ctx context.Context, h *home.Home, arg string) (*facts.State, *facts.Save, error) {
	info, missing := os.Stat(arg)
	if missing == nil && info.Mode().IsRegular() {
		return nil, nil, nil
	}
	st, s, err := a.findSave(ctx, h, arg)
	in, _, _, _ := h.SaveAddress(arg)
	game := in != nil && strings.Contains(arg, "/") // so that it is no path
	unknown := errors.Is(err, problem.ErrUsage)
	switch {
	case unknown && missing == nil:
		return nil, nil, nil // whoever opens it says what it is
	case unknown && !game && (filepath.Ext(arg) != "" || strings.ContainsAny(arg, `/\`)):
		if in == nil {
			return nil, nil, problem.Usage(problem.Advise("a save is GAME/SLOT or GAME/NAME"), "no file %s is there, and no save is called so", view.Text(arg))
		}
		return nil, nil, problem.Usage(problem.HintsOf(err), "no file %s is there, and %w", view.Text(arg), err)
	}
	return st, s, err
}

// addressed looks at the install that the address of a save names, and takes the rest of the address apart.
func (a *app) addressed(ctx context.Context, h *home.Home, address string) (st *facts.State, folder, name string, err error) {
	in, folder, name, err := h.SaveAddress(address)
	if err != nil {
		return nil, "", "", err
	}
	st, _, err = a.see(ctx, h, in)
	return st, folder, name, err
}

// change is a plan as carryOut takes it: one of package plan, or one that takes another back.
type change interface {
	Apply(context.Context) (*plan.Done, error)
}

// carry is how a plan is carried out and told.
type carry struct {
	command  string // whose document it is
	plan     *plan.Plan
	apply    change // nil is the plan itself
	done     string // what to say when it is done
	question string
	older    bool   // what is older may be put over what is newer without a second question
	list     string // which mod list is filed with the saves that go; see whichList
	// judged is what the plan is of, where it is a change of the mod set.
	judged *mods.Proposal
	// inside is what becomes of what is in a save, and its verdict then.
	inside  *view.InsideDoc
	verdict edit.Judged
	// after is what is to be done once it is made; it may be nil.
	after func(context.Context) error
}

// olderFlag is for commands that may put an older save over a newer one.
func olderFlag() *ucli.BoolFlag {
	return &ucli.BoolFlag{Name: "older", Usage: "put what is older over what is newer without asking again"}
}

// carryOut shows a plan, asks, keeps first what would go, makes the change, and records what is there then.
func (a *app) carryOut(ctx context.Context, h *home.Home, c carry) error {
	p, pl := a.printer(), c.plan
	doc := view.Change(c.command, pl)
	if c.judged != nil {
		doc.Judged(c.judged)
	}
	if c.inside != nil {
		doc.Becomes(c.inside, c.verdict)
	}
	if pl.Empty() && c.apply == nil {
		if doc.Reason = pl.Reason; a.json {
			return view.JSON(a.Stdout, doc)
		}
		p.Line("nothing to do: %s", view.Text(pl.Reason))
		return nil
	}
	show := func(kept map[string]string, done bool) {
		if !a.json && len(pl.Steps)+len(pl.Warnings) > 0 {
			p.Plan(pl, kept)
		}
		if !a.json && c.inside != nil {
			p.Inside(c.inside, done)
		}
	}
	if a.dryRun {
		if a.json {
			return view.JSON(a.Stdout, doc)
		}
		if pl.Moves() {
			p.Line("%s would do this, in %s", c.command, pl.Install().Address())
			p.Line("")
			show(nil, false)
		} else {
			p.Line("%s would move nothing in %s; another playthrough would be played", c.command, pl.Install().Address())
		}
		p.Line("")
		p.Line("Nothing has been changed: --dry-run.")
		return nil
	}
	if !a.yes {
		show(nil, false)
		if err := a.confirm(c.question); err != nil {
			return err
		}
		if n := pl.Older(); n > 0 && !c.older {
			if err := a.confirm(view.Count(n, "save is", "saves are") + " older than what is there. Put the older over the newer?"); err != nil {
				return err
			}
		}
	}
	list, err := a.whichList(h, pl.State, c.list)
	if err != nil {
		return err
	}
	backup, err := keep.Before(ctx, h, pl, list)
	if err != nil {
		return err
	}
	var made *plan.Done
	if c.apply != nil {
		made, err = c.apply.Apply(ctx)
	} else {
		made, err = pl.Apply(ctx)
	}
	if err != nil {
		return err
	}
	if c.after != nil {
		if err := c.after(ctx); err != nil {
			h.Log.Error("the change is made but not recorded", "error", err)
		}
	}
	return a.changed(c, made, backup, doc, show)
}

// changed says what a change did.
func (a *app) changed(c carry, made *plan.Done, backup *keep.Backup, doc view.ChangeDoc, show func(map[string]string, bool)) error {
	if a.json {
		doc.Done, doc.Change = true, made.ID
		if len(backup.Taken) > 0 {
			d := view.Snapshot(backup.Taken[0])
			doc.KeptBefore = &d
		}
		return view.JSON(a.Stdout, doc)
	}
	p := a.printer()
	p.Line("%s", c.done)
	if !made.Moved {
		p.Line("")
		p.Line("  There was nothing to move.")
	} else if a.yes {
		p.Line("")
		show(backup.Addresses, true)
	}
	if taken := backup.Taken; len(taken) > 0 {
		p.Line("")
		p.Line("  What was there before is kept as %s.", strings.Join(snapshotAddresses(taken), " and "))
	}
	p.Next(problem.Do("look", c.plan.State.Called), problem.Do("undo"))
	return nil
}

func snapshotAddresses(all []*archive.Snapshot) []string {
	var names []string
	for _, s := range all {
		names = append(names, s.Address())
	}
	return names
}

// noDryRun refuses --dry-run where it could not be kept.
func (a *app) noDryRun(command, why string) error {
	if !a.dryRun {
		return nil
	}
	return &usageError{fmt.Errorf("%s has no --dry-run: %s", command, why), "ostrov " + command}
}
