package job

import (
	"io"
	"os"

	"ostrov/internal/core/durable"
)

// partName is the pattern of the names that what Ostrov writes where the player said has meanwhile.
const partName = ".part-ostrov-*"

// WriteFile writes what the player asked for into a file, whole or not at all, and returns its size in bytes. A file that is there is replaced
// with replace only; else that is ErrDeclined.
func WriteFile(path string, replace bool, write func(io.Writer) error) (int64, error) {
	if _, err := os.Lstat(path); err == nil && !replace {
		return 0, &Error{Text: path + " is there already; nothing has been written", Hint: "choose another name, or repeat it with --yes to replace it", Err: ErrDeclined}
	}
	if err := durable.Write(path, partName, 0o644, write); err != nil {
		return 0, err
	}
	info, err := os.Stat(path)
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}
