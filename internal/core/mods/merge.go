package mods

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"ostrov/internal/core/ledger"
	"ostrov/internal/core/merge"
	"ostrov/internal/core/tree"
)

// maxText bounds a text that is merged, in bytes.
const maxText = 1 << 20

// forms are the forms of texts that players edit, by their endings.
var forms = map[string]string{".ini": "ini", ".cfg": "lines", ".conf": "lines", ".json": "json", ".xml": "xml", ".txt": "lines", ".toml": "lines", ".yaml": "lines", ".yml": "lines",
	".lua": "lines", ".properties": "lines", ".list": "lines"}

// isText reports whether a file is a text that players edit, so that it is merged with the next version of its mod.
func isText(f ledger.File) bool {
	return forms[strings.ToLower(path.Ext(f.Path))] != "" && f.Size <= maxText && !f.Dir && f.Link == ""
}

func digestOf(data []byte) tree.Digest {
	sums, _, err := tree.SumReader(context.Background(), bytes.NewReader(data), false, io.Discard)
	if err != nil {
		return tree.Digest{} // memory can be read
	}
	return sums.Blake3
}

// mergeInto decides about a file that the player has changed and of which another version comes: the changes of both are joined, or, where that
// cannot be, both are kept.
func (w *work) mergeInto(p ledger.Place, is *ledger.Entry, said, will ledger.File, lies *ledger.File) (*want, error) {
	full, err := w.path(p)
	if err != nil {
		return nil, err
	}
	came := said.Came
	if came.IsZero() {
		came = said.Digest
	}
	if came == will.Digest { // the mod has not changed it
		mine := *lies
		mine.Came = came
		w.become(is, will, mine)
		w.keep(full, "you have changed it, and the new version has not: it stays")
		return nil, nil
	}
	if isText(will) && isText(*lies) {
		return w.mergeTexts(p, full, is, came, will, lies)
	}
	return w.both(p, full, is, will, lies, "")
}

// mergeTexts joins the player's changes of a text with those of its mod.
func (w *work) mergeTexts(p ledger.Place, full string, is *ledger.Entry, came tree.Digest, will ledger.File, lies *ledger.File) (*want, error) {
	base, err := w.read(came, p)
	if err != nil {
		return w.both(p, full, is, will, lies, "what it was as it came is not known any more")
	}
	mine, err := w.read(lies.Digest, p)
	if err != nil {
		return nil, err
	}
	theirs, err := w.read(will.Digest, p)
	if err != nil {
		return nil, err
	}
	merged, clashes := merge.Texts(forms[strings.ToLower(path.Ext(p.Path))], base, mine, theirs)
	if len(clashes) > 0 {
		return w.both(p, full, is, will, lies, strings.Join(clashes[:min(3, len(clashes))], "; "))
	}
	joined := will
	joined.Digest, joined.Size, joined.Time, joined.Mode, joined.Came = digestOf(merged), int64(len(merged)), w.h.Now().UTC(), lies.Mode, will.Digest
	w.sourceBytes(joined.Digest, merged)
	w.become(is, will, joined)
	w.keep(full, "merged: your changes are in the new version's file")
	if joined.Same(*lies) {
		return nil, nil
	}
	return &want{at: p, file: &joined, of: is}, nil
}

// both keeps both versions of a file: the player's text stays in its place and the new one comes beside it; of other files the new one is in
// its place, as the mod needs it, and the player's lies beside.
func (w *work) both(p ledger.Place, full string, is *ledger.Entry, will ledger.File, lies *ledger.File, why string) (*want, error) {
	if why != "" {
		why = " (" + why + ")"
	}
	ending := ".yours"
	if isText(will) {
		ending = ".new"
	}
	beside, err := w.freeBeside(p, ending)
	if err != nil {
		return nil, err
	}
	if isText(will) {
		mine := *lies
		mine.Came = will.Digest
		w.become(is, will, mine)
		there := will
		there.Path = beside.Path
		w.add(is, there)
		w.extra = append(w.extra, want{at: beside, file: &there, of: is})
		w.keep(full, fmt.Sprintf("yours stays, the new version's is beside it as %s%s", path.Base(beside.Path), why))
		return nil, nil
	}
	there := *lies
	there.Path = beside.Path
	w.hold(lies)
	w.extra = append(w.extra, want{at: beside, file: &there, of: is})
	w.keep(full, fmt.Sprintf("yours is kept beside the new version's as %s%s", path.Base(beside.Path), why))
	return &want{at: p, file: &will, of: is}, nil
}

// freeBeside is a place beside a file where nothing lies.
func (w *work) freeBeside(p ledger.Place, ending string) (ledger.Place, error) {
	for i := 1; ; i++ {
		at := ledger.Place{Root: p.Root, Path: p.Path + ending}
		if i > 1 {
			at.Path = fmt.Sprintf("%s-%d", at.Path, i)
		}
		lies, err := w.lies(at, nil)
		taken := slices.ContainsFunc(w.extra, func(one want) bool { return one.at == at })
		if err != nil || lies == nil && !taken {
			return at, err
		}
	}
}

// become makes a file of an entry that will be another one, in the entry's own list.
func (w *work) become(is *ledger.Entry, will, file ledger.File) {
	for i, e := range w.then {
		if e.Key() != is.Key() {
			continue
		}
		changed := *e
		changed.Files = slices.Clone(e.Files)
		for j, f := range changed.Files {
			if f.Place() == will.Place() {
				changed.Files[j] = file
			}
		}
		w.then[i] = &changed
	}
}

// add adds a file to an entry.
func (w *work) add(is *ledger.Entry, file ledger.File) {
	for i, e := range w.then {
		if e.Key() == is.Key() {
			changed := *e
			changed.Files = append(slices.Clone(e.Files), file)
			slices.SortFunc(changed.Files, func(x, y ledger.File) int { return comparePlaces(x.Place(), y.Place()) })
			w.then[i] = &changed
		}
	}
}

// read reads a content whole.
func (w *work) read(d tree.Digest, at ledger.Place) ([]byte, error) {
	r, err := w.open(d, at)()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, maxText+1))
	if err == nil && digestOf(data) != d {
		err = fmt.Errorf("%s is not what it was", at.Path)
	}
	return data, err
}
