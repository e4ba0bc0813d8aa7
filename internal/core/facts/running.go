package facts

import (
	"context"
	"path"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/process"
)

// Process is a running program of a game.
type Process struct {
	Name    string    `json:"name"`
	PID     int32     `json:"pid"`
	Started time.Time `json:"started"`
}

// maxName is how much of a program's name Linux tells; for the rest its command line is asked.
const maxName = 15

// Running finds the running programs of the names given, also Windows programs under a compatibility layer. It cannot see programs on
// another machine that use the same folders over a network.
func Running(ctx context.Context, names []string) ([]Process, error) {
	if len(names) == 0 {
		return nil, nil
	}
	all, err := process.ProcessesWithContext(ctx)
	if err != nil {
		return nil, err
	}
	var found []Process
	for _, p := range all {
		name, err := p.NameWithContext(ctx)
		if err != nil {
			continue // gone, or somebody else's
		}
		for _, want := range names {
			if !couldBe(name, want) || len(want) > maxName && !commandIs(ctx, p, want) {
				continue
			}
			started, _ := p.CreateTimeWithContext(ctx)
			found = append(found, Process{want, p.Pid, time.UnixMilli(started)})
			break
		}
	}
	return found, nil
}

func couldBe(name, want string) bool {
	if len(want) > maxName && len(name) >= maxName {
		return strings.EqualFold(name[:maxName], want[:maxName])
	}
	return strings.EqualFold(name, want)
}

func commandIs(ctx context.Context, p *process.Process, want string) bool {
	args, err := p.CmdlineSliceWithContext(ctx)
	return err != nil || len(args) > 0 && strings.EqualFold(path.Base(strings.ReplaceAll(args[0], `\`, "/")), want)
}
