package hazard

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"io"

	"ostrov/internal/core/wrap"
)

// watch reads a text and looks out for Base64 in it (RFC 4648, §4 and §5): games keep streams of objects in the values of a text so. Each value that
// decodes to something of which the first bytes tell that it may run code is given to found.
type watch struct {
	r     io.Reader
	found func(decoded []byte)
	off   bool   // it is no text: a zero has come
	last  byte   // the one before what is read next; a line begins the text
	in    bool   // what is read next goes on with a run of such characters
	dull  bool   // that run is none to be looked into
	run   []byte // the run so far, without what its text puts between
	esc   []byte // an escape of JSON that has begun in it
}

const (
	// leastRun is how much of a value, in characters, tells what it decodes to: enough for the longest of the first bytes.
	leastRun = 24
	// maxRun is how much of a value is decoded, in characters.
	maxRun = headSize
)

var (
	// begins are the characters with which what packed tells can begin; opens are those before a value.
	begins = marked("gArBGTfYHK/_eQ\\")
	opens  = marked("\"'>=:([{, \t\r\n")
	// alphabet is that of Base64, with its two spellings, and with what begins an escape of JSON.
	alphabet = marked("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/-_\\")
)

func marked(chars string) (set [256]bool) {
	for _, c := range []byte(chars) {
		set[c] = true
	}
	return set
}

func watched(r io.Reader, found func([]byte)) *watch { return &watch{r: r, found: found, last: '\n'} }

func (w *watch) Read(p []byte) (int, error) {
	n, err := w.r.Read(p)
	if n > 0 && !w.off {
		w.off = bytes.IndexByte(p[:n], 0) >= 0
		w.look(p[:n])
		w.last = p[n-1]
	}
	if err == io.EOF && !w.off {
		w.ends()
	}
	return n, err
}

// look finds the runs of at least leastRun characters: only each leastRun-th byte has to be looked at where there is none.
func (w *watch) look(p []byte) {
	at := 0
	for !w.off {
		if w.in {
			if at = w.goOn(p, at); w.in {
				return
			}
		}
		far := at + leastRun - 1
		if far >= len(p) {
			break
		}
		if !alphabet[p[far]] {
			at = far + 1
			continue
		}
		from, to := beginOfRun(p, at, far), far+1
		for to < len(p) && to-from < leastRun && alphabet[p[to]] {
			to++
		}
		if to-from < leastRun && to < len(p) {
			at = to
			continue
		}
		w.begin(p, from)
		at = from
	}
	if from := beginOfRun(p, at, len(p)); from < len(p) && !w.off {
		w.begin(p, from)
		w.goOn(p, from)
	}
}

// beginOfRun is where the run that ends before to, or goes on there, begins.
func beginOfRun(p []byte, at, to int) int {
	for to > at && alphabet[p[to-1]] {
		to--
	}
	return to
}

func (w *watch) begin(p []byte, from int) {
	before := w.last
	if from > 0 {
		before = p[from-1]
	}
	w.in, w.dull, w.run, w.esc = true, !opens[before] || !begins[p[from]], w.run[:0], w.esc[:0]
}

// goOn reads on in a run, and says where it stops.
func (w *watch) goOn(p []byte, at int) int {
	for ; at < len(p); at++ {
		switch c := p[at]; {
		case alphabet[c] && w.dull:
		case len(w.esc) > 0 || c == '\\':
			if !w.escaped(c) {
				w.ends()
				return at
			}
		case alphabet[c]:
			w.take(c)
		case (c == '\r' || c == '\n') && !w.dull && len(w.run) >= leastRun: // a long value has lines
		default:
			w.ends()
			return at
		}
	}
	return at
}

// escapes are what writers of JSON make of a slash, a plus and the end of a line in a value.
var escapes = map[string]byte{`\/`: '/', `\n`: 0, `\r`: 0, `\u002b`: '+', `\u002f`: '/', `\u000a`: 0, `\u000d`: 0}

