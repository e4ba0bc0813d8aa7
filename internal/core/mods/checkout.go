package mods

import (
	"context"
	"fmt"
	"io"
	"path/filepath"

	"ostrov/internal/core/checkout"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/tree"
)

// gitDir is the folder of a checkout with its repository. It is no file of the mod's: git owns it, and it goes and comes with the folder.
const gitDir = ".git"

// putRepository plans to put the repository of a checkout that lies in the game's folder where the fetched one is.
func (w *work) putRepository(dir string, fetched string) error {
	root, rel, err := w.st.Install.PlaceOf(w.ctx, filepath.Join(tree.Real(dir), gitDir))
	if err != nil {
		return err
	}
	full, err := w.root(root)
	if err != nil {
		return err
	}
	from := filepath.Join(fetched, gitDir)
	fill := func(ctx context.Context, stage *plan.Stage) error {
		return tree.Walk(ctx, from, func(e tree.Entry) error {
			switch e.Kind {
			case tree.Dir:
				return stage.Mkdir(e.Path, e)
			case tree.File:
				return stage.Write(e.Path, e, func(to io.Writer) error {
					f, err := tree.Open(filepath.Join(from, filepath.FromSlash(e.Path)))
					if err != nil {
						return err
					}
					defer f.Close()
					_, err = io.Copy(to, f)
					return err
				})
			}
			return fmt.Errorf("%s in what was fetched is neither a file nor a folder", e.Path)
		})
	}
	step := plan.Step{What: "its repository", Note: "at the commit that it is updated to"}
	w.p.Put(w.ctx, step, plan.LeaveAside(), nil, plan.Target{Root: full, Name: rel, Fill: fill})
	return w.p.Err()
}

// checkoutOf is what a mod that is a checkout came from, or nil. One that is not whole is one all the same.
func checkoutOf(m *mod.Mod) *ledger.Source {
	if m.Commit == "" {
		return nil
	}
	info, _ := checkout.Read(m.Dir()) // what it says as far as it can be read
	s := sourceOf(checkout.Name(info.URL), info)
	s.Commit = m.Commit
	if s.Name == "" || s.Name == "." {
		s.Name = m.ID
	}
	return &s
}
