package guard

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"sync"
	"time"

	"mellowgate/internal/core/site"
)

// Verified remembers, for a short time, that a password was right. Hashes are
// slow on purpose; a device that asks again for each command need not wait for
// one each time. What is remembered is a keyed hash, under a key that dies with
// the process; it holds the person's own hash, so that a new password is a new
// one.
type Verified struct {
	key   [32]byte
	mu    sync.Mutex // guards until
	until map[[sha256.Size]byte]time.Time
}

// NewVerified returns a memory without a password in it.
func NewVerified() *Verified {
	w := &Verified{until: map[[sha256.Size]byte]time.Time{}}
	_, _ = rand.Read(w.key[:]) // never fails: crypto/rand ends the process instead
	return w
}

const (
	mostVerified = 4096
	verifiedFor  = time.Minute
)

// sum returns what is remembered of a password: a hash under the process's key,
// which comes first and has a fixed length, as every part has its length before
// it. The sums never leave the process.
func (w *Verified) sum(p *site.Person, typed string) [sha256.Size]byte {
	b := append(make([]byte, 0, 256), w.key[:]...)
	for _, part := range []string{p.Name, p.Password.Hash, typed} {
		b = binary.BigEndian.AppendUint32(b, uint32(len(part)))
		b = append(b, part...)
	}
	return sha256.Sum256(b)
}

// Key returns what stands for a password of a person, under the key of the process.
func (w *Verified) Key(p *site.Person, typed string) string {
	sum := w.sum(p, typed)
	return string(sum[:])
}

// Knows reports whether a password was right not long ago.
func (w *Verified) Knows(p *site.Person, typed string, now time.Time) bool {
	if p.Password.Hash == "" {
		return false
	}
	sum := w.sum(p, typed)
	w.mu.Lock()
	defer w.mu.Unlock()
	until, ok := w.until[sum]
	return ok && lasts(until, now, verifiedFor)
}

// Remember notes a password that was right.
func (w *Verified) Remember(p *site.Person, typed string, now time.Time) {
	if p.Password.Hash == "" { // a password that is kept is quick to compare
		return
	}
	sum := w.sum(p, typed)
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.until) >= mostVerified {
		clear(w.until)
	}
	w.until[sum] = now.Add(verifiedFor)
}
