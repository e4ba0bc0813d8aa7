package form

import (
	"bytes"
	"fmt"
)

// maxBlockItems bounds the blocks and pairs of one file that is read as a tree.
const maxBlockItems = 1_500_000

// blockTree makes of a text the tree that a JSON file would be: a block is an object; what is called by the name of a block is a list of all blocks of
// that name, in order; a pair is text, or a list of texts where its key repeats; bare words in a block stand under "words".
type blockTree struct {
	stack []map[string]any
	items int
}

func parseBlocks(data []byte, patterns BlockPatterns) (Doc, error) {
	t := &blockTree{stack: []map[string]any{{}}}
	text := inMemory(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")))
	if err := newBlocksReader(text, place{0, text.size}, patterns, t).read(); err != nil {
		return nil, err
	}
	return jsonDoc{t.stack[0]}, nil
}

func (t *blockTree) add(name string, what any, listed bool) error {
	top := t.stack[len(t.stack)-1]
	switch was := top[name].(type) {
	case nil:
		if top[name] = what; listed {
			top[name] = []any{what}
		}
	case []any:
		top[name] = append(was, what)
	default:
		top[name] = []any{was, what}
	}
	if t.items++; t.items > maxBlockItems {
		return fmt.Errorf("%w: more than %d blocks and values", ErrTooLarge, maxBlockItems)
	}
	return nil
}

func (t *blockTree) opens(name []byte, _, _ int) error {
	block := map[string]any{}
	err := t.add(string(name), block, true)
	t.stack = append(t.stack, block)
	return err
}

func (t *blockTree) closes(_, _ int) error {
	t.stack = t.stack[:len(t.stack)-1]
	return nil
}

func (t *blockTree) pair(key, value []byte, p blockPart) error {
	return t.add(string(key), string(value), p.listed)
}

// blockWays makes of a text the ways to its values, for a guide.
type blockWays struct{ open []*blockWay }

// blockWay is a block that is open, with what has been met in it.
type blockWay struct {
	name string
	met  []blockPart
	in   [][]spot // what each of these has in it, the ways beginning in it
}

// waysIn are the values of a text of blocks with the queries that lead to them, in order.
func waysIn(data []byte, patterns BlockPatterns) ([]spot, error) {
	w := &blockWays{open: []*blockWay{{}}}
	text := inMemory(data)
	if err := newBlocksReader(text, place{text.bom(), text.size}, patterns, w).read(); err != nil {
		return nil, err
	}
	return w.open[0].spots("$"), nil
}

func (w *blockWays) opens(name []byte, _, _ int) error {
	w.open = append(w.open, &blockWay{name: string(name)})
	return nil
}

func (w *blockWays) closes(_, _ int) error {
	last := w.open[len(w.open)-1]
	w.open = w.open[:len(w.open)-1]
	up := w.open[len(w.open)-1]
	up.met, up.in = append(up.met, blockPart{name: last.name, block: true}), append(up.in, last.spots(""))
	return nil
}

func (w *blockWays) pair(key, _ []byte, p blockPart) error {
	p.name = string(key)
	top := w.open[len(w.open)-1]
	top.met, top.in = append(top.met, p), append(top.in, []spot{{p.inner.to, ""}})
	return nil
}

// spots are the ways to the values in a block that is over.
func (b *blockWay) spots(way string) (all []spot) {
	of, met := map[string]int{}, map[string]int{}
	for _, p := range b.met {
		of[p.name]++
	}
	for i, p := range b.met {
		to := way + "." + p.name
		if !isName(p.name) {
			to = way + "['" + p.name + "']"
		}
		if p.block || p.listed || of[p.name] > 1 {
			to += fmt.Sprintf("[%d]", met[p.name])
		}
		met[p.name]++
		for _, s := range b.in[i] {
			all = append(all, spot{s.to, to + s.query})
		}
	}
	return all
}
