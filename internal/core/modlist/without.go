package modlist

import (
	"slices"
	"strings"
)

// Without are needs without those of some mods, by their ids.
func Without(needs []Needed, ids []string) []Needed {
	return slices.DeleteFunc(slices.Clone(needs), func(m Needed) bool {
		return slices.ContainsFunc(ids, func(id string) bool { return strings.EqualFold(id, m.ID) })
	})
}
