package change

import (
	"errors"
	"syscall"
)

// isInvalid reports whether a file system says that it cannot sync folders.
func isInvalid(err error) bool { return errors.Is(err, syscall.EINVAL) }
