package wrap

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"ostrov/internal/core/glob"
)

// Layer is one wrapping around the content of a file.
type Layer struct {
	Name string // one of layerNames
	Arg  string // the entry of zip, the number of skip and lines, the type of length, the key of xor, the rest of checksum and framed
}

// layerNames are the layers understood. From skip on, they take something after a colon.
var layerNames = []string{"auto", "gzip", "zlib", "deflate", "zstd", "lz4", "lzo", "xz", "bzip2", "base64",
	"skip", "lines", "length", "xor", "zip", "checksum", "framed"}

// Layers are the wrappings of a file, outermost first; or, with a tag, several such lists, and the first bytes of the file choose one.
type Layers struct {
	Chain []Layer
	Tag   *Tag
}

// Auto are the layers of an unknown file: whatever known compression its first bytes show.
var Auto = Layers{Chain: []Layer{{Name: "auto"}}}

// None reports whether a file in these layers is its own content.
func (l Layers) None() bool { return len(l.Chain) == 0 && l.Tag == nil }

// Tag chooses layers by some bytes at the start of the file, read as ASCII.
type Tag struct {
	From, To int // byte offsets
	Chains   map[string][]Layer
	Strict   bool // a tag that is not in Chains is damage; else it is not understood
}

// maxTag bounds how far into a file a tag may reach, in bytes.
const maxTag = 4096

// ParseLayer reads one layer as a description spells it: "gzip", "skip:8", "zip:world.json", "checksum:crc32@4 over 8..".
func ParseLayer(s string) (Layer, error) {
	name, arg, has := strings.Cut(s, ":")
	place := slices.Index(layerNames, name)
	switch {
	case place < 0:
		return Layer{}, fmt.Errorf("no layer %q; there are %s", s, strings.Join(layerNames, ", "))
	case place < slices.Index(layerNames, "skip") && has:
		return Layer{}, fmt.Errorf("layer %q takes nothing after a colon", name)
	}
	var err error
	switch name {
	case "skip", "lines":
		if n, e := strconv.Atoi(arg); e != nil || n < 0 {
			err = fmt.Errorf("layer %q: %s takes a number", s, name)
		}
	case "zip":
		if arg == "" || !glob.Valid(arg) {
			err = fmt.Errorf("layer %q: zip takes the name of an entry, or a glob", s)
		}
	case "framed":
		_, err = parseFrames(arg)
	case "length":
		_, err = parseLength(arg)
	case "xor":
		if key, e := hex.DecodeString(arg); e != nil || len(key) == 0 {
			err = fmt.Errorf("layer %q: xor takes a key in hex", s)
		}
	case "checksum":
		_, err = parseChecksum(arg)
	}
	if err != nil {
		return Layer{}, err
	}
	return Layer{name, arg}, nil
}

// ParseTag reads where a tag stands: "0:4" is the first four bytes.
func ParseTag(s string) (from, to int, err error) {
	a, b, ok := strings.Cut(s, ":")
	from, err1 := strconv.Atoi(a)
	to, err2 := strconv.Atoi(b)
	if !ok || err1 != nil || err2 != nil || from < 0 || to <= from || to > maxTag {
		return 0, 0, fmt.Errorf("%q is not FROM:TO, in bytes, up to %d", s, maxTag)
	}
	return from, to, nil
}

// chainFor is the chain for a file that begins with head.
func (l Layers) chainFor(head []byte) ([]Layer, error) {
	if l.Tag == nil {
		return l.Chain, nil
	}
	if len(head) < l.Tag.To {
		return nil, fmt.Errorf("%w: ends before byte %d", ErrDamaged, l.Tag.To)
	}
	tag := string(head[l.Tag.From:l.Tag.To])
	chain, ok := l.Tag.Chains[tag]
	if !ok {
		what := ErrUnknown
		if l.Tag.Strict {
			what = ErrDamaged
		}
		return nil, fmt.Errorf("%w: begins with %q instead of %s", what, tag, strings.Join(l.Tag.names(), " or "))
	}
	return chain, nil
}

func (t *Tag) names() []string {
	var names []string
	for name := range t.Chains {
		names = append(names, strconv.Quote(name))
	}
	sort.Strings(names)
	return names
}

// Words are the layers of a file that begins with head, outermost first, as a description spells them; for auto, what was found.
func (l Layers) Words(head []byte) []string {
	chain, err := l.chainFor(head)
	if err != nil {
		return nil
	}
	var words []string
	for i, layer := range chain {
		if layer.Name == "auto" {
			if i > 0 { // what is inside is not known without peeling
				return append(words, "auto")
			}
			if layer.Name = Compression(head); layer.Name == "" {
				continue
			}
		}
		words = append(words, layer.word())
	}
	return words
}

// word is a layer as a description spells it.
func (l Layer) word() string {
	if l.Arg == "" {
		return l.Name
	}
	return l.Name + ":" + l.Arg
}

// Begin reports whether a file of size bytes that begins with head could be in these layers. It never says no to one that is.
func (l Layers) Begin(head []byte, size int) bool {
	chain := l.Chain
	if l.Tag != nil {
		if l.Tag.To > size {
			return true
		}
		var err error
		if chain, err = l.chainFor(head); err != nil {
			return false
		}
	}
	return len(chain) == 0 || bytes.HasPrefix(head, magics[chain[0].Name])
}
