package findings

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
)

// grantsAndRules looks for people without a grant, grants that never match and
// rules that never decide.
func grantsAndRules(c *checker) {
	c.ungranted()
	s := c.reckoner.Site
	for i, g := range s.Grants {
		for _, l := range sortedLabels(g) {
			bears := slices.ContainsFunc(s.Devices,
				func(d *site.Device) bool { return slices.Contains(g.Where[l], d.Labels[l]) })
			if len(s.Devices) > 0 && !bears {
				c.add(Finding{Code: "no-grant", Place: g.Place,
					Text: fmt.Sprintf("This grant never matches: no device has the label %s with %s.", l,
						strings.Join(g.Where[l], " or ")),
					Repair: "give devices the label, or mend the grant"})
			}
		}
		for _, earlier := range s.Grants[:i] {
			if takesAll(earlier, g) {
				c.add(Finding{Code: "no-grant", Place: g.Place,
					Text: fmt.Sprintf("This grant never matches: the one in %s comes first and holds wherever it does.",
						s.Where(earlier.Place)),
					Repair: "put it before that one, or take it out"})
				break
			}
		}
	}
	for _, r := range s.Roles {
		for i, rule := range r.Commands {
			for _, earlier := range r.Commands[:i] {
				if covers(earlier.Words, rule.Words) {
					c.add(Finding{Code: "rule-shadowed", Place: rule.Place,
						Text: fmt.Sprintf("The rule %q of the role %s never decides: %q before it matches all that "+
							"it matches.",
							rule.Text, r.Name, earlier.Text),
						Repair: "put it before that rule, or take it out"})
					break
				}
			}
		}
	}
}

func sortedLabels(g *site.Grant) []string {
	labels := make([]string, 0, len(g.Where))
	for l := range g.Where {
		labels = append(labels, l)
	}
	slices.Sort(labels)
	return labels
}

// ungranted reports people whom no grant names, by team where it is a team's
// want.
func (c *checker) ungranted() {
	s := c.reckoner.Site
	teams, people := map[string]bool{}, map[string]bool{}
	for _, g := range s.Grants {
		for _, w := range g.Who {
			teams[w.Team], people[w.Person] = true, true
		}
	}
	said := map[string]bool{}
	for _, p := range s.People {
		if p.FromDirectory && len(p.Teams) == 0 {
			continue // a directory has the teams
		}
		granted := people[p.Name] || slices.ContainsFunc(p.Teams, func(t string) bool { return teams[t] })
		if granted || p.Disabled {
			continue
		}
		who := "person " + p.Name
		if len(p.Teams) > 0 {
			who = "team " + p.Teams[0]
		}
		if !said[who] {
			said[who] = true
			c.add(Finding{Code: "no-grant", Place: p.Place,
				Text:   fmt.Sprintf("No grant names the %s: %s is refused everywhere.", who, p.Name),
				Repair: "add a grant: - {who: [" + who + "], role: ROLE}"})
		}
	}
}

// portNamesUnsaid looks for grants that hold for some ways in, on devices of which
// nobody has said how they name their ports: servers know a way in by that name.
func portNamesUnsaid(c *checker, sh foresee.Shape) {
	d := sh.Devices[0]
	if d.Platform.Behaviour.PortNames != nil ||
		!slices.ContainsFunc(d.Servers(), func(s *site.Server) bool { return s.Protocol != site.LDAP }) {
		return
	}
	for _, g := range c.reckoner.Site.Grants {
		if len(g.Through) == 0 || !g.On(d) {
			continue
		}
		f := Finding{Code: "port-names-unsaid", Devices: sh.Devices, Place: d.Platform.Place,
			Text: fmt.Sprintf("A grant holds for %s alone (%s), and nothing says how devices of the platform %s name "+
				"their ports to servers: one that names them otherwise than %s is refused there.", join(g.Through),
				c.reckoner.Site.Where(g.Place), d.Platform.Name, d.Platform.Behaviour.PortNames.Port(g.Through[0], 0)),
			Repair: "write port-names: {" + g.Through[0] +
				": [NAME]} in the behaviour of the platform, with the name that the device sends; serve tells it " +
				"at the " +
				"first login"}
		if !f.Place.Known() {
			f.Place = d.Place
		}
		c.add(f)
		return
	}
}

// takesAll reports whether a grant holds wherever another one does.
func takesAll(first, g *site.Grant) bool {
	for _, w := range g.Who {
		if !slices.ContainsFunc(first.Who, func(f site.Who) bool { return f.Team == w.Team && f.Person == w.Person }) {
			return false
		}
	}
	if len(first.Devices) > 0 && (len(g.Devices) == 0 || slices.ContainsFunc(g.Devices, func(r site.Ref) bool {
		return !slices.ContainsFunc(first.Devices, func(f site.Ref) bool { return f.Name == r.Name })
	})) {
		return false
	}
	for l, values := range first.Where {
		have, said := g.Where[l]
		if !said {
			return false
		}
		for _, v := range have {
			if !slices.Contains(values, v) {
				return false
			}
		}
	}
	if len(first.Through) > 0 {
		if len(g.Through) == 0 {
			return false
		}
		for _, w := range g.Through {
			if !slices.Contains(first.Through, w) {
				return false
			}
		}
	}
	return len(first.From) == 0 && len(first.Hours) == 0
}

// covers reports whether the words of a rule match every line that other words
// match.
func covers(a, b []string) bool {
	for i := 0; ; i++ {
		switch {
		case i < len(a) && a[i] == "**":
			return true
		case i < len(b) && b[i] == "**":
			return false
		case i == len(a) || i == len(b):
			return len(a) == len(b)
		case a[i] != "*" && a[i] != b[i]:
			return false
		}
	}
}

// labelSlips looks for a label that one device alone bears and that is a typing slip
// away from one that others bear, or that a grant asks for.
func labelSlips(c *checker) {
	s := c.reckoner.Site
	bear, asked := map[string]map[string][]*site.Device{}, map[string]map[string]bool{}
	for _, d := range s.Devices {
		for label, value := range d.Labels {
			if bear[label] == nil {
				bear[label] = map[string][]*site.Device{}
			}
			bear[label][value] = append(bear[label][value], d)
		}
	}
	for _, g := range s.Grants {
		for label, values := range g.Where {
			for _, v := range values {
				if asked[label] == nil {
					asked[label] = map[string]bool{}
				}
				asked[label][v] = true
			}
		}
	}
	for _, label := range slices.Sorted(maps.Keys(bear)) {
		for _, value := range slices.Sorted(maps.Keys(bear[label])) {
			if len(bear[label][value]) > 1 || asked[label][value] || len(value) < 4 {
				continue
			}
			for _, other := range slices.Sorted(maps.Keys(bear[label])) {
				if len(bear[label][other]) < 2 && !asked[label][other] || nearest.Slips(value, other) != 1 ||
					numbered(value, other) {
					continue
				}
				d := bear[label][value][0]
				c.add(Finding{Code: "label-slip", Devices: []*site.Device{d}, Place: d.Place,
					Text: fmt.Sprintf("%s has %s: %s, and %d other devices have %s: what holds for them does not "+
						"hold for it.",
						d.Name, label, value, len(bear[label][other]), other),
					Repair: "write " + label + ": " + other + "; or accept this, if it is a name of its own"})
				break
			}
		}
	}
}

// numbered reports whether two names differ in digits only, as those of a row do.
func numbered(a, b string) bool {
	letters := func(c rune) rune {
		if c >= '0' && c <= '9' {
			return -1
		}
		return c
	}
	return strings.Map(letters, a) == strings.Map(letters, b)
}
