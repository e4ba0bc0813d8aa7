// Command ostrov keeps the saves, game versions and mod sets of modded games consistent. See README.md.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime"
	"runtime/debug"
	"syscall"
	"time"

	"ostrov/internal/cli"
)

// Set by the linker for releases: -X main.release=1.0.0 -X main.commit=abcdef.
var release, commit string

// memory is from how many bytes on garbage is collected at once rather than later: what comes from strangers is read in a bounded memory.
const memory = 160 << 20

// later is how much more than usual, in percent, may be allocated before garbage is collected for the first time: most commands are over by then.
const later = 400

// collectLater puts the first collection off. With it, all is as usual.
func collectLater() {
	usual := debug.SetGCPercent(later)
	first := new([64]byte) // large enough to be collected by itself
	runtime.AddCleanup(first, func(usual int) { debug.SetGCPercent(usual) }, usual)
}

func main() {
	debug.SetMemoryLimit(memory)
	collectLater()
	ctx, stop := context.WithCancelCause(context.Background())
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	go func() {
		s, ok := (<-signals).(syscall.Signal)
		if !ok {
			s = syscall.SIGINT
		}
		stop(&cli.Stopped{Signal: int(s)})
		signal.Stop(signals) // a second one ends the program at once
	}()
	os.Exit(cli.Run(ctx, cli.Env{
		Args: os.Args, Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, Getenv: os.Getenv, Now: time.Now, Release: release, Commit: commit,
	}))
}
