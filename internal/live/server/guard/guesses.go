package guard

import (
	"hash/maphash"
	"sync"
	"time"
)

// Guesses bounds how many passwords are judged for one name, over all sources and
// protocols. A source that has not failed lately is judged beside that bound, so
// that whoever knows the password is let in from elsewhere while others guess;
// of one client so many such sources are taken a second, and no more.
//
// The counts lie in a fixed number of places, found by a keyed hash.
type Guesses struct {
	mu      sync.Mutex // guards the places
	seed    maphash.Seed
	names   [failurePlaces]judged
	clients [failurePlaces]judged
}

// judged is how much room is left, as of a time.
type judged struct {
	left float64
	at   time.Time
}

// MostGuesses is how many passwords of one name are judged in a second.
const MostGuesses = 10

// NewGuesses returns a bound that nobody has used yet.
func NewGuesses() *Guesses { return &Guesses{seed: maphash.MakeSeed()} }

// Allow reports whether a password is to be judged: for a name, from a source
// that is fresh or has failed lately, asked by a client. One that turns out right
// is no guess: right gives its place back. It is nil where nothing is judged.
func (g *Guesses) Allow(name, client string, fresh bool, now time.Time) (right func()) {
	g.mu.Lock()
	defer g.mu.Unlock()
	of := &g.names[maphash.String(g.seed, name)%failurePlaces]
	if by := &g.clients[maphash.String(g.seed, client)%failurePlaces]; fresh && by.take(now) {
		of = by
	} else if !of.take(now) {
		return nil
	}
	return func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		of.left = min(MostGuesses, of.left+1)
	}
}

// take takes one of what has come together since the last time, up to a second's.
func (j *judged) take(now time.Time) bool {
	switch since := now.Sub(j.at); {
	case j.at.IsZero():
		j.left, j.at = MostGuesses, now
	case since > 0:
		j.left, j.at = min(MostGuesses, j.left+since.Seconds()*MostGuesses), now
	case since < -time.Minute: // the clock was set back
		j.at = now
	}
	if j.left < 1 {
		return false
	}
	j.left--
	return true
}
