package share

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/check"
	"ostrov/internal/core/doc"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/parcel"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// personal finds traces of the player, in a save or in files that were kept.
type personal struct {
	ctx   context.Context
	words []privateWord
	named int // words that are names
	// short are the fields with values that are too short to be looked for.
	short map[string]bool
	given map[string]bool // names that files of the save have got, in lower case
}

// newPersonal collects what to look for: the account, the marked fields of a save, the values of personal settings, the name of the home.
// The save may be nil.
func newPersonal(ctx context.Context, st *facts.State, sv *facts.Save) (*personal, error) {
	p := &personal{ctx: ctx, short: map[string]bool{}, given: map[string]bool{}}
	p.add(st.Account, "your account")
	if sv != nil {
		if err := (inSave{p, sv}).fields(tree.DirFS(sv.Folder.Path)); err != nil {
			return nil, err
		}
	}
	if home, err := os.UserHomeDir(); err == nil && len(filepath.Base(home)) >= minPrivate && filepath.Base(home) != "root" {
		p.add(home, "your home folder")
	}
	return p, p.settings(st)
}

// settings adds the values of settings that the description marks as personal. What cannot be read is an error, as in a save: what it tells
// of the player would go out with the parcel.
func (p *personal) settings(st *facts.State) error {
	d := st.Install.Game
	if d.Settings == nil || len(d.Settings.Personal) == 0 {
		return nil
	}
	for _, g := range st.Groups {
		if g.Kind != game.SettingsFiles {
			continue
		}
		files, err := facts.GroupFiles(p.ctx, g)
		if err != nil {
			return err
		}
		for _, e := range files {
			if !isPersonal(d, e.Path) {
				continue
			}
			data, err := tree.ReadBounded(filepath.Join(g.Dir, filepath.FromSlash(e.Path)), maxSettings)
			if err != nil {
				return fmt.Errorf("looking for what tells of you: %w", err)
			}
			for line := range strings.Lines(string(data)) {
				if name, value, ok := strings.Cut(line, "="); ok && !plainValue.MatchString(strings.TrimSpace(value)) {
					p.add(value, strings.TrimSpace(name)+" in "+path.Base(e.Path))
				}
			}
		}
	}
	return nil
}

// isPersonal reports whether a description marks a settings file as personal.
func isPersonal(d *game.Description, name string) bool {
	return d.Settings != nil && slices.ContainsFunc(d.Settings.Personal, func(glob string) bool { return doublestar.MatchUnvalidated(glob, path.Base(name)) })
}

// maxSettings bounds one settings file that is looked through, in bytes.
const maxSettings = 64 << 20

// plainValue are values of settings that tell of nobody.
var plainValue = regexp.MustCompile(`^(?i:true|false|yes|no|on|off|none|[\d.,x ]*)$`)

// pattern is something that tells of a player whoever it is. It is looked for around its marks only: saves are large, and it is slow.
type pattern struct {
	what  string
	marks []string
	re    *regexp.Regexp
}

