package gate

import (
	"crypto/rand"
	"crypto/subtle"
	"net/netip"
	"strings"
	"sync"
	"time"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
)

const (
	codeDrift  = 1  // steps that the clocks may differ by, either way
	codeSearch = 20 // steps within which a code is found that came by a wrong clock
	// codePrompt is what a person is asked once the password is right.
	codePrompt = "One-time code: "
)

// withCode checks the two factors of a person: a code that answers a challenge,
// a password with the code right after it, or a password alone, after which the
// code is to be asked for.
func (s *server) withCode(q *question, person *site.Person) rights.Credential {
	if q.challenged {
		q.Code = s.takeCode(person, q.answers)
		return rated(q.Code)
	}
	if q.proves != nil {
		return s.provenWithCode(q, person)
	}
	if password, code, ok := splitCode(q.typed); ok && s.passwordIs(person.Password, password) {
		q.Code = s.takeCode(person, func(c string) bool { return same(code, c) })
		return rated(q.Code)
	}
	if s.passwordIs(person.Password, q.typed) {
		return rights.CodeWanted
	}
	return rights.Wrong
}

// provenWithCode is withCode for CHAP and MS-CHAPv2, for which the password
// itself must be known.
func (s *server) provenWithCode(q *question, person *site.Person) rights.Credential {
	password, known := s.Keys[keyName(person.Password.Key)]
	switch {
	case person.Password.Key == nil:
		return rights.Uncheckable
	case !known:
		return rights.Wrong
	case q.proves(password.Reveal()):
		q.matched = password.Reveal()
		return rights.CodeWanted
	}
	found := s.takeCode(person, func(code string) bool {
		if !q.proves(password.Reveal() + code) {
			return false
		}
		q.matched = password.Reveal() + code
		return true
	})
	if !found.Found { // the password, the code or both: a proof does not tell
		return rights.Wrong
	}
	q.Code = found
	return rated(found)
}

func keyName(k *site.Key) string {
	if k == nil {
		return ""
	}
	return k.Name
}

// answers tells whether what was given is a code, whatever its form.
func (q *question) answers(code string) bool {
	if q.proves == nil {
		return same(q.typed, code)
	}
	if !q.proves(code) {
		return false
	}
	q.matched = code
	return true
}

func same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

func rated(c rights.Code) rights.Credential {
	if c.Taken {
		return rights.Right
	}
	return rights.WrongCode
}

// splitCode takes the code off the end of a password. It is false where what
// was typed does not end like a code.
func splitCode(typed string) (password, code string, ok bool) {
	at := len(typed) - secrets.CodeDigits
	if at < 0 || strings.Trim(typed[at:], "0123456789") != "" {
		return "", "", false
	}
	return typed[:at], typed[at:], true
}

func (s *server) passwordIs(p site.Password, typed string) bool {
	ok, err := secrets.PasswordIs(p, typed, s.Keys)
	return err == nil && ok
}

// takeCode uses up the code of a person that fits.
func (s *server) takeCode(person *site.Person, fits func(code string) bool) rights.Code {
	seed, known := s.Keys[person.OneTime.Name]
	if !known {
		return rights.Code{}
	}
	return s.gate.codes.take(person.Name, seed, s.gate.config.Now(), fits)
}

// codes remembers the newest one-time code of each person that was used: none
// is taken twice (RFC 6238, section 5.2).
type codes struct {
	mu   sync.Mutex
	used map[string]int64 // the time step, by person
	keep func(map[string]int64) error
}

// take finds the code that fits, the nearest first, and uses it up where the
// clocks are near enough and it was not used before.
func (c *codes) take(person string, seed site.Secret, now time.Time, fits func(code string) bool) rights.Code {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.used == nil {
		c.used = map[string]int64{}
	}
	at := secrets.CodeStepAt(now)
	for n := range 2*codeSearch + 1 { // 0, -1, 1, -2, 2 ...
		steps := (n + 1) / 2
		if n%2 == 1 {
			steps = -steps
		}
		step := at + int64(steps)
		code, err := secrets.Code(seed, step)
		if err != nil || !fits(code) {
			continue
		}
		last, any := c.used[person]
		found := rights.Code{Found: true, Steps: steps, Used: any && step <= last}
		if !found.Used && max(steps, -steps) <= codeDrift {
			found.Taken = c.use(person, step)
			found.Lost = !found.Taken
		}
		return found
	}
	return rights.Code{}
}

// use notes a code as used. It is false when that could not be kept: a code that
// might be taken again after a restart is not taken at all.
func (c *codes) use(person string, step int64) bool {
	before, had := c.used[person]
	c.used[person] = step
	if c.keep == nil || c.keep(c.used) == nil {
		return true
	}
	if delete(c.used, person); had {
		c.used[person] = before
	}
	return false
}

// challenges remembers who was asked for a one-time code over RADIUS, by the
// State that the answer brings back (RFC 2865, section 5.24). Each is answered
// once at most.
type challenges struct {
	mu   sync.Mutex
	open map[string]challenge
}

type challenge struct {
	person string
	client netip.Addr
	until  time.Time
}

const (
	mostChallenges = 4096
	challengeLasts = 2 * time.Minute // for a person to find and type the code
)

// put begins a challenge and gives its State.
func (c *challenges) put(person string, client netip.Addr, now time.Time) []byte {
	state := make([]byte, 16)
	_, _ = rand.Read(state) // never fails: crypto/rand ends the process instead
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.open) >= mostChallenges {
		for k, o := range c.open {
			if !lasts(o.until, now, challengeLasts) {
				delete(c.open, k)
			}
		}
	}
	if c.open == nil || len(c.open) >= mostChallenges {
		c.open = map[string]challenge{}
	}
	c.open[string(state)] = challenge{person, client, now.Add(challengeLasts)}
	return state
}

// answered ends the challenge with a State. It is false where there is none
// of this person and client.
func (c *challenges) answered(state []byte, person string, client netip.Addr, now time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	o, known := c.open[string(state)]
	if !known || o.person != person || o.client != client {
		return false
	}
	delete(c.open, string(state))
	return lasts(o.until, now, challengeLasts)
}
