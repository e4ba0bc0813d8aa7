package compare

import (
	"fmt"
	"strings"
)

// maxLines bounds a text of which the lines are compared: the time that this takes grows with their product.
const maxLines = 4000

// lines says which lines of a text were taken out and which came in, with one line around each place: "@@ line N @@", then lines that
// begin with a space, a minus or a plus. It is "" for texts of too many lines.
func lines(before, now string) string {
	a, b := strings.SplitAfter(before, "\n"), strings.SplitAfter(now, "\n")
	if len(a) > maxLines || len(b) > maxLines {
		return ""
	}
	// common[i][j] is how many lines the ends a[i:] and b[j:] have in common, in order
	common := make([][]uint16, len(a)+1)
	for i := range common {
		common[i] = make([]uint16, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if a[i] == b[j] {
				common[i][j] = common[i+1][j+1] + 1
			} else {
				common[i][j] = max(common[i+1][j], common[i][j+1])
			}
		}
	}
	var out strings.Builder
	line := func(sign byte, text string) {
		if text != "" {
			fmt.Fprintf(&out, "%c%s\n", sign, strings.TrimRight(text, "\r\n"))
		}
	}
	for i, j := 0, 0; i < len(a) || j < len(b); {
		if i < len(a) && j < len(b) && a[i] == b[j] {
			i, j = i+1, j+1
			continue
		}
		fmt.Fprintf(&out, "@@ line %d @@\n", j+1)
		if i > 0 {
			line(' ', a[i-1])
		}
		for i < len(a) || j < len(b) {
			switch {
			case i < len(a) && j < len(b) && a[i] == b[j]:
				line(' ', a[i])
			case j >= len(b) || i < len(a) && common[i+1][j] >= common[i][j+1]:
				line('-', a[i])
				i++
				continue
			default:
				line('+', b[j])
				j++
				continue
			}
			break
		}
	}
	return out.String()
}
