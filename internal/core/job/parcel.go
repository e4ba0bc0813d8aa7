package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/check"
	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/parcel"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// ParcelRequest says how to make a parcel.
type ParcelRequest struct {
	Out   string // the file to write; "" takes its name from the save's title, in the working folder
	Note  string
	Blank bool // empty what the description marks as personal
}

// Wrapped is a parcel that has been made, or would be.
type Wrapped struct {
	Look     *Look
	Save     *SaveState
	Out      string
	Needs    parcel.Needs
	Size     int64           // bytes of the parcel; 0 where none was written
	Private  []check.Finding // what of the player it tells
	Blanked  []string        // what has been emptied or left out, in words
	contents []parcelFile
}

// parcelFile is one file of the save as it goes into the parcel: its content where that was altered, else the file itself.
type parcelFile struct {
	entry tree.Entry
	data  []byte
}

// PlanParcel looks at what a parcel of a save would hold and tell. WriteParcel then makes it.
func (s *Session) PlanParcel(ctx context.Context, address string, req ParcelRequest) (*Wrapped, error) {
	l, st, err := s.FindSave(ctx, address)
	if err != nil {
		return nil, err
	}
	if st.Facts.Problem != nil {
		return nil, &Error{Text: fmt.Sprintf("%s is damaged: %s", l.Address(st), reading(st.Facts.Problem)), Hint: "ostrov needs " + Quoted(l.Address(st)), Err: st.Facts.Problem}
	}
	w := &Wrapped{Look: l, Save: st, Out: req.Out}
	if w.Out == "" {
		name := slug(st.Title())
		if name == "" {
			name = slug(l.Install.Game.ID + " " + st.Name)
		}
		w.Out = name + ".zip"
	}
	p := personal{ctx: ctx, l: l, st: st}
	if err := p.learn(); err != nil {
		return nil, err
	}
	for _, e := range st.Files {
		f := parcelFile{entry: e}
		if req.Blank {
			left, err := p.blank(&f, w)
			if err != nil {
				return nil, err
			}
			if left {
				continue
			}
		}
		found, err := p.find(f)
		if err != nil {
			return nil, err
		}
		w.Private = append(w.Private, found...)
		w.contents = append(w.contents, f)
	}
	w.Needs = s.parcelNeeds(l, st, req.Note)
	return w, nil
}

func (s *Session) parcelNeeds(l *Look, st *SaveState, note string) parcel.Needs {
	n := parcel.Needs{Game: l.Install.Game.ID, GameTitle: l.Install.Game.Title, Version: st.Needs.Version, VersionEvidence: st.Needs.VersionEvidence, Clean: st.Needs.Clean,
		ModsEvidence: st.Needs.ModsEvidence, Ordered: l.Mods.Ordered, Note: note, Made: s.Now().UTC(),
		Save: parcel.Save{Kind: st.Kind.ID, Name: st.Name, Slot: st.SlotShown(), Title: st.Facts.Title(), Folder: st.Folder.Title}}
	if n.Save.Folder == "" {
		n.Save.Folder = st.Folder.ID
	}
	if st.Needs.ModsEvidence == "" {
		return n
	}
	n.Mods = []parcel.Mod{}
	for _, m := range st.Needs.Mods {
		if !m.On {
			continue
		}
		one := parcel.Mod{ID: m.ID, Version: m.Version, Title: m.Title, Digest: m.Digest.String(), Doubtful: m.Doubtful}
		for _, here := range l.Mods.Mods {
			if strings.EqualFold(here.ID, m.ID) && (m.Version == "" || m.Version == here.Version) {
				one.Title = here.Name()
				if one.Digest == "" && st.Needs.ModsEvidence != check.Inferred {
					one.Digest = here.Digest.String()
				}
			}
		}
		if st.refs != nil {
			if _, counted := st.refs.titles[strings.ToLower(m.ID)]; counted {
				count := 0
				for id, c := range st.Refs {
					if strings.EqualFold(id, m.ID) {
						count = c.N
					}
				}
				one.References = &count
			}
		}
		n.Mods = append(n.Mods, one)
	}
	return n
}

// WriteParcel writes the parcel that was planned, whole or not at all. An existing file is only replaced with replace.
func (s *Session) WriteParcel(ctx context.Context, w *Wrapped, replace bool) (err error) {
	var files []parcel.File
	var digests []tree.Named
	for _, f := range w.contents {
		sum, open, err := s.parcelContent(ctx, w.Save, f)
		if err != nil {
			return err
		}
		digests = append(digests, tree.Named{Path: save.Inside(w.Save.Kind, w.Save.Name, f.entry.Path), Digest: sum})
		files = append(files, parcel.File{Path: f.entry.Path, Time: f.entry.ModTime, Open: open})
	}
	w.Needs.Save.Digest = save.DigestOf(w.Save.Kind, digests)
	name := strings.TrimSuffix(filepath.Base(w.Out), filepath.Ext(w.Out))
	w.Size, err = WriteFile(w.Out, replace, func(out io.Writer) error { return parcel.Write(ctx, out, name, w.Needs, files) })
	return err
}

