package facts

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// OpenForWriting finds a program, other than this one, that has one of the files or something in one of the folders open for writing, and
// what that is. It is nil where none is seen: programs of other users, and on other machines, are not.
func OpenForWriting(ctx context.Context, paths []string) (*Process, string) {
	if len(paths) == 0 {
		return nil, ""
	}
	real := make([]string, len(paths))
	for i, p := range paths {
		dir, err := filepath.EvalSymlinks(filepath.Dir(p))
		if err != nil {
			dir = filepath.Dir(p)
		}
		real[i] = filepath.Join(dir, filepath.Base(p))
	}
	list, err := filepath.Glob("/proc/[0-9]*/fd")
	if err != nil {
		return nil, ""
	}
	own := strconv.Itoa(os.Getpid())
	for _, dir := range list {
		pid := filepath.Base(filepath.Dir(dir))
		open, err := os.ReadDir(dir)
		if err != nil || pid == own || ctx.Err() != nil {
			continue
		}
		for _, fd := range open {
			file, err := os.Readlink(filepath.Join(dir, fd.Name()))
			if err != nil || !strings.HasPrefix(file, "/") {
				continue
			}
			for _, p := range real {
				if (file == p || strings.HasPrefix(file, p+"/")) && opensToWrite(pid, fd.Name()) {
					name, _ := os.ReadFile("/proc/" + pid + "/comm")
					n, _ := strconv.Atoi(pid)
					return &Process{Name: strings.TrimSpace(string(name)), PID: int32(n)}, file
				}
			}
		}
	}
	return nil, ""
}

// opensToWrite reports whether an open file is open for writing.
func opensToWrite(pid, fd string) bool {
	data, err := os.ReadFile("/proc/" + pid + "/fdinfo/" + fd)
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(data)) {
		if flags, ok := strings.CutPrefix(line, "flags:"); ok {
			n, err := strconv.ParseInt(strings.TrimSpace(flags), 8, 64)
			return err == nil && n&int64(os.O_WRONLY|os.O_RDWR) != 0
		}
	}
	return false
}
