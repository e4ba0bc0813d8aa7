package vet

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/hazard"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/unpack"
)

// code turns files that run code when they are loaded into findings: of the saves found, or of all where there is none. What the player's
// own saves of the game show too is a note.
func (v *Vetting) code(ctx context.Context, installs []*game.Install) {
	of := map[string]*facts.Found{}
	for _, sv := range v.Saves {
		for _, file := range sv.Candidate.Files {
			of[file] = sv
		}
	}
	for _, c := range v.Download.Code {
		of := of[c.Path]
		if of == nil && len(v.Saves) > 0 {
			continue // litter: it is left out
		}
		f := check.New(check.RunsCode, c.Path, c.Why)
		f.Effect = "whoever made the save can make the game do what you can do"
		f.Remedy = problem.Advise("load it only if you trust who made it")
		if of != nil && v.ownRun(ctx, of, installs, c) {
			f.Severity, f.Effect, f.Remedy = check.Note, "your own saves are made the same way", nil
		}
		v.Findings = append(v.Findings, f)
	}
}

// ownRun reports whether one of the player's own saves of the kind runs the same code when it is loaded.
func (v *Vetting) ownRun(ctx context.Context, of *facts.Found, installs []*game.Install, c unpack.Code) bool {
	for _, in := range installs {
		if in.Game != of.Game {
			continue
		}
		here, err := v.state(ctx, in)
		if err != nil {
			continue
		}
		for _, st := range here.Saves {
			if st.Kind != of.Kind || !v.ownSave(ctx, st) {
				continue
			}
			for _, own := range v.codeIn(ctx, st) {
				if own.Format == c.Format && sameCode(own.Why, c.Why) {
					return true
				}
			}
		}
	}
	return false
}

// ownSave reports whether a save was not placed from a download.
func (v *Vetting) ownSave(ctx context.Context, st *facts.Save) bool {
	all, err := v.h.Logbook.Evidence(ctx, st.Digest)
	if err != nil {
		return false
	}
	return !slices.ContainsFunc(all, func(e logbook.Evidence) bool { return e.Note == logbook.Placed })
}

// codeIn finds the code in a save of the player's own.
func (v *Vetting) codeIn(ctx context.Context, st *facts.Save) []hazard.Finding {
	var found []hazard.Finding
	v.h.Hasher.Once(st.Path()+"\x00code", tree.Digest{3}, st.Folder.Path, slices.Values(st.Files), &found, func() bool {
		for _, e := range st.Files {
			f, err := tree.Open(filepath.Join(st.Folder.Path, filepath.FromSlash(e.Path)))
			if err != nil {
				return false
			}
			result, err := hazard.Scan(e.Path, f)
			f.Close()
			if err != nil {
				return false
			}
			found = append(found, result.Findings...)
			if result.SQLite {
				more, _ := hazard.Database(ctx, tree.DirFS(st.Folder.Path), e.Path, result.Layers) // a damaged one is named elsewhere
				found = append(found, more...)
			}
		}
		return true
	})
	return found
}

// sameCode compares what two files run, wherever in them it stands.
func sameCode(a, b string) bool {
	a, _, _ = strings.Cut(a, " in line ")
	b, _, _ = strings.Cut(b, " in line ")
	return a == b
}
