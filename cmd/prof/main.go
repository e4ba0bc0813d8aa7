package main

import (
	"context"
	"os"
	"runtime/pprof"
	"time"

	"ostrov/internal/cli"
)

func main() {
	f, _ := os.Create(os.Getenv("PROF"))
	pprof.StartCPUProfile(f)
	code := cli.Run(context.Background(), cli.Env{Args: os.Args, Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, Getenv: os.Getenv, Now: time.Now})
	pprof.StopCPUProfile()
	f.Close()
	if m := os.Getenv("MPROF"); m != "" {
		f, _ := os.Create(m)
		pprof.Lookup("allocs").WriteTo(f, 0)
		f.Close()
	}
	os.Exit(code)
}
