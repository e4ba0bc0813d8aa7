package cli

import (
	"context"
	"errors"
	"fmt"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/check"
	"ostrov/internal/core/home"
	"ostrov/internal/core/mods"
	"ostrov/internal/core/record"
	"ostrov/internal/core/vet"
	"ostrov/internal/view"
)

func (a *app) vet() *ucli.Command {
	return &ucli.Command{
		Name: "vet", Category: "bring in", Usage: "check downloaded saves against the installs, touching nothing", ArgsUsage: "FILE...",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "for", Usage: "only for the install `GAME@INSTALL`"},
			&ucli.StringFlag{Name: "pick", Usage: "of several saves in it, the one called `NAME`"},
		},
		Action: a.reading(1, -1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			if a.json && cmd.Args().Len() > 1 {
				return &usageError{errors.New("with --json, vet one file at a time"), "ostrov vet"}
			}
			var worst error
			for i, file := range cmd.Args().Slice() {
				if i > 0 {
					fmt.Fprintln(a.Stdout)
				}
				err := a.vetOne(ctx, h, file, vet.Request{For: cmd.String("for"), Pick: cmd.String("pick")})
				if graver(err, worst) {
					worst = err
				}
			}
			return worst
		}),
	}
}

// graver reports whether one outcome of vetting weighs more than another: an error most, then danger, then the verdicts.
func graver(a, b error) bool {
	rank := func(err error) int {
		var s statusError
		switch {
		case err == nil:
			return 0
		case !errors.As(err, &s):
			return 9
		}
		return map[statusError]int{exitRisky: 1, exitUnclear: 2, exitUnfit: 3, exitDangerous: 4}[s]
	}
	return rank(a) > rank(b)
}

func (a *app) vetOne(ctx context.Context, h *home.Home, file string, req vet.Request) error {
	v, err := vet.Vet(ctx, h, file, req)
	if err != nil {
		return err
	}
	defer v.Close()
	if len(v.Saves) == 0 && (v.Download.Parcel == nil || len(v.Mods) > 0) {
		done, err := a.vetMod(ctx, h, v, req)
		if done || err != nil {
			return err
		}
	}
	if a.json {
		if err := view.JSON(a.Stdout, view.Vet(v)); err != nil {
			return err
		}
	} else {
		a.printer().Vet(v)
	}
	if v.Dangerous() {
		return statusError(exitDangerous)
	}
	return status(v.Verdict)
}

// vetMod vets a download that holds no save as a mod; done is false where no game takes it as one.
func (a *app) vetMod(ctx context.Context, h *home.Home, v *vet.Vetting, req vet.Request) (done bool, err error) {
	m, err := mods.Vetting(ctx, h, v.Download.AsMod(), req.For, req.Pick)
	if err != nil {
		return false, err
	}
	if len(m.Proposals)+len(m.Choices) == 0 {
		return false, nil
	}
	if a.json {
		if err := view.JSON(a.Stdout, view.VetMod(v, m)); err != nil {
			return true, err
		}
	} else {
		a.printer().VetMod(v.File, m)
	}
	if m.Dangerous() {
		return true, statusError(exitDangerous)
	}
	return true, status(m.Verdict())
}

func (a *app) place() *ucli.Command {
	return &ucli.Command{
		Name: "place", Category: "bring in", Usage: "vet a save, then install it: right name, free slot, own account", ArgsUsage: "FILE",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "slot", Usage: "into slot `N`; what is there is kept first"},
			&ucli.StringFlag{Name: "pick", Usage: "of several saves in it, the one called `NAME`"},
			&ucli.StringFlag{Name: "in", Usage: "into the folder of `ACCOUNT`"},
			&ucli.StringFlag{Name: "for", Usage: "into the install `GAME@INSTALL`"},
			&ucli.BoolFlag{Name: "anyway", Usage: "also when it is unfit"},
			&ucli.BoolFlag{Name: "convert", Usage: "changed for the version of the install; the download stays as it is"},
			olderFlag(),
		},
		Action: a.with(1, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			return a.placeOne(ctx, h, placing{command: "place", file: cmd.Args().First(), anyway: cmd.Bool("anyway"), older: cmd.Bool("older"), convert: cmd.Bool("convert"),
				req: vet.Request{For: cmd.String("for"), Pick: cmd.String("pick"), Slot: cmd.String("slot"), In: cmd.String("in")}})
		}),
	}
}

// placing is what is to be placed, and how.
type placing struct {
	command, file string
	req           vet.Request
	anyway, older bool
	convert       bool     // it is converted first
	to            string   // the version, or "" for that of the install
	without       []string // optional steps that are left out
}

func (a *app) placeOne(ctx context.Context, h *home.Home, of placing) error {
	req := of.req
	installs := h.Installs
	if req.For != "" {
		var err error
		if installs, err = h.InstallsOf(req.For); err != nil {
			return err
		}
	}
	for _, in := range installs { // what an interrupted command left is put in order first
		if _, _, err := a.see(ctx, h, in); err != nil && len(installs) == 1 {
			return err
		}
	}
	v, err := vet.Vet(ctx, h, of.file, req)
	if err != nil {
		return err
	}
	defer v.Close()
	var inside *view.InsideDoc
	if of.convert {
		if inside, err = convertDownload(ctx, v, of); err != nil {
			return err
		}
	}
	p, j, err := v.Place(ctx, of.anyway)
	if err != nil {
		return err
	}
	where := j.Target.Name
	if j.Target.Slot != "" {
		where = "slot " + j.Target.Slot
	}
	if j.Verdict != check.Fit && !a.json {
		a.printer().Line("%s for %s", j.Verdict, j.State.Called)
		a.printer().Findings(j.Findings)
		a.printer().Line("")
	}
	after := func(ctx context.Context) error {
		st, _, err := a.see(ctx, h, j.State.Install)
		if err != nil {
			return err
		}
		learnt, err := v.Placed(j, st)
		if err != nil {
			return err
		}
		return record.Learnt(ctx, h, learnt)
	}
	done := fmt.Sprintf("placed %s into %s of %s", view.Text(j.Save.Candidate.Name), where, j.State.Called)
	return a.carryOut(ctx, h, carry{command: of.command, plan: p, done: done, question: "Place it?", after: after, older: of.older, inside: inside})
}
