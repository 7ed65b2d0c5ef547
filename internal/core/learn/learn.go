// Package learn finds out how a device behaves: which logins to try with which servers
// silent, and what is proven by what came of them. It knows nothing of sockets: who tries
// the logins tells what was seen.
//
// What each value of each aspect that is not known would show is worked out by the walker
// that foresee and the stand-ins use. What was seen rules out the combinations of values
// that would have shown something else. A value is claimed only when every combination that
// is left has it, so nothing is claimed that was not shown.
package learn

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Options are what learning works with. Reckoner is for a site whose people are those of
// Cast. The rest may be zero.
type Options struct {
	Reckoner foresee.Forecaster
	Device   *site.Device
	// Account is the local account whose password is known: the way back in.
	Account string
	// Ways are the accesses by which logins can be tried; nil: every one of the device.
	Ways []string
	// Again finds out what the site says too, as if it did not.
	Again bool
	// Failures is how many logins in a row may fail, at most: the lock of the make. Default 3.
	Failures int
}

// Seen is what was seen of one login.
type Seen struct {
	In    bool          `json:"in"`
	Level int           `json:"level"`            // NoLevel where it does not show
	Asked []string      `json:"asked"`            // what servers were asked, in order, as Asked in this package writes it
	Wait  time.Duration `json:"wait_nanoseconds"` // from the password to the answer
	// Unclocked says that the wait was not measured: a person tried it.
	Unclocked bool `json:"unclocked"`
}

// NoLevel stands for a level that does not show.
const NoLevel = -1

// Experiment is some logins that follow each other, each while some servers are in a state.
type Experiment struct {
	Logins []foresee.Login
	About  []site.Aspect // what it may tell
	// Rest is how long to wait afterwards, until no server is left alone any more.
	Rest time.Duration
}

// Learner finds out the aspects of one device. Next and Saw are called in turn.
type Learner struct {
	Options
	open     []site.Aspect
	domain   [][]string               // of each open aspect the values that logins are tried for
	usual    site.Behaviour           // the first possible value of each open aspect
	values   map[site.Aspect][]string // those that are still possible
	facts    [][]assignment           // of each experiment the combinations that fit; one of each holds
	failed   int                      // logins in a row that failed, at most
	smallest time.Duration            // the shortest timeout of a server
	longest  time.Duration            // the longest time that a server is left alone
	servers  []*site.Server
	subjects []foresee.Who
	tried    map[string]bool // experiments that were made
	useless  map[string]bool // that tell nothing, and never will, as what is known only grows
	blind    map[string]bool // ways in, by their access, that do not show the level
	odd      []string        // what no combination explains
}

// assignment gives some open aspects a value, by its index among those of the aspect; -1: any.
type assignment [mostOpen]int8

// mostOpen is above how many aspects there are.
const mostOpen = 32

// New makes a learner. Its error is a device that nothing can be learned of.
func New(o Options) (*Learner, error) {
	if o.Failures == 0 {
		o.Failures = 3
	}
	l := &Learner{Options: o, values: map[site.Aspect][]string{}, tried: map[string]bool{},
		useless: map[string]bool{}, blind: map[string]bool{}}
	for _, t := range site.ShownAspects() {
		if values := l.candidates(t); len(values) > 1 && (o.Again || !o.Device.Platform.Says(t)) {
			l.open, l.domain = append(l.open, t), append(l.domain, values)
			l.values[t] = values
		}
	}
	l.settle()
	for _, s := range o.Device.Servers() {
		if s.Protocol == site.LDAP || s.Secured() {
			return nil, fmt.Errorf("%s asks %s over %s, which is not played yet", o.Device.Name, s.Name, played(s))
		}
		l.servers = append(l.servers, s)
		p := o.Device.Patience(s)
		l.longest = max(l.longest, p.DeadTime)
		if l.smallest == 0 || p.Timeout < l.smallest {
			l.smallest = p.Timeout
		}
	}
	if len(l.servers) == 0 {
		return nil, fmt.Errorf("%s asks no server, so a login shows nothing of how it asks", o.Device.Name)
	}
	for _, w := range o.Reckoner.Whos(o.Device) {
		if w.Kind == foresee.Known || w.Kind == foresee.Unknown || w.Kind == foresee.Local && w.Typed() == o.Account {
			l.subjects = append(l.subjects, w)
		}
	}
	return l, nil
}

func played(s *site.Server) string {
	if s.Protocol == site.LDAP {
		return "LDAP"
	}
	return s.Protocol.Title() + " with TLS"
}

