package gate

import (
	"context"
	"hash/maphash"
	"net/netip"
	"strings"
	"sync"
	"time"

	"mellowgate/internal/core/rights"
)

// failures slows guessing down: after some wrong passwords, of one name or from
// one source, refusals are held back, longer each time. Only refusals are, and
// never for longer than half of what the device waits: who knows the password
// is let in at once, whatever others have tried, and no device takes the server
// for silent. Names that nobody has are held back as others are.
//
// The counts lie in a fixed number of places, found by a keyed hash. Two names
// may share one; then a refusal is held back for the failures of both.
type failures struct {
	mu    sync.Mutex
	seed  maphash.Seed
	names [failurePlaces]failed
	from  [failurePlaces]failed
	held  shares
}

// failed is how often it failed, as of a time.
type failed struct {
	count int
	at    time.Time
}

const (
	failurePlaces = 4096
	freeFailures  = 3 // typing slips
	firstHold     = 250 * time.Millisecond
	forgets       = time.Minute // one failure is forgotten in that time
	mostHeld      = 4096        // refusals held back at the same time; more are given at once
	mostHeldOfOne = 32          // of one asker
)

func (f *failures) start() {
	f.seed, f.held.of = maphash.MakeSeed(), map[netip.Addr]int{}
}

// since gives how many failures are not forgotten yet.
func (w failed) since(now time.Time) int {
	return max(0, w.count-int(max(0, now.Sub(w.at))/forgets))
}

// note counts a failure, and gives how many there were before it: of the name
// or from the source, whichever has more.
func (f *failures) note(name, source string, now time.Time) int {
	f.mu.Lock()
	defer f.mu.Unlock()
	most := 0
	for _, w := range []*failed{f.at(&f.names, strings.ToLower(name)), f.at(&f.from, source)} {
		before := w.since(now)
		*w = failed{before + 1, now}
		most = max(most, before)
	}
	return most
}

// forget ends the counting for a name that got in.
func (f *failures) forget(name string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if w := f.at(&f.names, strings.ToLower(name)); w.count != 0 {
		*w = failed{}
	}
}

func (f *failures) at(places *[failurePlaces]failed, key string) *failed {
	return &places[maphash.String(f.seed, key)%failurePlaces]
}

// holdFor gives how long a refusal is held back after a number of failures.
func holdFor(before int, most time.Duration) time.Duration {
	if before < freeFailures {
		return 0
	}
	return min(firstHold<<min(before-freeFailures, 16), most)
}

// guesses are the refusals by which somebody who guesses learns something.
var guesses = map[rights.Reason]bool{rights.WrongPassword: true, rights.UnknownPerson: true, rights.SecondFactor: true, rights.NoEntry: true}

// heldFor counts a login that failed, and gives how long its refusal is to be
// held back.
func (s *server) heldFor(q *question, d rights.Decision) time.Duration {
	f := &s.gate.failures
	switch {
	case d.Allow:
		f.forget(q.Person)
		return 0
	case !guesses[d.Reason]:
		return 0
	}
	source := q.client.Addr().String()
	if q.From.IsValid() {
		source = q.From.String()
	}
	before := f.note(q.Person, source, q.at)
	return holdFor(before, min(s.Site.Service.Limits.FailureDelay, s.site.Wait/2))
}

// hold waits as long as a refusal is held back, or until the gate ends. Of too
// many at once, the rest is not held.
func (f *failures) hold(ctx context.Context, client netip.Addr, d time.Duration) {
	if d <= 0 || !f.held.take(client, mostHeld, mostHeldOfOne) {
		return
	}
	defer f.held.give(client)
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
	}
}
