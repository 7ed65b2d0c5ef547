package guard

import (
	"sync"
	"time"

	"mellowgate/internal/core/site"
)

// People remembers for a short time whom a directory found: a device that asks
// about each command need not wait for a search each time. The zero value is
// ready.
type People struct {
	mu    sync.Mutex
	known map[string]remembrance
}

type remembrance struct {
	person *site.Person
	until  time.Time
}

const (
	mostKnown = 4096
	knownFor  = time.Minute
)

// Recall returns a person who was found not long ago, and nil for anybody else.
func (b *People) Recall(name string, now time.Time) *site.Person {
	b.mu.Lock()
	defer b.mu.Unlock()
	if r, ok := b.known[name]; ok && lasts(r.until, now, knownFor) {
		return r.person
	}
	return nil
}

// Remember notes a person who was found.
func (b *People) Remember(p *site.Person, now time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.known == nil || len(b.known) >= mostKnown {
		b.known = map[string]remembrance{}
	}
	b.known[p.Name] = remembrance{person: p, until: now.Add(knownFor)}
}
