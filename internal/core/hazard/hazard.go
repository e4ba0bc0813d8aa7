// Package hazard tells from a file's content what harm it could do: programs, whatever they are called; formats that run code when a game
// loads them; and content that unpacks to far more than it is.
//
// It reads each file once, as a stream, with a bounded head in memory. Nothing is ever executed or built: formats are parsed as far as
// their code goes and no further. A file is harmless until something in it says otherwise, since a checker that cries wolf is not used.
package hazard

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"ostrov/internal/core/wrap"
)

// Severity tells what a finding means for the download.
type Severity int

// Severities.
const (
	// Code is a format that runs code when it is loaded: harmless from oneself, a risk from a stranger.
	Code Severity = iota
	// Danger is what no save needs: it is never placed.
	Danger
)

// Finding is one harm that a file could do.
type Finding struct {
	Severity Severity
	Format   string // what kind of thing it is, to compare files by: "pickle", "Lua source", "program"
	Why      string // half a sentence: "is a Windows program"
}

// Result is what a scan found out about one file.
type Result struct {
	Findings []Finding
	// Layers is how many compressions the content is wrapped in, and SQLite tells that it is a database then, of which Database finds out
	// more.
	Layers int
	SQLite bool
	// Broken is why a compression that its first bytes show cannot be read to its end, or nil. It may be none, and the bytes chance.
	Broken error
	// Deeper tells that it is compressed in itself so often that what is inside was not looked at.
	Deeper bool

	values int64 // bytes that values in Base64 have decoded to
}

const (
	// headSize is how much of the beginning of a file is looked at, in bytes.
	headSize = 64 << 10
	// maxLayers is how many compressions, one in the other, are peeled.
	maxLayers = 4
	// MaxDecoded is how much one file may unpack to, in bytes, and MaxRatio how many times its own size, once that is more than RatioFrom.
	// Honest saves of zeros reach a thousand, so small ones are never judged by it.
	MaxDecoded = 4 << 30
	MaxRatio   = 250
	RatioFrom  = 512 << 20
	// maxDictionary is how much of what it has unpacked the decoder of the outermost compression may look back at, in bytes; of the next one it is a
	// quarter, and so on.
	maxDictionary = 64 << 20
)

// Scan reads r, the content of a file called name, to its end. An error is one of r itself.
func Scan(name string, r io.Reader) (Result, error) {
	source := &counter{r: r}
	var result Result
	if err := result.scan(name, source, source); err == nil {
		_ = drain(source) // its own error is in source
	}
	return result, source.err
}

// counter counts what is read and remembers how it ended.
type counter struct {
	r   io.Reader
	n   int64
	err error
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	if err != nil && err != io.EOF {
		c.err = err
	}
	return n, err
}

// heads are readers for the next use: a download may have a hundred thousand files.
var heads = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, headSize) }}

// scan looks at one layer of content; source is the file itself.
func (res *Result) scan(name string, r io.Reader, source *counter) error {
	b := heads.Get().(*bufio.Reader)
	b.Reset(watched(r, res.value))
	defer func() {
		b.Reset(nil)
		heads.Put(b)
	}()
	head, err := b.Peek(headSize)
	if err != nil && err != io.EOF && err != bufio.ErrBufferFull {
		return err
	}
	packed := wrap.Compression(head) != "" && !isPicture(head)
	if packed && res.Layers == maxLayers {
		res.Deeper = true
		return drain(b)
	}
	if packed {
		inner, err := wrap.Layers{Chain: []wrap.Layer{{Name: "auto"}}}.Reader(b, wrap.Limits{Decoded: MaxDecoded, Dictionary: maxDictionary >> (2 * res.Layers)})
		if err != nil {
			res.Broken = err
			return nil // it only looked like a compression: a plain file of chance
		}
		defer inner.Close()
		res.Layers++
		before := len(res.Findings)
		err = res.scan(name, &dense{inner, source, 0}, source)
		if errors.Is(err, errDense) || errors.Is(err, wrap.ErrTooLarge) {
			res.Findings = append(res.Findings[:before], Finding{Danger, "bomb", fmt.Sprintf("unpacks to more than %d times its size, or more than %d GiB", MaxRatio, MaxDecoded>>30)})
		}
		if err != nil && source.err == nil {
			res.Broken = err // for whoever reads the save to name
		}
		return nil
	}
	if f, ok := program(name, head); ok {
		res.Findings = append(res.Findings, f)
		return drain(b)
	}
	return res.format(name, head, b)
}

