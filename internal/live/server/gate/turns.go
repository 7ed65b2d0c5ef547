package gate

import (
	"net/netip"
	"sync"

	"golang.org/x/time/rate"
)

// shares counts what is taken, by asker and in all.
type shares struct {
	mu  sync.Mutex
	all int
	of  map[netip.Addr]int
}

// take takes one, unless there are most already, or mostOfOne of this asker.
func (s *shares) take(a netip.Addr, most, mostOfOne int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all >= most || s.of[a] >= mostOfOne {
		return false
	}
	s.all++
	s.of[a]++
	return true
}

func (s *shares) give(a netip.Addr) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all--
	if s.of[a]--; s.of[a] <= 0 {
		delete(s.of, a)
	}
}

// turns lets askers have answers worked out that take long: a bounded number
// at once, of one asker no more than half of that, and a bounded number
// waiting for their turn. So no asker takes the places of others.
type turns struct {
	all     chan struct{}
	waiting shares
	mu      sync.Mutex
	own     map[netip.Addr]*turn
}

type turn struct {
	places chan struct{}
	using  int
}

const (
	mostAtOnce       = 64 // answers worked out at the same time
	mostAtOnceOfOne  = mostAtOnce / 2
	mostWaiting      = 4096
	mostWaitingOfOne = 512
)

func newTurns() *turns {
	return &turns{all: make(chan struct{}, mostAtOnce), waiting: shares{of: map[netip.Addr]int{}}, own: map[netip.Addr]*turn{}}
}

// enter takes a place among those who wait. It is false when there is none.
func (t *turns) enter(a netip.Addr) bool { return t.waiting.take(a, mostWaiting, mostWaitingOfOne) }

// leaveLine gives up the place of enter, without run.
func (t *turns) leaveLine(a netip.Addr) { t.waiting.give(a) }

// run does something when the asker has its turn, after enter.
func (t *turns) run(a netip.Addr, do func()) {
	mine := t.of(a)
	mine.places <- struct{}{}
	t.all <- struct{}{}
	defer func() {
		<-t.all
		<-mine.places
		t.leave(a, mine)
		t.waiting.give(a)
	}()
	do()
}

func (t *turns) of(a netip.Addr) *turn {
	t.mu.Lock()
	defer t.mu.Unlock()
	mine := t.own[a]
	if mine == nil {
		mine = &turn{places: make(chan struct{}, mostAtOnceOfOne)}
		t.own[a] = mine
	}
	mine.using++
	return mine
}

func (t *turns) leave(a netip.Addr, mine *turn) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if mine.using--; mine.using == 0 {
		delete(t.own, a)
	}
}

// rates bound how many questions of one asker are taken in a second.
type rates struct {
	mu sync.Mutex
	of map[netip.Addr]*rate.Limiter
}

// mostRates bounds how many askers are remembered; the site bounds how many
// there are.
const mostRates = 65536

// allow tells whether one more question is taken; perSecond 0 takes them all.
func (r *rates) allow(a netip.Addr, perSecond int) bool {
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
