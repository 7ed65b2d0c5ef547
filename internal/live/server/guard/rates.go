package guard

import (
	"net/netip"
	"sync"

	"golang.org/x/time/rate"
)

// Rates bounds how many questions of one client are taken in a second. The zero
// value is ready.
type Rates struct {
	mu sync.Mutex
	of map[netip.Addr]*rate.Limiter
}

// mostRates bounds how many clients are remembered; the site bounds how many
// there are.
const mostRates = 65536

// Allow reports whether one more question is taken; perSecond 0 takes them all.
func (r *Rates) Allow(a netip.Addr, perSecond int) bool {
	if perSecond == 0 {
		return true
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	l := r.of[a]
	if l == nil || l.Burst() != perSecond {
		if r.of == nil || len(r.of) >= mostRates {
			r.of = map[netip.Addr]*rate.Limiter{}
		}
		l = rate.NewLimiter(rate.Limit(perSecond), perSecond)
		r.of[a] = l
	}
	return l.Allow()
}
