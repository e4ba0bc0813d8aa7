package home

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/games"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/strict"
)

// described is a game with a description, which is read when it is asked for.
type described struct {
	shipped string // the file in games.Files, "" of the player's own
	read    *game.Description
}

// loadGames finds the descriptions that ship with Ostrov, each called after the game's id, and reads the player's own in the home's folder games,
// which win. One of the player's own that cannot be read is Broken; the description that it stands for is not used in its place.
func (h *Home) loadGames() error {
	list, err := fs.ReadDir(games.Files, ".")
	if err != nil {
		return err
	}
	for _, e := range list {
		h.games[strings.TrimSuffix(e.Name(), ".toml")] = &described{shipped: e.Name()}
	}
	own, err := filepath.Glob(filepath.Join(h.Dir, "games", "*.toml"))
	if err != nil {
		return err
	}
	for _, path := range own {
		d, err := ReadDescription(path)
		if err != nil {
			id := strings.TrimSuffix(filepath.Base(path), ".toml")
			h.Broken = append(h.Broken, Broken{path, err, id})
			delete(h.games, id)
			continue
		}
		h.games[d.ID] = &described{read: d}
	}
	return nil
}

// Game is the description of a game, nil where there is none.
func (h *Home) Game(id string) *game.Description {
	g, ok := h.games[id]
	if !ok {
		return nil
	}
	if g.read == nil {
		data, err := fs.ReadFile(games.Files, g.shipped)
		if err == nil {
			g.read, err = game.Parse("games/"+g.shipped, data)
		}
		if err != nil { // tests read all that ship
			h.Log.Error("a description that ships cannot be read", "error", err)
		}
	}
	return g.read
}

// ReadDescription reads a description from a file and reports all that is wrong with it.
func ReadDescription(path string) (*game.Description, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > strict.MaxSize {
		return nil, problem.Usage(nil, "%s is no file of at most %d bytes", path, strict.MaxSize)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return game.Parse(path, data)
}

// Own is where the player's own description of a game lies, or would lie.
func (h *Home) Own(id string) string { return filepath.Join(h.Dir, "games", id+".toml") }

// TakeDescription uses a description from a file for the game that it describes, from now on and as long as the home is open; Store keeps it. was is
// the one that was used before, or nil.
func (h *Home) TakeDescription(path string) (d, was *game.Description, err error) {
	if d, err = ReadDescription(path); err != nil {
		return nil, nil, err
	}
	was = h.Game(d.ID)
	d.File = h.Own(d.ID)
	h.games[d.ID] = &described{read: d}
	h.Broken = slices.DeleteFunc(h.Broken, func(b Broken) bool { return b.Game == d.ID })
	return d, was, nil
}

// StoreDescription keeps a description that was taken from a file among the player's own.
func (h *Home) StoreDescription(d *game.Description, path string) error {
	if from, err := filepath.Abs(path); err == nil && from == d.File {
		return nil
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	if again, err := game.Parse(path, data); err != nil || again.Digest != d.Digest {
		return errors.Join(err, fmt.Errorf("%s has changed meanwhile", path))
	}
	return h.writeBytes("games/"+d.ID+".toml", data)
}

func (h *Home) loadInstalls() {
	path := filepath.Join(h.Dir, installsFile)
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return
	}
	if err == nil {
		h.Installs, h.lost, err = game.DecodeInstalls(data, h.Game)
	}
	if err != nil {
		h.Unrecorded = errors.Join(h.Unrecorded, fmt.Errorf("%s: %w", path, err))
		return
	}
	for _, l := range h.lost {
		if !slices.ContainsFunc(h.Broken, func(b Broken) bool { return b.Game == l.Game }) {
			h.Broken = append(h.Broken, Broken{path, fmt.Errorf("%s: there is no description of the game %s", l.Address(), l.Game), l.Game})
		}
	}
}

const installsFile = "installs.json"

// Register makes an install known, in place of one of the same address.
func (h *Home) Register(in *game.Install) error {
	i := slices.IndexFunc(h.Installs, func(other *game.Install) bool { return other.Game.ID == in.Game.ID && other.Name == in.Name })
	if i >= 0 {
		h.Installs[i] = in
	} else {
		h.Installs = append(h.Installs, in)
	}
	return h.saveInstalls()
}

// Renamable is an error where an install cannot have a name.
func (h *Home) Renamable(in *game.Install, name string) error {
	if Slug(name) != name || name == "" {
		return problem.Usage(problem.Advise("for example %s", Slug(name)), "%q cannot name an install: use a-z, 0-9 and -", name)
	}
	if other := h.Named(in.Game.ID + "@" + name); other != nil && other != in {
		return problem.Usage(problem.Do("games rename", in.Address(), "NAME"), "%s@%s is, or was, the name of the install at %s", in.Game.ID, name, other.Root)
	}
	return nil
}

// Rename gives an install another name; the one that it had still means it.
func (h *Home) Rename(in *game.Install, name string) error {
	if err := h.Renamable(in, name); err != nil {
		return err
	}
	in.Was = append(slices.DeleteFunc(in.Was, func(was string) bool { return was == name }), in.Name)
	for _, other := range h.Installs {
		if other.Game.ID == in.Game.ID && other.With == in.Name {
			other.With = name
		}
	}
	in.Name = name
	return h.saveInstalls()
}

// Unregister forgets an install. Nothing of the game or of what was kept is touched.
func (h *Home) Unregister(in *game.Install) error {
	h.Installs = slices.DeleteFunc(h.Installs, func(other *game.Install) bool { return other == in })
	return h.saveInstalls()
}

func (h *Home) saveInstalls() error {
	if err := h.RequireRecords(); err != nil { // else the file, which could not be read, would be written over
		return err
	}
	data, err := game.EncodeInstalls(h.Installs, h.lost)
	if err != nil {
		return err
	}
	return h.writeBytes(installsFile, append(data, '\n'))
}
