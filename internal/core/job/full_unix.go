//go:build !windows

package job

import (
	"errors"
	"syscall"
)

func isFull(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
}
