// Command bench compares Ostrov with general tools on the same data in one run, and prints the ratios.
//
//	go run ./bench vet      vetting against unzip -t, and the search for references against grep -F
//	go run ./bench keep     keeping against tar, zstd, cp and git, on two trees
//	go run ./bench restore  bringing them back against tar and cp
//	go run ./bench again    keeping 100,000 files of which none has changed against find and rsync
//	go run ./bench long     the 1,000th snapshot of 20,000 files against the second
//	go run ./bench mods     400 mods listed and verified against find and sha256sum, one of 1 GB added against unzip
//	go run ./bench million  keeping a million files: time and memory
//
// Both sides of a comparison run in turn, so that a machine that slows down slows both; the medians are compared. It needs the Debian
// packages of the tools that it names.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"
)

// comparisons by name; each works in a folder of its own, which is removed afterwards.
var comparisons = map[string]func(*bench) error{"vet": vet, "keep": keep, "restore": restore, "again": again, "long": long, "million": million, "mods": mods, "inside": inside}

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) > 0 && args[0] == "refer" {
		return refer(args[1:])
	}
	var names []string
	for name := range comparisons {
		names = append(names, name)
	}
	sort.Strings(names)
	if len(args) != 1 || comparisons[args[0]] == nil {
		return errors.New("say one of " + strings.Join(names, ", "))
	}
	dir, err := os.MkdirTemp("", "ostrov-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	b := &bench{dir: dir, ostrov: filepath.Join(dir, "ostrov")}
	if b.self, err = os.Executable(); err != nil {
		return err
	}
	build := exec.Command("go", "build", "-o", b.ostrov, "ostrov/cmd/ostrov")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("%s%w", out, err)
	}
	return comparisons[args[0]](b)
}

// bench is one run.
type bench struct {
	dir    string
	ostrov string // the program
	self   string // this one
	gone   int    // how many trees were moved aside
}

func (b *bench) path(parts ...string) string {
	return filepath.Join(append([]string{b.dir}, parts...)...)
}

// side is one side of a comparison: a command, and what has to be done before each run.
type side struct {
	name    string
	command []string
	before  func() error
}

// figures are the medians of one side's runs.
type figures struct {
	wall time.Duration
	peak int64 // bytes of memory of the largest process
}

// runs is how often each side runs; the first is not counted.
const runs = 4

// compare runs one side and others in turn and prints their medians and the ratios of the first to each other; it returns the ratio to the
// first other. What one side wrote is on the drive before the next begins.
func (b *bench) compare(ctx context.Context, what string, a side, others ...side) (float64, error) {
	got := map[string][]figures{}
	for i := range runs {
		for _, s := range append([]side{a}, others...) {
			_ = exec.Command("sync").Run() // where there is none, the figures are less steady
			if s.before != nil {
				if err := s.before(); err != nil {
					return 0, err
				}
			}
			f, err := b.once(ctx, s)
			if err != nil {
				return 0, fmt.Errorf("%s: %w", s.name, err)
			}
			if i > 0 {
				got[s.name] = append(got[s.name], f)
			}
		}
	}
	x := median(got[a.name])
	first := 0.0
	for i, other := range others {
		y := median(got[other.name])
		ratio := x.wall.Seconds() / y.wall.Seconds()
		fmt.Printf("| %s | %s %.2f s, %d MB | %s %.2f s, %d MB | %.2f |\n", what, a.name, x.wall.Seconds(), x.peak>>20, other.name, y.wall.Seconds(), y.peak>>20, ratio)
		if i == 0 {
			first = ratio
		}
	}
	return first, nil
}

func (b *bench) once(ctx context.Context, s side) (figures, error) {
	if _, err := exec.LookPath(s.command[0]); err != nil {
		return figures{}, err
	}
	cmd := exec.CommandContext(ctx, s.command[0], s.command[1:]...)
	cmd.Dir = b.dir
	cmd.Env = append(os.Environ(), "OSTROV_HOME="+b.path("home"), "TMPDIR="+b.dir)
	var errs strings.Builder
	cmd.Stderr = &errs
	began := time.Now()
	err := cmd.Run()
	f := figures{time.Since(began), peakOf(cmd.ProcessState)}
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() >= 3 && exit.ExitCode() <= 6 && s.command[0] == b.ostrov || errors.As(err, &exit) && exit.ExitCode() == 1 && s.command[0] == "grep" {
		err = nil // a verdict; nothing found
	}
	if err != nil {
		err = fmt.Errorf("%w: %s", err, errs.String())
	}
	return f, err
}

func median(all []figures) figures {
	walls := make([]time.Duration, len(all))
	var f figures
	for i, one := range all {
		walls[i] = one.wall
		f.peak = max(f.peak, one.peak)
	}
	slices.Sort(walls)
	f.wall = walls[len(walls)/2]
	return f
}