// format looks for what runs code when it is loaded.
func (res *Result) format(name string, head []byte, b *bufio.Reader) error {
	add := func(format, why string) {
		res.Findings = append(res.Findings, Finding{Code, format, why})
	}
	for _, of := range streams {
		if why := of.is(head); why != "" {
			add(of.format, why)
			return drain(b)
		}
	}
	pickle, found, goes := pickleIn(head)
	if text := inUTF8(b, head); text != nil && !found {
		b = bufio.NewReaderSize(watched(text, res.value), headSize)
		head, _ = b.Peek(headSize) // its error is met again
	}
	switch {
	case bytes.HasPrefix(head, []byte("SQLite format 3\x00")):
		res.SQLite = true
	case found:
		res.Findings = append(res.Findings, pickle)
	case mayBeXML(head):
		declares, err := declaresEntities(b)
		if err != nil {
			return err
		}
		if declares {
			add("XML entities", "declares XML entities, which can read files or grow without bound")
		}
	case isPicture(head):
		return res.polyglot(b)
	case mayBeLua(name, head):
		if why := scanLua(b); why != "" {
			add("Lua source", "is Lua that is more than data: "+why)
		}
	case goes:
		if f, ok := scanPickle(b).finding(); ok {
			res.Findings = append(res.Findings, f)
		}
	default:
		format, why, err := namesClasses(b, head)
		if err != nil {
			return err
		}
		if why != "" {
			add(format, why)
		} else if why := luaChunk(head); why != "" {
			add("Lua source", "is Lua that is more than data: "+why)
		}
	}
	return drain(b)
}

// reading reads what is in memory, with no more room than that needs: a download may have a hundred thousand files.
func reading(head []byte) *bufio.Reader {
	return bufio.NewReaderSize(bytes.NewReader(head), min(len(head)+1, 4096))
}

func drain(r io.Reader) error {
	_, err := io.Copy(io.Discard, r)
	return err
}

// errDense ends the reading of what unpacks to too many times its size.
var errDense = errors.New("too dense")

// dense is unpacked content that is watched for its ratio to the source.
type dense struct {
	io.Reader
	source *counter
	n      int64
}

func (d *dense) Read(p []byte) (int, error) {
	n, err := d.Reader.Read(p)
	if d.n += int64(n); d.n > RatioFrom && d.n/MaxRatio > d.source.n {
		return 0, errDense
	}
	return n, err
}

// isPicture reports whether a file begins as a picture, sound or page, with which nobody expects an archive.
func isPicture(head []byte) bool {
	for _, magic := range []string{"\x89PNG\r\n\x1a\n", "\xff\xd8\xff", "GIF87a", "GIF89a", "%PDF-", "OggS", "RIFF", "ID3", "BM"} {
		if bytes.HasPrefix(head, []byte(magic)) {
			return magic != "BM" || len(head) > 14 && head[6] == 0 && head[7] == 0 && head[8] == 0 && head[9] == 0
		}
	}
	return false
}

// polyglot looks at the end of a picture for the end of a zip.
func (res *Result) polyglot(r io.Reader) error {
	var tail []byte
	buf := make([]byte, headSize)
	for {
		n, err := r.Read(buf)
		tail = append(tail, buf[:n]...)
		if len(tail) > 2*headSize {
			tail = append(tail[:0], tail[len(tail)-headSize-64:]...)
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
	}
	if EndsAsZip(tail) {
		res.Findings = append(res.Findings, Finding{Danger, "polyglot", "is a picture, sound or page and a zip at once"})
	}
	return nil
}

// EndsAsZip reports whether tail, the end of a file, is that of a zip: the end record (APPNOTE 4.3.16), whose comment reaches just to the
// end.
func EndsAsZip(tail []byte) bool {
	const size = 22
	for at := bytes.LastIndex(tail, []byte("PK\x05\x06")); at >= 0; at = bytes.LastIndex(tail[:at], []byte("PK\x05\x06")) {
		if at+size <= len(tail) && at+size+int(tail[at+20])+int(tail[at+21])<<8 == len(tail) {
			return true
		}
	}
	return false
}

// words says a list in words, cut where it is long.
func words(list []string) string {
	if len(list) > 4 {
		list = append(list[:4:4], "…")
	}
	return strings.Join(list, ", ")
}
