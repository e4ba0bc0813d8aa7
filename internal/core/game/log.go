package game

import (
	"bufio"
	"io"
	"regexp"

	"ostrov/internal/core/field"
)

// LogRead is what the log of the last session says.
type LogRead struct {
	Loaded []field.Item // mods that were loaded, in the order of the log
	Failed []field.Item // mods that were not
	Errors []string     // lines worth showing
	Save   string       // the save that was loaded last, as the log calls it
}

// Bounds of one log.
const (
	maxLogLine   = 1 << 20 // bytes
	maxLogErrors = 50
	maxLogItems  = 100_000 // mods of each kind
)

// Read reads a log to its end. Lines that are longer than a megabyte end it.
func (l *Log) Read(r io.Reader) (LogRead, error) {
	var read LogRead
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), maxLogLine)
	for lines.Scan() {
		line := lines.Text()
		if l.begins != nil && l.begins.MatchString(line) {
			read = LogRead{}
		}
		if item, ok := logItem(l.loaded, line); ok && len(read.Loaded) < maxLogItems {
			read.Loaded = append(read.Loaded, item)
		}
		if item, ok := logItem(l.failed, line); ok && len(read.Failed) < maxLogItems {
			read.Failed = append(read.Failed, item)
		}
		if l.errors != nil && len(read.Errors) < maxLogErrors && l.errors.MatchString(line) {
			read.Errors = append(read.Errors, line)
		}
		if l.save != nil {
			if m := l.save.FindStringSubmatch(line); m != nil {
				read.Save = m[l.save.SubexpIndex("save")]
			}
		}
	}
	return read, lines.Err()
}

func logItem(re *regexp.Regexp, line string) (field.Item, bool) {
	if re == nil {
		return field.Item{}, false
	}
	m := re.FindStringSubmatch(line)
	if m == nil {
		return field.Item{}, false
	}
	item := field.Item{ID: m[re.SubexpIndex("id")]}
	if i := re.SubexpIndex("version"); i >= 0 {
		item.Version = m[i]
	}
	return item, true
}
