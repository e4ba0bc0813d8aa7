package cli

import (
	"context"
	"errors"
	"fmt"
	"io"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/edit"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/parcel"
	"ostrov/internal/core/problem"
	"ostrov/internal/view"
)

func (a *app) members() *ucli.Command {
	return &ucli.Command{
		Name: "members", Category: inside, Usage: "single characters or the like of a save: list, take out, put in, copy", ArgsUsage: "SAVE",
		Action: a.with(1, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			st, s, err := a.findSave(ctx, h, cmd.Args().First())
			if err != nil {
				return err
			}
			all, err := edit.Members(ctx, edit.Of(st, s))
			if err != nil {
				return err
			}
			doc := view.MembersDoc{Head: view.NewHead("members"), Save: st.Address(s), Called: edit.Called(s.Kind), Capacity: s.Kind.Members.Capacity, Members: append([]edit.Member{}, all...)}
			if a.json {
				return view.JSON(a.Stdout, doc)
			}
			a.printer().Members(doc)
			return nil
		}),
		Commands: []*ucli.Command{
			{Name: "take", Usage: "write one into a file of its own", ArgsUsage: "SAVE MEMBER FILE", Action: a.with(3, 3, a.takeMember)},
			{Name: "put", Usage: "put one out of a file into a save", ArgsUsage: "SAVE FILE", Flags: []ucli.Flag{asFlag()}, Action: a.with(2, 2, a.putMember)},
			{Name: "copy", Usage: "copy one out of a save or a download into a save", ArgsUsage: "SAVE|FILE MEMBER", Action: a.with(2, 2, a.copyMember),
				Flags: []ucli.Flag{
					&ucli.StringFlag{Name: "into", Usage: "the `SAVE` that gets it", Required: true},
					&ucli.StringFlag{Name: "pick", Usage: "of several saves in a download, the one called `NAME`"}, asFlag()}},
			{Name: "remove", Usage: "take one out of a save; undo brings it back", ArgsUsage: "SAVE MEMBER", Flags: []ucli.Flag{asFlag()}, Action: a.with(2, 2, a.removeMember)},
		},
	}
}

// takeMember writes a member into a file.
func (a *app) takeMember(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
	st, s, err := a.findSave(ctx, h, cmd.Args().First())
	if err != nil {
		return err
	}
	t, err := edit.Take(ctx, edit.Of(st, s), cmd.Args().Get(1))
	if err != nil {
		return err
	}
	file := cmd.Args().Get(2)
	card := parcel.Member{Game: t.Game, Kind: t.Kind, Called: edit.Called(s.Kind), Version: t.Version, ID: t.ID, Title: t.Title, Owner: t.Owner, Name: t.Name, Made: h.Now()}
	if !a.dryRun {
		if _, err := h.WriteFile(file, a.yes, func(out io.Writer) error { return parcel.WriteMember(out, card, t.Piece) }); err != nil {
			return err
		}
	}
	if a.json {
		return view.JSON(a.Stdout, view.WrittenDoc{Head: view.NewHead("members take"), To: file, Files: 1, Done: !a.dryRun})
	}
	did := "written to"
	if a.dryRun {
		did = "would be written to"
	}
	a.printer().Line("%s %s, %s, %s %s", edit.Called(s.Kind), view.Text(called(t.Member)), view.Size(int64(len(t.Piece))), did, view.Text(file))
	return nil
}

// called is what to call a member before people.
func called(m edit.Member) string {
	if m.Title == "" {
		return m.ID
	}
	return m.Title
}

// putMember puts a member out of a file into a save.
func (a *app) putMember(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
	st, s, err := a.findSave(ctx, h, cmd.Args().First())
	if err != nil {
		return err
	}
	t, err := readMember(ctx, h, cmd.Args().Get(1))
	if err != nil {
		return err
	}
	return a.putIn(ctx, h, st, s, t, "members put", cmd.String("as"))
}

// readMember reads the file of a member.
func readMember(ctx context.Context, h *home.Home, file string) (t *edit.Taken, err error) {
	d, err := facts.OpenDownload(ctx, h, file)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	if len(d.Hazards) > 0 {
		return nil, problem.New(problem.Do("vet", file), "%s is dangerous; nothing has been changed", file)
	}
	m, err := parcel.FindMember(d.FS)
	if errors.Is(err, parcel.ErrNoMember) {
		return nil, problem.Usage(problem.Do("members copy", file, "MEMBER").With("into", "SAVE"), "%s: %w; a save in it gives one with copy", file, err)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	piece, err := parcel.MemberPiece(d.FS)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return &edit.Taken{Member: edit.Member{ID: m.ID, Title: m.Title, Owner: m.Owner, Size: len(piece)}, Game: m.Game, Kind: m.Kind, Version: m.Version, Name: m.Name, Piece: piece}, nil
}

// copyMember copies a member out of a save or a download.
func (a *app) copyMember(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
	st, s, err := a.findSave(ctx, h, cmd.String("into"))
	if err != nil {
		return err
	}
	from := cmd.Args().First()
	of, giver, err := a.saveOrDownload(ctx, h, from)
	if err != nil {
		return err
	}
	var src *edit.Source
	if giver == nil {
		found, done, err := a.downloaded(ctx, h, from, cmd.String("pick"))
		defer done()
		if err != nil {
			return err
		}
		if src = found; src == nil {
			return noSaveIn(from)
		}
	} else {
		one := edit.Of(of, giver)
		src = &one
	}
	t, err := edit.Take(ctx, *src, cmd.Args().Get(1))
	if err != nil {
		return err
	}
	return a.putIn(ctx, h, st, s, t, "members copy", cmd.String("as"))
}

// putIn puts a member into a save.
func (a *app) putIn(ctx context.Context, h *home.Home, st *facts.State, s *facts.Save, t *edit.Taken, command, as string) error {
	src := edit.Of(st, s)
	edited, put, err := edit.Put(ctx, src, t)
	if err != nil {
		return err
	}
	judged, err := edit.Judge(ctx, h, st, src, edited, nil)
	if err != nil {
		return err
	}
	return a.alter(ctx, h, alteration{command: command, st: st, save: s, edited: edited, as: as, inside: &view.InsideDoc{Member: &put}, verdict: judged,
		done: edit.Called(s.Kind) + " " + view.Text(called(put)) + " put into", question: "Put it in?"})
}

// removeMember takes a member out of a save.
func (a *app) removeMember(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
	st, s, err := a.findSave(ctx, h, cmd.Args().First())
	if err != nil {
		return err
	}
	src := edit.Of(st, s)
	t, err := edit.Take(ctx, src, cmd.Args().Get(1))
	if err != nil {
		return err
	}
	edited, err := edit.Remove(ctx, src, cmd.Args().Get(1))
	if err != nil {
		return err
	}
	judged, err := edit.Judge(ctx, h, st, src, edited, nil)
	if err != nil {
		return err
	}
	return a.alter(ctx, h, alteration{command: "members remove", st: st, save: s, edited: edited, as: cmd.String("as"), inside: &view.InsideDoc{Member: &t.Member}, verdict: judged,
		done: edit.Called(s.Kind) + " " + view.Text(called(t.Member)) + " taken out of", question: "Take it out?"})
}
