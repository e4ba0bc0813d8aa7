package doc

import (
	"bytes"
	"fmt"

	"ostrov/internal/core/wrap"
)

// indented reads text in which indentation gives the depth: a line that is indented deeper belongs to the line above it. A line with something below
// it, or with more than two words, is a block named by its first word; its other words are its "words". A line of two words is a pair, a line of one
// word is a word. Words with spaces in them have quotes or backquotes around them; # begins a comment.
func (s *blockScan) indented() error {
	var depths []int // of the open blocks
	last := s.base   // where the last line ends in the source that says something
	for {
		some, err := s.more()
		if err != nil {
			return err
		}
		if !some {
			break
		}
		at := s.at
		line := s.line()
		words, err := lineWords(line)
		begin, end := s.begin, s.at
		deeper := 0
		if err == nil && len(words) > 0 {
			deeper = s.below(end)
		}
		if s.short && !s.last() { // before anything is said of it
			if err := s.again(at); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return fmt.Errorf("%w: byte %d: %v", wrap.ErrDamaged, s.base+begin, err)
		}
		if len(words) == 0 {
			s.nextLine(end)
			continue
		}
		depth := depthOf(line)
		for len(depths) > 0 && depths[len(depths)-1] >= depth {
			depths = depths[:len(depths)-1]
			s.begin, s.at = last-s.base, last-s.base
			if err := s.close(nil); err != nil {
				return err
			}
		}
		s.begin, s.at, last = begin+depth, end, s.base+end
		of := func(w lineWord) place { return place{begin + w.from, begin + w.to} }
		switch {
		case deeper > depth || len(words) > 2:
			err = s.opens(words[0].text)
			for _, w := range words[1:] {
				if err == nil {
					s.begin = begin + w.from
					err = s.word(w.text, of(w))
				}
			}
			depths = append(depths, depth)
		case len(words) == 2:
			err = s.pair(words[0].text, words[1].text, of(words[1]), false)
		default:
			err = s.word(words[0].text, of(words[0]))
		}
		if err != nil {
			return err
		}
		s.nextLine(end)
	}
	s.begin, s.at = last-s.base, last-s.base
	for range depths {
		if err := s.close(nil); err != nil {
			return err
		}
	}
	return nil
}

// below returns the depth of the next line with content after a line that ends at a byte; 0 if no line follows.
func (s *blockScan) below(end int) int {
	for end < len(s.text) {
		end++
		stop := len(s.text)
		if n := bytes.IndexByte(s.text[end:], '\n'); n >= 0 {
			stop = end + n
		}
		line := s.text[end:stop]
		if t := bytes.TrimSpace(line); len(t) > 0 && t[0] != '#' {
			return len(line) - len(bytes.TrimLeft(line, " \t"))
		}
		end = stop
	}
	s.short = true
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
