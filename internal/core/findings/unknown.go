package findings

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

// outcomeChecks are those that say who is locked out or let in, by the cases alone: what
// an aspect that the site does not say can change.
var outcomeChecks = []func(*checker, foresee.Shape){lockedOut, recordsShutOut, deadEnds, accountTooLow, givesUpFirst,
	open, cannotVerify, templateMissing, landsLow, refusedThoughGranted}

// unknownAspect is an aspect that a platform does not say, with what its values would do.
type unknownAspect struct {
	platform *site.Platform
	aspect   site.Aspect
	values   []valued
	devices  []*site.Device
}

// valued is what one value would do, with the first device for which it does.
type valued struct {
	value string
	found Finding
}

// dependsOnAspect looks for aspects that the kind of a shape does not say and with one of
// whose values somebody is locked out or let in who is not with the usual one.
func dependsOnAspect(c *checker, sh foresee.Shape) {
	supposed := c.reckoner.Suppose(sh)
	if len(supposed) == 0 {
		return
	}
	known := map[string]bool{}
	for _, f := range c.outcome(sh) {
		known[f.Code+strings.Join(f.Access, " ")] = true
	}
	for _, s := range supposed {
		var found []Finding
		for _, f := range c.outcome(s.Shape) {
			if f.Severity == Error && !known[f.Code+strings.Join(f.Access, " ")] {
				found = append(found, f)
			}
		}
		if len(found) > 0 {
			c.noteUnknown(sh, s, found)
		}
	}
}

// outcome returns what a shape's cases say of who is locked out or let in.
func (c *checker) outcome(sh foresee.Shape) []Finding {
	one := &checker{reckoner: c.reckoner, facts: c.facts, at: map[string]int{}, reached: map[*site.List]uint64{}}
	for _, check := range outcomeChecks {
		check(one, sh)
	}
	one.gather()
	one.join()
	return one.findings
}

// noteUnknown adds what a value does to what is known of the aspect.
func (c *checker) noteUnknown(sh foresee.Shape, s foresee.Supposed, found []Finding) {
	kind := sh.Devices[0].Platform
	i := slices.IndexFunc(c.unknown, func(u unknownAspect) bool { return u.platform == kind && u.aspect == s.Aspect })
	if i < 0 {
		i = len(c.unknown)
		c.unknown = append(c.unknown, unknownAspect{platform: kind, aspect: s.Aspect})
	}
	u := &c.unknown[i]
	if !slices.Contains(u.devices, sh.Devices[0]) {
		u.devices = append(u.devices, sh.Devices...)
	}
	if !slices.ContainsFunc(u.values, func(v valued) bool { return v.value == s.Value }) {
		found[0].Devices = sh.Devices
		u.values = append(u.values, valued{value: s.Value, found: found[0]})
	}
}

// tellUnknown makes a finding of each aspect that is not said and matters.
func (c *checker) tellUnknown() {
	for _, u := range c.unknown {
		f := Finding{Code: "depends-on-behaviour", Devices: u.devices, Place: u.platform.Place}
		of := "the platform " + u.platform.Name
		say := fmt.Sprintf("write what is so into the behaviour of the platform %s", u.platform.Name)
		learn := u.platform.Name
		if !u.platform.Place.Known() {
			f.Place, of = placeOf(u.devices[0]), "the device's platform"
			say, learn = "give the device a platform whose behaviour says it", "PLATFORM"
		}
		var texts []string
		for i, v := range u.values {
			same := slices.IndexFunc(u.values[:i], func(o valued) bool { return o.found.Code == v.found.Code })
			by := ""
			if len(v.found.Access) > 0 {
				by = ", by " + join(v.found.Access)
			}
			if same >= 0 {
				texts = append(texts, fmt.Sprintf("With %s too.", v.value))
			} else {
				texts = append(texts, fmt.Sprintf("With %s%s: %s", v.value, by, v.found.Text))
			}
		}
		f.Text = fmt.Sprintf("What happens depends on %s, which is not known of %s. %s", u.aspect, of,
			strings.Join(texts, " "))
		f.Repair = fmt.Sprintf("find it out by mellowgate learn %s -device %s, and %s: %s", learn, u.devices[0].Name,
			say,
			u.aspect.Written(u.platform.Behaviour.Value(u.aspect)))
		if u.platform.Place.Known() {
			f.Repair += fmt.Sprintf(" or %s", orOf(u))
		} else {
			f.Repair += " or another value"
		}
		f.Severity = severities[f.Code]
		c.holds = append(c.holds, nil)
		c.findings = append(c.findings, f)
	}
}

// orOf returns the other values of an aspect, as they are chosen from.
func orOf(u unknownAspect) string {
	if u.aspect == site.AspectLoginWindow {
		return "what it really is"
	}
	var others []string
	for _, v := range u.aspect.Values() {
		if v != u.platform.Behaviour.Value(u.aspect) && v != site.Unsent {
			others = append(others, v)
		}
	}
	if len(others) == 0 {
		return "another value"
	}
	return strings.Join(others, " or ")
}
