package game

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"ostrov/internal/core/tree"
)

// CheckBounds reports whether every folder of the install, and every pattern of settings, pictures and data, keeps to the bounds: below a
// known folder or the install by at least one level, or confirmed by the player where it comes out of the game's own files; and containing
// neither a known folder, nor one of the folders in forbidden (Ostrov's home, archives), nor another folder of the description unless it
// is managed.
func (in *Install) CheckBounds(ctx context.Context, forbidden []string) error {
	all, err := in.Folders(ctx)
	if err != nil {
		return err
	}
	for i, l := range all {
		if l.Value != "" && in.Pins[l.Value] != l.Path {
			return fmt.Errorf("folder %s: %s comes from the game's own files and %w", l.ID, l.Path, ErrUnconfirmed)
		}
		if l.Path == in.Root {
			return fmt.Errorf("folder %s: %s %w: it is the game itself", l.ID, l.Path, ErrOutOfBounds)
		}
		if why := in.outside(l.Path, l.Value != "" || l.Link != "" || l.Managed && strings.HasPrefix(l.Folder.Path, "{game}/../")); why != "" {
			return fmt.Errorf("folder %s: %s %w: %s", l.ID, l.Path, ErrOutOfBounds, why)
		}
		for _, f := range forbidden {
			if l.Path == f || Within(f, l.Path) || Within(l.Path, f) || l.Real == f || Within(f, l.Real) || Within(l.Real, f) {
				return fmt.Errorf("folder %s: %s %w: it overlaps %s", l.ID, l.Path, ErrOutOfBounds, f)
			}
		}
		for j, other := range all {
			if i != j && !l.Managed && other.Real != l.Real && Within(other.Real, l.Real) {
				return fmt.Errorf("folder %s: %s %w: it holds the folder %s", l.ID, l.Path, ErrOutOfBounds, other.ID)
			}
		}
	}
	_, err = in.FileGroups(ctx)
	return err
}

// secrets are folders of a player's home in which programs keep keys and passwords. No game keeps anything there.
var secrets = []string{".ssh", ".gnupg", ".pki", ".password-store", ".netrc", ".local/share/keyrings"}

// systems are folders that belong to the system. A game that is installed in one is named by its own folder.
var systems = []string{"/bin", "/boot", "/dev", "/etc", "/lib", "/lib64", "/proc", "/sbin", "/sys", "/usr"}

// outside says why a folder is out of bounds, or "". free tells that it need not lie below a known folder: the player has confirmed it, or
// linked it. All that links lead to is judged as well as what is written.
func (in *Install) outside(path string, free bool) string {
	real := tree.Real(path)
	inside, leads := false, true // leads: what links lead to lies elsewhere
	for _, k := range append(in.known.all(), in.Root) {
		inside = inside || Within(path, k) || path == in.Root
		resolved := tree.Real(k)
		leads = leads && !Within(real, resolved) && real != resolved
		for _, p := range []string{path, real} {
			if k != in.Root && (p == k || p == resolved || Within(k, p) || Within(resolved, p)) {
				return "it holds all of " + k
			}
		}
	}
	if !inside && !free {
		return "it lies neither in the install nor below a known folder"
	}
	if real == filepath.VolumeName(real)+string(filepath.Separator) {
		return "it is the whole drive"
	}
	for _, s := range systems {
		if leads && (real == s || Within(real, s)) {
			return "it leads into " + s
		}
	}
	for _, s := range secrets {
		secret := filepath.Join(in.known.Home, filepath.FromSlash(s))
		if in.known.Home != "" && (path == secret || Within(path, secret) || real == secret || Within(real, secret)) {
			return "programs keep keys and passwords in it"
		}
	}
	return ""
}
