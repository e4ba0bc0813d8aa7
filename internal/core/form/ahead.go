package form

import (
	"errors"
	"runtime"
	"sync/atomic"
)

// ahead is a second pass over a large file, from its middle on, while the first one comes from its beginning. It does not know what is open where it begins,
// and passes over the siblings from there to the end of what they stand in; the first pass goes on behind them if it comes to just that place and a
// sibling may stand there. Else it was for nothing, and what is found wrong is left to the first pass to find.
type ahead struct {
	from    atomic.Int64 // where it began, once that looks worth waiting for; 0 before
	stopped atomic.Bool
	over    chan struct{}
	to      int     // where the siblings end, 0 where that was not found
	text    *source // its own view of the file
}

const (
	// leastAhead is the size of a file, in bytes, from which on that is done.
	leastAhead = 16 << 20
	// beginnings is how often another place to begin at is tried, where the siblings are soon at their end.
	beginnings = 50
)

var errStopped = errors.New("stopped")

// siblings are parts of the same parent, in one form.
type siblings interface {
	// begin is a place at or behind another one where one may begin, or -1.
	begin(text *source, at int) int
	// pass passes over those that begin at a place, and returns where they end. It calls long once they have become worth waiting for.
	pass(text *source, at int, long func()) (end int, err error)
}

// goAhead begins a second pass, where that makes the first one faster and none has begun. It must be ended.
func (s *source) goAhead(over siblings) {
	if s.file == nil || s.before != nil || s.ahead != nil || s.size < s.aheadFrom || runtime.GOMAXPROCS(0) < 2 {
		return
	}
	a := &ahead{over: make(chan struct{}), text: inFile(s.file, s.size)}
	a.text.step, a.text.least, a.text.stopped = s.step, s.least, &a.stopped
	s.ahead = a
	go func() {
		defer close(a.over)
		at := s.size / 2
		for range beginnings {
			from := over.begin(a.text, at)
			if from < 0 {
				return
			}
			end, err := over.pass(a.text, from, func() { a.from.Store(int64(from)) })
			if err == nil && a.from.Load() > 0 && a.text.err == nil {
				a.to = end
			}
			if a.from.Load() > 0 || a.text.err != nil {
				return
			}
			at = max(from, end) + 1
		}
	}()
}

// meets reports whether the second pass began at a place, which is not 0: there it has not begun yet.
func (s *source) meets(from int) bool {
	return from > 0 && s.ahead != nil && s.ahead.from.Load() == int64(from)
}

// toMeeting is most, or less where a place is nearer at which the first pass may meet the second one, and which must not be jumped over.
func (s *source) toMeeting(at, most int) int {
	if s.ahead != nil {
		if from := int(s.ahead.from.Load()); from > at {
			return min(most, from-at)
		}
	}
	return most
}

// jump is where the siblings end with which the second pass began; ok is false where it did not find that.
func (s *source) jump() (to int, ok bool) {
	a := s.ahead
	s.ahead = nil
	<-a.over
	for from, e := range a.text.parts {
		if e.to-from >= s.least {
			s.note(from, e)
		}
	}
	return a.to, a.to > 0
}

// endAhead ends a second pass that nobody waits for.
func (s *source) endAhead() {
	if s.ahead != nil {
		s.ahead.stopped.Store(true)
		<-s.ahead.over
		s.ahead = nil
	}
}
