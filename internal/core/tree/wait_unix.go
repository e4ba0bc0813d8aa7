//go:build !windows

package tree

import "syscall"

// noWait is the flag with which opening a pipe that nobody writes returns at once.
const noWait = syscall.O_NONBLOCK
