package form

import (
	"bytes"
	"fmt"
	"strings"
)

// indented reads text whose depth is told by indentation: lines of words, of which what is indented deeper belongs to the line above. A line with
// something below it, or with more than one word behind its first, is a block of that name whose further words are its "words"; a line of two words is a
// pair; a line of one is a word. Words with spaces in them stand in quotes or backquotes; what follows # is a comment.
func (r *blocksReader) indented() error {
	var depths []int // of the open blocks
	last := 0        // where the last line ends that says something
	for r.at < len(r.text) {
		line := r.line()
		words, err := lineWords(line)
		if err != nil {
			return fmt.Errorf("%w: line %d: %v", ErrDamaged, bytes.Count(r.text[:r.begin], []byte{'\n'})+1, err)
		}
		from, end := r.begin, r.at
		if len(words) == 0 {
			r.nextLine(end)
			continue
		}
		depth := depthOf(line)
		for len(depths) > 0 && depths[len(depths)-1] >= depth {
			depths = depths[:len(depths)-1]
			r.begin, r.at = last, last
			if err := r.close(""); err != nil {
				return err
			}
		}
		r.begin, r.at, last = from+depth, end, end
		of := func(w lineWord) place { return place{from + w.from, from + w.to} }
		switch {
		case r.below(end) > depth || len(words) > 2:
			err = r.open(words[0].text)
			for _, w := range words[1:] {
				if err == nil {
					r.begin, r.value = from+w.from, of(w)
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
	r.begin, r.at = last, last
	for range depths {
		if err := r.close(""); err != nil {
			return err
		}
	}
	return nil
}

func depthOf(line string) int { return len(line) - len(strings.TrimLeft(line, " \t")) }

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
	return 0
}

// word adds a bare word to the innermost block.
func (r *blocksReader) word(text string) error {
	r.top.pair("words", r.begin, r.value, false)
	top := r.stack[len(r.stack)-1]
	list, _ := top["words"].([]any)
	top["words"] = append(list, text)
	return r.count()
}

// lineWord is a word of a line, and where it stands with its quotes.
type lineWord struct {
	text     string
	from, to int
}

// lineWords takes a line apart.
func lineWords(line string) (words []lineWord, err error) {
	line = strings.TrimRight(line, " \t\r\n")
	for at := depthOf(line); at < len(line) && line[at] != '#'; at += depthOf(line[at:]) {
		rest := line[at:]
		if quote := rest[0]; quote == '"' || quote == '`' {
			end := strings.IndexByte(rest[1:], quote)
			if end < 0 {
				return nil, fmt.Errorf("the quote %.40s is not closed", rest)
			}
			words = append(words, lineWord{rest[1 : 1+end], at, at + end + 2})
			at += end + 2
			continue
		}
		end := strings.IndexAny(rest, " \t")
		if end < 0 {
			end = len(rest)
		}
		words = append(words, lineWord{rest[:end], at, at + end})
		at += end
	}
	return words, nil
}
