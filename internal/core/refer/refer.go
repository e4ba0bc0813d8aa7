// Package refer counts how often a save refers to each of many mods: where identifiers that only the mod provides occur in it.
//
// All identifiers are looked for in one pass over the content, whatever their number. It knows bytes only: what the content is, and how it
// is unwrapped, is its callers' business.
package refer

import (
	"errors"
	"io"
	"slices"
)

// Count is what was found of one mod.
type Count struct {
	N     int    `json:"count"`
	First string `json:"first"` // the first identifier that was found
	At    string `json:"at"`    // where, in words of whoever called
}

// node is a state of the automaton: a trie of all identifiers whose first two bytes are taken at once. Identifiers count only as whole
// words, so it is entered only where a word begins, and needs no way back.
type node struct {
	edges  []edge // few: looked through in order
	owner  int32  // 1 + the mod whose identifier ends here, or 0
	prefix bool   // what begins so is the mod's, however it goes on
}

type edge struct {
	c  byte
	to int32
}

// Finder looks for identifiers. It is built once and then safe for concurrent use.
type Finder struct {
	mods  []string
	nodes []node
	pairs []int32 // by the first two bytes: a node, or -1
	most  int     // bytes of the longest
	ends  *Finder // of suffixes, spelled backward; nil where there are none
}

// Identifiers are what one mod brings into saves. What two mods bring is a sign of neither.
type Identifiers struct {
	Mod      string
	Exact    []string
	Prefixes []string
	Suffixes []string
}

// minIdentifier is the length, in bytes, from which an identifier is a sign: shorter ones occur by chance.
const minIdentifier = 3

// maxIdentifier bounds one identifier, in bytes.
const maxIdentifier = 1024

// New builds a finder.
func New(all []Identifiers) *Finder {
	f := empty()
	for i, ids := range all {
		f.mods = append(f.mods, ids.Mod)
		for _, id := range ids.Exact {
			f.add(id, int32(i)+1, false)
		}
		for _, id := range ids.Prefixes {
			f.add(id, int32(i)+1, true)
		}
		for _, id := range ids.Suffixes {
			if f.ends == nil {
				f.ends = empty()
			}
			f.ends.add(backward(id), int32(i)+1, true)
		}
	}
	return f
}

func empty() *Finder {
	f := &Finder{nodes: []node{{}}, pairs: make([]int32, 1<<16)}
	for i := range f.pairs {
		f.pairs[i] = -1
	}
	return f
}

func backward(s string) string {
	b := []byte(s)
	slices.Reverse(b)
	return string(b)
}

// shared marks an identifier of several mods.
const shared = -1

func (f *Finder) add(id string, owner int32, prefix bool) {
	if len(id) < minIdentifier || len(id) > maxIdentifier {
		return
	}
	pair := int(id[0]) | int(id[1])<<8
	if f.pairs[pair] < 0 {
		f.pairs[pair] = int32(len(f.nodes))
		f.nodes = append(f.nodes, node{})
	}
	at := f.pairs[pair]
	for i := 2; i < len(id); i++ {
		next := f.step(at, id[i])
		if next < 0 {
			next = int32(len(f.nodes))
			f.nodes[at].edges = append(f.nodes[at].edges, edge{id[i], next})
			f.nodes = append(f.nodes, node{})
		}
		at = next
	}
	n := &f.nodes[at]
	if n.owner != 0 && n.owner != owner {
		owner = shared
	}
	n.owner, n.prefix = owner, n.prefix || prefix
	f.most = max(f.most, len(id))
}

func (f *Finder) step(at int32, c byte) int32 {
	for _, e := range f.nodes[at].edges {
		if e.c == c {
			return e.to
		}
	}
	return -1
}

// word tells the bytes that identifiers are made of inside; one beside an identifier makes it part of a longer one.
var word = func() (w [256]bool) {
	for c := range 256 {
		w[c] = c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c >= 0x80
	}
	return w
}()

// Counts are what was found, by mod.
type Counts map[string]Count

// Search counts in one piece of content, which at names.
func (f *Finder) Search(content []byte, at string, counts Counts) {
	f.search(content, 0, len(content), at, counts)
}

