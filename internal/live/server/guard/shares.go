package guard

import (
	"net/netip"
	"sync"
)

// Shares counts what is taken, by client and in all. The zero value is ready.
type Shares struct {
	mu  sync.Mutex
	all int
	of  map[netip.Addr]int
}

// Take takes one for a client, unless there are most already, or mostOfOne of
// this client. It reports whether it did.
func (s *Shares) Take(a netip.Addr, most, mostOfOne int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all >= most || s.of[a] >= mostOfOne {
		return false
	}
	if s.of == nil {
		s.of = map[netip.Addr]int{}
	}
	s.all++
	s.of[a]++
	return true
}

// Of returns how many a client has.
func (s *Shares) Of(a netip.Addr) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.of[a]
}

// All returns how many all have together.
func (s *Shares) All() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.all
}

// Give returns back what Take took.
func (s *Shares) Give(a netip.Addr) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all--
	if s.of[a]--; s.of[a] <= 0 {
		delete(s.of, a)
	}
}
