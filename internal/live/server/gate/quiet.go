package gate

import (
	"fmt"
	"net/netip"
	"sync"
	"time"
)

// hushed keeps a flood from filling the events: of what one asker does wrong in
// one way, a few events in a second, and then one that says how many there were.
type hushed struct {
	mu    sync.Mutex
	since map[complaint]window
}

type complaint struct {
	client netip.Addr
	reason string
}

// window is what was said and held back since a time.
type window struct {
	from       time.Time
	said, held int
}

const (
	mostHushed = 4096 // askers and reasons that are remembered
	mostSaid   = 20   // events of one asker and reason in a second
)

// say tells whether an event is to be written, and what to add to its text.
func (h *hushed) say(c complaint, now time.Time) (more string, yes bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	w := h.since[c]
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
	if h.since == nil || len(h.since) >= mostHushed {
		h.since = map[complaint]window{}
	}
	h.since[c] = w
	return more, yes
}

// floods are the reasons of which there can be very many from one asker.
var floods = map[string]bool{"asker-unknown": true, "malformed": true, "key-differs": true, "no-message-authenticator": true, "too-many": true, "tls": true, "wrong-port": true}
