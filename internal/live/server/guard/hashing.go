package guard

import (
	"net/netip"
	"slices"
	"sync"
)

// Hashing bounds the memory that password hashes take at the same time: of one
// client no more than half of it, so that no client keeps the logins of others
// waiting. Those who wait are served in the order in which they came.
type Hashing struct {
	most    int64 // octets
	waiting Shares
	mu      sync.Mutex // guards the rest
	used    int64
	of      map[netip.Addr]int64
	queue   []*hashing
}

type hashing struct {
	client netip.Addr
	cost   int64
	begin  chan struct{}
}

// NewHashing returns a bound in octets that nobody has used yet.
func NewHashing(most int64) *Hashing { return &Hashing{most: most, of: map[netip.Addr]int64{}} }

// Do does something that takes memory for a client when there is room for it. It
// reports false, and does nothing, where too many wait already.
func (h *Hashing) Do(client netip.Addr, cost int64, do func()) bool {
	if !h.waiting.Take(client, MostWaiting, MostWaitingOfOne) {
		return false
	}
	defer h.waiting.Give(client)
	one := &hashing{client: client, cost: min(cost, h.most), begin: make(chan struct{})}
	h.mu.Lock()
	h.queue = append(h.queue, one)
	h.serve()
	h.mu.Unlock()
	<-one.begin
	defer func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.used -= one.cost
		if h.of[client] -= one.cost; h.of[client] <= 0 {
			delete(h.of, client)
		}
		h.serve()
	}()
	do()
	return true
}

// Busy returns how many wait, or have their turn.
func (h *Hashing) Busy() int { return h.waiting.All() }

// serve begins everything that there is room for.
func (h *Hashing) serve() {
	h.queue = slices.DeleteFunc(h.queue, func(w *hashing) bool {
		share := max(h.most/2, w.cost)
		if h.used+w.cost > h.most || h.of[w.client]+w.cost > share {
			return false
		}
		h.used += w.cost
		h.of[w.client] += w.cost
		close(w.begin)
		return true
	})
}
