package cli

import (
	"cmp"
	"context"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/edit"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/vet"
	"ostrov/internal/view"
)

// asFlag is for the commands that change what is in a save.
func asFlag() *ucli.StringFlag {
	return &ucli.StringFlag{Name: "as", Usage: "leave the save as it is, and write the result into a free `SLOT` or name"}
}

func (a *app) strip() *ucli.Command {
	return &ucli.Command{
		Name: "strip", Category: inside, Usage: "take out of a save what only a mod provides, before the mod goes", ArgsUsage: "SAVE",
		Flags: []ucli.Flag{&ucli.StringSliceFlag{Name: "of", Usage: "the mod, by its `ID` or title; several may be given", Required: true},
			&ucli.BoolFlag{Name: "anyway", Usage: "take out things of other mods, too, that are in those of the mod"}, asFlag()},
		Action: a.with(1, 1, func(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
			st, s, err := a.findSave(ctx, h, cmd.Args().First())
			if err != nil {
				return err
			}
			ids, without, names := meantMods(st, cmd.StringSlice("of"))
			for i, id := range ids {
				if known, _ := s.Identifiers(id); !known && st.Finder(s) != nil && s.Facts.Problem == nil {
					return problem.Usage(problem.Do("mods", st.Called), "nobody knows what the mod %q brings into saves; nothing has been changed", names[i])
				}
			}
			src := edit.Of(st, s)
			out, err := edit.Strip(ctx, src, st.Finder(s), ids, cmd.Bool("anyway"))
			if err != nil {
				return err
			}
			judged, err := edit.Judge(ctx, h, st, src, out.Edited, without)
			if err != nil {
				return err
			}
			if len(out.Files) == 0 {
				p := plan.New(ctx, h, st, "", nil)
				p.Reason = "nothing of " + strings.Join(names, " and ") + " is in it"
				return a.carryOut(ctx, h, carry{command: "strip", plan: p})
			}
			n := 0
			for _, t := range out.Things {
				n += t.Count
			}
			return a.alter(ctx, h, alteration{command: "strip", st: st, save: s, edited: out.Edited, as: cmd.String("as"),
				inside:  &view.InsideDoc{Things: out.Things, Needed: neededBy(st, s, ids), Followed: out.Followed, Listed: out.Listed, Without: names},
				verdict: judged, done: view.Count(n, "thing", "things") + " of " + view.Text(strings.Join(names, ", ")) + " taken out of", question: "Take it out?"})
		}),
	}
}

// neededBy are the mods that a save lists, and that need one of the mods that are taken out of it.
func neededBy(st *facts.State, s *facts.Save, ids []string) (names []string) {
	is := func(id string) bool {
		return slices.ContainsFunc(ids, func(other string) bool { return strings.EqualFold(id, other) })
	}
	for _, m := range st.Mods.Mods {
		listed := slices.ContainsFunc(s.Facts.Mods, func(item field.Item) bool { return strings.EqualFold(item.ID, m.ID) })
		if listed && !is(m.ID) && slices.ContainsFunc(m.Needs, func(n mod.Need) bool { return is(n.ID) }) {
			names = append(names, m.Name())
		}
	}
	return names
}

// meantMods are the mods that words mean, by id or title: their ids, those of them that are installed, and what they are called. A mod that is gone
// is meant by its id.
func meantMods(st *facts.State, words []string) (ids []string, installed []*mod.Mod, names []string) {
	for _, word := range words {
		if i := strings.LastIndexByte(word, '+'); i >= 0 {
			word = word[i+1:] // of GAME+MOD
		}
		id, name := word, word
		for _, m := range st.Mods.Mods {
			if strings.EqualFold(m.ID, word) || strings.EqualFold(m.Name(), word) {
				id, name = m.ID, m.Name()
				installed = append(installed, m)
			}
		}
		ids, names = append(ids, id), append(names, name)
	}
	return ids, installed, names
}

func (a *app) borrow() *ucli.Command {
	return &ucli.Command{
		Name: "borrow", Category: inside, Usage: "put a section of another save, or a piece that a mod brings, into a save", ArgsUsage: "[SECTION]",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "from", Usage: "a `SAVE`, a mod GAME+MOD that brings a piece, or a file", Required: true},
			&ucli.StringFlag{Name: "into", Usage: "the `SAVE` that gets it", Required: true},
			&ucli.StringFlag{Name: "at", Usage: "`FILE:QUERY` for a part that the description does not name"},
			&ucli.StringFlag{Name: "pick", Usage: "of several saves or pieces, the one called `NAME`"},
			asFlag(),
		},
		Action: a.with(0, 1, a.borrowSection),
	}
}

