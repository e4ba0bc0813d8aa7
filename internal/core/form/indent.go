package form

import (
	"fmt"
	"strings"
)

// indented reads text whose depth is told by indentation: lines of words, of which what is indented deeper belongs to the line above. A line with
// something below it, or with more than one word behind its first, is a block of that name whose further words are its "words"; a line of two words is a
// pair; a line of one is a word. Words with spaces in them stand in quotes or backquotes; what follows # is a comment.
func (r *blocksReader) indented() error {
	var depths []int // of the open blocks
	lines := splitLines(r.text)
	depthOf := func(line string) int { return len(line) - len(strings.TrimLeft(line, " \t")) }
	next := func(i int) string {
		for _, line := range lines[i+1:] {
			if t := strings.TrimSpace(line); t != "" && t[0] != '#' {
				return line
			}
		}
		return ""
	}
	for i, line := range lines {
		words, err := lineWords(line)
		if err != nil {
			return fmt.Errorf("%w: line %d: %v", ErrDamaged, i+1, err)
		}
		if len(words) == 0 {
			continue
		}
		depth := depthOf(line)
		for len(depths) > 0 && depths[len(depths)-1] >= depth {
			depths = depths[:len(depths)-1]
			if err := r.close(""); err != nil {
				return err
			}
		}
		below := depthOf(next(i)) > depth
		switch {
		case below || len(words) > 2:
			if err := r.open(words[0]); err != nil {
				return err
			}
			for _, w := range words[1:] {
				if err := r.word(w); err != nil {
					return err
				}
			}
			depths = append(depths, depth)
		case len(words) == 2:
			err = r.pair(words[0], words[1])
		default:
			err = r.word(words[0])
		}
		if err != nil {
			return err
		}
	}
	for range depths {
		if err := r.close(""); err != nil {
			return err
		}
	}
	return nil
}

// word adds a bare word to the innermost block.
func (r *blocksReader) word(text string) error {
	top := r.stack[len(r.stack)-1]
	list, _ := top["words"].([]any)
	top["words"] = append(list, text)
	return r.count()
}

// lineWords takes a line apart.
func lineWords(line string) (words []string, err error) {
	for rest := strings.TrimSpace(line); rest != "" && rest[0] != '#'; rest = strings.TrimLeft(rest, " \t") {
		if quote := rest[0]; quote == '"' || quote == '`' {
			end := strings.IndexByte(rest[1:], quote)
			if end < 0 {
				return nil, fmt.Errorf("the quote %.40s is not closed", rest)
			}
			words, rest = append(words, rest[1:1+end]), rest[end+2:]
			continue
		}
		end := strings.IndexAny(rest, " \t")
		if end < 0 {
			end = len(rest)
		}
		words, rest = append(words, rest[:end]), rest[end:]
	}
	return words, nil
}
