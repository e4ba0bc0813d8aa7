package facts

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/strict"
)

// AddRequest says which install to add.
type AddRequest struct {
	Game       string
	At         string // its folder; "" looks for it
	Under      string // where to look; "" is in the usual places
	Prefix     string // the compatibility prefix it runs in
	PlayerHome string // the player's home, when that is not one's own
	Name       string // what to call the install; "" is main, or taken from its folder
	Edition    string // one of the description's editions, or ""
}

// Addable is an install that can be added.
type Addable struct {
	Install *game.Install
	Folders []game.Located
	// From is where the install of that name was before it moved, or "".
	From string
}

// FindInstall finds an install and where it keeps its things. It is not known to the home before it is registered: the player is shown its
// folders first. An install that is known and still there is never given another folder: its saves and lines would be taken for the other's.
func FindInstall(ctx context.Context, h *home.Home, req AddRequest) (*Addable, error) {
	d := h.Game(req.Game)
	if d == nil {
		hint := problem.Advise("described: %s", strings.Join(h.GameIDs(), ", "))
		if near := strict.Nearest(req.Game, h.GameIDs()); near != "" {
			hint = problem.Advise("did you mean %s?", near)
		}
		for _, b := range h.Broken {
			if b.Game == req.Game {
				return nil, problem.New(problem.Do("games test", b.File), "%s cannot be used: %w", req.Game, b.Err)
			}
		}
		return nil, problem.Usage(hint, "there is no description of a game %q", req.Game)
	}
	if req.Edition != "" && !slices.Contains(d.Editions, req.Edition) {
		hint := problem.Advise("it has no editions")
		if len(d.Editions) > 0 {
			hint = problem.Advise("there are: %s", strings.Join(d.Editions, ", "))
		}
		return nil, problem.Usage(hint, "%s has no edition %q", d.Title, req.Edition)
	}
	if req.Name != "" && home.Slug(req.Name) != req.Name {
		return nil, problem.Usage(problem.Advise("for example %s", home.Slug(req.Name)), "%q cannot name an install: use a-z, 0-9 and -", req.Name)
	}
	in := &game.Install{Game: d, Name: req.Name, Edition: req.Edition, Pins: map[string]string{}}
	var under, prefix string
	var err error
	for _, p := range []struct {
		from string
		to   *string
	}{{req.At, &in.Root}, {req.Prefix, &prefix}, {req.PlayerHome, &in.PlayerHome}, {req.Under, &under}} {
		if p.from == "" {
			continue
		}
		if *p.to, err = filepath.Abs(p.from); err != nil {
			return nil, err
		}
		if real, err := filepath.EvalSymlinks(*p.to); err == nil {
			*p.to = real
		}
	}
	if in.Root == "" {
		if err := find(ctx, in, under, prefix); err != nil {
			return nil, err
		}
	}
	if err := takePrefix(ctx, in, prefix); err != nil {
		return nil, err
	}
	found := &Addable{Install: in}
	if found.From, err = nameOf(h, in); err != nil {
		return nil, err
	}
	found.Folders, err = Pin(ctx, h, in)
	return found, err
}

// nameOf names an install that is to be added, and returns where the one of that name was that has moved, or "".
func nameOf(h *home.Home, in *game.Install) (from string, err error) {
	var moved []*game.Install
	for _, other := range h.Installs {
		if other.Game.ID != in.Game.ID {
			continue
		}
		if other.Root == in.Root && in.Name == "" {
			in.Name = other.Name // added again: its folders may have moved
			return "", nil
		}
		if other.Root != in.Root && !isThere(other) {
			moved = append(moved, other)
		} else if other.Root != in.Root && in.Name != "" && h.Named(in.Address()) == other {
			hints := problem.Do("games add", in.Game.ID).With("at", in.Root).With("name", freeName(h, in)).Or(problem.Do("games forget", other.Address()))
			return "", problem.Usage(hints, "%s is the install at %s, which is still there", other.Address(), other.Root)
		}
	}
	if in.Name == "" && len(moved) == 1 {
		in.Name = moved[0].Name
	}
	if in.Name == "" {
		in.Name = freeName(h, in)
	}
	for _, other := range moved {
		if other.Name == in.Name {
			from = other.Root
		}
	}
	return from, nil
}

// isThere reports whether an install is where it was.
func isThere(in *game.Install) bool {
	_, err := os.Stat(in.Root)
	return err == nil
}

// find looks for an install below a folder, in a prefix, or in the usual places.
func find(ctx context.Context, in *game.Install, under, prefix string) error {
	if under != "" {
		found, err := in.Game.FindUnder(ctx, under)
		if err != nil {
			return err
		}
		return only(in, found, "nowhere below "+under)
	}
	if prefix != "" {
		found, err := in.Game.FindUnder(ctx, prefix)
		if err != nil || len(found) > 0 {
			return errors.Join(err, only(in, found, "nowhere below "+prefix))
		}
	}
	known, err := game.NativeKnown()
	if in.PlayerHome != "" {
		known = game.HomeKnown(in.PlayerHome)
	}
	if err != nil {
		return err
	}
	return only(in, in.Game.FindInstalls(known), "in none of its usual folders")
}

// only takes the one folder that was found for an install. What could be several is asked about.
func only(in *game.Install, found []string, none string) error {
	switch len(found) {
	case 0:
		return problem.Usage(problem.Do("games add", in.Game.ID).With("at", "DIR").Or(problem.Do("games add", in.Game.ID).With("under", "DIR")), "%s is %s", in.Game.Title, none)
	case 1:
		in.Root = found[0]
		return nil
	}
	var hints problem.Hints
	for _, f := range found {
		hints = hints.Or(problem.Do("games add", in.Game.ID).With("at", f))
	}
	return problem.Usage(hints, "%s is in several folders: say which", in.Game.Title)
}

func freeName(h *home.Home, in *game.Install) string {
	taken := func(name string) bool {
		return h.Named(in.Game.ID+"@"+name) != nil
	}
	if !taken("main") {
		return "main"
	}
	name := home.Slug(filepath.Base(in.Root))
	for name == "" || taken(name) {
		name += "x"
	}
	return name
}
