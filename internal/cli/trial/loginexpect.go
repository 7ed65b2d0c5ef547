package trial

import (
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/lab"
)

// expected is what a login should come to.
type expected struct {
	outcome         walk.Outcome
	level           int // -1: any
	raised          int // after an elevation that is tried; 0: none is
	allows, refuses []string
	given           []string // what is not as it should be, and was taken into account
}

// unforeseen is what is expected where nothing is foreseen: anything.
var unforeseen = expected{level: -1}

func (e expected) String() string {
	switch {
	case e.outcome == "":
		return ""
	case e.outcome == walk.OutcomeIn && e.level >= 0:
		return fmt.Sprintf("in at level %d", e.level) + e.raises() + e.orders()
	}
	return string(e.outcome) + e.raises() + e.orders()
}

// raises says to what level an elevation should lead, or that it should not.
func (e expected) raises() string {
	switch {
	case e.raised == 0 || e.outcome != walk.OutcomeIn:
		return ""
	case e.raised == e.level:
		return ", which cannot be raised"
	}
	return fmt.Sprintf(", raised to %d", e.raised)
}

func (e expected) orders() string {
	text := ""
	if len(e.allows) > 0 {
		text += ", may " + strings.Join(e.allows, ", ")
	}
	if len(e.refuses) > 0 {
		text += ", may not " + strings.Join(e.refuses, ", ")
	}
	return text
}

func (e expected) Fits(s login.Seen) bool {
	if s.Outcome == walk.OutcomeUnsure {
		return false // nothing was seen that could be as expected
	}
	for _, c := range s.Commands {
		if slices.Contains(e.allows, c.Command) && c.Result != walk.OutcomeAllowed ||
			slices.Contains(e.refuses, c.Command) &&
				c.Result != walk.OutcomeRefused {
			return false
		}
	}
	if len(s.Commands) < len(e.allows)+len(e.refuses) {
		return false
	}
	if e.raised > max(e.level, 0) && s.Outcome == walk.OutcomeIn && s.Level == login.UnknownLevel &&
		s.Raised == login.UnknownLevel && !s.PromptChanged {
		return false
	}
	if e.raised > 0 && e.outcome == s.Outcome && s.Outcome == walk.OutcomeIn && s.Raised != e.raised &&
		s.Raised != login.UnknownLevel {
		return false
	}
	return e.outcome == "" || e.outcome == s.Outcome &&
		(s.Outcome != walk.OutcomeIn || e.level < 0 || e.level == s.Level || s.Level == login.UnknownLevel)
}

// expectation is what the site says of a login: the site named, else the one the
// lab was started with; with the faults in effect, and what rests because of them.
func expectation(c *call.Call, f LoginFlags, p evidence.Places, now lab.InEffect) (expected, error) {
	path := p.SitePath
	if len(c.Args) > 0 || f.address != "" {
		path = c.SitePath()
	} else if _, err := os.Stat(path); err != nil {
		return unforeseen, nil // the site is gone
	}
	l, err := c.LoadFrom(path, false)
	if err != nil {
		return expected{}, err
	}
	d, err := l.DeviceNamed(f.Device)
	if err != nil {
		return expected{}, err
	}
	silent, err := l.ServersNamed(f.silent)
	if err != nil {
		return expected{}, err
	}
	way := d.Way(f.Access)
	if way == nil {
		return expected{}, call.Usagef("in the site %s, %s has no way in by %s", path, f.Device, f.Access)
	}
	if len(now.Unforeseen) > 0 {
		c.Note("in the lab is in effect: %s; what that does to a login is not foreseen",
			strings.Join(now.Unforeseen, ", "))
		return unforeseen, nil
	}
	w := worldOf(l.Site, d, silent, now.Impaired)
	w.without(l.Site, p)
	r := l.Reckoner()
	r.Faults = w.faulty()
	if f.address == "" {
		inLab(&r, p, now)
	} else {
		r.At = r.Now
	}
	who, known, err := l.Somebody(r, d, f.Person, f.teams)
	if err != nil {
		return expected{}, err
	}
	if !known && len(l.Site.Books()) > 0 {
		c.Note("%s: nothing is foreseen", l.Nobody(f.Person))
		return unforeseen, nil
	}
	if !known {
		c.Note("%s", l.Nobody(f.Person))
		who, _ = r.Find(d, "unknown")
	}
	if ill := ailing(l.Directories, now.Faults); ill != "" && who.OfDirectory() {
		c.Note("in the lab is in effect: %s; what that does to a login of somebody in it is not foreseen", ill)
		return unforeseen, nil
	}
	for _, foreseen := range r.Cases(d, way, who) {
		if !foreseen.In(w.states) {
			continue
		}
		if w.rested && foreseen.Again != nil {
			foreseen.Outcome, foreseen.Level = foreseen.Again.Outcome, foreseen.Again.Level
		}
		want := ExpectedOf(foreseen)
		if f.raise > 0 {
			want.raised = foreseen.Level
			if foreseen.RaiseTried && foreseen.Raised >= f.raise { // to 15, and so to what is below it
				want.raised = max(foreseen.Level, f.raise)
			}
		}
		for _, when := range foreseen.When { // of the servers that matter to this login
			if text := w.said[when.Server]; text != "" {
				want.given = append(want.given, text)
			}
		}
		return want, nil
	}
	return unforeseen, nil
}

