// Package glob says which patterns for paths a description may use: those of doublestar, bounded, since a description may come from a stranger.
package glob

import "github.com/bmatcuk/doublestar/v4"

const (
	maxLength  = 1000 // bytes
	maxSpelled = 200  // patterns that one with alternatives in braces stands for: the library tries them all
)

// Valid reports whether a pattern is one, and is soon matched against any path.
func Valid(pattern string) bool {
	return len(pattern) <= maxLength && spelled(pattern) <= maxSpelled && doublestar.ValidatePattern(pattern)
}

// spelled is how many patterns without braces a pattern stands for, at least.
func spelled(pattern string) int {
	all := 1
	var open []int // the alternatives of the braces that are open
	for i := 0; i < len(pattern) && all <= maxSpelled; i++ {
		switch pattern[i] {
		case '\\':
			i++
		case '{':
			open = append(open, 1)
		case ',':
			if len(open) > 0 {
				open[len(open)-1]++
			}
		case '}':
			if len(open) > 0 {
				all *= open[len(open)-1]
				open = open[:len(open)-1]
			}
		}
	}
	return all
}
