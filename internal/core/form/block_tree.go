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
