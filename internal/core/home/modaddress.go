package home

import (
	"strings"

	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
)

// ModsAt takes addresses of mods apart, GAME[@INSTALL]+MOD each, all of one install: GAME may be left out where only one is known.
func (h *Home) ModsAt(addresses ...string) (in *game.Install, mods []string, err error) {
	for _, a := range addresses {
		install, mod := "", a
		for i := range a { // a mod's id may have a + itself
			if a[i] == '+' && h.Knows(a[:i]) {
				install, mod = a[:i], a[i+1:]
				break
			}
		}
		if mod == "" {
			return nil, nil, problem.Usage(problem.Do("mods", install), "%q names no mod", a)
		}
		if mods = append(mods, mod); install == "" && in != nil {
			continue // of the same install as the one before
		}
		of, err := h.Install(install)
		if err != nil {
			return nil, nil, err
		}
		if in != nil && of != in {
			return nil, nil, problem.Usage(nil, "%s and %s are mods of two installs: name those of one at a time", strings.Join(addresses[:1], ""), a)
		}
		in = of
	}
	return in, mods, nil
}
