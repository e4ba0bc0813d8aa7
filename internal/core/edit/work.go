package edit

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// Source is a save that is read: one in a game's folder, or one in a download.
type Source struct {
	Game   *game.Description
	Save   *facts.Save
	FS     fs.FS // which its files are in
	Called string
}

// Of is a save of an install, of whose large files h remembers how they are made.
func Of(st *facts.State, s *facts.Save) Source {
	return Source{st.Install.Game, s, s.FS(), st.Address(s)}
}

// In is a save of a download.
func In(d *facts.Download, f *facts.Found) Source {
	return Source{f.Game, f.Save, d.FS, filepath.Base(d.File)}
}

// paths are all files of the save.
func (src Source) paths() []string {
	var paths []string
	for _, e := range src.Save.Files {
		paths = append(paths, e.Path)
	}
	return paths
}

// Edited are the files of a save that are to be others: by their paths in the save's folder; nil is of one that goes.
type Edited struct {
	Files tree.Contents
	// Written are the single values that were changed.
	Written []Written
	// Facts are what the save says of itself then; FS has all its files, Paths.
	Facts save.Facts
	FS    fs.FS
	Paths []string
	// Out are the ids of the mods whose things have been taken out.
	Out []string
}

// work is a save that is being changed. Its files are opened as they are needed, and stay so until they are closed together.
type work struct {
	Source
	ctx      context.Context
	files    tree.Contents // those that are to be others, as they will be
	gone     map[string]bool
	open     map[string]*opened
	unlinked bool        // nothing that was changed concerns a link
	said     *save.Facts // what it says with these files, where that has been read
}

// opened is a file that is being changed.
type opened struct {
	name   string
	file   field.File
	raw    tree.Content // as it lies in the save
	editor *doc.Editor
	done   func() error // frees its content
	set    []doc.Node   // the values that have been set
}

// close frees what the file holds.
func (o *opened) close() error { return errors.Join(o.editor.Close(), o.done()) }

// maxFile bounds a file that is changed, in bytes.
const maxFile = 512 << 20

func begin(ctx context.Context, src Source) (*work, error) {
	if src.Save.Unread != nil {
		return nil, problem.Usage(nil, "%s cannot be read: %w; nothing has been changed", src.Called, src.Save.Unread)
	}
	return &work{Source: src, ctx: ctx, files: tree.Contents{}, gone: map[string]bool{}, open: map[string]*opened{}}, nil
}

// beginWhole is begin for a save that is to be whole: of one that is damaged, nobody knows what is where.
func beginWhole(ctx context.Context, src Source) (*work, error) {
	if src.Save.Facts.Damaged() || errors.Is(src.Save.Facts.Problem, wrap.ErrTooLarge) {
		return nil, problem.Usage(nil, "%s cannot be read: %w; nothing has been changed", src.Called, src.Save.Facts.Problem)
	}
	return begin(ctx, src)
}

// now is the save's folder as it will be.
func (w *work) now() fs.FS { return overlay{w.FS, w.files, w.gone} }

// declared is a file of the save, by its id in the description or its path.
func (w *work) declared(name string) (field.File, error) {
	kind := w.Save.Kind
	if f, ok := kind.Files[name]; ok {
		return f, nil
	}
	for _, f := range kind.Files {
		if f.Path == name {
			return f, nil
		}
	}
	return field.File{}, problem.Usage(problem.Advise("there are: %s", strings.Join(slices.Sorted(maps.Keys(kind.Files)), ", ")), "the description names no file %q of the save", name)
}

// places are the paths, relative to the save's folder, of a declared file.
func (src Source) places(f field.File) []string {
	return save.FilesOf(src.Save.Kind, f, src.Save.Name, src.paths())
}

// read is a file as it is in the save now.
func (w *work) read(name string) (content tree.Content, err error) {
	if content, ok := w.files[name]; ok {
		return content, nil
	}
	content, ok, err := tree.InFS(w.FS, name)
	if err != nil || ok {
		return content, err
	}
	data, err := wrap.Layers{}.ReadFile(w.FS, name, wrap.Limits{Decoded: maxFile})
	return bytes.NewReader(data), err
}

// editors are those of all files that a declared one means; of one that is not there, none.
func (w *work) editors(id string) ([]*opened, error) {
	f, err := w.declared(id)
	if err != nil {
		return nil, err
	}
	var all []*opened
	for _, name := range save.FilesOf(w.Save.Kind, f, w.Save.Name, w.paths()) {
		o, err := w.editor(name, f)
		if err != nil {
			return nil, err
		}
		all = append(all, o)
	}
	return all, nil
}

