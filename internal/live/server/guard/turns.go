package guard

import (
	"net/netip"
	"sync"
)

// Turns lets clients have answers worked out that take long: a bounded number
// at once, of one client no more than half of that, and a bounded number
// waiting for their turn. So no client takes the places of others.
type Turns struct {
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

// NewTurns returns turns that nobody has yet.
func NewTurns() *Turns {
	return &Turns{all: make(chan struct{}, MostAtOnce), own: map[netip.Addr]*turn{}}
}

// Enter takes a place among those who wait, and reports whether there was one.
// It is followed by Run, or by Leave.
func (t *Turns) Enter(a netip.Addr) bool { return t.waiting.Take(a, MostWaiting, MostWaitingOfOne) }

// Leave returns up the place of Enter, without Run.
func (t *Turns) Leave(a netip.Addr) { t.waiting.Give(a) }

// Run does something when the client has its turn, after Enter.
func (t *Turns) Run(a netip.Addr, do func()) {
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

func (t *Turns) of(a netip.Addr) *turn {
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

func (t *Turns) end(a netip.Addr, mine *turn) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if mine.using--; mine.using == 0 {
		delete(t.own, a)
	}
}
