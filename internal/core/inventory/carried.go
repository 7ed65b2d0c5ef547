package inventory

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
)

// NotCarried says what of a design a make has no room for: nothing that is said in its words
// can put that on a device.
func NotCarried(design *site.Device, limits phrase.Limits) (all []string) {
	plan := blueprint.Of(design)
	say := func(format string, args ...any) { all = append(all, fmt.Sprintf(format, args...)) }
	servers, groups := map[string]int{}, map[string]int{}
	for _, s := range plan.Servers {
		servers[s.Protocol]++
	}
	for _, g := range plan.Groups {
		groups[g.Protocol]++
	}
	for _, p := range []site.Protocol{site.RADIUS, site.TACACS} {
		if most := limits.Servers[string(p)]; most > 0 && servers[string(p)] > most {
			say("it asks %d servers by %s, and the make has room for %d", servers[string(p)], p.Title(), most)
		}
		if most := limits.Groups[string(p)]; most > 0 && groups[string(p)] > most {
			say("it has %d groups of servers of %s, and the make has room for %d", groups[string(p)], p.Title(), most)
		}
	}
	for _, field := range limits.SameForAll {
		var values []string
		for _, s := range plan.Servers {
			if v := serverValue(s, field); v != "" && !slices.Contains(values, v) {
				values = append(values, v)
			}
		}
		if len(values) > 1 {
			say("the %s of its servers differs (%s), and the make says it once for all", field,
				strings.Join(values, ", "))
		}
	}
	name := func(about phrase.About, name string) {
		if wrong := limits.Names[about].Takes(name); wrong != "" {
			say("the %s %s cannot have its name there: %s", about, name, wrong)
		}
	}
	for _, s := range plan.Servers {
		name(phrase.Server, s.Name)
	}
	for _, g := range plan.Groups {
		name(phrase.Group, g.Name)
	}
	for _, l := range plan.Lists {
		name(phrase.List, l.Name)
	}
	for _, a := range plan.Accounts {
		name(phrase.Account, a.Name)
	}
	return all
}

// serverValue is what a design says of a server, as a phrasebook names it; "" for what it does
// not say.
func serverValue(s blueprint.Server, field string) string {
	switch field {
	case "timeout":
		return span(&s.Timeout)
	case "attempts":
		if s.Protocol == string(site.RADIUS) { // over TCP it is asked once, whatever is said
			return fmt.Sprint(s.Attempts)
		}
	case "dead-time":
		return span(&s.DeadTime)
	case "source":
		return s.Source
	case "network":
		return s.Network
	case "key":
		return s.Key
	}
	return ""
}
