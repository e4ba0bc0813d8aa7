package cli

import (
	"fmt"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/keep"
	"ostrov/internal/view"
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
	{"keep", "from", "", []string{"with", "reread", "mods"}},
	{"keep", "mods", "", []string{"settings"}},
	{"kept", "export", "", []string{"m", "tag"}},
	{"kept", "blank", "export", nil},
	{"look", "put-aside", "", []string{"if", "check", "all"}},
	{"look", "all", "", []string{"if"}},
	{"needs", "note", "state", nil},
	{"restore", "slot", "", []string{"only", "all"}},
	{"restore", "all", "", []string{"to"}},
	{"restore", "to", "", []string{"older"}},
	{"archive verify", "fast", "", []string{"repair"}},
	{"undo", "list", "", []string{"unfinished"}},
	{"demo", "quiet", "dir", nil},
}

// askList asks which mod list belongs to the saves that are put away or kept, where the present one is another than they were written under.
const askList = "ask"

func listFlag() ucli.Flag {
	return &ucli.StringFlag{Name: "mods", Usage: "which mod list belongs to the saves, where it was changed since they were written: `as-written` or as-now"}
}

// listOf reads the option of listFlag.
func listOf(cmd *ucli.Command) (string, error) {
	switch list := cmd.String("mods"); list {
	case "", keep.WrittenList, keep.PresentList:
		return list, nil
	default:
		return "", &usageError{fmt.Errorf("--mods %s is not understood: there are %s and %s", list, keep.WrittenList, keep.PresentList), cmd.FullName()}
	}
}

// whichList asks which mod list belongs to the saves of the line that is played. Without a terminal it is the one that they were written under.
func (a *app) whichList(h *home.Home, st *facts.State, list string) (string, error) {
	line := st.Current()
	if list != askList || line == nil {
		return list, nil
	}
	was, err := keep.Written(h, st, line.Name)
	if err != nil || was == nil {
		return keep.WrittenList, err
	}
	var words []string
	for _, c := range keep.ListChanges(st, was) {
		words = append(words, view.Text(view.ModChange(c)))
	}
	if !a.hasTerminal() || a.yes {
		a.notes().Line("The mod list has changed since the saves of %s were written (%s): they keep the one of %s. --mods as-now files the present one.", line.Name, strings.Join(words, ", "), was.Address())
		return keep.WrittenList, nil
	}
	fmt.Fprintf(a.Stderr, "\nThe mod list has changed since the saves of %s were written: %s.\n", line.Name, strings.Join(words, ", "))
	if err := a.confirm("Does the list as it is now belong to them?"); err != nil {
		return keep.WrittenList, nil // no is an answer here
	}
	return keep.PresentList, nil
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