// parcelContent is the digest of a file that goes into a parcel, and how to open it. A file that changed since it was looked at is refused.
func (s *Session) parcelContent(ctx context.Context, st *SaveState, f parcelFile) (tree.Digest, func() (io.ReadCloser, error), error) {
	if f.data != nil {
		sums, _, err := tree.SumReader(ctx, bytes.NewReader(f.data), false, io.Discard)
		return sums.Blake3, func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(f.data)), nil }, err
	}
	sums, err := s.Hasher.File(ctx, st.Folder.Path, f.entry, false)
	path := filepath.Join(st.Folder.Path, filepath.FromSlash(f.entry.Path))
	return sums.Blake3, func() (io.ReadCloser, error) {
		file, err := os.Open(path)
		if err != nil {
			return nil, err
		}
		return &sameStill{file: file, dir: st.Folder.Path, entry: f.entry}, nil
	}, err
}

// sameStill is a file that must end as it began: one that was written meanwhile fails when it is read to its end.
// The file is a field, not embedded: io.Copy would take its WriteTo, and pass Read by.
type sameStill struct {
	file  *os.File
	dir   string
	entry tree.Entry
}

func (f *sameStill) Read(p []byte) (int, error) {
	n, err := f.file.Read(p)
	if err == io.EOF {
		if now, lookErr := tree.Look(f.dir, f.entry.Path); lookErr != nil || !tree.SameState(now, f.entry) {
			return n, fmt.Errorf("%s %w", f.entry.Path, tree.ErrBeingWritten)
		}
	}
	return n, err
}

func (f *sameStill) Close() error { return f.file.Close() }

// personal finds in a save what tells of the player, and empties what the description marks.
type personal struct {
	ctx   context.Context
	l     *Look
	st    *SaveState
	words []privateWord
}

// privateWord is a text to look for, and what it is.
type privateWord struct{ text, what string }

// minPrivate is how long a value must be to be looked for, in bytes: shorter ones occur by chance.
const minPrivate = 4

// learn collects what to look for: the account, the marked fields of the save, the values of personal settings, the name of the home.
func (p *personal) learn() error {
	add := func(text, what string) {
		if text = strings.TrimSpace(text); len(text) >= minPrivate && !slices.ContainsFunc(p.words, func(w privateWord) bool { return w.text == text }) {
			p.words = append(p.words, privateWord{text, what})
		}
	}
	add(p.l.Account, "your account")
	add(p.st.Facts.Owner, "the account that it belongs to")
	var ids []string
	for id := range p.st.Kind.Field {
		ids = append(ids, id)
	}
	sort.Strings(ids)
	for _, id := range ids {
		for _, f := range p.st.Kind.Field[id] {
			if f.Personal {
				add(p.st.Facts.Fields[id].Raw, id)
			}
		}
	}
	if home, err := os.UserHomeDir(); err == nil && len(filepath.Base(home)) >= minPrivate && filepath.Base(home) != "root" {
		add(home, "your home folder")
	}
	if p.l.Install.Game.Settings == nil || len(p.l.Install.Game.Settings.Personal) == 0 {
		return nil
	}
	groups, err := p.l.Install.FileGroups(p.ctx)
	if err != nil {
		return err
	}
	for _, g := range groups {
		if g.What != game.SettingsFiles {
			continue
		}
		files, err := groupFiles(p.ctx, g)
		if err != nil {
			return err
		}
		for _, e := range files {
			if e.Kind != tree.File || !slices.ContainsFunc(p.l.Install.Game.Settings.Personal, func(glob string) bool { return doublestar.MatchUnvalidated(glob, path.Base(e.Path)) }) {
				continue
			}
			data, err := readBounded(filepath.Join(g.Dir, filepath.FromSlash(e.Path)), maxSettings)
			if err != nil {
				continue // a settings file that cannot be read tells nothing either
			}
			for _, line := range strings.Split(string(data), "\n") {
				if name, value, ok := strings.Cut(line, "="); ok && !plainValue.MatchString(strings.TrimSpace(value)) {
					add(value, strings.TrimSpace(name)+" in "+path.Base(e.Path))
				}
			}
		}
	}
	return nil
}

// maxSettings bounds one settings file that is looked through, in bytes.
const maxSettings = 4 << 20

// plainValue are values of settings that tell of nobody.
var plainValue = regexp.MustCompile(`^(?i:true|false|yes|no|on|off|none|[\d.,x ]*)$`)

func readBounded(path string, limit int64) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, limit))
}

