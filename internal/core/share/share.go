// Package share makes saves and snapshots ready to hand to others, and finds what they tell of the player.
//
// It writes only the file that the player names, whole or not at all, and never alters a save: what it blanks, it blanks in the copy that
// goes out, and reads back.
package share

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/parcel"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// Request says how to make a parcel.
type Request struct {
	Out   string // the file to write; "" takes its name from the save's title, in the working folder
	Note  string
	Blank bool // empty what the description marks as personal
}

// Wrapped is a parcel that has been made, or would be.
type Wrapped struct {
	State    *facts.State
	Save     *facts.Save
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
	as    string // what it is called there, where that is not its own name
}

// called is what the file is called in the parcel.
func (f parcelFile) called() string { return cmp.Or(f.as, f.entry.Path) }

// Wrap looks at what a parcel of a save would hold and tell. Write then makes it.
func Wrap(ctx context.Context, h *home.Home, st *facts.State, sv *facts.Save, req Request) (*Wrapped, error) {
	if sv.Facts.Problem != nil {
		how := "is damaged"
		if !sv.Facts.Damaged() {
			how = "is not understood"
		}
		return nil, problem.New(problem.Do("needs", st.Address(sv)), "%s %s: %s%w", st.Address(sv), how, assess.Reading(sv.Facts.Problem), silent{sv.Facts.Problem})
	}
	w := &Wrapped{State: st, Save: sv, Out: req.Out}
	words, err := newPersonal(ctx, st, sv)
	if err != nil {
		return nil, err
	}
	p := inSave{words, sv}
	for _, e := range sv.Files {
		f := parcelFile{entry: e}
		if req.Blank {
			left, said, err := p.blank(&f)
			if err != nil {
				return nil, err
			}
			w.Blanked = append(w.Blanked, said...)
			if left {
				continue
			}
			if left, said, err = p.conceal(&f); err != nil {
				return nil, err
			}
			w.Blanked = append(w.Blanked, said...)
			if left {
				continue
			}
		}
		found, err := p.find(f)
		if err != nil {
			return nil, err
		}
		w.Private = append(append(w.Private, p.inName(f.called())...), found...)
		w.contents = append(w.contents, f)
	}
	w.Needs = needs(h, st, sv, req.Note)
	if req.Blank {
		w.Needs.Note = words.name(req.Note)
		w.Needs.Save.Name, w.Needs.Save.Title = p.calls(sv.Name), p.name(sv.Facts.Title())
	}
	told, err := words.inNeeds(w.Needs)
	if err != nil {
		return nil, err
	}
	w.Private = append(w.Private, told...)
	if w.Out == "" {
		w.Out = cmp.Or(home.Slug(w.Needs.Save.Title), home.Slug(st.Install.Game.ID+" "+w.Needs.Save.Name)) + ".zip"
	}
	return w, nil
}

func needs(h *home.Home, st *facts.State, sv *facts.Save, note string) parcel.Needs {
	n := parcel.Needs{Game: st.Install.Game.ID, GameTitle: st.Install.Game.Title, Version: sv.Needs.Version, VersionEvidence: sv.Needs.VersionEvidence, Clean: sv.Needs.Clean,
		ModsEvidence: sv.Needs.ModsEvidence, Ordered: st.Mods.Ordered, Note: note, Made: h.Now().UTC(),
		Save: parcel.Save{Kind: sv.Kind.ID, Name: sv.Name, Slot: sv.SlotShown(), Title: sv.Facts.Title(), Folder: sv.Folder.InWords()}}
	if sv.Needs.ModsEvidence == "" {
		return n
	}
	n.Mods = []parcel.Mod{}
	for _, m := range sv.Needs.Mods {
		if !m.On {
			continue
		}
		one := parcel.Mod{ID: m.ID, Version: m.Version, Title: m.Title, Digest: m.Digest.String(), Doubtful: m.Doubtful}
		for _, here := range st.Mods.Mods {
			if strings.EqualFold(here.ID, m.ID) && (m.Version == "" || m.Version == here.Version) {
				one.Title = here.Name()
				if one.Digest == "" && sv.Needs.ModsEvidence != check.Inferred {
					one.Digest = here.Digest.String()
				}
				one.Needs, one.Source = told(st, here)
			}
		}
		if known, count := sv.Identifiers(m.ID); known {
			one.References = &count
		}
		n.Mods = append(n.Mods, one)
	}
	return n
}

// silent is a cause that adds no words.
type silent struct{ error }

func (s silent) Error() string { return "" }
func (s silent) Unwrap() error { return s.error }

// Write writes the parcel that was planned, whole or not at all. An existing file is only replaced with replace.
func (w *Wrapped) Write(ctx context.Context, h *home.Home, replace bool) (err error) {
	var files []parcel.File
	var digests []tree.Named
	for _, f := range w.contents {
		sum, open, err := content(ctx, h, w.Save, f)
		if err != nil {
			return err
		}
		digests = append(digests, tree.Named{Path: save.Inside(w.Save.Kind, w.Needs.Save.Name, f.called()), Digest: sum})
		files = append(files, parcel.File{Path: f.called(), Time: f.entry.ModTime, Open: open})
	}
	w.Needs.Save.Digest = save.DigestOf(w.Save.Kind, digests)
	name := strings.TrimSuffix(filepath.Base(w.Out), filepath.Ext(w.Out))
	w.Size, err = h.WriteFile(w.Out, replace, func(out io.Writer) error { return parcel.Write(ctx, out, name, w.Needs, files) })
	return err
}

// content is the digest of a file that goes into a parcel, and how to open it. A file that changed since it was looked at is refused.
func content(ctx context.Context, h *home.Home, sv *facts.Save, f parcelFile) (tree.Digest, func() (io.ReadCloser, error), error) {
	if f.data != nil {
		sums, _, err := tree.SumReader(ctx, bytes.NewReader(f.data), false, io.Discard)
		return sums.Blake3, func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(f.data)), nil }, err
	}
	sums, err := h.Hasher.File(ctx, sv.Folder.Path, f.entry, false)
	path := filepath.Join(sv.Folder.Path, filepath.FromSlash(f.entry.Path))
	return sums.Blake3, func() (io.ReadCloser, error) {
		file, err := tree.Open(path)
		if err != nil {
			return nil, err
		}
		return &sameStill{file: file, dir: sv.Folder.Path, entry: f.entry}, nil
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
		if now, statErr := tree.Stat(f.dir, f.entry.Path); statErr != nil || !tree.SameState(now, f.entry) {
			return n, fmt.Errorf("%s %w", f.entry.Path, tree.ErrBeingWritten)
		}
	}
	return n, err
}

func (f *sameStill) Close() error { return f.file.Close() }

// told is what was stated of a mod, and where it came from; a place on this computer is nobody else's business.
func told(st *facts.State, m *mod.Mod) (needs []string, source string) {
	for _, l := range st.List {
		if strings.EqualFold(l.ID, m.ID) {
			needs, source = l.Needs, l.Source
		}
	}
	if strings.HasPrefix(source, "file:") || strings.ContainsAny(source, "/\\") && !strings.Contains(source, "://") {
		source = ""
	}
	return needs, source
}
