package compare

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestLinesThatDiffer(t *testing.T) {
	for name, c := range map[string][3]string{
		"nothing":       {"a\nb\n", "a\nb\n", ""},
		"one changed":   {"a\nb\nc\n", "a\nB\nc\n", "@@ line 2 @@\n a\n-b\n+B\n c\n"},
		"one more":      {"a\nc\n", "a\nb\nc\n", "@@ line 2 @@\n a\n+b\n c\n"},
		"the last gone": {"a\nb\n", "a\n", "@@ line 2 @@\n a\n-b\n"},
		"all new":       {"", "a\n", "@@ line 1 @@\n+a\n"},
	} {
		assert.Equal(t, c[2], lines(c[0], c[1]), name)
	}
	long := strings.Repeat("line\n", maxLines+1)
	assert.Empty(t, lines(long, "x"), "too long to be compared line by line")
}

// TestLinesTellHowToComeFromOneToTheOther takes random texts: what is taken out and brought in is just what differs.
func TestLinesTellHowToComeFromOneToTheOther(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	text := func() []string {
		var list []string
		for range r.IntN(12) {
			list = append(list, fmt.Sprint(r.IntN(5)))
		}
		return list
	}
	join := func(list []string) string {
		if len(list) == 0 {
			return ""
		}
		return strings.Join(list, "\n") + "\n"
	}
	for range 500 {
		before, now := text(), text()
		out, in := map[string]int{}, map[string]int{}
		for _, line := range strings.Split(lines(join(before), join(now)), "\n") {
			switch {
			case strings.HasPrefix(line, "-"):
				out[line[1:]]++
			case strings.HasPrefix(line, "+"):
				in[line[1:]]++
			}
		}
		count := map[string]int{}
		for _, l := range before {
			count[l]++
		}
		for _, l := range now {
			count[l]--
		}
		for l := range count {
			assert.Equal(t, count[l], out[l]-in[l], "%q: %v to %v", l, before, now)
		}
	}
}
