package doc

import (
	"fmt"
	"strings"

	"github.com/antchfx/xpath"
)

func compileXPath(query string) (expr *xpath.Expr, err error) {
	defer func() { // the library panics on some malformed expressions
		if r := recover(); r != nil {
			err = fmt.Errorf("not an XPath: %v", r)
		}
	}()
	return xpath.Compile(query)
}

// askXPath asks a tree; with inside, its root holds one part, and the query starts at that part.
func askXPath(root *tree, inside bool, query string) (answer, error) {
	expr, err := compileXPath(query)
	if err != nil {
		return answer{}, err
	}
	start := &navigator{at: root, root: root}
	if inside {
		start.at = root.kids[0]
	}
	a, err := asked(query, func() (a answer) {
		say := func(text string) { a.text = &text }
		switch v := expr.Evaluate(start).(type) {
		case *xpath.NodeIterator:
			for v.MoveNext() {
				a.nodes = append(a.nodes, v.Current().(*navigator).at.Node)
				if len(a.nodes) > maxFound {
					panic(errMany())
				}
			}
		case string:
			if v != "" {
				say(v)
			}
		case float64:
			if v == v {
				say(fmt.Sprint(v))
			}
		case bool:
			say(fmt.Sprint(v))
		}
		return a
	})
	return a, err
}

// navigator walks a tree for the library.
type navigator struct{ at, root *tree }

// NodeType returns the type of the node.
func (n *navigator) NodeType() xpath.NodeType {
	switch {
	case n.at.parent == nil:
		return xpath.RootNode
	case n.at.kind == kindAttribute:
		return xpath.AttributeNode
	case n.at.kind == kindText:
		return xpath.TextNode
	}
	return xpath.ElementNode
}

// LocalName is the name without its prefix.
func (n *navigator) LocalName() string {
	_, local := splitName(n.at.Name)
	return local
}

// Prefix is the namespace prefix of the name.
func (n *navigator) Prefix() string {
	prefix, _ := splitName(n.at.Name)
	return prefix
}

func splitName(name string) (prefix, local string) {
	if before, after, ok := strings.Cut(name, ":"); ok {
		return before, after
	}
	return "", name
}

// Value is all text in the node.
func (n *navigator) Value() string {
	n.at.step()
	if n.at.kind != kindElement || n.at.parent == nil {
		text := ""
		if n.at.says != nil {
			text = *n.at.says
		}
		return text
	}
	var b strings.Builder
	n.at.write(&b)
	return b.String()
}

// write joins the texts in an element.
func (t *tree) write(b *strings.Builder) {
	for _, k := range t.kids {
		t.step()
		if k.kind == kindText && k.says != nil {
			b.WriteString(*k.says)
		}
		k.write(b)
	}
}

// Copy is another navigator at the same node.
func (n *navigator) Copy() xpath.NodeNavigator { c := *n; return &c }

// MoveToRoot goes to the root.
func (n *navigator) MoveToRoot() { n.at = n.root }

// MoveToParent goes to what the node is in.
func (n *navigator) MoveToParent() bool { return n.to(n.at.parent) }

func (n *navigator) to(t *tree) bool {
	n.root.step()
	if t == nil {
		return false
	}
	n.at = t
	return true
}

// MoveToNextAttribute goes to the next attribute, or from an element to its first.
func (n *navigator) MoveToNextAttribute() bool {
	of, next := n.at, 0
	if of.kind == kindAttribute {
		of, next = of.parent, of.nth+1
	}
	return next < len(of.attrs) && n.to(of.attrs[next])
}

// MoveToChild goes to the first child.
func (n *navigator) MoveToChild() bool {
	return n.at.kind != kindAttribute && len(n.at.kids) > 0 && n.to(n.at.kids[0])
}

// MoveToFirst goes to the first sibling.
func (n *navigator) MoveToFirst() bool {
	return n.at.kind != kindAttribute && n.at.parent != nil && n.to(n.at.parent.kids[0])
}

// MoveToNext goes to the next sibling.
func (n *navigator) MoveToNext() bool { return n.sibling(1) }

// MoveToPrevious goes to the sibling before.
func (n *navigator) MoveToPrevious() bool { return n.sibling(-1) }

func (n *navigator) sibling(by int) bool {
	p := n.at.parent
	if p == nil || n.at.kind == kindAttribute || n.at.nth+by < 0 || n.at.nth+by >= len(p.kids) {
		return false
	}
	return n.to(p.kids[n.at.nth+by])
}

// MoveTo goes where another navigator is.
func (n *navigator) MoveTo(other xpath.NodeNavigator) bool {
	o, ok := other.(*navigator)
	if !ok || o.root != n.root {
		return false
	}
	n.at = o.at
	return true
}
