package sheet

import (
	"fmt"
	"strings"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// tests returns the logins at a way in that are worth trying in a state: one
// person with full rights, one with less, a wrong password, and each local
// account.
func (m *maker) tests(w *site.Way, silent map[*site.Server]bool) []Test {
	var all []Test
	add := func(password string, fits func(foresee.Case) bool) {
		for _, c := range m.cases {
			if c.Way == w && c.Holds(silent) && fits(c) {
				typed := password
				if secret := c.SecretOf(site.Login); secret != nil {
					typed = string(site.BySecret) + " " + secret.Name + " in place of the"
				}
				all = append(all, Test{Way: w.Name(), Person: c.Who.Name, Password: typed, Expect: expectation(c),
					NotKnown: notKnown(c), Wait: waitOf(c), Case: c, Dark: len(silent) > 0})
				return
			}
		}
	}
	person := func(c foresee.Case) bool { return c.Who.Kind == foresee.Known }
	add("right", func(c foresee.Case) bool { return person(c) && c.Promised == 15 && (c.Full() || len(silent) > 0) })
	add("right", func(c foresee.Case) bool {
		return person(c) && c.Promised > 0 && c.Promised < 15 && c.Outcome == walk.OutcomeIn
	})
	known := len(all)
	add("wrong", func(c foresee.Case) bool { return c.Who.Kind == foresee.Anyone })
	add("any", func(c foresee.Case) bool { return c.Who.Kind == foresee.Unknown })
	all = strangers(all, known)
	for _, a := range m.device.Logins() {
		add("right", func(c foresee.Case) bool { return c.Who.Kind == foresee.Local && c.Who.Typed() == a.Name })
	}
	return all
}

// strangers names the logins of those who have no right to get in, which stand from
// an index on: a known name with a wrong password, and a name that nobody has. They
// are one where nobody can tell them apart.
func strangers(tests []Test, from int) []Test {
	known, unknown := &tests[from], &tests[from+1]
	refused := string(walk.OutcomeRefused)
	switch {
	case known.Wait != unknown.Wait, notKnown(known.Case) != notKnown(unknown.Case):
	case known.Expect == unknown.Expect:
		known.Person = "any name"
		return tests[:from+1]
	case strings.HasPrefix(known.Expect, refused) && strings.HasPrefix(unknown.Expect, refused):
		known.Person, known.Expect = "any name", refused
		return tests[:from+1]
	}
	known.Person, unknown.Person = "a known name", "a name that nobody has"
	return tests
}

// expectation puts a case into words for a sheet.
func expectation(c foresee.Case) string {
	switch c.Outcome {
	case walk.OutcomeRefused:
		if c.By != "" {
			return "refused, by " + c.By
		}
		return "refused, nobody answers (" + string(c.Reason) + ")"
	case walk.OutcomeOpen:
		return "IN WITHOUT VALID CREDENTIALS: stop, and look at check"
	}
	text := fmt.Sprintf("in, level %d, by %s", c.Level, c.By)
	if c.Raised > c.Level {
		text += fmt.Sprintf(", level %d after an elevation", c.Raised)
	}
	return text
}

// notKnown says with which values of aspects that the site does not say a login comes out
// otherwise: trying it tells.
func notKnown(c foresee.Case) string {
	var ends []string
	values := map[string][]string{}
	for _, d := range c.Depends {
		if c.SameAtFirst(*d.Case) {
			continue
		}
		end := expectation(*d.Case)
		if d.Case.Outcome == walk.OutcomeRefused {
			end = string(walk.OutcomeRefused)
		}
		if values[end] == nil {
			ends = append(ends, end)
		}
		values[end] = append(values[end], d.Aspect.Written(d.Value))
	}
	if len(ends) == 0 {
		return ""
	}
	texts := make([]string, len(ends))
	for i, end := range ends {
		texts[i] = fmt.Sprintf("%s with %s", end, strings.Join(values[end], ", or with "))
	}
	return "not known, try it: " + strings.Join(texts, "; ")
}
