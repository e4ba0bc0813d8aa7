package doc

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strings"

	"ostrov/internal/core/wrap"
)

// treeReader reads JSON, XML and blocks: queries of the streaming subset on the stream of their scanner, others on a tree made of it.
type treeReader struct{ *File }

// scanner is a scanner of the file's form with a window of its own, which must be given back.
func (f *File) scanner() scanner {
	src := f.window()
	switch f.Spec.Form {
	case "json":
		return &jsonScan{source: src}
	case "xml":
		return &xmlScan{source: src, entities: f.entities()}
	}
	return &blockScan{source: src, patterns: f.Spec.Blocks}
}

// entities holds the entities that an XML has declared so far.
func (f *File) entities() xmlEntities {
	if f.declared == nil {
		f.declared = xmlEntities{}
	}
	return f.declared
}

// steps are those of a query of the streaming subset, as the matcher takes them.
func (t *treeReader) steps(query string) (steps []step, absolute, ok bool) {
	switch t.Spec.Form {
	case "xml":
		if steps, ok = xmlSteps(query); ok && len(steps) > 0 && steps[0].name == "" && !steps[0].all && !steps[0].attribute {
			return steps[1:], true, true
		}
		return steps, false, ok
	case "json":
		steps, ok = jsonSteps(query)
		return steps, false, ok
	}
	if steps, ok = jsonSteps(query); ok {
		steps = blockSteps(steps)
	}
	return steps, false, ok
}

// blockSteps joins a name with the [n], [*] or [?…] behind it: in blocks what has a name is a list of all that have it. A name between others without
// one of these names nothing, since a list has no members.
func blockSteps(steps []step) (joined []step) {
	for i := 0; i < len(steps); i++ {
		s := steps[i]
		switch {
		case s.name != "" && i+1 < len(steps) && steps[i+1].name == "":
			next := steps[i+1]
			s.pick, s.index, s.where = true, next.index, next.where
			i++
		case s.name != "" && i+1 < len(steps), s.name == "" && !s.all:
			s.name, s.all = "\x00", false
		}
		joined = append(joined, s)
	}
	return joined
}

func (t *treeReader) find(ctx context.Context, of *Node, text string, each bool, visit func(Node) error) (repeated bool, err error) {
	steps, absolute, streams := t.steps(text)
	if !streams {
		a, err := t.askTree(ctx, of, text)
		if err != nil {
			return false, err
		}
		for _, n := range a.nodes {
			repeated = repeated || n.again
			if trimmed(t.Spec.Form) && n.says != nil {
				text := trimSpace(*n.says)
				n.says = &text
			}
			if err := visit(n); err != nil {
				return repeated, err
			}
		}
		if a.text != nil && !each {
			return false, visit(Node{kind: kindValue, says: a.text})
		}
		return repeated, nil
	}
	if absolute {
		of = nil
	}
	if of != nil && len(steps) == 0 {
		return false, visit(*of)
	}
	scan := t.scanner()
	defer t.giveBack(scan)
	q := &query{steps: steps, visit: visit}
	if of == nil && t.Spec.Form == "blocks" && len(steps) == 0 {
		return false, visit(t.root())
	}
	m := newMatcher(scan, t.Spec.Form, []*query{q}, of != nil)
	if of == nil {
		err = scan.whole(m)
	} else {
		err = scan.inside(of, m)
	}
	return q.repeated, err
}

// root is all of a text of blocks, as a block.
func (t *treeReader) root() Node {
	all := place{t.src.bom(), t.src.size}
	return Node{From: all.from, To: all.to, kind: kindBlock, start: all.from, value: all, extra: rootBlock{}}
}

// rootBlock marks the node that is all of a text of blocks.
type rootBlock struct{}

func (f *File) giveBack(s scanner) {
	switch s := s.(type) {
	case *jsonScan:
		f.give(s.source)
	case *xmlScan:
		f.give(s.source)
		f.declared = s.entities
	case *blockScan:
		f.give(s.source)
	}
}

func (t *treeReader) says(n *Node) (string, bool, error) {
	if n.says != nil {
		return *n.says, true, nil
	}
	scan := t.scanner()
	defer t.giveBack(scan)
	return scan.content(n)
}

// check goes over all of the text, and keeps what it answers to the expected queries.
func (t *treeReader) check(ctx context.Context, expected []string) error {
	scan := t.scanner()
	defer t.giveBack(scan)
	var queries []*query
	answers := map[string]*answered{}
	for _, text := range expected {
		steps, _, ok := t.steps(text)
		if !ok || len(steps) == 0 || answers[text] != nil {
			continue
		}
		a := &answered{}
		answers[text] = a
		queries = append(queries, &query{steps: steps, visit: func(n Node) error {
			if len(a.nodes) <= maxKept {
				a.nodes = append(a.nodes, n)
			}
			return ctx.Err()
		}})
	}
	if err := scan.whole(newMatcher(scan, t.Spec.Form, queries, false)); err != nil {
		return err
	}
	t.known = map[string]*answered{}
	i := 0
	for _, text := range expected {
		a := answers[text]
		if a == nil || t.known[text] != nil {
			continue
		}
		a.repeated = queries[i].repeated
		i++
		if len(a.nodes) <= maxKept {
			t.known[text] = a
		} else {
			delete(answers, text)
		}
	}
	return nil
}

// Doc is a file, or one element of a list in it, that is asked for values. It is good until the file is closed.
type Doc struct {
	f     *File
	n     *Node             // nil is the file
	texts map[string]string // of what is asked for its parts by their names: a row, a match, a record
}

