package cli

import (
	"context"
	"fmt"
	"strings"

	ucli "github.com/urfave/cli/v3"
)

// complete offers what the argument of a command can be, as its usage names it: games, saves or snapshots. Files are the shell's own job.
func (a *app) complete(ctx context.Context, cmd *ucli.Command) {
	s, err := a.open()
	if err != nil {
		return
	}
	offer := func(words ...string) {
		for _, w := range words {
			fmt.Fprintln(a.Stdout, w)
		}
	}
	if strings.HasPrefix(cmd.ArgsUsage, "GAME") && cmd.Name == "add" {
		offer(s.GameIDs()...)
		return
	}
	for _, in := range s.Installs {
		switch {
		case strings.Contains(cmd.ArgsUsage, "SAVE"):
			if l, err := s.Look(ctx, in); err == nil {
				for _, st := range l.Saves {
					offer(l.Address(st))
				}
			}
		case strings.Contains(cmd.ArgsUsage, "GAME"):
			offer(in.Game.ID)
		}
	}
	if !strings.Contains(cmd.ArgsUsage, "SNAPSHOT") && !strings.Contains(cmd.ArgsUsage, "PLAYTHROUGH") {
		return
	}
	arch, err := s.Archive(false)
	if err != nil {
		return
	}
	names, _ := arch.Playthroughs()
	for _, name := range names {
		n, _ := arch.Count(name)
		for i := range n {
			offer(fmt.Sprintf("%s.%d", name, i+1))
		}
	}
}
