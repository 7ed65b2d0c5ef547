package guard

import (
	"hash/maphash"
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

// Duplicate is what makes two requests the same: where they come from, their header with
// its authenticator (RFC 2865, section 3), and every octet of them, as a hash under a seed
// of the process.
type Duplicate struct {
	from   netip.AddrPort
	header [20]byte
	hash   uint64
}

var seed = maphash.MakeSeed()

// DuplicateOf returns what a request is remembered by.
func DuplicateOf(from netip.AddrPort, packet []byte) Duplicate {
	d := Duplicate{from: netip.AddrPortFrom(from.Addr().Unmap(), from.Port()), hash: maphash.Bytes(seed, packet)}
	copy(d.header[:], packet)
	return d
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
