package learn

import (
	"slices"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
)

// AskedIn writes what servers were asked, as Asked does, from exchanges that were captured.
// Others than those of one person are left out; strangers says whose they are.
func AskedIn(exchanges []evidence.Exchange, person string) (asked, strangers []string) {
	exchanges = slices.Clone(exchanges)
	slices.SortStableFunc(exchanges, func(a, b evidence.Exchange) int { return a.Time.Compare(b.Time) })
	type line struct {
		question site.Question
		server   string
		times    int
		form     string
	}
	var lines []line
	for _, x := range exchanges {
		if x.Person != person {
			if x.Person != "" && !slices.Contains(strangers, x.Person) {
				strangers = append(strangers, x.Person)
			}
			if x.Person != "" || x.Protocol != string(site.TACACS) {
				continue
			}
		}
		if x.Question != site.AskLogin && x.Question != site.AskSession {
			continue
		}
		times := x.Retransmissions + 1
		if n := len(lines) - 1; n >= 0 && lines[n].question == x.Question && lines[n].server == x.Server {
			lines[n].times += times
			continue
		}
		lines = append(lines, line{question: x.Question, server: x.Server, times: times, form: x.Form})
	}
	asked = []string{}
	for _, l := range lines {
		asked = append(asked, AskedLine(l.question, l.server, l.times, l.form))
	}
	return asked, strangers
}
