package form

import (
	"bytes"
	"fmt"
)

// indented reads text whose depth is told by indentation: lines of words, of which what is indented deeper belongs to the line above. A line with
// something below it, or with more than one word behind its first, is a block of that name whose further words are its "words"; a line of two words is a
// pair; a line of one is a word. Words with spaces in them stand in quotes or backquotes; what follows # is a comment.
func (r *blocksReader) indented() error {
	var depths []int // of the open blocks
	last := r.base   // where the last line ends in the source that says something
	for {
		some, err := r.more()
		if err != nil {
			return err
		}
		if !some {
			break
		}
		at := r.at
		line := r.line()
		words, err := lineWords(line)
		begin, end := r.begin, r.at
		deeper := 0
		if err == nil && len(words) > 0 {
			deeper = r.below(end)
		}
		if r.short && !r.last() { // before anything is said of it
			if err := r.again(at); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return fmt.Errorf("%w: %s: %v", ErrDamaged, r.lineAt(begin), err)
		}
		if len(words) == 0 {
			r.nextLine(end)
			continue
		}
		depth := depthOf(line)
		for len(depths) > 0 && depths[len(depths)-1] >= depth {
			depths = depths[:len(depths)-1]
			r.begin, r.at = last-r.base, last-r.base
			if err := r.close(nil); err != nil {
				return err
			}
		}
		r.begin, r.at, last = begin+depth, end, r.base+end
		of := func(w lineWord) place { return place{begin + w.from, begin + w.to} }
		switch {
		case deeper > depth || len(words) > 2:
			if err = r.opens(words[0].text); err == nil && r.jumped {
				last, end = r.base+r.at, r.at
				break
			}
			for _, w := range words[1:] {
				if err == nil {
					r.begin, r.value = begin+w.from, of(w)
					err = r.word(w.text)
				}
			}
			depths = append(depths, depth)
		case len(words) == 2:
			r.value = of(words[1])
			err = r.pair(words[0].text, words[1].text)
		default:
			r.value = of(words[0])
			err = r.word(words[0].text)
		}
		if err != nil {
			return err
		}
		r.nextLine(end)
	}
	r.begin, r.at = last-r.base, last-r.base
	for range depths {
		if err := r.close(nil); err != nil {
			return err
		}
	}
	return nil
}

// lineAt says on which line a place of the window is, where that is known.
func (r *blocksReader) lineAt(at int) string {
	if r.source.file != nil {
		return fmt.Sprintf("byte %d", r.base+at)
	}
	return fmt.Sprintf("line %d", bytes.Count(r.source.data[:r.base+at], []byte{'\n'})+1)
}

func depthOf(line []byte) int { return len(line) - len(bytes.TrimLeft(line, " \t")) }

// nextLine goes on behind the end of a line.
func (r *blocksReader) nextLine(end int) {
	for r.at = end; r.at < len(r.text) && r.text[r.at] != '\n'; r.at++ {
	}
	r.at = min(r.at+1, len(r.text))
}

// below is how deep the next line is that says something, behind one that ends at a byte; 0 where there is none.
func (r *blocksReader) below(end int) int {
	for end < len(r.text) {
		end++
		stop := len(r.text)
		if n := bytes.IndexByte(r.text[end:], '\n'); n >= 0 {
			stop = end + n
		}
		line := r.text[end:stop]
		if t := bytes.TrimSpace(line); len(t) > 0 && t[0] != '#' {
			return len(line) - len(bytes.TrimLeft(line, " \t"))
		}
		end = stop
	}
	r.short = true
	return 0
}

// lineWord is a word of a line, and where it stands with its quotes.
type lineWord struct {
	text     []byte
	from, to int
}

// lineWords takes a line apart.
func lineWords(line []byte) (words []lineWord, err error) {
	line = bytes.TrimRight(line, " \t\r\n")
	for at := depthOf(line); at < len(line) && line[at] != '#'; at += depthOf(line[at:]) {
		rest := line[at:]
		if quote := rest[0]; quote == '"' || quote == '`' {
			end := bytes.IndexByte(rest[1:], quote)
			if end < 0 {
				return nil, fmt.Errorf("the quote %.40s is not closed", rest)
			}
			words = append(words, lineWord{rest[1 : 1+end], at, at + end + 2})
			at += end + 2
			continue
		}
		end := bytes.IndexAny(rest, " \t")
		if end < 0 {
			end = len(rest)
		}
		words = append(words, lineWord{rest[:end], at, at + end})
		at += end
	}
	return words, nil
}
