package version

import (
	"fmt"
	"slices"

	goversion "github.com/hashicorp/go-version"
)

// Check reports a part of the range that no version can be compared with under the order, so that the range would never hold.
func (r Range) Check(o Order) error {
	for _, p := range r.parts {
		if len(o.List) > 0 {
			if !slices.Contains(o.List, p.version) {
				return fmt.Errorf("%q is not in the list of versions", p.version)
			}
			continue
		}
		if _, err := goversion.NewVersion(p.version); err != nil {
			return fmt.Errorf("%q is no version that sorts by its numbers; versions that are words stand in the list of [versions], oldest first", p.version)
		}
	}
	return nil
}