// search counts what begins, or with suffixes ends, in the bytes from and before limit.
func (f *Finder) search(content []byte, from, limit int, at string, counts Counts) {
	f.each(content, from, limit, func(mod string, from, to int) {
		count := counts[mod]
		if count.N++; count.N == 1 {
			count.First, count.At = string(content[from:to]), at
		}
		counts[mod] = count
	})
}

// Each visits the identifiers in a content: whose each is, its first byte and the one behind its last. Of what only begins or ends as a mod's
// identifiers do, all of the word is visited. Those of suffixes come first.
func (f *Finder) Each(content []byte, visit func(mod string, from, to int)) {
	f.each(content, 0, len(content), func(mod string, from, to int) {
		if from > 0 && word[content[from-1]] {
			for from > 0 && inName(content[from-1]) {
				from--
			}
			for !word[content[from]] {
				from++
			}
		}
		if to < len(content) && word[content[to]] {
			for to < len(content) && inName(content[to]) {
				to++
			}
			for !word[content[to-1]] {
				to--
			}
		}
		visit(mod, from, to)
	})
}

// inName reports whether a byte may stand in the name of a thing.
func inName(c byte) bool { return word[c] || c == ':' || c == '-' }

// each visits what begins, or with suffixes ends, in the bytes from and before limit.
func (f *Finder) each(content []byte, from, limit int, visit func(mod string, from, to int)) {
	if f.ends != nil {
		f.eachEnd(content, from, limit, visit)
	}
	if f.most == 0 {
		return
	}
	limit = min(limit, len(content)-1)
	before := from > 0 && word[content[from-1]]
	for i := from; i < limit; i++ {
		c := content[i]
		inside := before
		before = word[c]
		if inside && before {
			continue
		}
		n := f.pairs[int(c)|int(content[i+1])<<8]
		if n < 0 {
			continue
		}
		owner, length := f.match(content[i:], n)
		if owner > 0 {
			visit(f.mods[owner-1], i, i+length)
		}
	}
}

// eachEnd visits the words that end as suffixes do and whose last byte is one of from and before limit.
func (f *Finder) eachEnd(content []byte, from, limit int, visit func(mod string, from, to int)) {
	var back [maxIdentifier]byte
	for i := from; i < min(limit, len(content)); i++ {
		if !word[content[i]] || i+1 < len(content) && word[content[i+1]] || i < 1 {
			continue
		}
		n := f.ends.pairs[int(content[i])|int(content[i-1])<<8]
		if n < 0 {
			continue
		}
		length := min(f.ends.most, i+1, maxIdentifier)
		for k := range length {
			back[k] = content[i-k]
		}
		owner, found := f.ends.match(back[:length], n)
		if owner > 0 {
			visit(f.mods[owner-1], i+1-found, i+1)
		}
	}
}

// match follows the identifier that content begins with from the node n of its first two bytes, and returns the owner and length of the
// longest that ends as a word does.
func (f *Finder) match(content []byte, n int32) (owner int32, length int) {
	for i := 2; ; i++ {
		here := &f.nodes[n]
		if here.owner != 0 {
			ends := i >= len(content) || !word[content[i]] || !word[content[i-1]]
			if here.prefix || ends {
				owner, length = here.owner, i
			}
		}
		if i >= len(content) {
			return owner, length
		}
		if n = f.step(n, content[i]); n < 0 {
			return owner, length
		}
	}
}

// block is how much of a stream is searched at once, in bytes.
const block = 256 << 10

// Read counts in a stream to its end.
func (f *Finder) Read(r io.Reader, at string, counts Counts) error {
	behind := 0 // how much of what was searched is kept before what is searched next, for words that end there
	if f.ends != nil {
		behind = f.ends.most
	}
	buf := make([]byte, 0, block+maxIdentifier+behind)
	from := 0
	for {
		n, err := io.ReadFull(r, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		end := err == io.EOF || err == io.ErrUnexpectedEOF
		if err != nil && !end {
			return err
		}
		limit := len(buf)
		if !end { // what begins near the end may go on behind it: it is searched with the next block
			limit -= maxIdentifier
		}
		f.search(buf, from, limit, at, counts)
		if end {
			return nil
		}
		if limit <= from {
			return errors.New("a stream that gives nothing")
		}
		keep := max(limit-max(behind, 1), 0)
		from = limit - keep
		buf = append(buf[:0], buf[keep:]...)
	}
}
