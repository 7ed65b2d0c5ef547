package learn

import (
	"strconv"
	"strings"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

// learner begins the names of the people whom the played servers know: behind it stands
// the level of their role.
const learner = "learner-"

// LearnersKey is the name of the key with the password of the people of Cast. It can be
// read, so that it can be checked in every form.
const LearnersKey = "learners-password"

// Cast puts the people of experiments in the place of those of a site that nobody else
// uses: one of each level from 0 to 15, whom every server lets in everywhere. Where the
// attribute that carries the level is not known, RADIUS servers give them a level by each
// attribute that the site knows, and each another one.
func Cast(s *site.Site, platform *site.Platform) {
	key := &site.Key{Ref: site.Ref{Name: LearnersKey}}
	s.Keys = append(s.Keys, key)
	var people []*site.Person
	var roles []*site.Role
	var grants []*site.Grant
	for level := range 16 {
		name := learner + strconv.Itoa(level)
		p := &site.Person{Ref: site.Ref{Name: name}, Password: site.Password{Key: key}}
		role := &site.Role{Ref: site.Ref{Name: name}, Level: level,
			Commands: []site.Rule{{Allow: true, Text: "allow **", Words: []string{"**"}}}}
		if !platform.Says(site.AspectLevelFrom) {
			role.SendRADIUS = otherLevels(s, level)
		}
		people, roles = append(people, p), append(roles, role)
		grants = append(grants, &site.Grant{Who: []site.Who{{Person: name}}, Role: role})
	}
	s.Populate(people, roles, grants)
}

// otherLevels returns a level by each attribute of a vendor, none of them level.
func otherLevels(s *site.Site, level int) []site.SentAttribute {
	var sentAttributes []site.SentAttribute
	for i, a := range levelAttributes(s) {
		other := (level + 2 + i%12) % 16
		sentAttributes = append(sentAttributes, site.SentAttribute{Ref: a.Ref, Value: strconv.Itoa(other)})
	}
	return sentAttributes
}

// levelAttributes are the attributes of vendors that may carry a level by itself.
func levelAttributes(s *site.Site) []site.VendorAttribute {
	var vendorAttributes []site.VendorAttribute
	for _, v := range s.Vendors {
		for _, a := range v.Attributes {
			if a.Type == "integer" || a.Type == "text" {
				vendorAttributes = append(vendorAttributes, a)
			}
		}
	}
	return vendorAttributes
}

// learnerLevel returns the level of the role of one of the people of Cast.
func learnerLevel(w foresee.Who) (int, bool) {
	level, err := strconv.Atoi(strings.TrimPrefix(w.Typed(), learner))
	return level, err == nil && strings.HasPrefix(w.Typed(), learner)
}
