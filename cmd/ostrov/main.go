// Command ostrov keeps the saves, game versions and mod sets of modded games consistent. See README.md.
package main

import (
	"context"
	"os"
	"os/signal"
	"time"

	"ostrov/internal/cli"
)

// Set by the linker for releases: -X main.release=1.0.0 -X main.commit=abcdef.
var release, commit string

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	code := cli.Run(ctx, cli.Env{
		Args: os.Args, Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, Getenv: os.Getenv, Now: time.Now, Release: release, Commit: commit,
	})
	stop()
	os.Exit(code)
}
