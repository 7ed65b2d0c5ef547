package learn

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// unheard are the reasons for which a server sees nothing of what it is asked.
var unheard = []reason.Reason{reason.Closed, reason.WrongPort, reason.NotForThis, reason.NoSource, reason.NoWay}

// What an experiment costs, in seconds, beside its waits.
const (
	costOfLogin   = 2.0
	costOfFailure = 6.0
)

// noBits is what an experiment tells, at most, of which everything looks the same.
const noBits = 1e-9

// enoughBits is how much an experiment must tell, at least, to be made.
const enoughBits = 0.02

// Back returns the proof of the way back: the local account logs in while every server is
// silent. It comes before anything else. There is one for each way in by which that may be,
// the console last; none where the device has no such way.
func (l *Learner) Back() []Experiment {
	who := l.account()
	if who == nil {
		return nil
	}
	ways := l.ways()
	slices.SortStableFunc(ways, func(a, b *site.Way) int {
		return boolInt(!site.HasShell(a.Access)) - boolInt(!site.HasShell(b.Access)) +
			2*(boolInt(a.Access == site.Console)-boolInt(b.Access == site.Console))
	})
	var experiments []Experiment
	for _, w := range ways {
		logins := []foresee.Login{{Way: w, Who: *who, When: l.dark()}}
		if ends, _ := l.series(l.as(l.nothing()), logins); ends[0].In {
			experiments = append(experiments, Experiment{Logins: logins, Rest: l.longest})
		}
	}
	return experiments
}

