package save

import (
	"bufio"
	"bytes"
	"io"
	"io/fs"
	"ostrov/internal/core/field"
	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"regexp"
	"strings"
)

// looked is how much of a file's content tells whether it is worth being read as a save, in bytes.
const looked = 1 << 20

// word is a name in a query that a file which answers it must contain.
var word = regexp.MustCompile(`[A-Za-z_]{3,}`)

// asksFor is the last name in what a field asks, or nil.
func asksFor(f field.Field) []byte {
	all := word.FindAllString(strings.Join(f.At, " "), -1)
	if len(all) == 0 {
		return nil
	}
	return []byte(all[len(all)-1])
}

// heads are the first bytes of the files of a download, read once for all kinds.
type heads struct {
	fsys fs.FS
	of   map[string][]byte
}

// headSize is how much of a file's beginning is kept, in bytes.
const headSize = 32

func (h *heads) head(name string) []byte {
	if head, ok := h.of[name]; ok {
		return head
	}
	head := make([]byte, headSize)
	n := 0
	if f, err := h.fsys.Open(name); err == nil {
		n, _ = io.ReadFull(f, head)
		f.Close()
	}
	h.of[name] = head[:n:n]
	return head[:n]
}

// plausible reports whether the file name, which is not called as saves of the kind are, could be one by its first bytes. A download may
// hold thousands of files, and reading each as every kind of save would take hours.
func (h *heads) plausible(kind *game.Save, name string) bool {
	head := h.head(name)
	if len(head) == 0 {
		return false
	}
	magic, offset := kind.Is.MagicBytes()
	if magic != nil && int(offset)+len(magic) <= headSize {
		return len(head) >= int(offset)+len(magic) && bytes.Equal(head[offset:int(offset)+len(magic)], magic)
	}
	if magic == nil && !mayBe(kind, head) {
		return false
	}
	f, err := h.fsys.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	b := bufio.NewReaderSize(f, 4096)
	if magic != nil {
		head, _ := b.Peek(min(int(offset)+len(magic), 4096))
		return len(head) == int(offset)+len(magic) && bytes.Equal(head[offset:], magic)
	}
	for _, declared := range kind.Files {
		if declared.Path != "." {
			continue
		}
		content, err := declared.Layers.Reader(b, form.DefaultLimits)
		if err != nil {
			return false
		}
		defer content.Close()
		head := make([]byte, 16)
		n, _ := io.ReadFull(content, head)
		if !form.Plausible(declared.Form, head[:n]) {
			return false
		}
		rest, _ := io.ReadAll(io.LimitReader(content, looked)) // what cannot be read on is read again, whole, by whoever asks for fields
		return names(kind, append(head[:n], rest...))
	}
	return true
}

// mayBe reports whether a file that begins with head could be what the description says that the save's own file is, as far as that shows without
// unwrapping it.
func mayBe(kind *game.Save, head []byte) bool {
	for _, declared := range kind.Files {
		if declared.Path != "." || declared.Layers.Tag != nil {
			continue
		}
		if chain := declared.Layers.Chain; len(chain) == 0 {
			return form.Plausible(declared.Form, head)
		} else if magic, ok := chain[0].Magic(); ok {
			return bytes.HasPrefix(head, magic)
		}
	}
	return true
}

// names reports whether content has the names that the queries of [save.is] ask for, as far as they ask by name.
func names(kind *game.Save, content []byte) bool {
	for _, id := range kind.Is.Has {
		found := false
		for _, one := range kind.Field[id] {
			file := kind.Files[one.In]
			found = found || file.Encoding != "" || !form.IsText(file.Form) || bytes.Contains(content, asksFor(one))
		}
		if !found {
			return false
		}
	}
	return true
}
