package foresee

import (
	"slices"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Standing is how a device stands in one outage: by whom and by what way full
// rights are reached.
type Standing string

const (
	ByPeople  Standing = "people"  // people with full rights, by a way other than the console
	ByAccount Standing = "local"   // only a local account, by a way other than the console
	ByConsole Standing = "console" // full rights on the console only
	Nobody    Standing = "nobody"  // nobody reaches full rights
	Ajar      Standing = "open"    // anyone gets in
)

// Outage is a set of servers that are silent while all others are up.
type Outage map[*site.Server]bool

// mostCombined is up to how many servers every combination is shown.
const mostCombined = 3

// Outages returns the outages worth a column: all up first. Up to three servers
// these are all combinations; above, each server alone, and all.
func Outages(servers []*site.Server) []Outage {
	outages := []Outage{{}}
	if len(servers) > mostCombined {
		dark := Outage{}
		for _, s := range servers {
			outages = append(outages, Outage{s: true})
			dark[s] = true
		}
		return append(outages, dark)
	}
	for bits := 1; bits < 1<<len(servers); bits++ {
		o := Outage{}
		for i, s := range servers {
			if bits&(1<<i) != 0 {
				o[s] = true
			}
		}
		outages = append(outages, o)
	}
	slices.SortStableFunc(outages, func(a, b Outage) int { return len(a) - len(b) })
	return outages
}

// Standing returns how the devices of a shape stand in an outage.
func (sh Shape) Standing(o Outage) Standing {
	people := false
	account := false
	console := false
	for _, c := range sh.Cases {
		if !c.Holds(o) {
			continue
		}
		switch {
		case c.Outcome == walk.OutcomeOpen:
			return Ajar
		case !c.Full() || c.Stuck:
		case c.Way.Access == site.Console:
			console = true
		case c.Who.Kind == Local:
			account = true
		default:
			people = true
		}
	}
	switch {
	case people:
		return ByPeople
	case account:
		return ByAccount
	case console:
		return ByConsole
	}
	return Nobody
}
