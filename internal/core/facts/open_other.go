//go:build !linux

package facts

import "context"

// OpenForWriting sees nothing on this system: Windows refuses to rename what is open, and names it; macOS does not let it be seen.
func OpenForWriting(context.Context, []string) (*Process, string) { return nil, "" }
