//go:build faults

package change

import (
	"os"
	"strconv"
	"strings"
	"syscall"
)

// fault ends the program, or fails, at one chosen step: OSTROV_FAULT is the number of the step, from 1, and how ("kill" or "full").
// Programs built with the tag faults are for tests of what a crash or a full disk leaves.
func fault(string) error {
	number, how, _ := strings.Cut(os.Getenv("OSTROV_FAULT"), ":")
	n, err := strconv.Atoi(number)
	if err != nil {
		return nil
	}
	if steps++; steps != n {
		return nil
	}
	if how == "full" {
		return syscall.ENOSPC
	}
	os.Exit(137)
	return nil
}

var steps int
