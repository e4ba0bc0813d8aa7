package edit

import (
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/game"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// maxPiece bounds a piece that a mod or a file brings, in bytes.
const maxPiece = 16 << 20

// PieceOf is a piece that a mod brings for a section; pick is what its file is called, where there are several.
func PieceOf(m *mod.Mod, s *game.Section, pick string) (Giver, error) {
	if s.From != "mod" {
		return Giver{}, problem.Usage(nil, "the description does not say that mods bring %s", s.ID)
	}
	fsys := tree.DirFS(m.Dir())
	entries, err := tree.ListFS(fsys, ".")
	if err != nil {
		return Giver{}, err
	}
	stem := func(name string) string { return strings.TrimSuffix(path.Base(name), path.Ext(name)) }
	var names []string
	for _, e := range entries {
		if e.Kind == tree.File && doublestar.MatchUnvalidated(s.Piece, e.Path) {
			names = append(names, e.Path)
		}
	}
	if len(names) > 1 {
		if i := slices.IndexFunc(names, func(name string) bool { return pick == name || pick == path.Base(name) || pick == stem(name) }); i >= 0 {
			names = names[i : i+1]
		}
	}
	switch len(names) {
	case 0:
		return Giver{}, problem.Usage(nil, "%s brings no %s: there is no %s in it", m.Name(), s.ID, s.Piece)
	case 1:
		data, err := wrap.Layers{}.ReadFile(fsys, names[0], wrap.Limits{Decoded: maxPiece})
		return Giver{Piece: data, Called: m.Name()}, err
	}
	return Giver{}, problem.Usage(problem.Advise("the option pick says which: %s", strings.Join(names, ", ")), "%s brings several", m.Name())
}

// PieceIn is a piece in a file that somebody wrote.
func PieceIn(file string) (Giver, error) {
	data, err := tree.ReadBounded(file, maxPiece)
	return Giver{Piece: data, Called: file}, err
}
