package site

import "go.yaml.in/yaml/v4"

// Rates are how often people and programs log in, by which the load of servers is
// worked out. Negative numbers are not said.
type Rates struct {
	People          int // who log in on a usual day; unless said, everybody of the site who has a grant
	Logins          int // of each of them on that day
	Commands        int // in each login
	Hours           int // over which the logins of a usual day are spread
	Busiest         int // how many times the mean of those hours the busiest minute has
	ProgramLogins   int // on each device in 24 hours, by programs such as those that save configurations
	ProgramCommands int // in each of those
	AfterAnOutage   int // of each person in the minute after an outage
	Place           Place
}

// DefaultRates returns what is taken where a site says nothing.
func DefaultRates() Rates {
	return Rates{People: -1, Logins: 8, Commands: 25, Hours: 9, Busiest: 5, ProgramLogins: 2, ProgramCommands: 10,
		AfterAnOutage: 4}
}

// mostRate is the highest of the numbers of rates: more than any site has.
const mostRate = 1_000_000

var ratesShape = shape[Rates]{
	what: "rates",
	fields: map[string]field[Rates]{
		"people":         intField("people", 0, mostRate, func(v *Rates) *int { return &v.People }),
		"logins":         intField("logins", 0, mostRate, func(v *Rates) *int { return &v.Logins }),
		"commands":       intField("commands", 0, mostRate, func(v *Rates) *int { return &v.Commands }),
		"hours":          intField("hours", 1, 24, func(v *Rates) *int { return &v.Hours }),
		"busiest-minute": intField("busiest-minute", 1, 1000, func(v *Rates) *int { return &v.Busiest }),
		"program-logins": intField("program-logins", 0, mostRate, func(v *Rates) *int { return &v.ProgramLogins }),
		"program-commands": intField("program-commands", 0, mostRate,
			func(v *Rates) *int { return &v.ProgramCommands }),
		"after-an-outage": intField("after-an-outage", 0, 1000, func(v *Rates) *int { return &v.AfterAnOutage }),
	},
}

func readRates(r *reader, n *yaml.Node, s *Site) {
	s.Rates.Place = r.place(n)
	ratesShape.read(r, n, &s.Rates)
}