// Value returns the value that the query names, as text; if there are several, the first. The second result reports whether one was found; an empty
// one counts as found. An error means that the file is damaged or not understood, not that nothing was found.
func (d *Doc) Value(ctx context.Context, query string) (string, bool, error) {
	if d.texts != nil {
		text, ok := d.texts[query]
		return text, ok, nil
	}
	if d.n != nil {
		switch query {
		case "@key":
			return d.n.Name, true, nil
		case "@value":
			return d.f.Value(*d.n)
		}
		if strings.HasPrefix(query, "@") && d.f.Spec.Form == "json" {
			return "", false, nil
		}
	}
	if db, ok := d.f.reader.(*database); ok {
		return db.value(ctx, query)
	}
	found, err := d.f.Find(ctx, d.n, query, false)
	if err != nil || len(found) == 0 {
		return "", false, err
	}
	if b := found[0]; b.kind == kindPair && b.listed && !strings.HasSuffix(query, "]") && !strings.HasSuffix(query, "*") && query != "$" {
		return "", false, nil // words are a list, even if there is only one
	}
	return d.f.Value(found[0])
}

// Each returns the elements that the query names, in the order of the file.
func (d *Doc) Each(ctx context.Context, query string) ([]*Doc, error) {
	if d.texts != nil {
		return nil, errors.New("one line has no list inside")
	}
	if db, ok := d.f.reader.(*database); ok {
		return db.each(ctx, query)
	}
	found, err := d.f.Find(ctx, d.n, query, true)
	if err != nil {
		return nil, err
	}
	docs := make([]*Doc, len(found))
	for i := range found {
		docs[i] = &Doc{f: d.f, n: &found[i]}
	}
	return docs, nil
}

// EachText visits the texts of the elements that a query names in the file; see File.EachText.
func (d *Doc) EachText(ctx context.Context, query string, visit func(string) error) error {
	return d.f.EachText(ctx, query, visit)
}

// Answered are the values that an expected query has met, if they are known without going over the file again.
func (d *Doc) Answered(query string) (values []string, ok bool, err error) {
	a, ok := d.f.known[query]
	if !ok || d.n != nil {
		return nil, false, nil
	}
	for _, n := range a.nodes {
		text, single, err := d.f.Value(n)
		if err != nil {
			return nil, false, err
		}
		if single {
			values = append(values, text)
		}
	}
	return values, true, nil
}

// EachRespelled visits names and values that are written with escapes or entities; see File.EachRespelled.
func (d *Doc) EachRespelled(ctx context.Context, visit func(n Node, raw []byte, says string) error) error {
	return d.f.EachRespelled(ctx, visit)
}

// Close frees what the document holds. Elements are not closed.
func (d *Doc) Close() error {
	if d.f == nil || d.n != nil {
		return nil
	}
	return d.f.Close()
}

// Self returns the query by which an element of a list of a form gives its own value.
func Self(form string) string {
	if form == "json" || form == "blocks" {
		return "$"
	}
	return "."
}

// ByGroup reports whether the parts of an element are the named groups of a pattern, so that they need not be named again.
func ByGroup(d *Doc) bool {
	if d.n != nil {
		_, ok := d.n.extra.(groups)
		return ok
	}
	return d.texts != nil
}

// Part is a text that a pattern matches as a whole, asked for the pattern's groups; ok is false where it does not match.
func Part(re *regexp.Regexp, text string) (part *Doc, ok bool) {
	m := re.FindStringSubmatchIndex(text)
	if m == nil || m[0] != 0 || m[1] != len(text) {
		return nil, false
	}
	texts := map[string]string{}
	for name, at := range groupsOf(re, m, 0, place{0, len(text)}) {
		texts[name] = text[at.from:at.to]
	}
	return &Doc{texts: texts}, true
}

// Section is one section of an INI; ok is false where it is not there.
func Section(ctx context.Context, d *Doc, name string) (section *Doc, ok bool, err error) {
	ini, isINI := d.f.reader.(*iniReader)
	if !isINI {
		return nil, false, nil
	}
	ok, err = ini.has(name)
	return &Doc{f: d.f, n: &Node{extra: iniSection(name)}}, ok, err
}

// Members are the members of objects of JSON or blocks, and the elements of arrays, each with its key. there reports whether any of docs is one or
// the other.
func Members(ctx context.Context, docs []*Doc) (all []*Doc, there bool, err error) {
	for _, d := range docs {
		if d.n == nil || d.n.kind != kindObject && d.n.kind != kindArray && d.n.kind != kindBlock {
			continue
		}
		there = true
		inside, err := d.Each(ctx, "$.*")
		if err != nil {
			return nil, there, err
		}
		if all = append(all, inside...); len(all) > maxFound {
			return nil, there, errMany()
		}
	}
	return all, there, nil
}

// Values calls visit with each value that the query names in the file name of fsys, unwrapped from its own layers. A value is only good until visit
// returns.
func Values(ctx context.Context, fsys fs.FS, name string, spec Spec, query string, layers wrap.Layers, limits wrap.Limits, visit func([]byte) error) error {
	f := &File{Spec: spec}
	if err := f.open(ctx, fsys, name, limits); err != nil { // it is gone over once, for the query
		return errors.Join(named(name, err), f.Close())
	}
	row := 0
	err := f.eachValue(ctx, query, false, func(_ Node, value []byte) error {
		row++
		if !layers.None() {
			var err error
			if value, err = layers.Peel(strings.NewReader(string(value)), limits); err != nil {
				return fmt.Errorf("value %d: %w", row, err)
			}
		}
		return visit(value)
	})
	return errors.Join(err, f.Close())
}
