package form

import "bytes"

// again knows how the last part of a list was written, with what stands before it, so that one that is written the same and differs in its digits alone
// is passed over without looking at each of its tokens: most of a large save is such rows. A part that is written so is whole, if the last one was: digits
// stand for digits in a number and in a text, and a number of JSON does not begin with a zero too much.
type again struct {
	form   string
	cuts   []cut
	tail   []byte // behind the last digits
	misses int    // how often in a row none came that was written as the one before
	pause  int    // so many are not looked at
}

// cut is what stands before digits.
type cut struct {
	text  []byte
	whole bool // these digits begin a number, perhaps
}

const (
	// maxAgain is how long a part may be, in bytes.
	maxAgain = 512
	// patience is how many misses there may be before elements are let pass.
	patience = 4
)

// Behind these a digit may belong to something that is not only digits: in JSON to an exponent, to what is behind a point, or to an escape like \u00e4; in
// blocks to a name.
var inOther = map[string]*[256]bool{
	"json":   bytesOf(`.+\uabcdefABCDEF0123456789`),
	"blocks": bytesOf("_:.-0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ", 0x80),
}

// bytesOf are the bytes of a text, and all from others on.
func bytesOf(text string, others ...int) *[256]bool {
	var is [256]bool
	for i := range len(text) {
		is[text[i]] = true
	}
	for _, from := range others {
		for c := from; c < 256; c++ {
			is[c] = true
		}
	}
	return &is
}

func isDigit(c byte) bool { return c-'0' <= 9 }

// learn notes how a part is written.
func (a *again) learn(part []byte) {
	a.cuts, a.tail = a.cuts[:0], part
	if a.form == "xml" {
		a.learnTags(part)
		return
	}
	other := inOther[a.form]
	ended := -1
	value := false // the first word behind a = of blocks
	name := false  // between brackets of blocks, where what opens and what closes say the same
	for i := 1; i < len(part); i++ {
		before := part[i-1]
		if a.form == "blocks" {
			name = before == '[' || name && before != ']' && before != '\n'
			value = part[i] != '\n' && part[i] != '\r' && (before == '=' || value && (space(before) || !space(part[i])))
		}
		if !isDigit(part[i]) || name {
			continue
		}
		sameNumber := before == '.' && ended == i-1
		if sameNumber || value || !other[before] {
			i = a.cut(part, i, a.form == "json" && !sameNumber)
			ended = i
		}
	}
}

// learnTags is learn for XML, where digits stand for digits in the values of attributes and in text, and in no name.
func (a *again) learnTags(part []byte) {
	if bytes.Contains(part, []byte("<!")) || bytes.Contains(part, []byte("<?")) {
		return // there a quote is none
	}
	tag, quote := false, byte(0)
	for i := 0; i < len(part); i++ {
		switch c := part[i]; {
		case quote != 0 && c == quote:
			quote = 0
		case tag && quote == 0 && (c == '"' || c == '\''):
			quote = c
		case c == '<' && quote == 0:
			tag = true
		case c == '>' && quote == 0:
			tag = false
		case isDigit(c) && (!tag || quote != 0) && i > 0:
			i = a.cut(part, i, false) - 1
		}
	}
}

// cut notes the digits that begin at a place of a part, and returns where they end.
func (a *again) cut(part []byte, at int, whole bool) (end int) {
	from := len(part) - len(a.tail)
	for end = at; end < len(part) && isDigit(part[end]); end++ {
	}
	a.cuts, a.tail = append(a.cuts, cut{part[from:at], whole}), part[end:]
	return end
}

// next is how long the part is that text begins with, if it is written as the one that was learnt; else 0.
func (a *again) next(text []byte) int {
	at := 0
	for i := range a.cuts {
		c := &a.cuts[i]
		n := at + len(c.text)
		if n >= len(text) || string(text[at:n]) != string(c.text) {
			return 0
		}
		at = n
		for at < len(text) && isDigit(text[at]) {
			at++
		}
		if at == n || at == len(text) || c.whole && text[n] == '0' && at > n+1 {
			return 0
		}
	}
	n := at + len(a.tail)
	if n > len(text) || string(text[at:n]) != string(a.tail) {
		return 0
	}
	return n
}

// pass is how much of text, at most so many bytes, is parts that are written as the one that just ended, and how many these are. element is that one, with
// what stands between it and the one before.
func (a *again) pass(element, text []byte, most int) (length, n int) {
	if a.pause > 0 {
		a.pause--
		return 0, 0
	}
	a.learn(element)
	for {
		more := a.next(text[length:])
		if more == 0 || length+more > most {
			break
		}
		length, n = length+more, n+1
	}
	if a.misses++; n > 0 {
		a.misses = 0
	} else if a.misses > patience {
		a.pause = 1 << min(a.misses-patience, 8)
	}
	return length, n
}
