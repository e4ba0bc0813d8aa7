package mods

import (
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/problem"
)

// Stated reads a requirement that a player states of a mod, and returns the mod and how the requirement is spelled.
func Stated(now *assess.Install, name, need string) (*mod.Mod, string, error) {
	n, err := mod.ParseNeed(need)
	if err != nil || n.ID == "" || strings.ContainsAny(n.ID, "<>=~^!*\"") {
		return nil, "", problem.Usage(problem.Advise(`it is an id and a range: "loader >= 5.4"`), "%q is no requirement: %v", need, err)
	}
	for _, list := range [][]*mod.Mod{now.Mods.Mods, now.Mods.Away} {
		for _, m := range list {
			if strings.EqualFold(m.ID, name) || strings.EqualFold(m.Title, name) {
				return m, n.Words(), nil
			}
		}
	}
	return nil, "", problem.Usage(problem.Do("mods", now.Called), "%s has no mod %q", now.Called, name)
}