func (l *Learner) account() *foresee.Who {
	i := slices.IndexFunc(l.subjects, func(w foresee.Who) bool { return w.Kind == foresee.Local })
	if i < 0 {
		return nil
	}
	return &l.subjects[i]
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// dark is every server silent.
func (l *Learner) dark() []foresee.Condition { return l.all(foresee.Down) }

func (l *Learner) all(state foresee.State) []foresee.Condition {
	all := make([]foresee.Condition, len(l.servers))
	for i, s := range l.servers {
		all[i] = foresee.Condition{Server: s, State: state}
	}
	return all
}

// ways returns the ways in that differ in what matters: one of those with the same lists.
func (l *Learner) ways() []*site.Way {
	var all []*site.Way
	for _, w := range l.Device.Ways {
		if l.Ways != nil && !slices.Contains(l.Ways, w.Access) || w.HasLines && w.Lines.Low > 0 {
			continue
		}
		alike := func(o *site.Way) bool {
			special := func(x *site.Way) string {
				if site.HasShell(x.Access) && x.Access != site.Console {
					return ""
				}
				return x.Access
			}
			return o.Lists == w.Lists && special(o) == special(w)
		}
		if !slices.ContainsFunc(all, alike) {
			all = append(all, w)
		}
	}
	return all
}

// patterns are the states of servers that experiments are made in.
func (l *Learner) patterns() [][]foresee.Condition {
	outages := [][]foresee.Condition{nil}
	for _, s := range l.servers {
		outages = append(outages, []foresee.Condition{{Server: s, State: foresee.Down}})
	}
	if len(l.servers) > 1 {
		outages = append(outages, l.dark())
	}
	outages = append(outages, l.all(foresee.NoRecords))
	for _, s := range l.servers {
		if s.Protocol == site.RADIUS {
			outages = append(outages, []foresee.Condition{{Server: s, State: foresee.Closed}})
		}
	}
	for i, s := range l.servers { // all but one
		var others []foresee.Condition
		for j, o := range l.servers {
			if i != j {
				others = append(others, foresee.Condition{Server: o, State: foresee.Down})
			}
		}
		if len(others) > 1 {
			outages = append(outages, others)
		}
		_ = s
	}
	return outages
}

// soon is a second login while servers rest, and later one when they no longer do.
const soon = time.Second

// experiments returns the candidates. Each is a list of logins; those that only wake servers
// again afterwards are left out.
func (l *Learner) experiments() [][]foresee.Login {
	var sequences [][]foresee.Login
	for _, w := range l.ways() {
		for _, who := range l.subjects {
			if level, ok := learnerLevel(who); ok && level != 15 && level != 1 && site.HasShell(w.Access) {
				continue // each level matters at pages alone
			}
			for _, when := range l.patterns() {
				login := foresee.Login{Way: w, Who: who, When: when}
				sequences = append(sequences, []foresee.Login{login})
				silent := slices.ContainsFunc(when, func(c foresee.Condition) bool { return c.State == foresee.Down })
				if l.longest == 0 || !silent || who.Kind == foresee.Unknown {
					continue
				}
				up := foresee.Login{Way: w, Who: who, After: soon}
				late := foresee.Login{Way: w, Who: who, After: l.longest + l.smallest + soon}
				sequences = append(sequences, []foresee.Login{login, up}, []foresee.Login{login, late})
			}
		}
	}
	slices.SortStableFunc(sequences, func(a, b []foresee.Login) int { return len(a) - len(b) })
	return sequences
}

// Next returns the experiment that tells most for what it costs, false where none tells
// anything any more.
func (l *Learner) Next() (Experiment, bool) {
	var best []foresee.Login
	var about []site.Aspect
	var ways []leaf // in which it may go
	most := 0.0
	for _, logins := range l.experiments() {
		key := l.key(logins)
		if l.tried[key] || l.useless[key] {
			continue
		}
		as := l.as(l.nothing())
		ends, consulted := l.series(as, logins)
		open := l.stillOpen(consulted)
		if len(open) == 0 {
			l.useless[key] = true // what is not known does not matter to it
			continue
		}
		cost := l.cost(logins, ends)
		if l.atMost(open)/cost <= most {
			continue
		}
		leaves := l.leaves(logins)
		bits := l.entropy(leaves, logins)
		if len(leaves) > 0 && bits < noBits {
			l.useless[key] = true
		}
		if bits >= enoughBits && bits/cost > most*(1+1e-9) {
			best = logins
			about = open
			most = bits / cost
			ways = leaves
		}
	}
	if best == nil {
		return Experiment{}, false
	}
	e, ok := l.whole(best, about, ways)
	if !ok { // it would leave a server at rest, and what comes after it could not be read
		l.useless[l.key(best)] = true
		return l.Next()
	}
	if l.failed > 0 && l.failed+failures(l.leaves(e.Logins)) > l.Failures {
		if first, ok := l.reset(); ok {
			return first, true
		}
	}
	l.tried[l.key(best)] = true
	return e, true
}

// atMost bounds how much an experiment that hangs on some aspects tells, in bits: one that
// it hangs on with other values of these is counted in.
func (l *Learner) atMost(open []site.Aspect) float64 {
	bits := 1.0
	for _, t := range open {
		bits += math.Log2(float64(len(l.values[t])))
	}
	return bits
}

func (l *Learner) key(logins []foresee.Login) string {
	var b strings.Builder
	for _, g := range logins {
		fmt.Fprintf(&b, "%s %s %v %s;", g.Way.Name(), g.Who.Name, g.When, g.After)
	}
	return b.String()
}

func (l *Learner) stillOpen(consulted []site.Aspect) []site.Aspect {
	return slices.DeleteFunc(slices.Clone(consulted), func(t site.Aspect) bool {
		return !slices.Contains(l.open, t) || len(l.values[t]) < 2
	})
}

// failures is how many logins of an experiment may fail, at most.
func failures(leaves []leaf) int {
	most := 0
	for _, f := range leaves {
		n := 0
		for _, end := range f.ends {
			n += boolInt(!end.In)
		}
		most = max(most, n)
	}
	return most
}

func (l *Learner) cost(logins []foresee.Login, ends []foresee.Ended) float64 {
	cost := 0.0
	for i, end := range ends {
		cost += costOfLogin + end.Wait.Seconds() + logins[i].After.Seconds()
		if !end.In {
			cost += costOfFailure
		}
	}
	if l.rests(ends) {
		cost += l.longest.Seconds()
	}
	return cost
}

// rests reports whether servers may be left alone after some logins.
func (l *Learner) rests(ends []foresee.Ended) bool {
	return l.longest > 0 && slices.ContainsFunc(ends, func(e foresee.Ended) bool {
		return slices.ContainsFunc(e.Steps, func(s walk.Step) bool {
			return len(s.Tries) > 0 && slices.ContainsFunc(s.Tries, func(t walk.Try) bool {
				return t.Reply.Result == walk.Unavailable
			})
		})
	})
}

// whole adds to an experiment what leaves no server resting after it: it is waited until
// the rest of each is over. Where it may be that rests end only when all of a group rest, a
// login while every server is silent comes behind it. False where no such login makes sure
// of that.
func (l *Learner) whole(logins []foresee.Login, about []site.Aspect, ways []leaf) (Experiment, bool) {
	e := Experiment{Logins: logins, About: about}
	if !slices.ContainsFunc(ways, func(f leaf) bool { return l.rests(f.ends) }) {
		return e, true
	}
	e.Rest = l.longest
	if l.clean(ways) {
		return e, true
	}
	least := len(logins) + 2
	for _, w := range l.ways() {
		for _, who := range l.subjects {
			if level, ok := learnerLevel(who); ok && level != 15 {
				continue
			}
			more := append(slices.Clone(logins), foresee.Login{Way: w, Who: who, When: l.dark(), After: soon})
			leaves := l.leaves(more)
			if n := failures(leaves); len(leaves) > 0 && n < least && l.clean(leaves) {
				e.Logins, least = more, n
			}
		}
	}
	return e, least < len(logins)+2
}

// clean reports whether, once the longest rest is over, a device asks as if no server had ever
// been left alone, however the experiment went: none rests, or all of a group do, which ends it.
func (l *Learner) clean(ways []leaf) bool {
	ends, withLast := slices.Index(l.open, site.AspectRestEnds), l.Device.Platform.Behaviour.RestEndsWithLast
	if values, open := l.values[site.AspectRestEnds]; open {
		withLast = slices.Contains(values, "with-last")
	}
	if !withLast {
		return true
	}
	for _, f := range ways {
		if ends >= 0 && f.of[ends] >= 0 && !f.as.Platform.Behaviour.RestEndsWithLast {
			continue // here they end by time
		}
		rests := f.ends[len(f.ends)-1].Rests
		for _, g := range l.groups() {
			resting := 0
			for _, s := range g.Servers {
				if _, rest := rests[s]; rest {
					resting++
				}
			}
			if resting > 0 && resting < len(g.Servers) {
				return false
			}
		}
	}
	return true
}

// groups returns the groups that the device asks.
func (l *Learner) groups() []*site.Group {
	var all []*site.Group
	for _, w := range l.Device.Ways {
		for _, list := range w.Lists {
			if list == nil {
				continue
			}
			for _, m := range list.Methods {
				if g, ok := m.Group(); ok && !slices.Contains(all, g) {
					all = append(all, g)
				}
			}
		}
	}
	return all
}

// reset is a login that gets in, whatever is not known: what a lock counts begins anew.
func (l *Learner) reset() (Experiment, bool) {
	for _, w := range l.ways() {
		for _, who := range l.subjects {
			if who.Kind != foresee.Known {
				continue
			}
			logins := []foresee.Login{{Way: w, Who: who}}
			leaves := l.leaves(logins)
			if len(leaves) == 0 || failures(leaves) > 0 {
				continue
			}
			if e, ok := l.whole(logins, nil, leaves); ok && failures(l.leaves(e.Logins)) == 0 {
				return e, true
			}
		}
	}
	return Experiment{}, false
}

// DeadTime returns the experiment that measures for how long a server is left alone which gave
// no answer: a login shortly before the time that the site says is over, and one after it.
// False where nothing can be left alone by time, or no way in asks such a server first.
func (l *Learner) DeadTime() (Experiment, *site.Server, bool) {
	ends, open := l.values[site.AspectRestEnds]
	byTime := l.Device.Platform.Behaviour.Value(site.AspectRestEnds) == "by-time"
	if open {
		byTime = slices.Contains(ends, "by-time")
	}
	back := l.Back()
	if l.longest == 0 || !byTime || len(back) == 0 {
		return Experiment{}, nil, false
	}
	way := back[0].Logins[0].Way
	list := way.Lists[site.Login]
	if list == nil || len(list.Methods[0].Servers()) < 2 {
		return Experiment{}, nil, false // of one server alone it does not show: it is asked where all are left alone
	}
	first := list.Servers()[0]
	dead := l.Device.Patience(first).DeadTime
	for _, who := range l.subjects {
		if level, ok := learnerLevel(who); ok && level == 15 && dead > 0 {
			one := []foresee.Condition{{Server: first, State: foresee.Down}}
			return Experiment{Logins: []foresee.Login{{Way: way, Who: who, When: one},
					{Way: way, Who: who, After: dead - dead/8}, {Way: way, Who: who, After: dead / 4}},
					Rest: l.longest},
				first, true
		}
	}
	return Experiment{}, nil, false
}

// Names returns the logins by which a server hears how the device names its ports: one at each
// way in that asks a server and by which none was heard yet.
func (l *Learner) Names(heard map[string][]string) []Experiment {
	var experiments []Experiment
	for _, w := range l.Device.Ways {
		if l.Ways != nil && !slices.Contains(l.Ways, w.Access) || len(heard[w.Access]) > 0 ||
			w.HasLines && w.Lines.Low > 0 || l.failed >= l.Failures {
			continue
		}
		for _, who := range l.subjects {
			if level, ok := learnerLevel(who); !ok || level != 15 {
				continue
			}
			logins := []foresee.Login{{Way: w, Who: who}}
			if ends, _ := l.series(l.as(l.nothing()), logins); len(
				Asked(l.Reckoner, l.as(l.nothing()), ends[0].Steps)) > 0 {
				experiments = append(experiments, Experiment{Logins: logins, Rest: l.longest})
			}
		}
	}
	return experiments
}

// LeftAlone reads from what was seen of a DeadTime experiment for how long the server was
// left alone: at least, and at most; 0 for not bounded.
func LeftAlone(e Experiment, s *site.Server, seen []Seen) (least, most time.Duration) {
	asked := func(i int) bool {
		return slices.ContainsFunc(seen[i].Asked, func(line string) bool {
			return strings.HasPrefix(line, string(site.AskLogin)+" "+s.Name+" ")
		})
	}
	since := time.Duration(0)
	for i := 1; i < len(e.Logins) && i < len(seen); i++ {
		since += e.Logins[i].After
		if asked(i) {
			return least, since
		}
		least = since
		since += seen[i].Wait
	}
	return least, 0
}

// Describe says what was tried and what was seen, for people.
func Describe(e Experiment, seen []Seen) string {
	var parts []string
	for i, g := range e.Logins {
		text := fmt.Sprintf("%s by %s", g.Who.Name, g.Way.Name())
		if when := conditions(g.When); when != "" {
			text += " while " + when
		}
		if i < len(seen) {
			text += ": " + seen[i].String()
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "; then ")
}

// conditions puts states into words: "tern and plover are silent", "" for all up.
func conditions(when []foresee.Condition) string {
	var names, states []string
	for _, c := range when {
		names = append(names, c.Server.Name)
		states = append(states, string(c.State))
	}
	if len(when) == 0 {
		return ""
	}
	state := states[0]
	if foresee.State(state) == foresee.NoRecords {
		state = "without records"
	}
	if len(names) == 1 {
		return names[0] + " is " + state
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1] + " are " + state
}

// String says what was seen, for people.
func (s Seen) String() string {
	text := "refused"
	if s.In {
		text = "in"
		if s.Level != NoLevel {
			text += fmt.Sprintf(" at level %d", s.Level)
		}
	}
	if s.Wait >= 100*time.Millisecond {
		text += " after " + s.Wait.Round(100*time.Millisecond).String()
	}
	if len(s.Asked) > 0 {
		return text + ", asked " + strings.Join(s.Asked, ", ")
	}
	return text + ", no server asked"
}
