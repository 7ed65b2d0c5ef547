package gate

import (
	"sync"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/vault"
)

// codes remembers the newest one-time code of each person that was used: none
// is taken twice (RFC 6238, section 5.2).
type codes struct {
	mu   sync.Mutex
	used map[string]int64 // the time step, by person
}

const (
	codeDigits = 6
	codeStep   = 30 * time.Second // RFC 6238, section 4
	codeDrift  = 1                // steps that the clocks may differ by, either way
)

// withCode checks a password with a one-time code written right after it.
func (s *server) withCode(q question, person *site.Person) rights.Credential {
	at := max(len(q.typed)-codeDigits, 0)
	ok, err := vault.PasswordIs(person.Password, q.typed[:at], s.Keys)
	if err != nil || !ok {
		return rights.Wrong
	}
	seed, known := s.Keys[person.OneTime.Name]
	if !known || !s.gate.codes.take(person.Name, seed.Reveal(), q.typed[at:], s.gate.config.Now()) {
		return rights.WrongCode
	}
	return rights.Right
}

// take uses up a code. It is false for a wrong one and for one used before.
func (c *codes) take(person, seed, code string, now time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.used == nil {
		c.used = map[string]int64{}
	}
	newest := now.Unix() / int64(codeStep.Seconds())
	for step := newest - codeDrift; step <= newest+codeDrift; step++ {
		if last, ok := c.used[person]; ok && step <= last {
			continue
		}
		ok, err := hotp.ValidateCustom(code, uint64(step), seed, hotp.ValidateOpts{Digits: codeDigits, Algorithm: otp.AlgorithmSHA1})
		if err == nil && ok {
			c.used[person] = step
			return true
		}
	}
	return false
}