// patterns are compiled when they are first needed: most commands look for none of them.
var patterns = sync.OnceValue(func() []pattern {
	return []pattern{
		{"a folder of the computer", []string{`:\`, ":/"},
			regexp.MustCompile(`(?i)\b[a-z]:(?:\\{1,2}|/)(?:users|documents and settings)(?:\\{1,2}|/)[^\\/"'<>|:*?\x00-\x1f]{1,60}`)},
		{"a folder of the computer", []string{"/home/", "/Users/"}, regexp.MustCompile(`/(?:home|Users)/(?:[\p{L}\p{N}._-]{1,60}(?: [\p{L}\p{N}._-]{1,60}){0,3}/|[\p{L}\p{N}._-]{1,60})`)},
		{"an e-mail address", []string{"@"}, regexp.MustCompile(`\b[A-Za-z0-9._%+-]{1,64}@[A-Za-z0-9.-]{1,200}\.[A-Za-z]{2,12}\b`)},
	}
})

// reach is more than any pattern has on one side of its mark, in bytes.
const reach = 300

// findAround visits what matches the pattern around one of its marks, wherever that occurs. What only a mark elsewhere leads to whole is
// left to that one.
func findAround(re *regexp.Regexp, text []byte, mark string, visit func([]byte)) {
	look := func(from, to int) {
		for _, m := range re.FindAllIndex(text[from:to], -1) {
			if begin, end := from+m[0], from+m[1]; (begin > from || from == 0) && (end < to || to == len(text)) {
				visit(bytes.TrimSuffix(text[begin:end], []byte{'/'}))
			}
		}
	}
	from, to := 0, 0
	for at := 0; ; {
		i := bytes.Index(text[at:], []byte(mark))
		if i < 0 {
			break
		}
		i += at
		at = i + len(mark)
		if i-reach > to {
			look(from, to)
			from = i - reach
		}
		to = min(at+reach, len(text))
	}
	look(from, to)
}

// inSave finds what tells of the player in the files of one save, and empties what the description marks.
type inSave struct {
	*personal
	sv *facts.Save
}

// fields adds the owner of the save and all values of its fields that are marked as personal, in all files that hold them; fsys holds the save.
func (p inSave) fields(fsys fs.FS) error {
	p.add(p.sv.Facts.Owner, "the account that it belongs to")
	content, err := save.ContentOf(p.sv.Kind, fsys, p.sv.Name, p.sv.Paths())
	if err != nil {
		return err
	}
	defer content.Close()
	for _, id := range slices.Sorted(maps.Keys(p.sv.Kind.Field)) {
		for _, f := range p.sv.Kind.Field[id] {
			if !f.Personal {
				continue
			}
			values, err := content.All(p.ctx, &f)
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			for _, v := range values {
				if !p.add(v, id) {
					p.short[id] = true
				}
			}
		}
	}
	return nil
}

// marked reports whether a file of the save has anything that is marked as personal, or the owner.
func (p inSave) marked(name string) bool {
	declared, ok := p.declared(name)
	if !ok {
		return false
	}
	if declared.Personal {
		return true
	}
	for _, fields := range p.sv.Kind.Field {
		for _, f := range fields {
			if f.Personal && p.lies(f.In, name) {
				return true
			}
		}
	}
	return p.sv.Kind.Owner != nil && p.lies(p.sv.Kind.Owner.In, name)
}

// lies reports whether a file of the save is one that is declared by an id.
func (p inSave) lies(id, name string) bool {
	d, ok := p.sv.Kind.Files[id]
	return ok && slices.Contains(save.FilesOf(p.sv.Kind, d, p.sv.Name, p.sv.Paths()), name)
}

// layersOf are the layers of a file of the save, as the description declares them, else whatever its first bytes show.
func (p inSave) layersOf(file string) wrap.Layers {
	if declared, ok := p.declared(file); ok {
		return declared.Layers.Layers
	}
	return auto
}

// specOf is how a file of the save is read, nothing where the description does not declare it as text.
func (p inSave) specOf(file string) doc.Spec {
	if declared, ok := p.declared(file); ok && isText(nil, declared.Form) {
		return declared.Spec()
	}
	return doc.Spec{}
}

// auto is whatever the first bytes show.
var auto = wrap.Layers{Chain: []wrap.Layer{{Name: "auto"}}}

func (p inSave) declared(file string) (field.File, bool) {
	for _, declared := range p.sv.Kind.Files {
		if slices.Contains(save.FilesOf(p.sv.Kind, declared, p.sv.Name, p.sv.Paths()), file) {
			return declared, true
		}
	}
	return field.File{}, false
}

// find looks through one file for traces of the player.
func (p inSave) find(f parcelFile) ([]check.Finding, error) {
	name := f.entry.Path
	open := inMemory(f.data)
	if f.data == nil {
		open = func() (io.ReadCloser, error) {
			return tree.Open(filepath.Join(p.sv.Folder.Path, filepath.FromSlash(name)))
		}
	}
	return p.search(f.called(), open, p.layersOf(name), p.specOf(name))
}

// inMemory opens content that is in memory.
func inMemory(data []byte) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }
}

// inName finds traces of the player in a name.
func (p *personal) inName(name string) (found []check.Finding) {
	for _, w := range p.words {
		w.each([]byte(name), lowered([]byte(name)), func(int, int) {
			found = append(found, check.New(check.Private, name, fmt.Sprintf("%s, in its name: %s", w.what, w.text)))
		})
	}
	return found
}

// maxSearched bounds the content of one file that is looked through, unwrapped, in bytes.
const maxSearched = 8 << 30

// search looks through the content of a file, decoded by spec, and, if it is wrapped, also through its packed bytes, which include headers. Layers
// that are not declared are guessed from the first bytes.
func (p *personal) search(name string, open func() (io.ReadCloser, error), layers wrap.Layers, spec doc.Spec) ([]check.Finding, error) {
	s := &search{personal: p, name: name, seen: map[string]bool{}}
	err := s.through(open, layers, spec)
	if err == nil && !layers.None() {
		err = s.through(open, wrap.Layers{}, doc.Spec{})
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return s.found, nil
}

// through looks through one reading of a file.
func (s *search) through(open func() (io.ReadCloser, error), layers wrap.Layers, spec doc.Spec) (err error) {
	in, err := open()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, in.Close()) }()
	content, err := layers.Reader(in, wrap.Limits{Decoded: maxSearched})
	if err != nil {
		return err
	}
	defer content.Close()
	text, err := doc.TextReader(content, spec)
	if err != nil {
		return err
	}
	return pieces(text, s.piece)
}

// search collects what one file tells.
type search struct {
	*personal
	name                 string
	seen                 map[string]bool
	found                []check.Finding
	lower, plain, plainL []byte // memory that pieces share
}