func (a *app) borrowSection(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
	st, s, err := a.findSave(ctx, h, cmd.String("into"))
	if err != nil {
		return err
	}
	section, err := sectionOf(st.Install.Game, s.Kind, cmd.Args().First(), cmd.String("at"))
	if err != nil {
		return err
	}
	giver, done, err := a.giver(ctx, h, st, section, cmd.String("from"), cmd.String("pick"))
	if err != nil {
		return err
	}
	defer done()
	into := edit.Of(st, s)
	b, err := edit.Borrow(ctx, into, giver, section)
	if err != nil {
		return err
	}
	judged, err := edit.Judge(ctx, h, st, into, b.Edited, nil)
	if err != nil {
		return err
	}
	title := section.Title
	if title == "" {
		title = section.ID
	}
	return a.alter(ctx, h, alteration{command: "borrow", st: st, save: s, edited: b.Edited, as: cmd.String("as"),
		inside:  &view.InsideDoc{Was: &b.Was, Now: &b.Now, Renumbered: b.Renumbered, Removed: b.Removed},
		verdict: judged, done: view.Text(title) + " put into", question: "Put it in?"})
}

// sectionOf is the section of a kind of save that a word names, or a part at FILE:QUERY.
func sectionOf(d *game.Description, kind *game.Save, word, at string) (*game.Section, error) {
	if at != "" {
		file, query, ok := strings.Cut(at, ":")
		if !ok || word != "" {
			return nil, problem.Usage(nil, "say either a section, or FILE:QUERY of a part")
		}
		return &game.Section{ID: at, In: file, At: field.Strings{query}}, nil
	}
	var names []string
	for _, s := range d.SectionsOf(kind) {
		if s.ID == word {
			return s, nil
		}
		names = append(names, s.ID)
	}
	hint := problem.Advise("a part that it does not name is given with the option at, as FILE:QUERY")
	if len(names) > 0 {
		hint = problem.Advise("there are: %s", strings.Join(names, ", "))
	}
	return nil, problem.Usage(hint, "the description of %s names no section %q of a %s", d.Title, word, kind.ID)
}

// giver is what --from means: a save, a mod, or a file; done frees what it holds.
func (a *app) giver(ctx context.Context, h *home.Home, st *facts.State, section *game.Section, from, pick string) (g edit.Giver, done func(), err error) {
	done = func() {}
	if _, word, isMod := strings.Cut(from, "+"); isMod {
		g, err = pieceOf(st, section, word, pick)
		return g, done, err
	}
	of, s, err := a.saveOrDownload(ctx, h, from)
	if err != nil {
		return g, done, err
	}
	if s == nil {
		src, done, err := a.downloaded(ctx, h, from, pick)
		if err == nil && src == nil {
			g, err = edit.PieceIn(from)
			return g, done, err
		}
		return edit.Giver{Save: src}, done, err
	}
	src := edit.Of(of, s)
	return edit.Giver{Save: &src}, done, nil
}

// noSaveIn says that a download is of no use for what needs a save.
func noSaveIn(file string) error {
	return problem.Usage(problem.Do("vet", file), "%s holds no save of a game that is known", file)
}

// downloaded is the save in a download, vetted, and what frees it; nil for a single file that is none.
func (a *app) downloaded(ctx context.Context, h *home.Home, file, pick string) (src *edit.Source, done func(), err error) {
	v, err := vet.Vet(ctx, h, file, vet.Request{Pick: pick})
	if err != nil {
		return nil, func() {}, err
	}
	if len(v.Saves) == 1 && !v.Dangerous() {
		found := edit.In(v.Download, v.Saves[0])
		return &found, func() { _ = v.Close() }, nil
	}
	defer v.Close()
	switch {
	case v.Dangerous():
		err = problem.New(problem.Do("vet", file), "%s is dangerous; nothing has been changed", file)
	case len(v.Saves) == 0 && v.Download.Kind != "file":
		err = noSaveIn(file)
	case len(v.Saves) > 1:
		err = problem.Usage(problem.Advise("the option pick says which"), "%s holds several saves", file)
	}
	return nil, func() {}, err
}

// pieceOf is a piece that a mod brings.
func pieceOf(st *facts.State, section *game.Section, word, pick string) (edit.Giver, error) {
	for _, m := range st.Mods.Mods {
		if strings.EqualFold(m.ID, word) || strings.EqualFold(m.Name(), word) {
			return edit.PieceOf(m, section, pick)
		}
	}
	return edit.Giver{}, problem.Usage(problem.Do("mods", st.Called), "%s has no mod %q", st.Called, word)
}

