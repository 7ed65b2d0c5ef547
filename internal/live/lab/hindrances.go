package lab

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

// hindrance is what keeps a server from answering a client as it should, on purpose. The zero value is nothing.
type hindrance struct {
	stranger bool           // the client is not known
	failing  bool           // it says that it cannot answer; RADIUS has no such answer, and gives none
	delay    time.Duration  // every answer is so late
	not      []site.Purpose // questions that it does not take
}

// hindrances are what is in the way of servers on purpose, as each device meets it. They are the front of the
// gate, which asks them about each question; setting them is the lab's. The zero value is ready: nothing is.
type hindrances struct {
	mu  sync.RWMutex
	all map[hindered]hindrance
}

// hindered is a server and a client; the zero Addr stands for every client.
type hindered struct {
	server string
	client netip.Addr
}

// put puts something in the way of a server for a client, or for all with the zero Addr, in place of what was
// there before; nothing takes it away.
func (h *hindrances) put(server string, client netip.Addr, what hindrance) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.all == nil {
		h.all = map[hindered]hindrance{}
	}
	h.all[hindered{server: server, client: client.Unmap()}] = what
}

// of returns what is in the way of a server for a client: for it alone, and for everybody.
func (h *hindrances) of(server string, client netip.Addr) hindrance {
	h.mu.RLock()
	defer h.mu.RUnlock()
	one, every := h.all[hindered{server: server, client: client.Unmap()}], h.all[hindered{server: server}]
	return hindrance{stranger: one.stranger || every.stranger, failing: one.failing || every.failing,
		delay: max(one.delay, every.delay), not: slices.Concat(one.not, every.not)}
}

// Meets reports whether no fault makes a client a stranger.
func (h *hindrances) Meets(server string, client netip.Addr) bool {
	return !h.of(server, client).stranger
}

// Waits reports whether answers to a client are made late.
func (h *hindrances) Waits(server string, client netip.Addr) bool {
	return h.of(server, client).delay > 0
}

// Admit makes an answer late, and returns why there is none, where a fault says so.
func (h *hindrances) Admit(ctx context.Context, server string, client netip.Addr, p site.Purpose) (
	why reason.Reason, text string, stopped bool) {
	what := h.of(server, client)
	if slices.Contains(what.not, p) {
		return reason.NotForThis, fmt.Sprintf("a fault that was set keeps %s from %s", server, p.Service()), true
	}
	if what.delay > 0 {
		timer := time.NewTimer(what.delay)
		defer timer.Stop()
		select {
		case <-timer.C:
		case <-ctx.Done():
		}
	}
	return reason.ServerError, "a fault that was set makes this server say that it cannot answer", what.failing
}