// candidates returns the values of an aspect that logins are tried for, nil where none shows.
func (l *Learner) candidates(t site.Aspect) []string {
	switch t {
	case site.AspectLoginWindow, site.AspectCommandRules, site.AspectNetworks:
		return nil // measured, or not by a login alone
	case site.AspectLevelWithoutSession, site.AspectWebNeedsLevel, site.AspectAPINeedsLevel:
		all := make([]string, 16)
		for i := range all {
			all[i] = strconv.Itoa(i)
		}
		return all
	case site.AspectLevelFrom:
		all := slices.Clone(t.Values())
		for _, a := range levelAttributes(l.Reckoner.Site) {
			all = append(all, a.Name)
		}
		return all
	}
	return t.Values()
}

// Open returns the aspects that it is asked for.
func (l *Learner) Open() []site.Aspect { return l.open }

// Left returns the values of an aspect that what was seen so far allows.
func (l *Learner) Left(t site.Aspect) []string { return l.values[t] }

// Odd returns what was seen and no combination of values explains.
func (l *Learner) Odd() []string { return l.odd }

// Claimed returns the aspects whose value is shown, with it.
func (l *Learner) Claimed() map[site.Aspect]string {
	all := map[site.Aspect]string{}
	for _, t := range l.open {
		if v := l.values[t]; len(v) == 1 {
			all[t] = v[0]
		}
	}
	return all
}

// settle works out the aspects with the first possible value of each.
func (l *Learner) settle() {
	l.usual = l.Device.Platform.Behaviour
	l.usual.LoginWindow = longestPatience // measured by itself
	for _, t := range l.open {
		l.usual, _ = l.usual.With(t, l.values[t][0])
	}
}

// as returns the device with the values of an assignment.
func (l *Learner) as(a assignment) *site.Device {
	behaviour := l.usual
	for i, v := range a {
		if v >= 0 && l.domain[i][v] != l.values[l.open[i]][0] {
			behaviour, _ = behaviour.With(l.open[i], l.domain[i][v])
		}
	}
	return l.Device.Behaving(behaviour)
}

// longestPatience is longer than any login of an experiment waits.
const longestPatience = time.Hour

// leaf is one way in which an experiment may go, with the values that lead to it.
type leaf struct {
	of     assignment
	ends   []foresee.Ended
	as     *site.Device
	weight float64
}

// Saw takes what came of an experiment. It is false where no combination of values explains
// it: nothing is then learned from it.
func (l *Learner) Saw(e Experiment, seen []Seen) bool {
	var fit []assignment
	for _, f := range l.leaves(e.Logins) {
		if l.shows(f, e.Logins, seen) {
			fit = append(fit, f.of)
		}
	}
	for i, s := range seen {
		l.failed++
		if s.In {
			l.failed = 0
		}
		if access := e.Logins[i].Way.Access; s.In && s.Level == NoLevel {
			l.blind[access] = true // a level will not tell anything there
		}
	}
	if len(fit) == 0 {
		l.odd = append(l.odd, Describe(e, seen))
		return false
	}
	l.facts = append(l.facts, fit)
	l.prune()
	return true
}

// shows reports whether what was seen is what a leaf would show.
func (l *Learner) shows(f leaf, logins []foresee.Login, seen []Seen) bool {
	if len(seen) != len(logins) {
		return false
	}
	for i, s := range seen {
		end := f.ends[i]
		switch {
		case s.In != end.In,
			s.In && s.Level != NoLevel && s.Level != end.Level,
			!slices.Equal(s.Asked, Asked(l.Reckoner, f.as, end.Steps)),
			!s.Unclocked && !l.timely(s.Wait, end.Wait):
			return false
		}
	}
	return true
}

// timely reports whether a wait that was seen may be one that was worked out: a device, and
// a busy machine, may be late, and hardly early.
func (l *Learner) timely(seen, out time.Duration) bool {
	return seen >= out-l.smallest/5-out/10 && seen <= out+l.smallest*6/10+out/5
}

// Explained reports whether some combination of values explains what was seen.
func (l *Learner) Explained(e Experiment, seen []Seen) bool {
	return slices.ContainsFunc(l.leaves(e.Logins), func(f leaf) bool { return l.shows(f, e.Logins, seen) })
}

