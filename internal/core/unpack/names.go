package unpack

import (
	"fmt"
	"path"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"ostrov/internal/core/hazard"
)

// Limits of one download. They are shown when hit.
const (
	MaxEntries = 200_000
	MaxBytes   = 16 << 30 // unpacked, all together
	MaxDepth   = 40       // folders in folders
	MaxPath    = 900      // bytes of one path
	MaxName    = 240      // bytes of one name
	// MaxRatio is how many times its packed size a download may unpack to, once it is larger than RatioFrom.
	MaxRatio  = hazard.MaxRatio
	RatioFrom = hazard.RatioFrom
)

// CheckName says what makes a path in a download dangerous or impossible to write on some system, or is "" for one that is neither.
// A path is slash-separated and relative.
func CheckName(name string) string {
	switch {
	case name == "":
		return "has no name"
	case !utf8.ValidString(name):
		return "has a name that is not valid UTF-8"
	case len(name) > MaxPath:
		return fmt.Sprintf("has a path longer than %d bytes", MaxPath)
	case strings.HasPrefix(name, "/"), strings.HasPrefix(name, `\`):
		return "begins at the root of the drive"
	case len(name) > 1 && name[1] == ':':
		return "names a drive"
	case strings.Contains(name, `\`):
		for _, part := range strings.Split(name, `\`) {
			if part == ".." {
				return "leads out of the download"
			}
		}
		return `has a \ in its name`
	case strings.Count(name, "/") >= MaxDepth:
		return fmt.Sprintf("lies deeper than %d folders", MaxDepth)
	}
	for _, part := range strings.Split(name, "/") {
		if why := checkPart(part); why != "" {
			return why
		}
	}
	return ""
}

func checkPart(part string) string {
	switch {
	case part == "..":
		return "leads out of the download"
	case part == "." || part == "":
		return "has an empty part in its path"
	case len(part) > MaxName:
		return fmt.Sprintf("has a name longer than %d bytes", MaxName)
	case strings.ContainsAny(part, `:*?"<>|`):
		return "has a character in its name that Windows forbids"
	case strings.HasSuffix(part, ".") || strings.HasSuffix(part, " "):
		return "ends in a dot or a space, which Windows drops"
	}
	for _, r := range part {
		switch {
		case unicode.IsControl(r):
			return "has a control character in its name"
		case isDirection(r):
			return "has a character in its name that turns the direction of text"
		}
	}
	if isDevice(part) {
		return "has the name of a device on Windows"
	}
	return ""
}

// isDirection reports whether r makes text read in another order than it is stored, so that txt.exe can look like exe.txt.
func isDirection(r rune) bool {
	return r == '\u061c' || r == '\u200e' || r == '\u200f' || r >= '\u202a' && r <= '\u202e' || r >= '\u2066' && r <= '\u2069'
}

// isDevice reports whether Windows takes a name for a device, with any ending: CON, NUL.txt, COM1, LPT² (Microsoft, "Naming Files, Paths,
// and Namespaces").
func isDevice(part string) bool {
	stem, _, _ := strings.Cut(part, ".")
	stem = strings.ToUpper(strings.TrimRight(stem, " "))
	switch stem {
	case "CON", "PRN", "AUX", "NUL", "CONIN$", "CONOUT$":
		return true
	}
	if rest, ok := strings.CutPrefix(stem, "COM"); ok || strings.HasPrefix(stem, "LPT") {
		if !ok {
			rest = strings.TrimPrefix(stem, "LPT")
		}
		return len([]rune(rest)) == 1 && strings.Contains("0123456789¹²³", rest)
	}
	return false
}

// clashes finds paths that are different here and one and the same on a system that ignores case or normalises letters.
type clashes struct {
	fold cases.Caser
	seen map[string]string // folded path: path
	dirs map[string]bool   // folded path: it is a folder
}

func newClashes() *clashes {
	return &clashes{fold: cases.Fold(), seen: map[string]string{}, dirs: map[string]bool{}}
}

// add returns the path that name clashes with, or "". Folders are added with their files.
func (c *clashes) add(name string, dir bool) string {
	for parent := path.Dir(name); parent != "."; parent = path.Dir(parent) {
		if other := c.one(parent, true); other != "" {
			return other
		}
	}
	return c.one(name, dir)
}

func (c *clashes) one(name string, dir bool) string {
	key := strings.ToLower(name)
	if !isASCII(name) {
		key = c.fold.String(norm.NFC.String(name))
	}
	other, ok := c.seen[key]
	if !ok {
		c.seen[key], c.dirs[key] = name, dir
		return ""
	}
	if other == name && dir && c.dirs[key] {
		return ""
	}
	return other
}

// PortableName spells a path so that every system can hold it: what one of them cannot, in a part of it, is spelled with % and hex digits.
func PortableName(p string) string {
	parts := strings.Split(p, "/")
	for i, part := range parts {
		if CheckName(part) != "" {
			parts[i] = portable(part)
		}
	}
	return path.Join(parts...)
}

func portable(part string) string {
	var b strings.Builder
	for j := 0; j < len(part); {
		r, size := utf8.DecodeRuneInString(part[j:])
		last := j+size == len(part)
		if r == utf8.RuneError && size == 1 || unicode.IsControl(r) || strings.ContainsRune(`:*?"<>|\%`, r) || last && (r == '.' || r == ' ') {
			for _, c := range []byte(part[j : j+size]) {
				fmt.Fprintf(&b, "%%%02X", c)
			}
		} else {
			b.WriteString(part[j : j+size])
		}
		j += size
	}
	name := b.String()
	if CheckName(name) != "" { // a name of its own to Windows, as CON is and COM1.sav
		name = fmt.Sprintf("%%%02X%s", name[0], name[1:])
	}
	return name
}
