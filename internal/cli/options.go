package cli

import (
	"fmt"
	"strings"

	ucli "github.com/urfave/cli/v3"
)

// rule is what an option of a command goes with. An option that could have no effect is an error: whoever gave it meant something by it.
type rule struct {
	command, option string
	needs           string   // another option, without which it has no effect; "" is none
	not             []string // options that it does not go with
}

var rules = []rule{
	{"games add", "at", "", []string{"under"}},
	{"keep", "always", "with", []string{"from", "settings"}},
	{"keep", "settings", "", []string{"as", "with", "from", "tag", "reread"}},
	{"keep", "from", "", []string{"with", "reread"}},
	{"kept", "export", "", []string{"m", "tag"}},
	{"kept", "blank", "export", nil},
	{"look", "put-aside", "", []string{"if", "check"}},
	{"needs", "note", "state", nil},
	{"restore", "slot", "", []string{"only"}},
	{"restore", "to", "", []string{"older"}},
	{"archive verify", "fast", "", []string{"repair"}},
	{"undo", "list", "", []string{"unfinished"}},
	{"demo", "quiet", "dir", nil},
}

// checkOptions refuses options of a command that have no effect as they were given.
func checkOptions(cmd *ucli.Command) error {
	name := strings.TrimPrefix(cmd.FullName(), "ostrov ")
	for _, r := range rules {
		if r.command != name || !cmd.IsSet(r.option) {
			continue
		}
		if r.needs != "" && !cmd.IsSet(r.needs) {
			return &usageError{fmt.Errorf("%s has no effect without %s", dashed(r.option), dashed(r.needs)), cmd.FullName()}
		}
		for _, other := range r.not {
			if cmd.IsSet(other) {
				return &usageError{fmt.Errorf("%s does not go with %s", dashed(r.option), dashed(other)), cmd.FullName()}
			}
		}
	}
	return nil
}

// dashed is an option as it is typed.
func dashed(name string) string {
	if len(name) == 1 {
		return "-" + name
	}
	return "--" + name
}
