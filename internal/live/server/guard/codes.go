package guard

import (
	"errors"
	"maps"
	"sync"
	"time"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
)

const (
	codeDrift  = 1  // steps that the clocks may differ by, either way
	codeSearch = 20 // steps within which a code is found that came by a wrong clock
	codeTries  = 5  // codes that may be wrong before none is looked at
	codePause  = 10 * time.Minute
)

// Codes remembers the newest one-time code of each person that was used: none
// is taken twice (RFC 6238, section 5.2).
type Codes struct {
	mu   sync.Mutex
	used map[string]int64  // the time step, by person
	lost map[string]failed // codes that were wrong, by person
	keep func(person string, step int64, all map[string]int64) error
}

// ErrUsed says that a code was used before, where this memory does not reach.
var ErrUsed = errors.New("the code was used before")

// NewCodes returns a memory of the codes that were used before, by person and
// time step. keep is given each one that is used, and all of them, and a code is
// taken only when it has kept them; its error may be ErrUsed. Nil keeps nothing.
func NewCodes(used map[string]int64, keep func(person string, step int64, all map[string]int64) error) *Codes {
	c := &Codes{used: maps.Clone(used), lost: map[string]failed{}, keep: keep}
	if c.used == nil {
		c.used = map[string]int64{}
	}
	return c
}

// Take finds the code that fits, the nearest in time first, and uses it up where
// the clocks are near enough and it was not used before. After so many that did
// not fit none is looked at for a while, where they were given by somebody who
// has the password.
func (c *Codes) Take(person string, seed site.Secret, now time.Time, proven bool, fits func(code string) bool) (
	found rights.Code) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if proven {
		lost := c.lost[person]
		if over := now.Sub(lost.at); over >= codePause || over < 0 {
			lost = failed{count: 0, at: now}
		}
		if lost.count >= codeTries {
			return rights.Code{Tired: true}
		}
		defer func() {
			if lost.count++; found.Taken {
				delete(c.lost, person)
				return
			}
			c.lost[person] = lost
		}()
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
		found = rights.Code{Found: true, Steps: steps, Used: any && step <= last}
		if !found.Used && max(steps, -steps) <= codeDrift {
			err := c.use(person, step)
			found.Taken, found.Used = err == nil, errors.Is(err, ErrUsed)
			found.Lost = err != nil && !found.Used
		}
		return found
	}
	return rights.Code{}
}

// use notes a code as used. Its error says that this could not be kept: a code that
// might be taken again after a restart is not taken at all.
func (c *Codes) use(person string, step int64) error {
	before, had := c.used[person]
	c.used[person] = step
	if c.keep == nil {
		return nil
	}
	err := c.keep(person, step, c.used)
	if err == nil || errors.Is(err, ErrUsed) {
		return err
	}
	if delete(c.used, person); had {
		c.used[person] = before
	}
	return err
}
