package doc

import (
	"bytes"
	"context"
	"regexp"
	"slices"

	"ostrov/internal/core/wrap"
)

// Found is a place where a text stands.
type Found struct {
	At    int    // its first byte in the decoded text; in a value of a database its first byte there
	Query string // leads to the value that it is in, for Editor.One; "" if no query does
	Table string // of a database
	// Value is the value in a database, or a decoded value or name that is written with escapes or entities: then At is its beginning.
	Value string
}

// Look opens the decoded content of a file for searches. The file must be closed, and the content must not change before that.
func (spec Spec) Look(ctx context.Context, content wrap.Content) (*File, error) {
	if spec.Form == "sqlite" {
		d, err := editSQLite(ctx, content)
		if err != nil {
			return nil, err
		}
		return &File{Spec: spec, reader: d}, nil
	}
	src, as, err := spec.editable(content)
	if err != nil {
		return nil, err
	}
	return as.fileOf(src)
}

// Near is a text with some more around it, and where in that it begins.
func (f *File) Near(at, length int) (text []byte, begin int) {
	const reach = 128
	if f.src == nil {
		return nil, 0
	}
	from := max(0, at-reach)
	text, err := f.src.bytes(place{from, min(f.src.size, at+length+reach)})
	if err != nil {
		return nil, 0
	}
	return bytes.Clone(text), at - from
}

// Lines counts the lines up to a place, from 1, for places in rising order; 0 of what is no text.
func (f *File) Lines() func(at int) (int, error) {
	if f.src == nil {
		return func(int) (int, error) { return 0, nil }
	}
	line, last, text := 1, 0, true
	if head, err := f.src.from(0, 4096); err != nil || bytes.IndexByte(head[:min(len(head), 4096)], 0) >= 0 {
		text = false
	}
	src := f.src
	if src.file != nil {
		src = inFile(src.file, src.size)
	}
	return func(at int) (int, error) {
		if !text {
			return 0, nil
		}
		if at < last {
			line, last = 1, 0
		}
		for last < at {
			part, err := src.from(last, 1)
			if err != nil || len(part) == 0 {
				return 0, err
			}
			part = part[:min(len(part), at-last)]
			line += bytes.Count(part, []byte{'\n'})
			last += len(part)
		}
		return line, nil
	}
}

// Way is a query that leads to a node, "" if none does.
func (f *File) Way(ctx context.Context, n Node) (string, error) {
	if r, ok := n.extra.(rowPart); ok {
		return r.query(), nil
	}
	if _, ok := f.reader.(*treeReader); !ok {
		return "", nil
	}
	scan := f.scanner()
	defer f.giveBack(scan)
	s := &searcher{ctx: ctx, scan: scan, form: f.Spec.Form, text: "\x00", hits: []int{n.value.from}, way: []wayStep{{}}}
	if err := scan.whole(s); err != nil && err != errEnough || len(s.out) == 0 {
		return "", err
	}
	return s.out[0].Query, nil
}

// Search visits the places of a text, in the order of the file: in the text itself, and in decoded names and values. It is case-sensitive. The
// scanner's path gives the query for a place.
func (f *File) Search(ctx context.Context, text string, visit func(Found) error) error {
	switch r := f.reader.(type) {
	case *treeReader:
		return f.searchTree(ctx, text, visit)
	case *iniReader:
		return f.searchINI(ctx, r, text, visit)
	case *database:
		return r.search(ctx, text, visit)
	case *textReader:
		return f.searchText(ctx, r, text, visit)
	}
	_, err := f.eachHit(ctx, text, nil, func(at int) error { return visit(Found{At: at}) })
	return err
}

