package edit

import "bytes"

// search finds a text by the one of its bytes that is rarest where it is looked for: most of a large file is passed over by looking for that alone.
type search struct {
	text []byte
	rare int // which byte
}

// searchFor is a search for a text in what looks like a sample.
func searchFor(text string, sample []byte) search {
	s := search{text: []byte(text)}
	var often [256]int
	for _, c := range sample {
		often[c]++
	}
	for i, c := range s.text {
		if often[c] < often[s.text[s.rare]] {
			s.rare = i
		}
	}
	return s
}

// patience is how many bytes there are to be, on average, from one place that only looked like the text to the next.
const patience = 64

// index is where the text stands first in a piece, or -1.
func (s search) index(piece []byte) int {
	if len(s.text) == 0 {
		return 0
	}
	at, misses := s.rare, 0
	for at < len(piece) {
		i := bytes.IndexByte(piece[at:], s.text[s.rare])
		if i < 0 {
			return -1
		}
		at += i
		from := at - s.rare
		if bytes.HasPrefix(piece[from:], s.text) {
			return from
		}
		if misses++; misses > 4+at/patience { // it is not so rare here
			if i = bytes.Index(piece[from+1:], s.text); i < 0 {
				return -1
			}
			return from + 1 + i
		}
		at++
	}
	return -1
}
