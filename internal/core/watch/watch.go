// Package watch puts together what is seen of a running service or lab, for a screen:
// its servers, the logins as they come, the devices that fail, the sessions, and what
// is wrong. It has no clock: who tells it something says when.
package watch

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
)

// Seen is all that was seen. Its zero value has seen nothing. It is for one goroutine.
type Seen struct {
	figures  []timed // of the last minute, and the one before
	silent   string  // why there are no figures by now
	logins   []Login // the oldest first
	sessions []Session
	unread   string    // why the sessions are not known
	faults   []string  // that are set in a lab
	crowded  time.Time // when events were last left out
}

// Session is one open session.
type Session struct {
	Person, Device, Access string
	Since                  time.Time
}

// The bounds of what is kept.
const (
	mostLogins = 1000
	devicesFor = 15 * time.Minute
	// endsSoon is how long before its end a certificate is said.
	endsSoon = 30 * 24 * time.Hour
)

// Login notes a login. One that the device has noted by now takes the place of what
// servers alone had shown of it.
func (s *Seen) Login(v diagnose.Verdict) {
	l := LoginOf(v)
	if v.Story.Login != nil {
		s.logins = slices.DeleteFunc(s.logins, func(o Login) bool {
			return o.Device == l.Device && o.Verdict.Story.Login == nil &&
				shared(o.Verdict.Story.Events, v.Story.Events)
		})
	}
	i, _ := slices.BinarySearchFunc(s.logins, l, func(a, b Login) int { return cmp.Or(a.Time.Compare(b.Time), -1) })
	s.logins = slices.Insert(s.logins, i, l)
	if len(s.logins) > mostLogins {
		s.logins = slices.Delete(s.logins, 0, len(s.logins)-mostLogins)
	}
}

// shared reports whether two logins have an event in common.
func shared(a, b []evidence.Event) bool {
	return slices.ContainsFunc(a, func(x evidence.Event) bool {
		return slices.ContainsFunc(b, func(y evidence.Event) bool {
			return x.Time.Equal(y.Time) &&
				x.Server == y.Server
		})
	})
}

// Events notes which faults were set and lifted in a lab, and how many events of a crowd
// were left out.
func (s *Seen) Events(moment time.Time, events []evidence.Event, leftOut int) {
	if leftOut > 0 {
		s.crowded = moment
	}
	for _, e := range events {
		if e.Question != evidence.FaultQuestion {
			continue
		}
		s.faults = slices.DeleteFunc(s.faults, func(f string) bool { return f == e.Text })
		if e.Answer == evidence.FaultSet {
			s.faults = append(s.faults, e.Text)
		}
	}
}

// Sessions notes which sessions are open.
func (s *Seen) Sessions(all []Session) { s.sessions, s.unread = all, "" }

// NoSessions notes that they cannot be read, and why.
func (s *Seen) NoSessions(why string) { s.unread = why }

// faultsOf are the faults of one server, without its name.
func (s *Seen) faultsOf(server string) (all []string) {
	for _, f := range s.faults {
		if rest, ok := strings.CutPrefix(f, server+" "); ok {
			all = append(all, rest)
		}
	}
	return all
}

// Picture is what there is to show.
type Picture struct {
	Servers  []Server
	Told     bool    // the run has said which servers it has
	Checking float64 // passwords that wait to be checked, or are being checked
	Waiting  float64 // records that wait for the database
	Logins   []Login // the newest first
	Hidden   int     // logins that the filter leaves out
	Crowded  bool    // there were so many lately that some are left out
	Devices  []Device
	Sessions []Session // the newest first
	Alerts   []string  // what is wrong, a sentence each
}

// Picture returns what there is to show at a moment.
func (s *Seen) Picture(now time.Time, f Filter) Picture {
	p := Picture{Servers: s.servers(), Told: len(s.figures) > 0, Devices: s.devices(now),
		Crowded: !s.crowded.IsZero() && now.Sub(s.crowded) < rateOver}
	for _, l := range slices.Backward(s.logins) {
		if f.fits(l) {
			p.Logins = append(p.Logins, l)
		} else {
			p.Hidden++
		}
	}
	p.Sessions = slices.SortedFunc(slices.Values(s.sessions),
		func(a, b Session) int { return b.Since.Compare(a.Since) })
	if s.silent != "" {
		p.Alerts = append(p.Alerts, s.silent)
	} else if n := len(s.figures); n > 0 {
		last := s.figures[n-1]
		p.Checking, p.Waiting = last.Checking, last.Waiting
		p.Alerts = append(p.Alerts, last.Troubles...)
		p.Alerts = append(p.Alerts, certificates(now, last.Ends)...)
	}
	for _, v := range p.Servers {
		if v.State == Drops {
			p.Alerts = append(p.Alerts, fmt.Sprintf(
				"%s: %.0f questions had no answer in the last minute: a key or the address of a device differs, or "+
					"it was asked too much; look at the logins", v.Name, v.Dropped))
		}
	}
	if s.unread != "" {
		p.Alerts = append(p.Alerts, "sessions: "+s.unread)
	}
	return p
}

func certificates(now time.Time, ends map[string]time.Time) (all []string) {
	for name, end := range ends {
		switch left := end.Sub(now); {
		case left <= 0:
			all = append(all, fmt.Sprintf("%s: its certificate ended on %s; no device trusts it: put a new one in "+
				"its place", name, end.UTC().Format(time.DateOnly)))
		case left < endsSoon:
			all = append(all, fmt.Sprintf("%s: its certificate ends on %s, in %d days; put a new one in its place "+
				"before",
				name, end.UTC().Format(time.DateOnly), int(left/(24*time.Hour))))
		}
	}
	slices.Sort(all)
	return all
}

// devices are those with trouble, the newest first.
func (s *Seen) devices(now time.Time) (all []Device) {
	places := map[string]int{}
	for _, l := range s.logins {
		if now.Sub(l.Time) > devicesFor || l.Device == "" {
			continue
		}
		i, ok := places[l.Device]
		if !ok {
			i = len(all)
			places[l.Device] = i
			all = append(all, Device{Name: l.Device})
		}
		d := &all[i]
		d.Last = l
		if l.Failed {
			d.Failed++
		}
		if l.Trouble {
			d.Trouble++
		}
	}
	all = slices.DeleteFunc(all, func(d Device) bool { return d.Failed+d.Trouble == 0 })
	slices.SortStableFunc(all, func(a, b Device) int {
		return cmp.Or(b.Last.Time.Compare(a.Last.Time), compareNames(a.Name, b.Name))
	})
	return all
}

func compareNames(a, b string) int { return cmp.Compare(strings.ToLower(a), strings.ToLower(b)) }