// spellings begin an escape or an entity: a text without them has only plain values.
var spellings = map[string][]string{"json": {`\`}, "xml": {"&", "\r"}, "blocks": {`\`, `""`}}

// eachHit visits the places of a text, undecoded. It reports whether the file contains one of spelling.
func (f *File) eachHit(ctx context.Context, text string, spelling []string, visit func(at int) error) (spelled bool, err error) {
	if text == "" {
		return false, nil
	}
	src := f.window()
	if b, ok := f.reader.(bytesReader); ok {
		src = inMemory(b)
	} else if c, ok := f.reader.(*chunksReader); ok {
		src = inMemory(c.bytesReader)
	} else {
		defer f.give(src)
	}
	want := []byte(text)
	for at := 0; at < src.size; {
		part, err := src.from(at, min(len(want)+src.step/2, src.size-at))
		if err != nil {
			return spelled, err
		}
		spelled = spelled || slices.ContainsFunc(spelling, func(s string) bool { return bytes.Contains(part, []byte(s)) })
		from := 0
		for {
			i := bytes.Index(part[from:], want)
			if i < 0 {
				break
			}
			if err := visit(at + from + i); err != nil {
				return spelled, err
			}
			from += i + len(want)
		}
		if at+len(part) >= src.size {
			break
		}
		at += max(from, len(part)-len(want)+1)
		if ctx.Err() != nil {
			return spelled, ctx.Err()
		}
	}
	return spelled, nil
}

// EachRespelled visits the names and values of JSON, XML and blocks that are written with escapes or entities: their bytes, and what they decode to.
// A search of the undecoded text does not find these.
func (f *File) EachRespelled(ctx context.Context, visit func(n Node, raw []byte, says string) error) error {
	if _, ok := f.reader.(*treeReader); !ok {
		return nil
	}
	scan := f.scanner()
	defer f.giveBack(scan)
	return scan.whole(&respelledSink{ctx, scan, visit})
}

// respelledSink is a sink for EachRespelled.
type respelledSink struct {
	ctx   context.Context
	scan  scanner
	visit func(n Node, raw []byte, says string) error
}

func (r *respelledSink) begin(e *event) (bool, error) { return false, r.name(e) }

func (r *respelledSink) name(e *event) error {
	if !e.escaped {
		return nil
	}
	n := e.node(e.decodedName())
	n.To = n.From
	return r.visit(n, e.name, n.Name)
}

func (r *respelledSink) end(*event) error { return r.ctx.Err() }

func (r *respelledSink) leaf(e *event) error {
	if err := r.name(e); err != nil || e.plain && e.kind != kindPair || e.raw == nil {
		return err
	}
	says, err := r.scan.decode(e)
	if err != nil {
		return err
	}
	n := e.node(e.decodedName())
	n.says = &says
	return r.visit(n, e.raw, says)
}

// maxHits is the most places of one search that get a query.
const maxHits = 100_000

// firstHits returns at most maxHits places of an undecoded text, and reports whether there are more and whether the file has escapes or entities.
func (f *File) firstHits(ctx context.Context, text string) (hits []int, spelled, more bool, err error) {
	spelled, err = f.eachHit(ctx, text, spellings[f.Spec.Form], func(at int) error {
		if more = len(hits) == maxHits; !more {
			hits = append(hits, at)
		}
		return nil
	})
	return hits, spelled, more, err
}

// otherHits visits the places of a text after another place.
func (f *File) otherHits(ctx context.Context, text string, after int, visit func(Found) error) error {
	_, err := f.eachHit(ctx, text, nil, func(at int) error {
		if at <= after {
			return nil
		}
		return visit(Found{At: at})
	})
	return err
}

// searchINI finds a text in the lines of an INI.
func (f *File) searchINI(ctx context.Context, r *iniReader, text string, visit func(Found) error) error {
	hits, _, more, err := f.firstHits(ctx, text)
	if err != nil || len(hits) == 0 {
		return err
	}
	names := map[string]int{} // of the keys with the text: a repeated key has no query
	var found []Found
	rest := hits
	if err := r.keys(func(k iniKey) error {
		for ; len(rest) > 0 && rest[0] <= k.line.to; rest = rest[1:] {
			one := Found{At: rest[0]}
			if rest[0] >= k.line.from && k.key != "" {
				one.Query = k.name(nil)
				names[one.Query] = 0
			}
			found = append(found, one)
		}
		return nil
	}); err != nil {
		return err
	}
	if err := r.keys(func(k iniKey) error {
		name := k.name(nil)
		if n, ok := names[name]; ok {
			names[name] = n + 1
		}
		return nil
	}); err != nil {
		return err
	}
	for _, at := range rest { // in remarks behind the last key
		found = append(found, Found{At: at})
	}
	for _, one := range found {
		if names[one.Query] != 1 {
			one.Query = ""
		}
		if err := visit(one); err != nil {
			return err
		}
	}
	if more {
		return f.otherHits(ctx, text, hits[len(hits)-1], visit)
	}
	return nil
}

// maxTold bounds what is read to make sure that patterns lead to where a text was found, in bytes.
const maxTold = 1 << 30

// searchText finds a text in a text. The query is a pattern of the line's beginning, where no earlier line has the same.
func (f *File) searchText(ctx context.Context, r *textReader, text string, visit func(Found) error) error {
	first, read, n := map[string]place{}, 0, 0
	_, err := f.eachHit(ctx, text, nil, func(at int) error {
		found := Found{At: at}
		if n++; n > maxHits {
			return visit(found)
		}
		pattern, line := f.patternFor(at, len(text))
		value, known := first[pattern]
		if pattern != "" && !known && read < maxTold {
			value = place{-1, f.src.size}
			_, err := r.find(ctx, nil, pattern, false, func(n Node) error { value = n.place(); return nil })
			if err != nil {
				return err
			}
			first[pattern], read = value, read+value.to
		}
		if pattern != "" && value.from >= line.from && value.to <= line.to {
			found.Query = pattern
		}
		return visit(found)
	})
	return err
}

// patternFor returns the pattern for the value in the line of a text: the rest of the line after the last = or : before the text, or after the first
// one behind it, or after the last space. It returns "" if the line has none of these or is long; in is the place of the line.
func (f *File) patternFor(at, length int) (pattern string, in place) {
	piece, begin := f.Near(at, length)
	from := bytes.LastIndexByte(piece[:begin], '\n') + 1
	if from == 0 && at > begin || begin+length > len(piece) {
		return "", in
	}
	line, hit := piece[from:], begin-from
	if i := bytes.IndexByte(line[hit:], '\n'); i >= 0 {
		line = line[:hit+i]
	}
	in = place{at - hit, at - hit + len(line)}
	end := bytes.LastIndexAny(line[:hit], "=:")
	if after := bytes.IndexAny(line[hit:], "=:"); end < 0 && after >= 0 {
		end = hit + after
	}
	if end < 0 {
		end = bytes.LastIndexAny(line[:hit], " \t")
	}
	if end < 0 {
		return "", in
	}
	for end++; end < len(line) && end != hit && (line[end] == ' ' || line[end] == '\t'); {
		end++
	}
	return "^" + regexp.QuoteMeta(string(line[:end])) + "(.*)$", in
}
