package job

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/game"
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

// PlanAdd finds an install and where it keeps its things. Nothing is known of it before ConfirmAdd.
func (s *Session) PlanAdd(ctx context.Context, req AddRequest) (*game.Install, []game.Located, error) {
	d, ok := s.Games[req.Game]
	if !ok {
		hint := "described: " + strings.Join(s.GameIDs(), ", ")
		if near := strict.Nearest(req.Game, s.GameIDs()); near != "" {
			hint = "did you mean " + near + "?"
		}
		return nil, nil, usage(hint, "there is no description of a game %q", req.Game)
	}
	if req.Edition != "" && !slices.Contains(d.Editions, req.Edition) {
		return nil, nil, usage("there are: "+strings.Join(d.Editions, ", "), "%s has no edition %q", d.Title, req.Edition)
	}
	if req.At != "" && req.Under != "" {
		return nil, nil, usage("", "--at says where it is, --under where to look for it: give one of them")
	}
	in := &game.Install{Game: d, Name: req.Name, Edition: req.Edition, Pins: map[string]string{}}
	var under string
	var err error
	for _, p := range []struct {
		from string
		to   *string
	}{{req.At, &in.Root}, {req.Prefix, &in.Prefix}, {req.PlayerHome, &in.PlayerHome}, {req.Under, &under}} {
		if p.from == "" {
			continue
		}
		if *p.to, err = filepath.Abs(p.from); err != nil {
			return nil, nil, err
		}
		if real, err := filepath.EvalSymlinks(*p.to); err == nil {
			*p.to = real
		}
	}
	if in.Root == "" {
		if err := s.findInstall(ctx, in, under); err != nil {
			return nil, nil, err
		}
	}
	if err := in.Open(); err != nil {
		return nil, nil, problem("ostrov games add "+d.ID+" --at DIR", "%w", err)
	}
	for _, other := range s.Installs {
		if other.Game.ID == d.ID && other.Root == in.Root {
			in.Name = other.Name // added again: its folders may have moved
		}
	}
	if in.Name == "" {
		in.Name = s.freeInstallName(in)
	}
	folders, err := in.Folders(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, f := range folders {
		if f.Value != "" {
			in.Pins[f.Value] = f.Path // what ConfirmAdd confirms
		}
	}
	return in, folders, in.CheckBounds(ctx, s.forbidden())
}

// findInstall looks for an install below a folder, or in the usual places.
func (s *Session) findInstall(ctx context.Context, in *game.Install, under string) error {
	if under != "" {
		found, err := in.Game.FindUnder(ctx, under)
		if err != nil {
			return err
		}
		return only(in, found, "nowhere below "+under)
	}
	known, err := game.NativeKnown()
	if in.Prefix != "" {
		known, err = game.PrefixKnown(in.Prefix)
	} else if in.PlayerHome != "" {
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
		return usage("ostrov games add "+in.Game.ID+" --at DIR\nostrov games add "+in.Game.ID+" --under DIR", "%s is %s", in.Game.Title, none)
	case 1:
		in.Root = found[0]
		return nil
	}
	var hints []string
	for _, f := range found {
		hints = append(hints, "--at "+Quoted(f))
	}
	return usage(strings.Join(hints, "\n"), "%s is in several folders: say which", in.Game.Title)
}

func (s *Session) freeInstallName(in *game.Install) string {
	taken := func(name string) bool {
		for _, other := range s.Installs {
			if other.Game.ID == in.Game.ID && other.Name == name {
				return true
			}
		}
		return false
	}
	if !taken("main") {
		return "main"
	}
	name := slug(filepath.Base(in.Root))
	for name == "" || taken(name) {
		name += "x"
	}
	return name
}

// ConfirmAdd makes a planned install known; the player has seen its folders.
func (s *Session) ConfirmAdd(in *game.Install) error {
	for i, other := range s.Installs {
		if other.Game.ID == in.Game.ID && other.Name == in.Name {
			s.Installs[i] = in
			return s.saveInstalls()
		}
	}
	s.Installs = append(s.Installs, in)
	return s.saveInstalls()
}

// CheckDescription reads a description and reports all that is wrong with it.
func CheckDescription(path string) (*game.Description, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return game.Parse(path, data)
}

// Folders are the folders of an install, for showing; unlike Look it needs nothing else to be in order.
func (s *Session) Folders(ctx context.Context, in *game.Install) ([]game.Located, error) {
	if err := in.Open(); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil, problem("ostrov games add "+in.Game.ID+" --at DIR", "%s is not where it was: %w", in.Address(), err)
		}
		return nil, err
	}
	return in.Folders(ctx)
}
