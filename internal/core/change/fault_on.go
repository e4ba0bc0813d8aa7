//go:build faults

package change

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
)

// A program that is built with the tag faults ends, or fails, at one chosen step: OSTROV_FAULT is the number of the step, from 1, and how
// ("kill" or "full"). OSTROV_FAULTS names a file to which each step is written, so that a test knows where it was stopped.
func init() {
	number, how, _ := strings.Cut(os.Getenv("OSTROV_FAULT"), ":")
	at, _ := strconv.Atoi(number)
	trace := os.Getenv("OSTROV_FAULTS")
	var mu sync.Mutex
	steps := 0
	fault = func(op string) error {
		mu.Lock()
		defer mu.Unlock()
		steps++
		if trace != "" {
			if f, err := os.OpenFile(trace, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600); err == nil {
				fmt.Fprintln(f, steps, op)
				f.Close()
			}
		}
		if steps != at {
			return nil
		}
		if how == "full" {
			return syscall.ENOSPC
		}
		os.Exit(137)
		return nil
	}
}
