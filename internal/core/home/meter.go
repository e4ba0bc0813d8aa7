package home

import "sync"

// Meter adds up bytes that several goroutines report, and tells the sum as the progress of one thing. The total may grow while it runs.
type Meter struct {
	h           *Home
	what        string
	mu          sync.Mutex
	done, total int64
}

// Meter begins one.
func (h *Home) Meter(what string) *Meter { return &Meter{h: h, what: what} }

// More says that there are n bytes more to be dealt with.
func (m *Meter) More(n int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.total += n
}

// Did says that n bytes have been dealt with.
func (m *Meter) Did(n int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.done += n
	m.h.Progress(m.what, min(m.done, m.total), m.total)
}

// Counting is the Did of a meter of which the total is known.
func (h *Home) Counting(what string, total int64) func(n int64) {
	m := h.Meter(what)
	m.More(total)
	return m.Did
}