// only is the editor of the one file that a declared one means.
func (w *work) only(id string) (*opened, error) {
	all, err := w.editors(id)
	if err == nil && len(all) != 1 {
		err = problem.Usage(nil, "%s is %d files of this save: say which by its path; nothing has been changed", id, len(all))
	}
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// editor opens a file for changes.
func (w *work) editor(name string, f field.File) (*opened, error) {
	if o, ok := w.open[name]; ok {
		return o, nil
	}
	if f.Form == "sqlite" {
		for _, ending := range doc.SQLiteCompanions {
			if info, err := fs.Stat(w.FS, name+ending); err == nil && info.Size() > 0 {
				return nil, problem.Usage(problem.Advise("start the game once and close it"), "%s has not been closed by the game: %s lies beside it; nothing has been changed", name, path.Base(name+ending))
			}
		}
	}
	content, err := w.read(name)
	if err != nil {
		return nil, err
	}
	o := &opened{name: name, file: f, raw: content}
	spec := f.Spec()
	if content, o.done, err = spec.Unwrap(content, wrap.DefaultLimits); err != nil {
		return nil, w.failed(name, err)
	}
	if o.editor, err = spec.Edit(w.ctx, content); err != nil {
		return nil, w.failed(name, errors.Join(err, o.done()))
	}
	w.open[name] = o
	return o, nil
}

// failed is an error about a file of the save, of which then nothing has been changed.
func (w *work) failed(what string, err error) error {
	if errors.Is(err, wrap.ErrNotWritable) {
		return problem.Usage(problem.Advise("nothing has been changed"), "%s: %v", what, err)
	}
	return fmt.Errorf("%s: %w; nothing has been changed", what, err)
}

// all are the bytes of a content.
func all(content tree.Content) ([]byte, error) {
	if content.Size() > maxFile {
		return nil, fmt.Errorf("%w: %d bytes", wrap.ErrTooLarge, content.Size())
	}
	data := make([]byte, content.Size())
	_, err := io.ReadFull(io.NewSectionReader(content, 0, content.Size()), data)
	return data, err
}

// finish closes all files that are open, and wraps those again that have changed.
func (w *work) finish() error {
	for _, name := range slices.Sorted(maps.Keys(w.open)) {
		o := w.open[name]
		delete(w.open, name)
		content, changed, err := o.result(w.ctx)
		if err = errors.Join(err, o.close()); err != nil {
			return errors.Join(w.failed(name, err), w.close())
		}
		if changed { // wrapped again, even the same content may be other bytes
			w.files[name] = content
			w.said = nil
		}
	}
	return nil
}

// result is the file as it will be.
func (o *opened) result(ctx context.Context) (content tree.Content, changed bool, err error) {
	content, changed, err = o.editor.Result(ctx)
	if err != nil || !changed || o.file.Layers.None() {
		return content, changed, err
	}
	data, err := o.file.Layers.Wrap(content, o.raw, wrap.DefaultLimits)
	return bytes.NewReader(data), true, err
}

// close closes all files that are open, without changing them.
func (w *work) close() error {
	var err error
	for name, o := range w.open {
		err = errors.Join(err, o.close())
		delete(w.open, name)
	}
	return err
}

// edited is what has been made of the save. It is still a save of its kind, and whole if it was.
func (w *work) edited() (*Edited, error) {
	if err := w.finish(); err != nil {
		return nil, err
	}
	files := maps.Clone(w.files)
	for name := range w.gone {
		files[name] = nil
	}
	says, err := w.says()
	if err != nil {
		return nil, err
	}
	e := &Edited{Files: files, FS: w.now(), Facts: says, Paths: w.paths()}
	if e.Facts.Problem != nil && w.Save.Facts.Problem == nil {
		return nil, problem.Usage(nil, "the save would not be whole any more: %v; nothing has been changed", e.Facts.Problem)
	}
	return e, w.links()
}

// paths are the files that the save will have.
func (w *work) paths() []string {
	var paths []string
	for _, p := range w.Source.paths() {
		if !w.gone[p] {
			paths = append(paths, p)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(w.files)) {
		if !slices.Contains(paths, name) {
			paths = append(paths, name)
		}
	}
	return paths
}

// says reads what the save will say of itself. The files are finished. A reading that was stopped is an error: it says less than the save does.
func (w *work) says() (save.Facts, error) {
	if w.said != nil {
		return *w.said, nil
	}
	as := *w.Save.Save
	as.Files = nil
	for _, p := range w.paths() {
		as.Files = append(as.Files, tree.Entry{Path: p, Kind: tree.File})
	}
	says := as.In(w.ctx, w.now(), w.Game.Referring(as.Kind)...)
	if err := w.ctx.Err(); err != nil {
		return save.Facts{}, err
	}
	w.said = &says
	return says, nil
}

// links compares the broken links of the save with those that it will have: no change may leave more than it found.
func (w *work) links() error {
	links := w.Game.LinksOf(w.Save.Kind)
	if w.unlinked || len(links) == 0 || len(w.files)+len(w.gone) == 0 {
		return nil
	}
	after, err := save.Broken(w.ctx, w.Save.Kind, links, w.now(), w.Save.Name, w.paths())
	if err != nil || len(slices.Concat(after...)) == 0 {
		return err
	}
	before, err := save.Broken(w.ctx, w.Save.Kind, links, w.FS, w.Save.Name, w.Source.paths())
	if err != nil {
		return err
	}
	for i, link := range links {
		if len(after[i]) <= len(before[i]) {
			continue
		}
		value := after[i][0]
		if n := slices.IndexFunc(after[i], func(v string) bool { return !slices.Contains(before[i], v) }); n >= 0 {
			value = after[i][n]
		}
		return problem.Usage(nil, "%s: %q would be named and not be there any more; nothing has been changed", link.Title, value)
	}
	return nil
}

// overlay is a folder with some files as they will be.
type overlay struct {
	dir   fs.FS
	files tree.Contents
	gone  map[string]bool
}

// Open opens a file.
func (o overlay) Open(name string) (fs.File, error) {
	if _, ok := o.files[name]; ok || o.gone[name] {
		return o.files.Open(name)
	}
	return o.dir.Open(name)
}
