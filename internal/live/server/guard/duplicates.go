package guard

import (
	"crypto/sha256"
	"encoding/binary"
	"net/netip"
	"sync"
	"time"
)

// Duplicates remembers RADIUS requests for a while, so that a retransmission
// gets the same answer again instead of a second decision (RFC 5080, section
// 2.2.2). It is bounded in number and in time. The zero value is ready.
type Duplicates struct {
	mu    sync.Mutex
	known map[Duplicate]answered
	order []Duplicate // a ring of mostRemembered, oldest at next
	next  int
}

// Duplicate is what makes two requests the same: where they come from, and every
// octet of them.
type Duplicate [sha256.Size]byte

// DuplicateOf returns what a request is remembered by.
func DuplicateOf(from netip.AddrPort, packet []byte) Duplicate {
	address := from.Addr().As16()
	b := append(make([]byte, 0, 256), address[:]...)
	b = binary.BigEndian.AppendUint16(b, from.Port())
	return sha256.Sum256(append(b, packet...))
}

type answered struct {
	at     time.Time
	answer []byte // nil while it is being worked out
}

const (
	mostRemembered = 4096
	remembered     = 30 * time.Second
)

// Begin reports whether a request is new. For a known one it returns the
// answer, which is nil while there is none yet.
func (d *Duplicates) Begin(k Duplicate, now time.Time) (answer []byte, fresh bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if a, ok := d.known[k]; ok && lasts(a.at.Add(remembered), now, remembered) {
		return a.answer, false
	}
	if d.known == nil {
		d.known = make(map[Duplicate]answered, mostRemembered)
	}
	if len(d.order) < mostRemembered {
		d.order = append(d.order, k)
	} else {
		delete(d.known, d.order[d.next])
		d.order[d.next] = k
		d.next = (d.next + 1) % mostRemembered
	}
	d.known[k] = answered{at: now}
	return nil, true
}

// End notes the answer to a request; nil forgets the request.
func (d *Duplicates) End(k Duplicate, answer []byte) {
	d.mu.Lock()
	defer d.mu.Unlock()
	a, ok := d.known[k]
	switch {
	case !ok: // there were many since, and it is forgotten
	case answer == nil:
		delete(d.known, k)
	default:
		a.answer = answer
		d.known[k] = a
	}
}
