package save

import (
	"bytes"
	"io"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/wrap"
)

// looked is how much of a file's content tells whether it is worth being read as a save, in bytes.
const looked = 1 << 20

// word is a name in a query that a file which answers it must contain.
var word = regexp.MustCompile(`[A-Za-z_]{3,}`)

// asksFor is the last name in what a field asks of a text, or "": then a file of any content may answer it.
func asksFor(kind *game.Save, f field.Field) string {
	file := kind.Files[f.In]
	all := word.FindAllString(strings.Join(f.At, " "), -1)
	if file.Encoding != "" || !doc.IsText(file.Form) || len(all) == 0 {
		return ""
	}
	return all[len(all)-1]
}

// Beginnings are those of the files of a download, read once for all kinds of the games that it is looked through for.
type Beginnings struct {
	fsys  fs.FS
	files map[string]beginning
	words [][]byte // that any of the kinds asks for
	// asks are, for each field that [save.is] of a kind has, the words of which one must be there, a bit for each. What a file of any content may answer
	// is not among them.
	asks map[*game.Save][]uint64
	room bytes.Buffer
}

// beginning is what is known of one file: a download may have a hundred thousand.
type beginning struct {
	head [headSize]byte
	n    uint8 // how much of head there is
	read bool  // for has
	has  uint64
}

const (
	// headSize is how much of a file's beginning is kept, in bytes.
	headSize = 32
	// atOnce is how much is read for it, in bytes: a file that ends there has been looked through, too, and is not opened again.
	atOnce = 4 << 10
)

// Begin is nothing read yet of fsys.
func Begin(fsys fs.FS, games ...*game.Description) *Beginnings {
	b := &Beginnings{fsys: fsys, files: map[string]beginning{}, asks: map[*game.Save][]uint64{}}
	for _, d := range games {
		for i := range d.Saves {
			kind := &d.Saves[i]
			if kind.Is == nil {
				continue
			}
			for _, id := range kind.Is.Has {
				if words, some := b.any(kind, id); some {
					b.asks[kind] = append(b.asks[kind], words)
				}
			}
		}
	}
	return b
}

// any are the words of which one is in what answers a field; some is false where a file of any content may answer it.
func (b *Beginnings) any(kind *game.Save, id string) (words uint64, some bool) {
	for _, f := range kind.Field[id] {
		w := asksFor(kind, f)
		if w == "" {
			return 0, false
		}
		i := slices.IndexFunc(b.words, func(known []byte) bool { return string(known) == w })
		if i < 0 {
			if i = len(b.words); i == 64 {
				return 0, false
			}
			b.words = append(b.words, []byte(w))
		}
		words |= 1 << i
	}
	return words, words != 0
}

// of is what is known of a file, at least its head.
func (b *Beginnings) of(name string) beginning {
	known, ok := b.files[name]
	if !ok {
		if f, err := b.fsys.Open(name); err == nil {
			n := b.begin(f, atOnce)
			known.n = uint8(copy(known.head[:], b.room.Bytes()))
			if known.read = n < atOnce; known.read {
				known.has = b.wordsThere()
			}
			f.Close()
		}
		b.files[name] = known
	}
	return known
}

// names reports whether the beginning of a file that is not wrapped has the words that a kind asks for.
func (b *Beginnings) names(kind *game.Save, name string) bool {
	if len(b.asks[kind]) == 0 {
		return true
	}
	known := b.of(name)
	if !known.read {
		if f, err := b.fsys.Open(name); err == nil {
			b.begin(f, looked)
			known.has = b.wordsThere()
			f.Close()
		}
		known.read = true
		b.files[name] = known
	}
	return b.answers(kind, known.has)
}

// begin reads at most the first n bytes of a content into b.room. What cannot be read on is read again, whole, by whoever asks for fields.
func (b *Beginnings) begin(content io.Reader, n int64) int64 {
	b.room.Reset()
	got, _ := b.room.ReadFrom(io.LimitReader(content, n))
	return got
}

// wordsThere are the words in what has been read.
func (b *Beginnings) wordsThere() (has uint64) {
	for i, w := range b.words {
		if bytes.Contains(b.room.Bytes(), w) {
			has |= 1 << i
		}
	}
	return has
}

// answers reports whether a content that has words may be one of a kind.
func (b *Beginnings) answers(kind *game.Save, has uint64) bool {
	return !slices.ContainsFunc(b.asks[kind], func(words uint64) bool { return words&has == 0 })
}

// plausible reports whether the file name, which is not called as saves of the kind are, could be one by its first bytes. A download may
// hold thousands of files, and reading each as every kind of save would take hours.
func (b *Beginnings) plausible(kind *game.Save, name string) bool {
	known := b.of(name)
	head := known.head[:known.n]
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
			if !doc.Plausible(declared.Form, head) {
				return false
			}
			return b.names(kind, name)
		}
	}
	f, err := b.fsys.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	if magic != nil {
		head := make([]byte, min(int(offset)+len(magic), 4096))
		n, _ := io.ReadFull(f, head)
		return n == int(offset)+len(magic) && bytes.Equal(head[offset:], magic)
	}
	for _, declared := range kind.Files {
		if declared.Path != "." {
			continue
		}
		content, err := declared.Layers.Reader(f, wrap.DefaultLimits)
		if err != nil {
			return false
		}
		defer content.Close()
		head := make([]byte, 16)
		n, _ := io.ReadFull(content, head)
		if !doc.Plausible(declared.Form, head[:n]) {
			return false
		}
		b.begin(io.MultiReader(bytes.NewReader(head[:n]), content), looked)
		return b.answers(kind, b.wordsThere())
	}
	return true
}

// unwrapped reports whether nothing is to be peeled from a file that begins with head.
func unwrapped(l wrap.Layers, head []byte) bool {
	if l.Tag != nil {
		return false
	}
	return len(l.Chain) == 0 || len(l.Chain) == 1 && l.Chain[0].Name == "auto" && wrap.Compression(head) == ""
}

// mayBe reports whether a file that begins with head could be what the description says that the save's own file is, as far as that shows without
// unwrapping it.
func mayBe(kind *game.Save, head []byte) bool {
	for _, declared := range kind.Files {
		if declared.Path != "." {
			continue
		}
		if l := declared.Layers; l.Tag == nil && len(l.Chain) == 0 {
			return doc.Plausible(declared.Form, head)
		} else if !l.Begin(head, headSize) {
			return false
		}
	}
	return true
}
