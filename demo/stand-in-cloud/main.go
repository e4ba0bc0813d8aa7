// Command stand-in-cloud plays the part of a cloud that keeps saves in step: "up" takes a folder for the right one, "down" puts the copy back over
// it, whatever was played meanwhile. It is for trying what Ostrov says then, and for nothing else.
package main

import (
	"fmt"
	"os"

	"ostrov/demo"
)

func main() {
	if len(os.Args) != 4 {
		fmt.Fprintln(os.Stderr, "usage: stand-in-cloud up|down FOLDER COPY")
		os.Exit(2)
	}
	c := demo.Cloud{Folder: os.Args[2], Copy: os.Args[3]}
	do := map[string]func() error{"up": c.Up, "down": c.Down}[os.Args[1]]
	if do == nil {
		fmt.Fprintf(os.Stderr, "there is no %q: up or down\n", os.Args[1])
		os.Exit(2)
	}
	if err := do(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
