package lab

import (
	"net/netip"
	"slices"
	"sync"

	"mellowgate/internal/live/server/gate"
)

// hindrances are what is in the way of servers on purpose, as each device meets
// it. The gate asks for them with each question; setting them is the lab's. The
// zero value is ready: nothing is.
type hindrances struct {
	mu  sync.RWMutex
	all map[hindered]gate.Hindrance
}

// hindered is a server and a client; the zero Addr stands for every client.
type hindered struct {
	server string
	client netip.Addr
}

// put puts something in the way of a server for a client, or for all with the
// zero Addr, in place of what was there before; nothing takes it away.
func (h *hindrances) put(server string, client netip.Addr, what gate.Hindrance) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.all == nil {
		h.all = map[hindered]gate.Hindrance{}
	}
	h.all[hindered{server: server, client: client.Unmap()}] = what
}

// of returns what is in the way of a server for a client: for it alone, and for
// everybody.
func (h *hindrances) of(server string, client netip.Addr) gate.Hindrance {
	h.mu.RLock()
	defer h.mu.RUnlock()
	one, every := h.all[hindered{server: server, client: client.Unmap()}], h.all[hindered{server: server}]
	return gate.Hindrance{Stranger: one.Stranger || every.Stranger, Failing: one.Failing || every.Failing,
		Delay: max(one.Delay, every.Delay), Not: slices.Concat(one.Not, every.Not)}
}
