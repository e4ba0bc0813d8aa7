package home

import (
	"errors"
	"io/fs"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/strict"
)

// Install finds the install that an address means: GAME, GAME@INSTALL, or "" where there is only one.
func (h *Home) Install(address string) (*game.Install, error) {
	id, name, named := strings.Cut(address, "@")
	for _, b := range h.Broken {
		if b.Game == id && id != "" && h.Game(id) == nil {
			return nil, problem.New(problem.Do("games test", b.File), "%s cannot be used: %w", id, b.Err)
		}
	}
	if len(h.Installs) == 0 {
		return nil, problem.Usage(problem.Do("games add", "GAME").Or(problem.Do("demo")), "no game is known yet")
	}
	var found []*game.Install
	for _, in := range h.Installs {
		if (id == "" || in.Game.ID == id) && (!named || in.Name == name) {
			found = append(found, in)
		}
	}
	if len(found) == 0 && named {
		if in := h.formerly(id, name); in != nil {
			return in, nil
		}
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1 && id == "":
		return nil, problem.Usage(problem.Advise("%s", strings.Join(addresses(found), "\n")), "several games are known: say which")
	case len(found) > 1:
		return nil, problem.Usage(problem.Advise("%s", strings.Join(addresses(found), "\n")), "%s has several installs: say which", address)
	}
	if strings.Contains(address, "/") {
		return nil, problem.Usage(problem.Advise("known: %s", strings.Join(addresses(h.Installs), ", ")), "%q names a save, not a game", address)
	}
	var ids []string
	for _, in := range h.Installs {
		ids = append(ids, in.Game.ID)
	}
	hint := problem.Advise("known: %s", strings.Join(addresses(h.Installs), ", "))
	if near := strict.Nearest(id, ids); near != "" && near != id {
		hint = problem.Advise("did you mean %s?", near)
	} else if h.Game(id) != nil && !slices.Contains(ids, id) {
		hint = problem.Do("games add", id)
	}
	return nil, problem.Usage(hint, "no install %q is known", address)
}

// formerly is the install that had a name before, or nil.
func (h *Home) formerly(id, name string) *game.Install {
	i := slices.IndexFunc(h.Installs, func(in *game.Install) bool { return (id == "" || in.Game.ID == id) && slices.Contains(in.Was, name) })
	if i < 0 {
		return nil
	}
	return h.Installs[i]
}

// Knows reports whether an address means an install.
func (h *Home) Knows(address string) bool {
	_, err := h.Install(address)
	return err == nil && address != ""
}

// Named is the install that an address stands for which was written down, under its present name or a former one; nil where it is not known
// any more.
func (h *Home) Named(address string) *game.Install {
	id, name, _ := strings.Cut(address, "@")
	i := slices.IndexFunc(h.Installs, func(in *game.Install) bool { return in.Address() == address })
	if i < 0 {
		return h.formerly(id, name)
	}
	return h.Installs[i]
}

func addresses(installs []*game.Install) []string {
	var all []string
	for _, in := range installs {
		all = append(all, in.Address())
	}
	return all
}

// InstallsOf are the installs that an address means, all of them for "".
func (h *Home) InstallsOf(address string) ([]*game.Install, error) {
	if address == "" && len(h.Installs) > 0 {
		return h.Installs, nil
	}
	if !strings.Contains(address, "@") {
		var found []*game.Install
		for _, in := range h.Installs {
			if in.Game.ID == address {
				found = append(found, in)
			}
		}
		if len(found) > 0 {
			return found, nil
		}
	}
	in, err := h.Install(address)
	if err != nil {
		return nil, err
	}
	return []*game.Install{in}, nil
}

// Called is the shortest address of an install.
func (h *Home) Called(in *game.Install) string {
	for _, other := range h.Installs {
		if other != in && other.Game.ID == in.Game.ID {
			return in.Address()
		}
	}
	return in.Game.ID
}

// SaveAddress is GAME[@INSTALL][:FOLDER]/SLOT or /NAME taken apart, with the install that it means. Without a slash it is only a slot or name,
// which will do where one install is known; where it names a game, that is a mistake.
func (h *Home) SaveAddress(address string) (in *game.Install, folder, name string, err error) {
	before, name, ok := strings.Cut(address, "/")
	if !ok {
		id, _, _ := strings.Cut(address, "@")
		switch {
		case slices.ContainsFunc(h.Installs, func(in *game.Install) bool { return in.Game.ID == id }):
			return nil, "", "", problem.Usage(problem.Do("saves", address), "%s is a game; name one of its saves: %s/1 …", address, address)
		case len(h.Installs) > 1:
			return nil, "", "", problem.Usage(problem.Advise("known: %s", strings.Join(addresses(h.Installs), ", ")), "several games are known: say which, as GAME/%s", address)
		}
		before, name = "", address
	}
	install, folder, _ := strings.Cut(before, ":")
	in, err = h.Install(install)
	return in, folder, name, err
}