func (s *search) add(what, text string) {
	if key := what + text; !s.seen[key] && len(s.found) < maxPrivate {
		s.seen[key] = true
		s.found = append(s.found, check.New(check.Private, s.name, fmt.Sprintf("%s: %s", what, text)))
	}
}

// piece looks through a piece of a file: as text, as text with escapes, and for a word in other encodings.
func (s *search) piece(piece []byte) {
	s.lower = lowerInto(s.lower, piece)
	var escapes bool
	if s.plain, escapes = unescaped(s.plain[:0], piece); escapes {
		s.plainL = lowerInto(s.plainL, s.plain)
	}
	for _, w := range s.words {
		w.each(piece, s.lower, func(int, int) { s.add(w.what, w.text) })
		if escapes {
			w.each(s.plain, s.plainL, func(int, int) { s.add(w.what, w.text) })
		}
		for _, spelled := range w.spellings {
			if spelled.in(piece, s.lower) {
				s.add(w.what+", "+spelled.how, w.text)
			}
		}
	}
	for _, pattern := range patterns() {
		for _, mark := range pattern.marks {
			findAround(pattern.re, piece, mark, func(m []byte) { s.add(pattern.what, string(m)) })
		}
	}
}

// maxPrivate bounds the findings of one file.
const maxPrivate = 1000

// pieces calls visit with pieces of r that overlap, so that nothing shorter than the overlap is missed.
func pieces(r io.Reader, visit func([]byte)) error {
	const size, overlap = 1 << 20, 4 << 10
	buf := make([]byte, 0, size)
	for {
		n, err := io.ReadFull(r, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		end := err == io.EOF || err == io.ErrUnexpectedEOF
		if err != nil && !end {
			return err
		}
		visit(buf)
		if end {
			return nil
		}
		buf = append(buf[:0], buf[len(buf)-overlap:]...)
	}
}

// blank empties in one file what the description marks as personal, and the owner where it may be rewritten. It says what it emptied, and
// reports whether the file is left out altogether.
func (p inSave) blank(f *parcelFile) (leftOut bool, said []string, err error) {
	declared, ok := p.declared(f.entry.Path)
	if !ok {
		return false, nil, nil
	}
	if declared.Personal && declared.Optional {
		return true, []string{f.entry.Path + " left out"}, nil
	}
	places := p.places(f.entry.Path)
	if len(places) == 0 {
		return false, nil, nil
	}
	original := f.data
	if original == nil {
		if original, err = fs.ReadFile(tree.DirFS(p.sv.Folder.Path), f.entry.Path); err != nil {
			return false, nil, err
		}
	}
	f.data, err = declared.Layers.Rewrite(original, wrap.DefaultLimits, func(content []byte) ([]byte, error) {
		for _, at := range places {
			emptied, err := doc.Splice(declared.Spec(), content, at.at, "")
			if errors.Is(err, wrap.ErrNotWritable) {
				emptied, err = doc.Splice(declared.Spec(), content, at.at, "0")
			}
			if errors.Is(err, wrap.ErrNotWritable) && isText(content, declared.Form) && !p.short[at.what] {
				continue // several values, or one among others: each is taken out as a word
			}
			if err != nil {
				return nil, fmt.Errorf("%s cannot be emptied: %w", at.what, err)
			}
			content = emptied
			said = append(said, at.what+" emptied")
		}
		return content, nil
	})
	if err != nil {
		return false, nil, fmt.Errorf("%s: %w", f.entry.Path, err)
	}
	return false, said, nil
}

// blankPlace is where something personal stands in a file.
type blankPlace struct{ what, at string }

// places are those in one file of the save.
func (p inSave) places(name string) []blankPlace {
	var places []blankPlace
	for _, id := range slices.Sorted(maps.Keys(p.sv.Kind.Field)) {
		for _, f := range p.sv.Kind.Field[id] {
			if !f.Personal || !p.lies(f.In, name) || p.sv.Facts.Fields[id].Raw == "" {
				continue
			}
			for _, query := range f.At {
				places = append(places, blankPlace{id, query})
			}
		}
	}
	if o := p.sv.Kind.Owner; o != nil && o.Rewrite && p.lies(o.In, name) && !slices.ContainsFunc(places, func(x blankPlace) bool { return x.at == o.At }) {
		places = append(places, blankPlace{"owner", o.At})
	}
	return places
}

// inNeeds finds what the list of needs tells: in the note, and in the names of mods.
func (p *personal) inNeeds(n parcel.Needs) ([]check.Finding, error) {
	n.Save.Name, n.Save.Title = "", "" // told with the file and the field
	text, err := json.Marshal(n)
	if err != nil {
		return nil, err
	}
	return p.search("needs", inMemory(text), wrap.Layers{}, doc.Spec{})
}
