package job

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/game"
	"ostrov/internal/core/strict"
)

// Install finds the install that an address means: GAME, GAME@INSTALL, or "" where there is only one.
func (s *Session) Install(address string) (*game.Install, error) {
	if len(s.Installs) == 0 {
		return nil, usage("ostrov games add GAME\nostrov demo", "no game is known yet")
	}
	id, name, named := strings.Cut(address, "@")
	var found []*game.Install
	for _, in := range s.Installs {
		if (id == "" || in.Game.ID == id) && (!named || in.Name == name) {
			found = append(found, in)
		}
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		return nil, usage(strings.Join(addresses(found), "\n"), "%s could be several installs: say which", quoted(address))
	}
	var ids []string
	for _, in := range s.Installs {
		ids = append(ids, in.Game.ID)
	}
	hint := "known: " + strings.Join(addresses(s.Installs), ", ")
	if near := strict.Nearest(id, ids); near != "" && near != id {
		hint = "did you mean " + near + "?"
	} else if _, described := s.Games[id]; described {
		hint = "ostrov games add " + id
	}
	return nil, usage(hint, "no install %q is known", address)
}

func quoted(address string) string {
	if address == "" {
		return "this"
	}
	return fmt.Sprintf("%q", address)
}

func addresses(installs []*game.Install) []string {
	var all []string
	for _, in := range installs {
		all = append(all, in.Address())
	}
	return all
}

// InstallsOf are the installs that an address means, all of them for "".
func (s *Session) InstallsOf(address string) ([]*game.Install, error) {
	if address == "" {
		if len(s.Installs) == 0 {
			_, err := s.Install("")
			return nil, err
		}
		return s.Installs, nil
	}
	if !strings.Contains(address, "@") {
		var found []*game.Install
		for _, in := range s.Installs {
			if in.Game.ID == address {
				found = append(found, in)
			}
		}
		if len(found) > 0 {
			return found, nil
		}
	}
	in, err := s.Install(address)
	return []*game.Install{in}, err
}

// saveAddress is GAME[@INSTALL][:FOLDER]/SLOT or /NAME taken apart. Without a slash it is only a slot or name.
func saveAddress(address string) (install, folder, name string) {
	before, name, ok := strings.Cut(address, "/")
	if !ok {
		return "", "", address
	}
	install, folder, _ = strings.Cut(before, ":")
	return install, folder, name
}

// Find finds the save of a look that a slot, as the game shows it, or a name means; folder narrows it down to an account or folder id.
func (l *Look) Find(folder, name string) (*SaveState, error) {
	var found []*SaveState
	for _, s := range l.Saves {
		if folder != "" && s.Folder.Account != folder && s.Folder.ID != folder {
			continue
		}
		if s.HasSlot && strings.EqualFold(s.SlotShown(), name) || s.Name == name || l.Install.FoldsCase() && strings.EqualFold(s.Name, name) {
			found = append(found, s)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		var names []string
		for _, s := range l.Saves {
			names = append(names, s.Handle())
		}
		return nil, usage("there are: "+strings.Join(names, ", "), "%s has no save %q", l.Install.Address(), name)
	}
	var hints []string
	for _, s := range found {
		hints = append(hints, l.Address(s))
	}
	return nil, usage(strings.Join(hints, "\n"), "%q could be several saves: say which", name)
}

// Address is how commands name a save: as short as it is unique.
func (l *Look) Address(s *SaveState) string {
	same := 0
	for _, other := range l.Saves {
		if strings.EqualFold(other.Handle(), s.Handle()) {
			same++
		}
	}
	folder := ""
	if same > 1 {
		folder = ":" + s.Folder.ID
		if s.Folder.Account != "" {
			folder = ":" + s.Folder.Account
		}
	}
	return l.Called + folder + "/" + s.Handle()
}

// called is the shortest address of an install.
func (s *Session) called(in *game.Install) string {
	for _, other := range s.Installs {
		if other != in && other.Game.ID == in.Game.ID {
			return in.Address()
		}
	}
	return in.Game.ID
}

// Snapshot finds the snapshot that an address means: PLAYTHROUGH.NUMBER, PLAYTHROUGH.TAG for the newest that has the tag, or PLAYTHROUGH for the
// newest of all.
func (s *Session) Snapshot(address string) (*archive.Snapshot, error) {
	a, err := s.existing()
	if err != nil {
		return nil, err
	}
	name, which, named := strings.Cut(address, ".")
	number, err := strconv.Atoi(which)
	tagged := named && err != nil
	if named && !tagged && number < 1 || tagged && checkTag(which) != nil {
		return nil, usage("", "%q is not a snapshot: PLAYTHROUGH.NUMBER or PLAYTHROUGH.TAG, as `ostrov kept` lists them", address)
	}
	names, err := a.Playthroughs()
	if err != nil {
		return nil, err
	}
	if !slices.Contains(names, name) {
		hint := "ostrov kept"
		if near := strict.Nearest(name, names); near != "" {
			hint = "did you mean " + near + "?"
		}
		return nil, usage(hint, "no playthrough %q has been kept", name)
	}
	if tagged {
		snap, err := a.Newest(name, func(s *archive.Snapshot) bool { return slices.Contains(s.Tags, which) })
		if snap == nil && err == nil {
			err = usage("ostrov kept "+name, "no snapshot of %s has the tag %q", name, which)
		}
		return snap, err
	}
	if !named {
		if snap, err := a.Newest(name, archive.Any); snap != nil || err != nil {
			return snap, err
		}
	}
	snap, err := a.Snapshot(name, number)
	if errors.Is(err, fs.ErrNotExist) {
		n, err := a.Count(name)
		if err != nil {
			return nil, err
		}
		return nil, usage("ostrov kept "+name, "%s has %d snapshots", name, n)
	}
	return snap, err
}
