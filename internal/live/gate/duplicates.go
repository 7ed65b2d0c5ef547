package gate

import (
	"net/netip"
	"sync"
	"time"
)

// duplicates remembers RADIUS requests for a while, so that a retransmission
// gets the same answer again instead of a second decision (RFC 5080, section
// 2.2.2). It is bounded in number and in time.
type duplicates struct {
	mu    sync.Mutex
	known map[duplicate]*answered
	order []duplicate
}

// duplicate is what makes two requests the same.
type duplicate struct {
	from          netip.AddrPort
	id            byte
	authenticator [16]byte
}

type answered struct {
	at     time.Time
	answer []byte // nil while it is being worked out
}

const (
	mostRemembered = 4096
	remembered     = 30 * time.Second
)

// begin tells whether a request is new. For a known one it gives the answer,
// which is nil while there is none yet.
func (d *duplicates) begin(k duplicate, now time.Time) (answer []byte, fresh bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if a, ok := d.known[k]; ok && now.Sub(a.at) < remembered {
		return a.answer, false
	}
	if d.known == nil {
		d.known = map[duplicate]*answered{}
	}
	for len(d.order) > 0 && (len(d.order) >= mostRemembered || d.expired(d.order[0], now)) {
		delete(d.known, d.order[0])
		d.order = d.order[1:]
	}
	d.known[k] = &answered{at: now}
	d.order = append(d.order, k)
	return nil, true
}

func (d *duplicates) expired(k duplicate, now time.Time) bool {
	a, ok := d.known[k]
	return !ok || now.Sub(a.at) >= remembered
}

// end notes the answer to a request; nil forgets the request.
func (d *duplicates) end(k duplicate, answer []byte) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if answer == nil {
		delete(d.known, k)
		return
	}
	if a, ok := d.known[k]; ok {
		a.answer = answer
	}
}