// Like returns the aspects, as the site file has them, with which a device does what was seen
// and without which it does not: each combination that fits has them, and the usual device
// does not. "" where there are none. The form of a password is none of them: whatever it is,
// the rest is the same.
func (l *Learner) Like(e Experiment, seen []Seen) string {
	var fit []assignment
	for _, f := range l.leaves(e.Logins) {
		if l.shows(f, e.Logins, seen) {
			fit = append(fit, f.of)
		}
	}
	var all []string
	for i, t := range l.open {
		if len(fit) == 0 || fit[0][i] < 0 || t == site.AspectPasswordRADIUS || t == site.AspectPasswordTACACS {
			continue
		}
		value := fit[0][i]
		if l.domain[i][value] != l.Device.Platform.Behaviour.Value(t) &&
			!slices.ContainsFunc(fit, func(a assignment) bool { return a[i] != value }) {
			all = append(all, t.Written(l.domain[i][value]))
		}
	}
	return strings.Join(all, " and ")
}

// prune takes out the values that nothing allows any more, and from what was seen what is
// known by now.
func (l *Learner) prune() {
	for i, t := range l.open {
		if len(l.values[t]) < 2 {
			continue
		}
		l.values[t] = slices.DeleteFunc(slices.Clone(l.values[t]), func(value string) bool {
			a := l.nothing()
			a[i] = l.index(i, value)
			return !l.possible(a)
		})
	}
	l.settle()
	if values, open := l.values[site.AspectDefaultPorts]; open && slices.Equal(values, []string{"legacy"}) {
		l.moveTo(l.Device.Behaving(l.usual))
	}
	kept := l.facts[:0]
	for _, fact := range l.facts {
		var fit []assignment
		always := false
		for _, a := range fact {
			b := a
			open := false
			ok := true
			for i, v := range b {
				if v < 0 {
					continue
				}
				values := l.values[l.open[i]]
				switch {
				case !slices.Contains(values, l.domain[i][v]):
					ok = false
				case len(values) == 1:
					b[i] = -1
				default:
					open = true
				}
			}
			if ok && !slices.Contains(fit, b) {
				fit = append(fit, b)
				always = always || !open
			}
		}
		if !always {
			kept = append(kept, fit)
		}
	}
	l.facts = kept
}

// moveTo plays RADIUS servers where a device asks them, from now on.
func (l *Learner) moveTo(d *site.Device) {
	for _, s := range l.servers {
		authentication, accounting, _ := d.Ports(s)
		if s.PortsSaid || s.Protocol != site.RADIUS || s.AuthenticationPort == authentication {
			continue
		}
		s.AuthenticationPort, s.AccountingPort = authentication, accounting
		clear(l.useless) // now they answer
	}
}

// Asked writes what servers were asked in some steps, one line a server and question: what
// is asked, whom, how often, and in which form a password went there. Ports that are closed
// see nothing, and what is recorded does not count.
func Asked(f foresee.Forecaster, d *site.Device, steps []walk.Step) []string {
	all := []string{}
	for _, step := range steps {
		if step.Purpose != site.Login && step.Purpose != site.Session {
			continue
		}
		for i := 0; i < len(step.Tries); {
			s, n := step.Tries[i].Server, 0
			unseen := slices.Contains(unheard, f.Unheard(d, s, step.Purpose))
			for ; i < len(step.Tries) && step.Tries[i].Server == s; i++ {
				n++
				unseen = unseen || slices.Contains(unheard, step.Tries[i].Reply.Reason)
			}
			if !unseen {
				all = append(all, AskedLine(step.Purpose.Question(), s.Name, n,
					d.Platform.Behaviour.PasswordAs.Of(s.Protocol)))
			}
		}
	}
	return all
}

// AskedLine is one line of what Asked writes.
func AskedLine(q site.Question, server string, times int, form string) string {
	text := fmt.Sprintf("%s %s x%d", q, server, times)
	if q == site.Login.Question() {
		text += " " + form
	}
	return text
}

// entropy is how much, in bits, the ways differ that look different.
func (l *Learner) entropy(leaves []leaf, logins []foresee.Login) float64 {
	sums, all := map[string]float64{}, 0.0
	for _, f := range leaves {
		sums[l.look(f, logins)] += f.weight
		all += f.weight
	}
	bits := 0.0
	for _, look := range slices.Sorted(maps.Keys(sums)) { // in one order, so that a run that goes on goes the same way
		bits -= sums[look] / all * math.Log2(sums[look]/all)
	}
	return bits
}

// look is what of a leaf can be seen: the same for those that look the same.
func (l *Learner) look(f leaf, logins []foresee.Login) string {
	var b strings.Builder
	for i, end := range f.ends {
		level := end.Level
		if !end.In || !site.HasShell(logins[i].Way.Access) || l.blind[logins[i].Way.Access] {
			level = NoLevel
		}
		fmt.Fprintf(&b, "%t %d %v %d;", end.In, level, Asked(l.Reckoner, f.as, end.Steps),
			int64(end.Wait)/int64(max(l.smallest, 1)))
	}
	return b.String()
}