// escaped takes the next byte of an escape; it is false where that is none that stands in Base64.
func (w *watch) escaped(c byte) bool {
	w.esc = append(w.esc, bytes.ToLower([]byte{c})...)
	if stands, whole := escapes[string(w.esc)]; whole {
		w.esc = w.esc[:0]
		if stands != 0 {
			w.take(stands)
		}
		return true
	}
	return len(w.esc) < len(`\u002b`) && (len(w.esc) < 2 || w.esc[1] == 'u')
}

// take takes the next character of a value.
func (w *watch) take(c byte) {
	if w.run = append(w.run, c); len(w.run) == leastRun && !mayRun(decoded(w.run)) {
		w.dull = true
	} else if len(w.run) == maxRun {
		w.ends()
		w.in, w.dull = true, true
	}
}

// ends gives away what has been found.
func (w *watch) ends() {
	if !w.dull && len(w.run) >= leastRun {
		if d := decoded(w.run); mayRun(d) {
			w.found(d)
		}
	}
	w.in, w.run, w.esc = false, w.run[:0], w.esc[:0]
}

// decoded is what a value stands for.
func decoded(run []byte) []byte {
	run = bytes.ReplaceAll(bytes.ReplaceAll(run, []byte("-"), []byte("+")), []byte("_"), []byte("/"))
	if len(run)%4 == 1 {
		run = run[:len(run)-1] // which says no byte
	}
	d := make([]byte, base64.RawStdEncoding.DecodedLen(len(run)))
	n, _ := base64.RawStdEncoding.Decode(d, run)
	return d[:n]
}

// mayRun reports whether content begins as something that may run code, or as something packed.
func mayRun(head []byte) bool {
	for _, magic := range []string{"\xac\xed\x00\x05", "\x04\x08", "\x1bLua", "\x1bLJ", "MZ", "\x7fELF"} {
		if bytes.HasPrefix(head, []byte(magic)) {
			return true
		}
	}
	return len(head) > 1 && head[0] == 0x80 && head[1] >= 2 && head[1] <= 5 || dotNet(head) != "" || pickleGlobal.Match(head) || wrap.Compression(head) != ""
}

// maxPackedValues is how much the values of one file may decode to, in bytes, in which more is looked for.
const maxPackedValues = 256 << 20

// value looks into what a value in Base64 decodes to, and how its first bytes unpack.
func (res *Result) value(head []byte) {
	if res.Layers >= maxLayers || res.values > maxPackedValues {
		res.Deeper = true
		return
	}
	in := Result{Layers: res.Layers + 1, values: res.values}
	for wrap.Compression(head) != "" {
		if in.Layers++; in.Layers > maxLayers {
			res.Deeper = true
			return
		}
		inner, err := wrap.Layers{Chain: []wrap.Layer{{Name: "auto"}}}.Reader(bytes.NewReader(head), wrap.Limits{Decoded: MaxDecoded, Dictionary: maxDictionary >> (2 * in.Layers)})
		if err != nil {
			return
		}
		head, _ = io.ReadAll(io.LimitReader(inner, headSize)) // a cut one tells as much as it holds
		_ = inner.Close()
		in.values += int64(len(head))
	}
	in.values += int64(len(head))
	if f, ok := program("", head); ok {
		in.Findings = append(in.Findings, f)
	} else {
		_ = in.format("", head, bufio.NewReader(watched(bytes.NewReader(head), in.value))) // it reads memory
	}
	for _, f := range in.Findings {
		f.Why = "has in Base64 what " + f.Why
		res.add(f)
	}
	res.Deeper, res.values = res.Deeper || in.Deeper, in.values
}

// add notes a finding, unless there is one like it: a text may hold thousands of values.
func (res *Result) add(f Finding) {
	for _, has := range res.Findings {
		if has.Format == f.Format && has.Severity == f.Severity {
			return
		}
	}
	res.Findings = append(res.Findings, f)
}
