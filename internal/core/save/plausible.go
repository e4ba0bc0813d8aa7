package save

import (
	"bufio"
	"bytes"
	"io"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"ostrov/internal/core/field"
	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
)

// looked is how much of a file's content tells whether it is worth being read as a save, in bytes.
const looked = 1 << 20

// word is a name in a query that a file which answers it must contain.
var word = regexp.MustCompile(`[A-Za-z_]{3,}`)

// asksFor is the last name in what a field asks of a text, or "": then a file of any content may answer it.
func asksFor(kind *game.Save, f field.Field) string {
	file := kind.Files[f.In]
	all := word.FindAllString(strings.Join(f.At, " "), -1)
	if file.Encoding != "" || !form.IsText(file.Form) || len(all) == 0 {
		return ""
	}
	return all[len(all)-1]
}

// Beginnings are those of the files of a download, read once for all kinds of the games that it is looked through for.
type Beginnings struct {
	fsys  fs.FS
	heads map[string][]byte
	words []string          // that any of the kinds asks for
	has   map[string][]bool // which of these the beginning of a file has, that is not wrapped
}

// Begin is nothing read yet of fsys.
func Begin(fsys fs.FS, games ...*game.Description) *Beginnings {
	b := &Beginnings{fsys: fsys, heads: map[string][]byte{}, has: map[string][]bool{}}
	for _, d := range games {
		for i := range d.Saves {
			kind := &d.Saves[i]
			if kind.Is == nil {
				continue
			}
			for _, id := range kind.Is.Has {
				for _, f := range kind.Field[id] {
					if w := asksFor(kind, f); w != "" && !slices.Contains(b.words, w) {
						b.words = append(b.words, w)
					}
				}
			}
		}
	}
	return b
}

// headSize is how much of a file's beginning is kept, in bytes.
const headSize = 32

func (b *Beginnings) head(name string) []byte {
	if head, ok := b.heads[name]; ok {
		return head
	}
	head := make([]byte, headSize)
	n := 0
	if f, err := b.fsys.Open(name); err == nil {
		n, _ = io.ReadFull(f, head)
		f.Close()
	}
	b.heads[name] = head[:n:n]
	return head[:n]
}

// holds reports whether the beginning of a file that is not wrapped has a word.
func (b *Beginnings) holds(name, word string) bool {
	found, ok := b.has[name]
	if !ok {
		found = make([]bool, len(b.words))
		if f, err := b.fsys.Open(name); err == nil {
			content, _ := io.ReadAll(io.LimitReader(f, looked)) // what cannot be read on is read again, whole, by whoever asks for fields
			f.Close()
			for i, w := range b.words {
				found[i] = bytes.Contains(content, []byte(w))
			}
		}
		b.has[name] = found
	}
	i := slices.Index(b.words, word)
	return i < 0 || found[i]
}

// plausible reports whether the file name, which is not called as saves of the kind are, could be one by its first bytes. A download may
// hold thousands of files, and reading each as every kind of save would take hours.
func (b *Beginnings) plausible(kind *game.Save, name string) bool {
	head := b.head(name)
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
	for _, declared := range kind.Files {
		if magic == nil && declared.Path == "." && unwrapped(declared.Layers.Layers, head) {
			if !form.Plausible(declared.Form, head) {
				return false
			}
			return names(kind, func(word string) bool { return b.holds(name, word) })
		}
	}
	f, err := b.fsys.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	r := bufio.NewReaderSize(f, 4096)
	if magic != nil {
		head, _ := r.Peek(min(int(offset)+len(magic), 4096))
		return len(head) == int(offset)+len(magic) && bytes.Equal(head[offset:], magic)
	}
	for _, declared := range kind.Files {
		if declared.Path != "." {
			continue
		}
		content, err := declared.Layers.Reader(r, form.DefaultLimits)
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
		rest = append(head[:n], rest...)
		return names(kind, func(word string) bool { return bytes.Contains(rest, []byte(word)) })
	}
	return true
}

// unwrapped reports whether nothing is to be peeled from a file that begins with head.
func unwrapped(l form.Layers, head []byte) bool {
	if l.Tag != nil {
		return false
	}
	return len(l.Chain) == 0 || len(l.Chain) == 1 && l.Chain[0].Name == "auto" && form.Compression(head) == ""
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

// names reports whether a content has the names that the queries of [save.is] ask for, as far as they ask by name.
func names(kind *game.Save, holds func(word string) bool) bool {
	for _, id := range kind.Is.Has {
		if !slices.ContainsFunc(kind.Field[id], func(f field.Field) bool { w := asksFor(kind, f); return w == "" || holds(w) }) {
			return false
		}
	}
	return true
}
