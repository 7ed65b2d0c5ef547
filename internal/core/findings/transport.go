package findings

import (
	"fmt"
	"slices"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// forgeable looks for RADIUS over UDP in which a missing Message-Authenticator
// is let pass.
func forgeable(c *checker) {
	for _, s := range c.reckoner.Site.Servers {
		if s.Protocol == site.RADIUS && !s.Secured() && !s.RequireMessageAuthenticator {
			c.add(Finding{Code: "forgeable", Place: s.Place,
				Text: fmt.Sprintf("%s takes RADIUS packets without a Message-Authenticator: who sits on the way "+
					"can turn a refusal into an acceptance.", s.Name),
				Repair: "write message-authenticator: required, once every device sends one"})
		}
	}
}

// readableOnTheWay looks for RADIUS and TACACS+ without TLS between places that
// are not one trusted network.
func readableOnTheWay(c *checker, sh foresee.Shape) {
	for _, v := range c.reckoner.Site.LabelValues {
		if v.Trusted {
			continue
		}
		for _, s := range sh.Servers() {
			for _, d := range sh.Devices {
				out, in := d.Labels[v.Label] == v.Value, s.Labels[v.Label] == v.Value
				if s.Secured() || s.Protocol == site.LDAP && s.Directory.Security != "none" || out == in {
					continue
				}
				c.add(Finding{Code: "readable-on-the-way", Devices: []*site.Device{d}, Place: s.Place,
					Text: fmt.Sprintf("%s is asked over %s without TLS from beyond %s %s, which the site does not "+
						"trust: names and commands can be read there, and passwords by who finds the key.", s.Name,
						s.Protocol,
						v.Label, v.Value),
					Repair: "write transport: tls at the server, or carry this traffic through a protected tunnel " +
						"and accept the finding with that reason"})
			}
		}
	}
}

// startsWithoutStops looks for records of sessions that begin and never end.
func startsWithoutStops(c *checker, sh foresee.Shape) {
	for _, w := range sh.Devices[0].Ways {
		if l := w.Lists[site.RecordSessions]; l != nil && l.Start && l.NoStop {
			c.add(Finding{Code: "starts-without-stops", Devices: sh.Devices, Access: []string{w.Name()}, Place: l.Place,
				Text: fmt.Sprintf("The list %s records that sessions begin and never that they end: nobody can "+
					"tell later who was still in.", l.Name),
				Repair: "write when: start and stop"})
		}
	}
}

// recordsLost looks for records that hang on one server.
func recordsLost(c *checker, sh foresee.Shape) {
	if sh.Devices[0].Platform.Behaviour.RecordFailureBlocks {
		return
	}
	for _, w := range sh.Devices[0].Ways {
		for _, l := range w.Lists {
			if l == nil || !l.Purpose.Records() {
				continue
			}
			if servers := l.Servers(); len(servers) == 1 {
				c.add(Finding{Code: "records-lost", Devices: sh.Devices, Access: []string{w.Name()}, Place: l.Place,
					Text: fmt.Sprintf("The list %s has one server: when %s is silent, what people do leaves no "+
						"record, and nobody is told.", l.Name, servers[0].Name),
					Repair: "add a second server to the group, or a second group to the list"})
			}
		}
	}
}

// recordedInClear looks for records of commands on platforms that do not mask the
// secrets in them.
func recordedInClear(c *checker, sh foresee.Shape) {
	d := sh.Devices[0]
	if !d.Platform.Behaviour.RecordsSecrets {
		return
	}
	for _, w := range d.Ways {
		if l := w.Lists[site.RecordCommands]; l != nil {
			c.add(Finding{Code: "recorded-in-clear", Devices: sh.Devices, Access: []string{w.Name()}, Place: l.Place,
				Text: fmt.Sprintf("Devices of the platform %s send commands to the record as typed: a password typed "+
					"in a command is then in the ledger, for all who read it.", d.Platform.Name),
				Repair: "type secrets at prompts, not in commands; limit who reads the ledger"})
		}
	}
}

// sameGroupPlace looks for groups whose servers all share a label.
func sameGroupPlace(c *checker) {
	for _, g := range c.reckoner.Site.Groups {
		if len(g.Servers) < 2 {
			continue
		}
		for l, v := range g.Servers[0].Labels {
			if !slices.ContainsFunc(g.Servers, func(s *site.Server) bool { return s.Labels[l] != v }) {
				c.add(Finding{Code: "same-place", Place: g.Place,
					Text: fmt.Sprintf("All servers of the group %s have %s %s: what takes that away takes all of them.",
						g.Name, l,
						v),
					Repair: "put one of them elsewhere"})
			}
		}
	}
}

// slowAbove is how long a login may wait before it is worth a note.
const slowAbove = 10e9 // nanoseconds

// slow looks for logins that succeed late, and for waits that every login pays
// because servers never rest.
func slow(c *checker, sh foresee.Shape) {
	worst := map[*site.Way]foresee.Case{}
	said := map[tired]bool{}
	for _, cs := range sh.Cases {
		if cs.Outcome == walk.OutcomeRefused {
			continue
		}
		if cs.Wait > slowAbove && cs.Wait > worst[cs.Way].Wait {
			worst[cs.Way] = cs
		}
		if cs.Wait > 0 && !cs.Rests {
			c.neverRests(sh, cs, said)
		}
	}
	for _, w := range sh.Devices[0].Ways {
		if cs, found := worst[w]; found {
			c.add(Finding{Code: "slow-fallback", Devices: sh.Devices, Access: []string{w.Name()},
				Place: firstWait(cs, w.Place),
				Text: fmt.Sprintf("%s a login waits %s (%s): people will think that it is broken.", upper(when(cs)),
					seconds(cs.Wait), waitSum(cs)),
				Repair: "lower timeout or attempts of these servers"})
		}
	}
}

// tired is a server that never rests, at one way in.
type tired struct {
	way    *site.Way
	server *site.Server
}

func (c *checker) neverRests(sh foresee.Shape, cs foresee.Case, said map[tired]bool) {
	step := lastStep(cs, site.Login)
	if len(step.Method.Servers()) < 2 || len(step.Tries) == 0 {
		return
	}
	first := step.Tries[0].Server
	if sh.Devices[0].Patience(first).DeadTime > 0 || state(cs, first) != foresee.Down ||
		said[tired{way: cs.Way, server: first}] {
		return
	}
	said[tired{way: cs.Way, server: first}] = true
	c.add(Finding{Code: "never-rests", Devices: sh.Devices, Access: []string{cs.Way.Name()}, Place: first.Place,
		Text: fmt.Sprintf("%s every login waits %s for it first: the dead-time of %s is 0.", upper(when(cs)),
			seconds(cs.Wait), first.Name),
		Repair: "write dead-time: 1m (or longer) at the servers of the group " + step.Method.Ref.Name})
}
