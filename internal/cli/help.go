package cli

import (
	"fmt"
	"strings"

	ucli "github.com/urfave/cli/v3"
)

// helpOf is the help of the whole program: the commands in their groups, in the order in which a player meets them. The parser's own help
// would sort the groups by name.
func helpOf(root *ucli.Command) string {
	width := 0
	for _, c := range root.Commands {
		width = max(width, len(c.Name))
	}
	var b strings.Builder
	fmt.Fprintf(&b, "ostrov %s\n\n  ostrov COMMAND [OPTIONS]\n", root.Usage)
	group := ""
	for _, c := range root.Commands {
		if c.Category != group {
			group = c.Category
			fmt.Fprintf(&b, "\n%s\n", group)
		}
		fmt.Fprintf(&b, "  %-*s  %s\n", width, c.Name, c.Usage)
	}
	fmt.Fprintf(&b, "\n%s\n\nevery command\n", root.Description)
	for _, f := range root.Flags {
		fmt.Fprintf(&b, "  %s\n", f)
	}
	return b.String()
}
