package share

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// privateWord is a text to look for, a name for it, and the text that replaces it. A text with letters is found in either case, and only as a whole
// word: Ann is not in Annals.
type privateWord struct {
	text, what, instead string
	lower               []byte // the text with ASCII letters in lower case; nil where it is found as it is, anywhere
	spellings           []spelling
}

// How long a value must be to be looked for, in bytes: shorter ones occur by chance. A name is only found where it stands by itself.
const (
	minPrivate = 4
	minName    = 3
)

// add looks for a text from now on, and reports whether it is long enough for that.
func (p *personal) add(text, what string) bool {
	text = strings.TrimSpace(text)
	w := privateWord{text: text, what: what}
	least := minPrivate
	if strings.ContainsFunc(text, unicode.IsLetter) {
		w.lower, least = lowered([]byte(text)), minName
	}
	if len(text) < least {
		return text == ""
	}
	if slices.ContainsFunc(p.words, func(known privateWord) bool { return known.text == text }) {
		return true
	}
	w.instead = "1" + strings.Repeat("0", len(text)-1) // a number as long
	if w.lower != nil {
		p.named++
		w.instead = fmt.Sprintf("player%d", p.named)
	}
	w.spellings = spellingsOf(text)
	p.words = append(p.words, w)
	return true
}

// lowered is text with ASCII letters in lower case, as long as it was.
func lowered(text []byte) []byte { return lowerInto(nil, text) }

// lowerInto is lowered in the memory of buf, as far as that goes.
func lowerInto(buf, text []byte) []byte {
	lower := slices.Grow(buf[:0], len(text))[:len(text)]
	for i, c := range text {
		if 'A' <= c && c <= 'Z' {
			c += 'a' - 'A'
		}
		lower[i] = c
	}
	return lower
}

// each visits where the word stands in text; lower is text in lower case.
func (w privateWord) each(text, lower []byte, visit func(from, to int)) {
	in, find := text, []byte(w.text)
	if w.lower != nil {
		in, find = lower, w.lower
	}
	for at := 0; ; {
		i := bytes.Index(in[at:], find)
		if i < 0 {
			return
		}
		from, to := at+i, at+i+len(find)
		at = to
		before, _ := utf8.DecodeLastRune(text[:from])
		after, _ := utf8.DecodeRune(text[to:])
		if w.lower == nil || !inWord(before) && !inWord(after) {
			visit(from, to)
		}
	}
}

func inWord(r rune) bool {
	return r != utf8.RuneError && (unicode.IsLetter(r) || unicode.IsDigit(r))
}

// without replaces every word in a text, the same word always by the same text, so that references to a player still lead to that player; and returns
// the names of the words it replaced.
func (p *personal) without(text []byte) (content []byte, what []string) {
	var words []privateWord // addresses first: a name may stand in one
	for _, pattern := range patterns() {
		for _, mark := range pattern.marks {
			findAround(pattern.re, text, mark, func(m []byte) {
				words = append(words, privateWord{text: string(m), what: pattern.what, instead: "someone"})
			})
		}
	}
	names := slices.Clone(p.words) // the longest first: one may be the beginning of another
	slices.SortStableFunc(names, func(a, b privateWord) int { return len(b.text) - len(a.text) })
	for _, w := range append(words, names...) {
		var out []byte
		end := 0
		w.each(text, lowered(text), func(from, to int) {
			out = append(append(out, text[end:from]...), w.instead...)
			end = to
		})
		if end == 0 {
			continue
		}
		text = append(out, text[end:]...)
		if !slices.Contains(what, w.what) {
			what = append(what, w.what)
		}
	}
	return text, what
}

// name is without for what a file or save is called.
func (p *personal) name(name string) string {
	text, _ := p.without([]byte(name))
	return string(text)
}

// conceal removes from one file of a save what personal fields leave behind, and renames the file if its name contains any of it. It rewrites text,
// leaves out other files that the description does not declare, and keeps declared ones, whose findings are listed.
func (p inSave) conceal(f *parcelFile) (leftOut bool, said []string, err error) {
	found, err := p.find(*f)
	if err != nil {
		return false, nil, err
	}
	declared, known := p.declared(f.entry.Path)
	if len(found) > 0 {
		written, what, err := p.withoutWords(*f, declared)
		switch {
		case err == nil:
			f.data = written
			if left, err := p.find(*f); err != nil {
				return false, nil, err
			} else if len(left) > 0 && !known {
				return true, []string{f.entry.Path + " left out"}, nil
			}
			for _, w := range what {
				said = append(said, fmt.Sprintf("%s in %s", w, p.name(f.entry.Path)))
			}
		case !errors.Is(err, wrap.ErrNotWritable):
			return false, nil, fmt.Errorf("%s: %w", f.entry.Path, err)
		case !known:
			return true, []string{f.entry.Path + " left out"}, nil
		}
	}
	if as := p.unused(p.calls(f.entry.Path), f.entry.Path); as != f.entry.Path {
		f.as = as
		if own := save.Inside(p.sv.Kind, p.sv.Name, f.entry.Path); p.name(own) != own {
			said = append(said, "a file called "+as)
		}
	}
	return false, said, err
}

// unused is a name that no other file of the save has or gets, in any case of letters: as, or that with a number.
func (p inSave) unused(as, own string) string {
	taken := func(name string) bool {
		return p.given[strings.ToLower(name)] || slices.ContainsFunc(p.sv.Files, func(e tree.Entry) bool { return e.Path != own && strings.EqualFold(e.Path, name) })
	}
	ext := path.Ext(as)
	free := as
	for i := 2; taken(free); i++ {
		free = fmt.Sprintf("%s %d%s", strings.TrimSuffix(as, ext), i, ext)
	}
	p.given[strings.ToLower(free)] = true
	return free
}

