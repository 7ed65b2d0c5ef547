package learn

import (
	"slices"
	"time"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

// Pretender is a device that is only thought of: it has the behaviour of another one, and
// remembers which servers it leaves alone.
type Pretender struct {
	Took    time.Duration // of everything that was tried, with its waits
	Blind   bool          // nowhere does it show a level
	f       foresee.Forecaster
	d, as   *site.Device
	history []foresee.Login
	heard   []string
	pause   time.Duration
}

// NewPretender makes one of a device that behaves as another one of equal ways in.
func NewPretender(f foresee.Forecaster, d, as *site.Device) *Pretender {
	return &Pretender{f: f, d: d, as: as}
}

// Logins returns how many logins were tried.
func (p *Pretender) Logins() int { return len(p.history) }

// Heard returns the ways in, by their access, of which a server has heard a login.
func (p *Pretender) Heard() []string { return p.heard }

// Try returns what would be seen of an experiment.
func (p *Pretender) Try(e Experiment) []Seen {
	from := len(p.history)
	for i, g := range e.Logins {
		if i == 0 {
			g.After += p.pause
		}
		p.history = append(p.history, g)
	}
	p.pause = e.Rest
	ends, _ := p.f.Series(p.d, p.as, p.history)
	var seen []Seen
	for i, end := range ends[from:] {
		s := Seen{In: end.In, Level: end.Level, Asked: Asked(p.f, p.as, end.Steps), Wait: end.Wait}
		if !end.In || p.Blind || !site.HasShell(e.Logins[i].Way.Access) {
			s.Level = NoLevel
		}
		if access := e.Logins[i].Way.Access; len(s.Asked) > 0 && !slices.Contains(p.heard, access) {
			p.heard = append(p.heard, access)
		}
		p.Took += end.Wait + e.Logins[i].After + time.Second
		seen = append(seen, s)
	}
	p.Took += e.Rest
	return seen
}
