package doc

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"ostrov/internal/core/wrap"
)

// maxTree is the largest text, in bytes, that is made into a tree for queries outside the streaming subset.
const maxTree = 32 << 20

// maxTreeSteps bounds how many parts of a tree one query looks at.
const maxTreeSteps = 20_000_000

// tree is one thing of a text with all that is in it, as the scanner told it.
type tree struct {
	Node
	parent *tree
	nth    int // which of its parent's kids it is
	kids   []*tree
	attrs  []*tree
	text   bool // of a value of JSON: a text
	scan   scanner
	steps  *int // how many parts may still be looked at
	ctx    context.Context
}

// errSteps ends a query that looks at too many parts.
var errSteps = errors.New("looks at too much")

// step counts one part that is looked at, and ends the query if there are too many: by a panic, as the libraries know no errors here. See asked.
func (t *tree) step() {
	if *t.steps--; *t.steps < 0 {
		panic(errSteps)
	}
	if *t.steps&0xffff == 0 && t.ctx.Err() != nil {
		panic(t.ctx.Err())
	}
}

// treeSink makes a tree.
type treeSink struct {
	at   *tree
	scan scanner
}

// add puts a part into what is open.
func (b *treeSink) add(e *event) (*tree, error) {
	t := &tree{Node: e.node(e.decodedName()), parent: b.at, text: e.text, scan: b.scan, steps: b.at.steps, ctx: b.at.ctx}
	if e.raw != nil && e.kind != kindObject {
		text, err := b.scan.decode(e)
		if err != nil {
			return nil, err
		}
		t.says = &text
	}
	if e.kind == kindAttribute {
		t.nth = len(b.at.attrs)
		b.at.attrs = append(b.at.attrs, t)
		return t, nil
	}
	t.nth = len(b.at.kids)
	b.at.kids = append(b.at.kids, t)
	return t, nil
}

func (b *treeSink) begin(e *event) (bool, error) {
	t, err := b.add(e)
	b.at = t
	return false, err
}

func (b *treeSink) end(e *event) error {
	t := b.at
	t.Node = e.node(t.Name)
	b.at = t.parent
	return nil
}

func (b *treeSink) leaf(e *event) error {
	_, err := b.add(e)
	return err
}

// treeOf is the tree of a thing, or of all of the text: then what is outermost is in a root that has no name.
func treeOf(ctx context.Context, scan scanner, of *Node) (*tree, error) {
	root := &tree{scan: scan, steps: new(int), ctx: ctx}
	*root.steps = maxTreeSteps
	b := &treeSink{at: root, scan: scan}
	if of == nil {
		return root, scan.whole(b)
	}
	return root, scan.inside(of, b)
}

// value returns the value of a part of a tree.
func (t *tree) value() (string, error) {
	if t.says != nil {
		return *t.says, nil
	}
	text, _, err := t.scan.content(&t.Node)
	return text, err
}

// asked runs what a library does with a query on a tree, and makes errors of its panics.
func asked[T any](query string, run func() T) (result T, err error) {
	defer func() {
		r := recover()
		if r == nil {
			return
		}
		cause, ok := r.(error)
		switch {
		case ok && errors.Is(cause, errSteps):
			err = fmt.Errorf("%w: %q looks at more than %d parts of the file", wrap.ErrTooLarge, query, maxTreeSteps)
		case ok && (errors.Is(cause, context.Canceled) || errors.Is(cause, context.DeadlineExceeded) || errors.Is(cause, wrap.ErrDamaged) || errors.Is(cause, wrap.ErrTooLarge)):
			err = cause
		default:
			err = fmt.Errorf("%q: %v", query, r)
		}
	}()
	return run(), nil
}

// answer is the result of a query on a tree: parts of it, or a computed text.
type answer struct {
	nodes []Node
	text  *string
}

// askTree asks a thing of the file a query that is not of the streaming subset.
func (f *File) askTree(ctx context.Context, of *Node, query string) (answer, error) {
	if of != nil && f.Spec.Form == "xml" && strings.HasPrefix(query, "/") {
		of = nil // from the root on
	}
	size := f.src.size
	if of != nil {
		size = of.To - of.From
	}
	if size > maxTree {
		return answer{}, errSubset(query)
	}
	scan := f.scanner()
	root, err := treeOf(ctx, scan, of)
	if err != nil {
		return answer{}, err
	}
	if f.Spec.Form == "xml" {
		return askXPath(root, of != nil, query)
	}
	if f.Spec.Form == "json" || of != nil {
		root = root.kids[0]
	} else {
		root.kind = kindBlock
	}
	return askJSONPath(root, query)
}