func (a *app) convert() *ucli.Command {
	return &ucli.Command{
		Name: "convert", Category: inside, Usage: "change a save for another version of the game; of a download, a copy of it", ArgsUsage: "SAVE|FILE",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "to", Usage: "the `VERSION`; without it that of the install"},
			&ucli.StringSliceFlag{Name: "without", Usage: "leave out the optional `STEP`"},
			&ucli.StringFlag{Name: "pick", Usage: "of several saves in a download, the one called `NAME`"},
			asFlag(),
		},
		Action: a.with(1, 1, a.convertSave),
	}
}

// convertDownload has the save of a download judged and placed as another version wants it.
func convertDownload(ctx context.Context, v *vet.Vetting, of placing) (*view.InsideDoc, error) {
	if v.Dangerous() || len(v.Saves) != 1 || len(v.Judged) != 1 {
		return nil, nil // placing it says why that cannot be
	}
	src, have := edit.In(v.Download, v.Saves[0]), v.Judged[0].State
	to := of.to
	if to == "" {
		to = cmp.Or(edit.Reaches(src.Game, src.Save.Kind, src.Save.Facts.Version(), have.Version), have.Version)
	}
	c, err := edit.ConvertTo(ctx, src, to, of.without)
	if err != nil {
		return nil, err
	}
	if err := wanting(c, have); err != nil {
		return nil, err
	}
	return &view.InsideDoc{Steps: c.Did}, v.Become(ctx, vet.Content{Files: c.Files, FS: c.FS, Says: c.Facts, Folder: movesTo(c)}, of.req)
}

// movesTo is the id of the folder that the last conversion says, or "".
func movesTo(c *edit.Converted) string {
	if len(c.Chain) == 0 {
		return ""
	}
	return c.Chain[len(c.Chain)-1].MoveTo
}

// movedTo is the folder that a converted save belongs into, where that is another one; the save itself stays then.
func movedTo(c *edit.Converted, st *facts.State, s *facts.Save) (*game.Located, error) {
	id := movesTo(c)
	if id == "" {
		return nil, nil
	}
	for i := range st.Folders {
		if f := &st.Folders[i]; f.ID == id && f.Exists && !f.Managed && (f.Account == s.Folder.Account || s.Folder.Account == "") {
			return f, nil
		}
	}
	return nil, problem.Usage(problem.Advise("start the game once"), "%s has no folder %s yet, which the converted save belongs into; nothing has been changed", st.Called, id)
}

// wanting is the mod that a conversion needs and that an install does not have.
func wanting(c *edit.Converted, st *facts.State) error {
	for _, one := range c.Chain {
		if one.Needs != "" && !st.HasMod(one.Needs, "") {
			return problem.Usage(nil, "%s needs the mod %s, which is not on in %s; nothing has been changed", one.ID, one.Needs, st.Called)
		}
	}
	return nil
}

func (a *app) convertSave(ctx context.Context, cmd *ucli.Command, h *home.Home) error {
	address := cmd.Args().First()
	st, s, err := a.saveOrDownload(ctx, h, address)
	if err != nil {
		return err
	}
	if s == nil {
		return a.placeOne(ctx, h, placing{command: "convert", file: address, convert: true, to: cmd.String("to"), without: cmd.StringSlice("without"),
			req: vet.Request{Pick: cmd.String("pick"), Slot: cmd.String("as")}})
	}
	src := edit.Of(st, s)
	to := cmd.String("to")
	if to == "" {
		to = cmp.Or(edit.Reaches(src.Game, s.Kind, s.Needs.Version, st.Version), st.Version)
	}
	c, err := edit.ConvertTo(ctx, src, to, cmd.StringSlice("without"))
	if err != nil {
		return err
	}
	if err := wanting(c, st); err != nil {
		return err
	}
	judged, err := edit.Judge(ctx, h, st, src, c.Edited, nil)
	if err != nil {
		return err
	}
	folder, err := movedTo(c, st, s)
	if err != nil {
		return err
	}
	return a.alter(ctx, h, alteration{command: "convert", st: st, save: s, edited: c.Edited, as: cmd.String("as"), folder: folder,
		inside: &view.InsideDoc{Steps: c.Did}, verdict: judged, done: "converted to " + view.Text(to) + ":", question: "Convert it?"})
}
