package guard

import (
	"net/netip"
	"sync"
)

// FairQueue lets clients have answers worked out that take long: a bounded number
// at once, of one client no more than half of that, and a bounded number
// waiting for their turn. So no client takes the places of others.
type FairQueue struct {
	all     chan struct{}
	waiting Shares
	mu      sync.Mutex // guards own
	own     map[netip.Addr]*turn
}

type turn struct {
	places chan struct{}
	using  int
}

// How many answers are worked out at the same time, and how many wait.
const (
	MostAtOnce       = 64
	MostAtOnceOfOne  = MostAtOnce / 2
	MostWaiting      = 4096
	MostWaitingOfOne = 512
)

// NewFairQueue returns turns that nobody has yet.
func NewFairQueue() *FairQueue {
	return &FairQueue{all: make(chan struct{}, MostAtOnce), own: map[netip.Addr]*turn{}}
}

// Enter takes a place among those who wait, and reports whether there was one.
// It is followed by Run, or by Leave.
func (t *FairQueue) Enter(a netip.Addr) bool { return t.waiting.Take(a, MostWaiting, MostWaitingOfOne) }

// Leave gives up the place that Enter took, where Run does not follow.
func (t *FairQueue) Leave(a netip.Addr) { t.waiting.Give(a) }

// Run does something when the client has its turn, after Enter.
func (t *FairQueue) Run(a netip.Addr, do func()) {
	mine := t.of(a)
	mine.places <- struct{}{}
	t.all <- struct{}{}
	defer func() {
		<-t.all
		<-mine.places
		t.end(a, mine)
		t.waiting.Give(a)
	}()
	do()
}

func (t *FairQueue) of(a netip.Addr) *turn {
	t.mu.Lock()
	defer t.mu.Unlock()
	mine := t.own[a]
	if mine == nil {
		mine = &turn{places: make(chan struct{}, MostAtOnceOfOne)}
		t.own[a] = mine
	}
	mine.using++
	return mine
}

func (t *FairQueue) end(a netip.Addr, mine *turn) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if mine.using--; mine.using == 0 {
		delete(t.own, a)
	}
}
