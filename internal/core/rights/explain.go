package rights

import (
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/site"
)

// Step is one thing that a decision looked at, in the order of looking.
type Step struct {
	Part  string     // person | grant | role | rule
	Place site.Place // where it stands in the site
	Text  string     // the thing itself, as the site has it
	// Result is what it did: holds, fails, nearest (the grant that failed in the
	// fewest parts), decides, or not-reached.
	Result string
	Why    string // of what fails
}

// Results of a Step.
const (
	Holds      = "holds"
	Fails      = "fails"
	Nearest    = "nearest"
	Decides    = "decides"
	NotReached = "not-reached"
)

// Explain tells how Decide comes to its answer, step by step: the person, every
// grant that names them, the role, and the command rules up to the one that
// decides.
func Explain(s *site.Site, q Question, now time.Time) ([]Step, Decision) {
	d := Decide(s, q, now)
	p, refusal := knows(s, q, now)
	if p == nil {
		return []Step{{Part: "person", Place: refusal.Place, Text: q.Person, Result: Decides, Why: refusal.Text}}, d
	}
	steps := []Step{{Part: "person", Place: p.Place, Text: p.Name + teamsOf(p), Result: Holds}}
	steps = append(steps, explainGrants(s, p, q, d, now)...)
	if d.Role == nil {
		return steps, d
	}
	result := Holds
	if q.Purpose != site.Commands {
		result = Decides
	}
	steps = append(steps,
		Step{Part: "role", Place: d.Role.Place, Text: d.Role.Name + ", level " + levelOf(d.Role), Result: result})
	if q.Purpose != site.Commands {
		return steps, d
	}
	return append(steps, explainRules(d, q)...), d
}

func explainGrants(s *site.Site, p *site.Person, q Question, d Decision, now time.Time) []Step {
	var steps []Step
	nearest := -1
	most := -1
	reached := true
	for _, g := range s.Grants {
		if !names(g, p) {
			continue
		}
		step := Step{Part: "grant", Place: g.Place, Text: describe(g), Result: NotReached}
		if reached {
			missing, parts := misfit(g, q, now)
			step.Result, step.Why = Fails, missing
			switch {
			case missing == "" && d.Grant == nil: // it holds, and an elevation asks for more than it gives
				step.Result = Decides
				step.Why = d.Text
				reached = false
			case missing == "":
				step.Result, reached = Holds, false
			case parts > most:
				nearest, most = len(steps), parts
			}
		}
		steps = append(steps, step)
	}
	switch {
	case len(steps) == 0:
		return []Step{{Part: "grant", Place: d.Place, Text: "none", Result: Decides, Why: d.Text}}
	case reached:
		steps[nearest].Result = Nearest
	}
	return steps
}

func explainRules(d Decision, q Question) []Step {
	var steps []Step
	args, reached := q.command()
	for _, r := range d.Role.Commands {
		step := Step{Part: "rule", Place: r.Place, Text: r.Text, Result: NotReached}
		switch {
		case reached && Applies(r, args, d.Role.Exact):
			step.Result, reached = Decides, false
		case reached:
			step.Result = Fails
		}
		steps = append(steps, step)
	}
	if reached {
		steps = append(steps, Step{Part: "rule", Place: d.Role.Place, Text: "none", Result: Decides, Why: d.Text})
	}
	return steps
}

// describe puts a grant into one line.
func describe(g *site.Grant) string {
	var who []string
	for _, w := range g.Who {
		if w.Team != "" {
			who = append(who, "team "+w.Team)
		} else {
			who = append(who, w.Person)
		}
	}
	text := strings.Join(who, ", ")
	labels := make([]string, 0, len(g.Where))
	for l := range g.Where {
		labels = append(labels, l)
	}
	slices.Sort(labels)
	for _, l := range labels {
		text += "; " + l + " " + strings.Join(g.Where[l], ", ")
	}
	if len(g.Devices) > 0 {
		text += "; on " + refs(g.Devices)
	}
	if len(g.Through) > 0 {
		text += "; through " + strings.Join(g.Through, ", ")
	}
	if len(g.From) > 0 {
		text += "; from " + prefixes(g.From)
	}
	if len(g.Hours) > 0 {
		text += "; " + hours(g.Hours)
	}
	return text + ": " + g.Role.Name
}
