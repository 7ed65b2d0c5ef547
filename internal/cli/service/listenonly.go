package service

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
)

// chosen is which exchanges are shown. Empty fields choose any.
type chosen struct {
	person, device, server, answer, sinceText string
	since                                     time.Time
	last                                      int
}

// badAnswers stands for every exchange that came to nothing.
const badAnswers = "bad"

// answers are the words for what became of an exchange.
func answers() []string {
	var all []string
	for _, a := range []evidence.Answer{evidence.Accepted, evidence.Refused, evidence.Challenged, evidence.Failed,
		evidence.Recorded, evidence.Alive, evidence.None, evidence.Unreadable} {
		all = append(all, string(a))
	}
	return all
}

func (o *chosen) check(now time.Time) (err error) {
	if words := append(answers(), badAnswers); o.answer != "" && !slices.Contains(words, o.answer) {
		return call.Usagef("-answer is %q%s; it is one of %s", o.answer, nearest.Suggest(o.answer, words),
			strings.Join(words, ", "))
	}
	if o.last < 0 {
		return call.Usagef("-last is %d; a number above 0 is wanted", o.last)
	}
	if ago, failed := time.ParseDuration(o.sinceText); failed == nil {
		o.since = now.Add(-ago)
		return nil
	}
	if o.since, err = call.Moment(o.sinceText, now); err != nil {
		return call.Usagef("-since is %q; 03:10, 2026-11-23T03:10 or 10m is wanted", o.sinceText)
	}
	return nil
}

// known refuses a device or a server that the site does not have: nothing could ever be
// one of those. An address may be of anybody.
func (o *chosen) known(s *site.Site) error {
	var devices, servers []string
	for _, d := range s.Devices {
		devices = append(devices, d.Name)
	}
	for _, v := range s.Servers {
		servers = append(servers, v.Name)
	}
	for _, c := range []struct {
		what, name string
		names      []string
	}{{"device", o.device, devices}, {"server", o.server, servers}} {
		if _, err := netip.ParseAddr(c.name); c.name != "" && err != nil && !slices.Contains(c.names, c.name) {
			return call.Usagef("the site has no %s %q%s", c.what, c.name, nearest.Suggest(c.name, c.names))
		}
	}
	return nil
}

// takes reports whether an exchange is one of those.
func (o *chosen) takes(e exchange.Exchange) bool {
	is := func(want, name, address string) bool {
		return want == "" || want == name || want == evidence.Host(address)
	}
	return (o.person == "" || o.person == e.Person) && is(o.device, e.Device, e.Client) &&
		is(o.server, e.Server, e.ServerAddress) && !e.Time.Before(o.since) &&
		(o.answer == "" || o.answer == string(e.Answer) || o.answer == badAnswers && e.Unanswered())
}
