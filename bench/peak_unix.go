//go:build unix

package main

import (
	"os"
	"runtime"
	"syscall"
)

// peakOf is the largest memory that a process held, in bytes.
func peakOf(state *os.ProcessState) int64 {
	usage, ok := state.SysUsage().(*syscall.Rusage)
	if !ok {
		return 0
	}
	peak := int64(usage.Maxrss)
	if runtime.GOOS != "darwin" { // there it is in bytes already
		peak <<= 10
	}
	return peak
}
