package doc

import (
	"fmt"
	"strconv"
	"strings"
	"sync"

	"github.com/ohler55/ojg/jp"
)

// compiled are the JSONPaths that have been asked, by their text. Descriptions are bounded, and so are these.
var compiled sync.Map

func compileJSON(query string) (expr jp.Expr, err error) {
	if known, ok := compiled.Load(query); ok {
		return known.(jp.Expr), nil
	}
	if expr, err = parsePath(query); err == nil {
		compiled.Store(query, expr)
	}
	return expr, err
}

func parsePath(query string) (expr jp.Expr, err error) {
	if !strings.HasPrefix(query, "$") {
		return nil, fmt.Errorf("a JSONPath begins with $: %q", query)
	}
	if strings.Count(query, "..") > 1 { // of each of n parts all parts, which may be n times n
		return nil, fmt.Errorf("a JSONPath has one .. at most: %q", query)
	}
	defer func() { // the library panics on some malformed filters
		if r := recover(); r != nil {
			err = fmt.Errorf("not a JSONPath: %v", r)
		}
	}()
	return jp.ParseString(query)
}

// jsonObject is an object or block as the library asks it.
type jsonObject struct{ *tree }

// jsonArray is an array, or what has the same name in a block, as the library asks it.
type jsonArray struct {
	parts []*tree
	of    *tree
}

// forPath is a part as the library takes it: an object, an array, or a value of Go.
func (t *tree) forPath() any {
	t.step()
	switch {
	case t.kind == kindObject || t.kind == kindBlock:
		return jsonObject{t}
	case t.kind == kindArray:
		return jsonArray{t.kids, t}
	}
	text, err := t.value()
	if err != nil {
		panic(err)
	}
	if t.text || t.kind == kindPair {
		return text
	}
	switch text {
	case "true", "false":
		return text == "true"
	case "":
		return nil
	}
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		return n
	}
	x, _ := strconv.ParseFloat(text, 64)
	return x
}

// ValueForKey is the member of a name; of several, the first.
func (o jsonObject) ValueForKey(key string) (any, bool) {
	found := o.called(key)
	switch {
	case len(found) == 0:
		return nil, false
	case o.kind == kindBlock && (len(found) > 1 || found[0].listed):
		return jsonArray{found, o.tree}, true
	}
	return found[0].forPath(), true
}

// called are the members of a name.
func (t *tree) called(key string) (found []*tree) {
	for _, k := range t.kids {
		t.step()
		if k.Name == key {
			found = append(found, k)
		}
	}
	return found
}

// Keys are the names of the members.
func (o jsonObject) Keys() (keys []string) {
	seen := map[string]bool{}
	for _, k := range o.kids {
		o.step()
		if !seen[k.Name] {
			seen[k.Name] = true
			keys = append(keys, k.Name)
		}
	}
	return keys
}

// SetValueForKey and RemoveValueForKey do nothing: nothing is written this way.
func (o jsonObject) SetValueForKey(string, any)  {}
func (o jsonObject) RemoveValueForKey(string)    {}
func (a jsonArray) SetValueAtIndex(_ int, _ any) {}

// ValueAtIndex is an element.
func (a jsonArray) ValueAtIndex(i int) any {
	if i < 0 || i >= len(a.parts) {
		return nil
	}
	return a.parts[i].forPath()
}

// Size returns the number of elements.
func (a jsonArray) Size() int { return len(a.parts) }

// askJSONPath asks a tree: the library tells the ways to what it has found, and at their ends the parts stand.
func askJSONPath(root *tree, query string) (answer, error) {
	expr, err := compileJSON(query)
	if err != nil {
		return answer{}, err
	}
	ways, err := asked(query, func() []jp.Expr { return expr.Locate(root.forPath(), maxFound+1) })
	if err != nil {
		return answer{}, err
	}
	if len(ways) > maxFound {
		return answer{}, errMany()
	}
	var a answer
	for _, way := range ways {
		for _, t := range root.at(way) {
			n := t.Node
			if t.again() {
				n.again = true
			}
			a.nodes = append(a.nodes, n)
		}
	}
	return a, nil
}

// at are the parts at the end of a way.
func (t *tree) at(way jp.Expr) []*tree {
	here := []*tree{t}
	for _, frag := range way {
		switch f := frag.(type) {
		case jp.Child:
			var next []*tree
			for _, h := range here {
				next = append(next, h.called(string(f))...)
			}
			here = next
		case jp.Nth:
			if len(here) == 1 && here[0].kind == kindArray {
				here = here[0].kids
			}
			if int(f) >= len(here) || f < 0 {
				return nil
			}
			here = here[f : f+1]
		}
	}
	return here
}

// again reports whether another member of its object has the name of a part of JSON.
func (t *tree) again() bool {
	return t.parent != nil && t.parent.kind == kindObject && len(t.parent.called(t.Name)) > 1
}
