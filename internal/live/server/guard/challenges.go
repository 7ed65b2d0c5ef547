package guard

import (
	"crypto/rand"
	"net/netip"
	"sync"
	"time"
)

// Challenges remembers who was asked for a one-time code over RADIUS, by the
// State that the answer brings back (RFC 2865, section 5.24). Each is answered
// once at most. The zero value is ready.
type Challenges struct {
	mu   sync.Mutex
	open map[string]challenge
}

type challenge struct {
	person string
	client netip.Addr
	until  time.Time
}

const mostChallenges = 4096

// ChallengeLasts is how long a person has to find and type the code.
const ChallengeLasts = 2 * time.Minute

// Put begins a challenge and returns its State, 16 octets.
func (c *Challenges) Put(person string, client netip.Addr, now time.Time) []byte {
	state := make([]byte, 16)
	_, _ = rand.Read(state) // never fails: crypto/rand ends the process instead
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.open) >= mostChallenges {
		for k, o := range c.open {
			if !lasts(o.until, now, ChallengeLasts) {
				delete(c.open, k)
			}
		}
	}
	if c.open == nil || len(c.open) >= mostChallenges {
		c.open = map[string]challenge{}
	}
	c.open[string(state)] = challenge{person: person, client: client, until: now.Add(ChallengeLasts)}
	return state
}

// Answered ends the challenge with a State. It is false where there is none
// of this person and client.
func (c *Challenges) Answered(state []byte, person string, client netip.Addr, now time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	o, known := c.open[string(state)]
	if !known || o.person != person || o.client != client {
		return false
	}
	delete(c.open, string(state))
	return lasts(o.until, now, ChallengeLasts)
}