// withoutWords is a file of the save rewritten; see rewritten. One that is too large to be held in memory is not.
func (p inSave) withoutWords(f parcelFile, declared field.File) (written []byte, what []string, err error) {
	original := f.data
	if original == nil {
		if f.entry.Size > wrap.DefaultLimits.Decoded {
			return nil, nil, fmt.Errorf("%d bytes: %w", f.entry.Size, wrap.ErrNotWritable)
		}
		if original, err = fs.ReadFile(tree.DirFS(p.sv.Folder.Path), f.entry.Path); err != nil {
			return nil, nil, err
		}
	}
	written, what, err = p.rewritten(original, p.layersOf(f.entry.Path), declared)
	if errors.Is(err, wrap.ErrTooLarge) { // unpacked
		err = fmt.Errorf("%w: %w", wrap.ErrNotWritable, err)
	}
	return written, what, err
}

// calls is what a file of the save is called without what its name tells, as far as the game still knows it for what it is then.
func (p inSave) calls(name string) string {
	folder := ""
	if p.sv.Kind.Unit == game.UnitFolder {
		var inside string
		if folder, inside, _ = strings.Cut(name, "/"); inside == "" {
			return p.unless(folder, func(as string) bool { return p.isName(as) })
		}
		folder = p.calls(folder) + "/"
		name = inside
	}
	return folder + p.unless(name, func(as string) bool {
		if declared, ok := p.declaredInside(name); ok && folder != "" {
			return len(declared.In([]string{as})) > 0
		}
		return folder != "" || p.isName(as)
	})
}

// unless is a name without what it tells, or the name itself where that would not do.
func (p inSave) unless(name string, does func(as string) bool) string {
	if as := p.name(name); does(as) {
		return as
	}
	return name
}

// isName reports whether saves of the kind, or what lies beside them, may be called so.
func (p inSave) isName(name string) bool {
	return slices.ContainsFunc(p.sv.Kind.Names(), func(n *game.Name) bool { _, ok := n.Match(name, true); return ok }) ||
		slices.ContainsFunc(save.CompanionNames(p.sv.Kind, p.name(p.sv.Name)), func(c string) bool { return c == name })
}

// declaredInside is how the description declares a file, which is named by its path inside the save.
func (p inSave) declaredInside(name string) (field.File, bool) {
	for _, declared := range p.sv.Kind.Files {
		if len(declared.In([]string{name})) > 0 && declared.Path != "." {
			return declared, true
		}
	}
	return field.File{}, false
}

// rewritten removes the player's words from a file, and returns their names; declared is the description of the file, or zero. The error wraps
// wrap.ErrNotWritable if the file is no text, or would no longer be readable.
func (p *personal) rewritten(original []byte, layers wrap.Layers, declared field.File) (written []byte, what []string, err error) {
	word := func(text []byte) []byte {
		text, told := p.without(text)
		what = append(what, told...)
		return text
	}
	if head := wrap.GzipHeader(original); head > 0 {
		if _, told := p.without(original[:head]); len(told) > 0 {
			original, what = wrap.Unnamed(original), append(what, told...)
		}
	}
	written, err = layers.Rewrite(original, wrap.DefaultLimits, func(content []byte) ([]byte, error) {
		if declared.Form == "sqlite" || declared.Form == "" && bytes.HasPrefix(content, []byte("SQLite format 3\x00")) {
			return doc.RewordRows(p.ctx, bytes.NewReader(content), word)
		}
		spec := doc.Spec{}
		if isText(nil, declared.Form) {
			spec = declared.Spec()
		}
		if spec.Encoding == "" {
			spec.Encoding = unmarkedUTF16(content)
		}
		return spec.Recode(content, func(text []byte, spec doc.Spec) ([]byte, error) {
			if !isText(text, declared.Form) {
				return nil, wrap.ErrNotWritable
			}
			if doc.IsTree(declared.Form) {
				if text, err = spec.Reword(p.ctx, text, word); err != nil {
					return nil, err
				}
			}
			text = word(text)
			if declared.Form == "" {
				return text, nil
			}
			doc, err := doc.Parse(text, spec)
			if err != nil {
				return nil, fmt.Errorf("%w: %w", wrap.ErrNotWritable, err)
			}
			return text, doc.Close()
		})
	})
	slices.Sort(what)
	return written, slices.Compact(what), err
}

// unmarkedUTF16 is the encoding of a text that is in UTF-16 and does not begin with a byte order mark: every other byte of most characters is zero.
func unmarkedUTF16(content []byte) string {
	if len(content) < 4 || len(content)%2 != 0 || bytes.IndexByte(content, 0) < 0 || content[0] >= 0xfe {
		return ""
	}
	var zero [2]int
	for i, c := range content[:min(len(content), 4096)] {
		if c == 0 {
			zero[i%2]++
		}
	}
	most := min(len(content), 4096) / 4
	switch {
	case zero[0] == 0 && zero[1] > most:
		return "utf-16le"
	case zero[1] == 0 && zero[0] > most:
		return "utf-16be"
	}
	return ""
}

// isText reports whether content can be rewritten as text: of a declared form that is text, or, of none, by what is in it.
func isText(content []byte, declared string) bool {
	if declared != "" {
		return doc.IsText(declared)
	}
	return utf8.Valid(content) && bytes.IndexByte(content, 0) < 0
}