// patterns are what tells of a player whoever it is. A pattern is looked for around its marks only: saves are large, and it is slow.
var patterns = []struct {
	what  string
	marks []string
	re    *regexp.Regexp
}{
	{"a folder of the computer", []string{`:\`, ":/"},
		regexp.MustCompile(`(?i)\b[a-z]:(?:\\{1,2}|/)(?:users|documents and settings)(?:\\{1,2}|/)[^\\/"'<>|:*?\x00-\x1f]{1,60}`)},
	{"a folder of the computer", []string{"/home/", "/Users/"}, regexp.MustCompile(`/(?:home|Users)/[A-Za-z0-9._-]{1,60}`)},
	{"an e-mail address", []string{"@"}, regexp.MustCompile(`\b[A-Za-z0-9._%+-]{1,64}@[A-Za-z0-9.-]{1,200}\.[A-Za-z]{2,12}\b`)},
}

// reach is more than any pattern has on one side of its mark, in bytes.
const reach = 300

// findAround visits what matches the pattern around one of its marks, wherever that occurs. What only a mark elsewhere leads to whole is left to that one.
func findAround(re *regexp.Regexp, text []byte, mark string, visit func([]byte)) {
	look := func(from, to int) {
		for _, m := range re.FindAllIndex(text[from:to], -1) {
			if begin, end := from+m[0], from+m[1]; (begin > from || from == 0) && (end < to || to == len(text)) {
				visit(text[begin:end])
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

// layersOf are the layers of a file of the save, as the description declares them, else whatever its first bytes show.
func (p *personal) layersOf(file string) form.Layers {
	if declared, ok := p.declared(file); ok {
		return declared.Layers.Layers
	}
	return form.Layers{Chain: []form.Layer{{Name: "auto"}}}
}

func (p *personal) declared(file string) (game.File, bool) {
	for _, declared := range p.st.Kind.Files {
		if slices.Contains(save.FilesOf(p.st.Kind, declared, p.st.Name, p.st.Paths()), file) {
			return declared, true
		}
	}
	return game.File{}, false
}

// find looks through one file for what tells of the player.
func (p *personal) find(f parcelFile) ([]check.Finding, error) {
	name := f.entry.Path
	var in io.Reader = bytes.NewReader(f.data)
	if f.data == nil {
		file, err := os.Open(filepath.Join(p.st.Folder.Path, filepath.FromSlash(name)))
		if err != nil {
			return nil, err
		}
		defer file.Close()
		in = file
	}
	content, err := p.layersOf(name).Reader(in, form.Limits{Decoded: maxReferring})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	defer content.Close()
	seen := map[string]bool{}
	var found []check.Finding
	add := func(what, text string) {
		if key := what + text; !seen[key] && len(found) < maxPrivate {
			seen[key] = true
			found = append(found, check.New(check.Private, name, fmt.Sprintf("%s: %s", what, text)))
		}
	}
	err = pieces(content, func(piece []byte) {
		for _, w := range p.words {
			if bytes.Contains(piece, []byte(w.text)) {
				add(w.what, w.text)
			}
		}
		for _, pattern := range patterns {
			for _, mark := range pattern.marks {
				findAround(pattern.re, piece, mark, func(m []byte) { add(pattern.what, string(m)) })
			}
		}
	})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return found, nil
}

// maxPrivate is how many findings one file gives.
const maxPrivate = 20

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

// blank empties in one file what the description marks as personal, and the owner where it may be rewritten. It reports whether the file is left
// out altogether.
func (p *personal) blank(f *parcelFile, w *Wrapped) (leftOut bool, err error) {
	declared, ok := p.declared(f.entry.Path)
	if !ok {
		return false, nil
	}
	if declared.Personal && declared.Optional {
		w.Blanked = append(w.Blanked, f.entry.Path+" left out")
		return true, nil
	}
	type place struct{ what, at string }
	var places []place
	in := func(id string) bool {
		d, ok := p.st.Kind.Files[id]
		return ok && slices.Contains(save.FilesOf(p.st.Kind, d, p.st.Name, p.st.Paths()), f.entry.Path)
	}
	var ids []string
	for id := range p.st.Kind.Field {
		ids = append(ids, id)
	}
	sort.Strings(ids)
	for _, id := range ids {
		for _, field := range p.st.Kind.Field[id] {
			if field.Personal && in(field.In) && p.st.Facts.Fields[id].Raw != "" {
				places = append(places, place{id, field.At})
			}
		}
	}
	if o := p.st.Kind.Owner; o != nil && o.Rewrite && in(o.In) && !slices.ContainsFunc(places, func(x place) bool { return x.at == o.At }) {
		places = append(places, place{"owner", o.At})
	}
	if len(places) == 0 {
		return false, nil
	}
	fsys := os.DirFS(p.st.Folder.Path)
	original, err := fs.ReadFile(fsys, f.entry.Path)
	if err != nil {
		return false, err
	}
	content, err := declared.Layers.Peel(bytes.NewReader(original), form.DefaultLimits)
	if err != nil {
		return false, fmt.Errorf("%s: %w", f.entry.Path, err)
	}
	for _, at := range places {
		emptied, err := form.Splice(declared.Spec(), content, at.at, "")
		if errors.Is(err, form.ErrNotWritable) {
			emptied, err = form.Splice(declared.Spec(), content, at.at, "0")
		}
		if err != nil {
			return false, fmt.Errorf("%s: %s cannot be emptied: %w", f.entry.Path, at.what, err)
		}
		content = emptied
		w.Blanked = append(w.Blanked, at.what+" emptied")
	}
	f.data, err = declared.Layers.Wrap(content, original)
	return false, err
}