// numberPattern is how a snapshot is numbered in its address.
var numberPattern = regexp.MustCompile(`^(\d{1,9})([b-z]?)$`)

// IsNumber reports whether the part of a snapshot's address behind the dot is a number.
func IsNumber(text string) bool { return numberPattern.MatchString(text) }

var tagPattern = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{0,39}$`)

// CheckTag refuses tags that could not be told from numbers, or not be typed.
func CheckTag(tag string) error {
	if IsNumber(tag) || !tagPattern.MatchString(tag) {
		return problem.Usage(nil, "%.80q cannot be a tag: use a-z, 0-9, . and -, and more than a number", tag)
	}
	return nil
}

// Snapshot finds the snapshot that an address means: PLAYTHROUGH.NUMBER, PLAYTHROUGH.TAG for the newest that has the tag, or PLAYTHROUGH
// for the newest that was kept on purpose. What is asked for is what is returned: one that is damaged is an error which names the next
// older one.
func (h *Home) Snapshot(address string) (*archive.Snapshot, error) {
	a, err := h.Existing()
	if away := h.Away(); errors.Is(err, fs.ErrNotExist) && len(away) > 0 {
		return nil, h.isAway(address, away)
	}
	if err != nil {
		return nil, err
	}
	name, which, named := strings.Cut(address, ".")
	number := numberPattern.FindStringSubmatch(which)
	if named && number == nil && CheckTag(which) != nil || number != nil && strings.TrimLeft(number[1], "0") == "" {
		return nil, problem.Usage(problem.Do("kept"), "%q is not a snapshot: PLAYTHROUGH.NUMBER or PLAYTHROUGH.TAG", address)
	}
	names, err := a.Playthroughs()
	if err != nil {
		return nil, err
	}
	if away := h.Away(); !slices.Contains(names, name) && len(away) > 0 {
		return nil, h.isAway(address, away)
	}
	if !slices.Contains(names, name) {
		hint := problem.Do("kept")
		if near := strict.Nearest(name, names); near != "" {
			hint = problem.Advise("did you mean %s?", near)
		}
		return nil, problem.Usage(hint, "no playthrough %q has been kept", name)
	}
	var snap *archive.Snapshot
	switch {
	case number != nil:
		n, _ := strconv.Atoi(number[1]) // of nine digits at most
		snap, err = a.Snapshot(name, n, number[2])
	case named:
		snap, err = a.Newest(name, func(s *archive.Snapshot) bool { return slices.Contains(s.Tags, which) })
	default:
		if snap, err = a.Newest(name, archive.OnPurpose); snap == nil && err == nil {
			snap, err = a.Newest(name, archive.Any)
		}
	}
	switch damaged := (*archive.UnreadableError)(nil); {
	case errors.As(err, &damaged):
		hints := problem.Do("archive verify")
		if damaged.Older != nil {
			hints = hints.Or(problem.Do("restore", damaged.Older.Address()).Note("the next older one"))
		}
		return nil, problem.New(hints, "%w", damaged)
	case (errors.Is(err, fs.ErrNotExist) || err == nil && snap == nil) && len(h.Away()) > 0:
		return nil, h.isAway(address, h.Away())
	case errors.Is(err, fs.ErrNotExist), err == nil && snap == nil:
		return nil, h.noSnapshot(a, name, which)
	}
	return snap, err
}

// noSnapshot says which snapshots there are instead.
func (h *Home) noSnapshot(a *archive.Archive, name, which string) error {
	all, err := a.Addresses(name)
	if err != nil {
		return err
	}
	if which != "" && numberPattern.FindString(which) == "" {
		return problem.Usage(problem.Do("kept", name), "no snapshot of %s has the tag %q", name, which)
	}
	if len(all) == 0 {
		return problem.Usage(problem.Do("kept"), "no playthrough %q has been kept", name)
	}
	return problem.Usage(problem.Do("kept", name), "%s has no snapshot %s; it has %d, up to %s", name, which, len(all), all[len(all)-1])
}

var notInSlug = regexp.MustCompile(`[^a-z0-9]+`)

// Slug makes a name for addresses out of a title: "Gannet Rock!" is gannet-rock.
func Slug(title string) string {
	return strings.Trim(notInSlug.ReplaceAllString(strings.ToLower(title), "-"), "-")
}
