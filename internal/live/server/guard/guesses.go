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
	mu      sync.Mutex // guards the places and tried
	seed    maphash.Seed
	names   [failurePlaces]judged
	clients [failurePlaces]judged
	tried   map[uint64]int // how often a password of a name is being judged at this moment
}

// judged is how much room is left, as of a time.
type judged struct {
	left float64
	at   time.Time
}

// MostGuesses is how many passwords of one name are judged in a second.
const MostGuesses = 10

// NewGuesses returns a bound that nobody has used yet.
func NewGuesses() *Guesses { return &Guesses{seed: maphash.MakeSeed(), tried: map[uint64]int{}} }

// Guess is one password that is being judged.
type Guess struct {
	of       *Guesses
	from     *judged // the place that it took; nil: none
	password uint64
}

// Allow returns the guess of a password for a name, from a source that is fresh or
// has failed lately, asked by a client; nil where it is not to be judged. What is
// typed is "" where it is not known. A password that is being judged for the name
// already is the same guess: many logins of one person at once, as a program makes
// them, are one. Whoever got a guess calls Ends once.
func (g *Guesses) Allow(name, typed, client string, fresh bool, now time.Time) *Guess {
	guess := &Guess{of: g, password: maphash.String(g.seed, name+"\x00"+typed)}
	g.mu.Lock()
	defer g.mu.Unlock()
	if typed == "" || g.tried[guess.password] == 0 {
		guess.from = &g.names[maphash.String(g.seed, name)%failurePlaces]
		if by := &g.clients[maphash.String(g.seed, client)%failurePlaces]; fresh && by.take(now) {
			guess.from = by
		} else if !guess.from.take(now) {
			return nil
		}
	}
	g.tried[guess.password]++
	return guess
}

// Ends notes that the password was judged. One that was right is no guess, and
// gives its place back.
func (g *Guess) Ends(right bool) {
	g.of.mu.Lock()
	defer g.of.mu.Unlock()
	if g.of.tried[g.password]--; g.of.tried[g.password] <= 0 {
		delete(g.of.tried, g.password)
	}
	if right && g.from != nil {
		g.from.left = min(MostGuesses, g.from.left+1)
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
