package rights

import (
	"slices"
	"time"

	"mellowgate/internal/core/site"
)

// PutOut returns the people, by name, whom one site could let in at a time and a
// later one at a later time does not: who was disabled, whose last day is over,
// and who is not in it any more.
func PutOut(before, after *site.Site, then, now time.Time) []string {
	var names []string
	for _, p := range after.People {
		was := before.Person(p.Name) // nobody: a directory may have had them
		if out(p, now) && (was == nil || !out(was, then)) {
			names = append(names, p.Name)
		}
	}
	for _, p := range before.People {
		if after.Person(p.Name) == nil && !out(p, then) && !p.FromDirectory {
			names = append(names, p.Name)
		}
	}
	slices.Sort(names)
	return names
}

// out reports whether a site keeps a person out, whoever has the password.
func out(p *site.Person, now time.Time) bool { return p.Disabled || p.Expired(now) }
