package gate

import (
	"context"
	"sync"
	"time"

	"mellowgate/internal/core/rights"
)

// failures slow guessing down: each refusal of a wrong password, for a name or
// from a place, makes the next refusal later. Only refusals wait. A right
// password is answered at once whatever was tried before, so that nobody can
// shut a person out by typing wrong passwords for them.
type failures struct {
	mu   sync.Mutex
	many map[string]failed
}

type failed struct {
	count int
	last  time.Time
}

const (
	freeFailures = 5
	firstDelay   = 100 * time.Millisecond
	longestDelay = time.Second // well below what devices wait
	forgotten    = 10 * time.Minute
	mostFailures = 8192
)

// delay counts a failure and tells how long its refusal is to wait.
func (f *failures) delay(now time.Time, keys ...string) time.Duration {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.many == nil || len(f.many) >= mostFailures {
		f.many = map[string]failed{}
	}
	most := 0
	for _, k := range keys {
		was := f.many[k]
		if now.Sub(was.last) > forgotten {
			was.count = 0
		}
		was.count, was.last = was.count+1, now
		f.many[k] = was
		most = max(most, was.count)
	}
	if most <= freeFailures {
		return 0
	}
	return min(firstDelay<<min(most-freeFailures-1, 10), longestDelay)
}

// forget begins anew for somebody who has shown the right password.
func (f *failures) forget(keys ...string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, k := range keys {
		delete(f.many, k)
	}
}

// slowDown waits before a wrong password is refused.
func (s *server) slowDown(q question, d rights.Decision) {
	keys := []string{"person " + q.Person}
	if q.from != "" {
		keys = append(keys, "source "+q.from)
	}
	switch d.Reason {
	case rights.Accepted:
		s.gate.failures.forget(keys...)
		return
	case rights.WrongPassword, rights.UnknownPerson, rights.NoEntry, rights.SecondFactor:
	default:
		return
	}
	wait := s.gate.failures.delay(q.at, keys...)
	if wait == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(s.gate.ctx, wait)
	defer cancel()
	<-ctx.Done()
}
