// Package load works out how much the servers of a site are asked: on a usual day,
// in its busiest minute, in the minute after an outage, and by how much their records
// grow. How often people log in is said by the site; who is asked what by one login is
// foreseen. What a service can take is measured, and not known here.
package load

import (
	"slices"
	"time"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

// Server is what one server is asked, in questions a second.
type Server struct {
	Server        *site.Server
	Devices       int               // that ask it while every server is up
	Day           float64           // the mean of the hours in which people work
	Busiest       float64           // the busiest minute of a usual day
	AfterOutage   float64           // the minute after an outage of every server
	Alone         float64           // that minute, while every other server stays silent
	LoginsAlone   float64           // logins a second in that minute
	InAYear       foresee.Questions // of usual days
	OctetsOfAYear float64           // of events and ledger
}

// Report is the load of a site.
type Report struct {
	People    int // who log in on a usual day
	Estimated bool
	Devices   int // at which somebody gets in by a server
	Left      int // at which nobody does
	Servers   []Server
}

// Octets that a service writes: for each question an event, and for each login and
// each record a row of the ledger. Measured with names of usual length
// (docs/performance.md).
const (
	octetsOfEvent = 340
	octetsOfRow   = 320
)

const (
	year   = 365
	minute = 60.0
	day    = 24 * 3600.0
)

// part is devices that are alike, with what one login and one command ask.
type part struct {
	devices        int
	login, command foresee.Asked
	alone          map[*site.Server][2]foresee.Asked // by the one server that is up
}

// Of works out the load of the given devices.
func Of(f foresee.Forecaster, devices []*site.Device) Report {
	r := Report{People: f.Site.Rates.People}
	if r.People < 0 {
		r.People, r.Estimated = granted(f), true
	}
	f.SkipSecond = true
	var parts []part
	for sh := range f.Each(devices) {
		d := sh.Devices[0]
		w, who, gets := f.Usual(d)
		if !gets {
			r.Left += len(sh.Devices)
			continue
		}
		p := part{devices: len(sh.Devices), alone: map[*site.Server][2]foresee.Asked{}}
		p.login, p.command = f.Questions(d, w, who, nil)
		asked := d.Servers()
		for _, s := range asked {
			login, command := f.Questions(d, w, who, slices.DeleteFunc(slices.Clone(asked),
				func(o *site.Server) bool { return o == s }))
			p.alone[s] = [2]foresee.Asked{login, command}
		}
		r.Devices += p.devices
		parts = append(parts, p)
	}
	for _, s := range f.Site.Servers {
		if one := r.server(s, f.Site.Rates, parts); one.Alone+one.AfterOutage+one.Day > 0 {
			r.Servers = append(r.Servers, one)
		}
	}
	return r
}

// granted counts the people of the site who can log in somewhere.
func granted(f foresee.Forecaster) int {
	n := 0
	for _, p := range f.Site.People {
		named := func(w site.Who) bool { return w.Person == p.Name || slices.Contains(p.Teams, w.Team) }
		if !p.Disabled && !p.Expired(f.Now) && slices.ContainsFunc(f.Site.Grants, func(g *site.Grant) bool {
			return slices.ContainsFunc(g.Who, named)
		}) {
			n++
		}
	}
	return n
}

func (r Report) server(s *site.Server, rates site.Rates, parts []part) Server {
	one := Server{Server: s}
	people := float64(r.People)
	byDevice := people * float64(rates.Logins) / float64(max(1, r.Devices)) // logins of people on each, a day
	afterwards := people * float64(rates.AfterAnOutage) / float64(max(1, r.Devices))
	var ofPeople, ofPrograms, after, alone foresee.Questions
	for _, p := range parts {
		n := float64(p.devices)
		if p.login[s].All() > 0 {
			one.Devices += p.devices
		}
		visit := p.login[s].Plus(p.command[s], float64(rates.Commands))
		ofPeople = ofPeople.Plus(visit, n*byDevice)
		ofPrograms = ofPrograms.Plus(p.login[s].Plus(p.command[s], float64(rates.ProgramCommands)),
			n*float64(rates.ProgramLogins))
		// Everybody comes back within a minute, types a command, and every program too.
		back := n * (afterwards + float64(min(1, rates.ProgramLogins)))
		after = after.Plus(p.login[s].Plus(p.command[s], 1), back)
		alone = alone.Plus(p.alone[s][0][s].Plus(p.alone[s][1][s], 1), back)
	}
	hours := float64(rates.Hours) * time.Hour.Seconds()
	one.Day = ofPeople.All()/hours + ofPrograms.All()/day
	one.Busiest = ofPeople.All()/hours*float64(rates.Busiest) + ofPrograms.All()/day
	one.AfterOutage = after.All() / minute
	one.Alone = alone.All() / minute
	one.LoginsAlone = alone.Logins / minute
	one.InAYear = foresee.Questions{}.Plus(ofPeople.Plus(ofPrograms, 1), year)
	one.OctetsOfAYear = one.InAYear.All()*octetsOfEvent + (one.InAYear.Logins+one.InAYear.Records)*octetsOfRow
	return one
}
