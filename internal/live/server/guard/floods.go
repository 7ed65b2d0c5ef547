package guard

import (
	"fmt"
	"net/netip"
	"sync"
	"time"
)

// Floods keeps a flood from filling the events: of what one client does wrong in
// one way, a few events in a second, and then one that says how many there were.
// The zero value is ready.
type Floods[Kind comparable] struct {
	mu    sync.Mutex
	since map[complaint[Kind]]window
}

type complaint[Kind comparable] struct {
	client netip.Addr
	kind   Kind
}

// window is what was said and held back since a time.
type window struct {
	from       time.Time
	said, held int
}

const (
	mostComplaints = 4096 // clients and kinds that are remembered
	mostSaid       = 20   // events of one client and kind in a second
)

// Say reports whether an event is to be written, and what to add to its text.
func (f *Floods[Kind]) Say(client netip.Addr, kind Kind, now time.Time) (more string, yes bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	c := complaint[Kind]{client: client, kind: kind}
	w := f.since[c]
	if now.Sub(w.from) >= time.Second {
		if w.held > 0 {
			more = fmt.Sprintf(" (and %d more since %s)", w.held, w.from.UTC().Format("15:04:05"))
		}
		w = window{from: now}
	}
	if yes = w.said < mostSaid; yes {
		w.said++
	} else {
		w.held++
	}
	if f.since == nil || len(f.since) >= mostComplaints {
		f.since = map[complaint[Kind]]window{}
	}
	f.since[c] = w
	return more, yes
}
