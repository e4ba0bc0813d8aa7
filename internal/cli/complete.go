package cli

import (
	"context"
	"fmt"
	"strings"

	ucli "github.com/urfave/cli/v3"
)

// complete offers what the argument of a command can be, as its usage names it: games, saves or snapshots. Files are the shell's own job.
func (a *app) complete(ctx context.Context, cmd *ucli.Command) {
	a.reads = true
	h, err := a.open()
	if err != nil {
		return
	}
	offer := func(words ...string) {
		for _, w := range words {
			fmt.Fprintln(a.Stdout, w)
		}
	}
	if strings.HasPrefix(cmd.ArgsUsage, "GAME") && cmd.Name == "add" {
		offer(h.GameIDs()...)
		return
	}
	for _, in := range h.Installs {
		switch {
		case strings.Contains(cmd.ArgsUsage, "SAVE"):
			if st, _, err := a.see(ctx, h, in); err == nil {
				for _, s := range st.Saves {
					offer(st.Address(s))
				}
			}
		case strings.Contains(cmd.ArgsUsage, "GAME"):
			offer(in.Game.ID)
		}
	}
	if !strings.Contains(cmd.ArgsUsage, "SNAPSHOT") && !strings.Contains(cmd.ArgsUsage, "PLAYTHROUGH") {
		return
	}
	arch, err := h.Archive()
	if err != nil {
		return
	}
	names, _ := arch.Playthroughs()
	for _, name := range names {
		addresses, _ := arch.Addresses(name)
		offer(addresses...)
	}
}