// inLab sets when and from where a login in a lab comes: by the lab's clock, and
// from the address that its devices say.
func inLab(r *foresee.Forecaster, p evidence.Places, now lab.InEffect) {
	r.At, r.From = r.Now.Add(clockOff(now.Faults)), netip.MustParseAddr("127.0.0.1")
	if from, err := netip.ParseAddr(p.From); err == nil {
		r.From = from
	}
}

// clockOff returns how far the clocks of a lab are off, by the fault that says so.
func clockOff(faults []string) time.Duration {
	for _, fault := range faults {
		if text, ok := strings.CutPrefix(fault, "clock "); ok {
			off, _ := time.ParseDuration(text)
			return off
		}
	}
	return 0
}

// ailing returns the faults of directories, in words; "" for none.
func ailing(directories []*site.Server, faults []string) string {
	var all []string
	for _, fault := range faults {
		name, _, _ := strings.Cut(fault, " ")
		if slices.ContainsFunc(directories, func(s *site.Server) bool { return s.Name == name }) {
			all = append(all, fault)
		}
	}
	return strings.Join(all, ", ")
}

// world is in which state a device finds servers now.
type world struct {
	states map[*site.Server]foresee.State // those that are not up
	said   map[*site.Server]string        // the same in words
	rested bool                           // every one of them is left alone already
}

// faulty reports whether a server is neither up nor silent.
func (w world) faulty() bool {
	for _, s := range w.states {
		if s != foresee.Up && s != foresee.Down {
			return true
		}
	}
	return false
}

// without closes the servers that a lab leaves to others.
func (w *world) without(s *site.Site, p evidence.Places) {
	for _, place := range p.Servers {
		v := s.Server(place.Name)
		if v == nil || place.Running {
			continue
		}
		if _, said := w.states[v]; !said {
			w.states[v], w.said[v] = foresee.Closed, place.Name+" not run by this lab"
		}
	}
}

// worldOf returns what a device finds, from what was said to be silent and from
// what is in effect in a lab. A server that rests is passed by like a silent one.
func worldOf(s *site.Site, d *site.Device, silent map[*site.Server]bool, impaired []lab.Impaired) world {
	w := world{states: map[*site.Server]foresee.State{}, said: map[*site.Server]string{}}
	for v := range silent {
		w.states[v], w.said[v] = foresee.Down, v.Name+" silent"
	}
	awake := len(silent)
	for _, i := range impaired {
		v := s.Server(i.Server)
		if v == nil || i.Device != d.Name {
			continue
		}
		if _, said := w.states[v]; said {
			awake--
		}
		if w.states[v], w.said[v] = i.State, i.Server+" "+string(i.State); i.Rests == 0 {
			awake++
			continue
		}
		w.states[v] = foresee.Down
		w.said[v] = i.Server + " still left alone after it gave no answer"
		if until := i.Until(time.Now()); !until.IsZero() {
			w.said[v] = i.Server + " left alone until " + until.Local().Format("15:04:05")
		}
	}
	w.rested = len(w.states) > 0 && awake <= 0
	return w
}

func ExpectedOf(c foresee.Case) expected {
	if c.Outcome == walk.OutcomeRefused {
		return expected{outcome: walk.OutcomeRefused, level: -1}
	}
	return expected{outcome: walk.OutcomeIn, level: c.Level}
}
