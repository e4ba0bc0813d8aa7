// Package version compares the versions of games, saves and mods, which follow no common rule, and answers "unknown" rather than guess.
//
// It promises never to order two texts that it cannot read as versions. It knows nothing of games.
package version

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	goversion "github.com/hashicorp/go-version"
)

// Order says how the versions of a game sort. The zero Order is numeric: dotted numbers, an optional v before, a pre-release behind.
type Order struct {
	// List, where it is not empty, names all versions from oldest to newest; a version not in it is newer than all.
	List []string
}

// Relation is how one version stands to another.
type Relation int

// Relations. Unknown is that of versions of which one is missing or cannot be read.
const (
	Unknown Relation = iota
	Older
	Same
	Newer
)

// Compare tells how a stands to b: Compare("2", "1") is Newer. Equal texts are the Same whatever they are, except empty ones.
func (o Order) Compare(a, b string) Relation {
	a, b = strings.TrimSpace(a), strings.TrimSpace(b)
	switch {
	case a == "" || b == "":
		return Unknown
	case a == b:
		return Same
	}
	if len(o.List) > 0 {
		i, j := slices.Index(o.List, a), slices.Index(o.List, b)
		if i < 0 {
			i = len(o.List)
		}
		if j < 0 {
			j = len(o.List)
		}
		if i == j { // both newer than all known
			return Unknown
		}
		return relation(i - j)
	}
	va, errA := goversion.NewVersion(a)
	vb, errB := goversion.NewVersion(b)
	if errA != nil || errB != nil {
		return Unknown
	}
	return relation(va.Compare(vb))
}

func relation(n int) Relation {
	switch {
	case n < 0:
		return Older
	case n > 0:
		return Newer
	default:
		return Same
	}
}

// Range is a set of versions: comparisons that must all hold, "< 2", ">= 1.4, < 2". The zero Range holds every version, known or not.
type Range struct{ parts []part }

type part struct{ op, version string }

// ErrRange says that a text is no range.
var ErrRange = errors.New("not a range of versions such as \">= 1.4, < 2\"")

// ParseRange reads a range. A version alone means just that version; "" and "*" mean every version.
func ParseRange(s string) (Range, error) {
	var r Range
	if t := strings.TrimSpace(s); t == "" || t == "*" {
		return r, nil
	}
	for _, text := range strings.Split(s, ",") {
		text = strings.TrimSpace(text)
		p := part{op: "="}
		for _, op := range []string{">=", "<=", "!=", ">", "<", "="} {
			if rest, ok := strings.CutPrefix(text, op); ok {
				p.op, text = op, strings.TrimSpace(rest)
				break
			}
		}
		if text == "" || text == "*" || strings.ContainsAny(text, "<>=!") { // a * with anything beside it would be taken for a version
			return Range{}, fmt.Errorf("%q is %w", s, ErrRange)
		}
		p.version = text
		r.parts = append(r.parts, p)
	}
	return r, nil
}

// String is the range as it was written.
func (r Range) String() string {
	parts := make([]string, len(r.parts))
	for i, p := range r.parts {
		if parts[i] = p.version; p.op != "=" {
			parts[i] = p.op + " " + p.version
		}
	}
	return strings.Join(parts, ", ")
}

// IsAny reports whether the range holds every version.
func (r Range) IsAny() bool { return len(r.parts) == 0 }

// Holds reports whether version is in the range. A version that is missing or cannot be compared is in none but the zero Range.
func (r Range) Holds(o Order, version string) bool {
	for _, p := range r.parts {
		rel := o.Compare(version, p.version)
		ok := false
		switch p.op {
		case "=":
			ok = rel == Same
		case "!=":
			ok = rel == Older || rel == Newer
		case "<":
			ok = rel == Older
		case "<=":
			ok = rel == Older || rel == Same
		case ">":
			ok = rel == Newer
		case ">=":
			ok = rel == Newer || rel == Same
		}
		if !ok {
			return false
		}
	}
	return true
}
