package guard

import (
	"context"
	"hash/maphash"
	"net/netip"
	"sync"
	"time"
)

// Failures slows guessing down: after some wrong passwords, of one name or from
// one source, refusals are held back, longer each time. Only refusals are, so
// who knows the password is let in at once, whatever others have tried. Names
// that nobody has are counted as others are.
//
// The counts lie in a fixed number of places, found by a keyed hash. Two names
// may share one; then a refusal is held back for the failures of both.
type Failures struct {
	mu    sync.Mutex // guards names and from
	seed  maphash.Seed
	names [failurePlaces]failed
	from  [failurePlaces]failed
	held  Shares
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
	mostHeldOfOne = 32          // of one client
)

// NewFailures returns a memory without a failure in it.
func NewFailures() *Failures { return &Failures{seed: maphash.MakeSeed()} }

// since returns how many failures are not forgotten yet.
func (w failed) since(now time.Time) int {
	return max(0, w.count-int(max(0, now.Sub(w.at))/forgets))
}

// Note counts a failure, and returns how many there were before it: of the name
// or from the source, whichever has more.
func (f *Failures) Note(name, source string, now time.Time) int {
	f.mu.Lock()
	defer f.mu.Unlock()
	most := 0
	for _, w := range []*failed{f.at(&f.names, name), f.at(&f.from, source)} {
		before := w.since(now)
		*w = failed{count: before + 1, at: now}
		most = max(most, before)
	}
	return most
}

// Failed reports whether a failure from a source is not forgotten yet.
func (f *Failures) Failed(source string, now time.Time) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.at(&f.from, source).since(now) > 0
}

// Forget ends the counting for a name that got in.
func (f *Failures) Forget(name string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if w := f.at(&f.names, name); w.count != 0 {
		*w = failed{}
	}
}

func (f *Failures) at(places *[failurePlaces]failed, key string) *failed {
	return &places[maphash.String(f.seed, key)%failurePlaces]
}

// HoldFor returns how long a refusal is held back after a number of failures:
// nothing for typing slips, then twice as long each time, up to most.
func HoldFor(before int, most time.Duration) time.Duration {
	if before < freeFailures {
		return 0
	}
	return min(firstHold<<min(before-freeFailures, 16), most)
}

// Hold waits as long as a refusal is held back, or until ctx ends. Of too many
// at once, the rest is not held.
func (f *Failures) Hold(ctx context.Context, client netip.Addr, d time.Duration) {
	if d <= 0 || !f.held.Take(client, mostHeld, mostHeldOfOne) {
		return
	}
	defer f.held.Give(client)
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
	}
}
