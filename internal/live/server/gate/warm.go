package gate

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"sync"
	"time"

	"mellowgate/internal/core/site"
)

// warm remembers, for a short time, that a password was right. Hashes are slow
// on purpose; a device that asks again for each command need not wait for one
// each time. What is remembered is a keyed hash, under a key that dies with the
// process; it holds the person's own hash, so that a new password is a new one.
type warm struct {
	key   [32]byte
	mu    sync.Mutex
	until map[[sha256.Size]byte]time.Time
}

func newWarm() *warm {
	w := &warm{until: map[[sha256.Size]byte]time.Time{}}
	_, _ = rand.Read(w.key[:]) // never fails: crypto/rand ends the process instead
	return w
}

const (
	mostWarm = 4096
	staysFor = time.Minute
)

// sum gives what is remembered of a password: a hash under the process's key,
// which comes first and has a fixed length, as every part has its length before
// it. The sums never leave the process.
func (w *warm) sum(p *site.Person, typed string) [sha256.Size]byte {
	b := append(make([]byte, 0, 256), w.key[:]...)
	for _, part := range []string{p.Name, p.Password.Hash, typed} {
		b = binary.BigEndian.AppendUint32(b, uint32(len(part)))
		b = append(b, part...)
	}
	return sha256.Sum256(b)
}

// lasts tells whether something that holds for a time, until a moment, holds
// now. After the clock was set back it does not hold for longer.
func lasts(until, now time.Time, span time.Duration) bool {
	left := until.Sub(now)
	return left > 0 && left <= span
}

// knows tells whether a password was right not long ago.
func (w *warm) knows(p *site.Person, typed string, now time.Time) bool {
	if p.Password.Hash == "" {
		return false
	}
	sum := w.sum(p, typed)
	w.mu.Lock()
	defer w.mu.Unlock()
	until, ok := w.until[sum]
	return ok && lasts(until, now, staysFor)
}

// remember notes a password that was right.
func (w *warm) remember(p *site.Person, typed string, now time.Time) {
	if p.Password.Hash == "" { // a password that is kept is quick to compare
		return
	}
	sum := w.sum(p, typed)
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.until) >= mostWarm {
		clear(w.until)
	}
	w.until[sum] = now.Add(staysFor)
}
