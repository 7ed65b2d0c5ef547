package learn

import (
	"slices"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

// leaves returns every way in which an experiment may go: a value is chosen where the walk
// first hangs on its aspect.
func (l *Learner) leaves(logins []foresee.Login) []leaf {
	var leafNodes []leaf
	pending := [][]choice{nil}
	for len(pending) > 0 {
		chosen := pending[len(pending)-1]
		pending = pending[:len(pending)-1]
		a := l.nothing()
		for _, c := range chosen {
			a[c.aspect] = c.value
		}
		as := l.as(a)
		ends, consulted := l.series(as, logins)
		path, weight := chosen, 1.0
		for _, t := range consulted {
			i := slices.Index(l.open, t)
			if i < 0 || len(l.values[t]) < 2 {
				continue
			}
			weight /= float64(len(l.values[t]))
			if a[i] >= 0 {
				continue
			}
			for _, value := range l.values[t][1:] {
				other := choice{aspect: i, value: l.index(i, value)}
				pending = append(pending, append(slices.Clone(path), other))
			}
			first := choice{aspect: i, value: l.index(i, l.values[t][0])}
			a[i] = first.value
			path = append(slices.Clone(path), first)
		}
		leafNodes = append(leafNodes, leaf{of: a, ends: ends, as: as, weight: weight})
		if len(leafNodes) > mostLeaves {
			return nil
		}
	}
	return slices.DeleteFunc(leafNodes, func(f leaf) bool { return !l.possible(f.of) })
}

// series walks some logins. What is seen of them hangs on the form of a password too, though
// what comes of them may not.
func (l *Learner) series(as *site.Device, logins []foresee.Login) ([]foresee.Ended, []site.Aspect) {
	ends, consulted := l.Reckoner.Series(l.Device, as, logins)
	for _, end := range ends {
		for _, step := range end.Steps {
			if step.Purpose != site.Login || len(step.Tries) == 0 {
				continue
			}
			form := site.AspectPasswordTACACS
			if step.Tries[0].Server.Protocol == site.RADIUS {
				form = site.AspectPasswordRADIUS
			}
			if !slices.Contains(consulted, form) {
				consulted = append(consulted, form)
			}
		}
	}
	return ends, consulted
}

// mostLeaves bounds how many ways one experiment may go: one of more is not looked at.
const mostLeaves = 4000

type choice struct {
	aspect int
	value  int8
}

// index returns which value of an open aspect a value is.
func (l *Learner) index(open int, value string) int8 {
	return int8(slices.Index(l.domain[open], value))
}

func (l *Learner) nothing() assignment {
	var a assignment
	for i := range a {
		a[i] = -1
	}
	return a
}

// possible reports whether some combination of all values has those of an assignment and
// fits everything that was seen.
func (l *Learner) possible(a assignment) bool { return l.fits(a, 0) }

func (l *Learner) fits(a assignment, from int) bool {
	if from == len(l.facts) {
		return true
	}
	for _, one := range l.facts[from] {
		if both, ok := a.with(one); ok && l.fits(both, from+1) {
			return true
		}
	}
	return false
}

// with joins two assignments, false where they differ.
func (a assignment) with(b assignment) (assignment, bool) {
	for i, v := range b {
		switch {
		case v < 0 || a[i] == v:
		case a[i] >= 0:
			return a, false
		default:
			a[i] = v
		}
	}
	return a, true
}
