// Package attributes gives the RADIUS attributes that a site knows by name: those of
// the RFCs, and those of its vendors.
package attributes

import (
	"slices"

	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/radius"
)

var forms = map[string]radius.Form{"text": radius.Text, "integer": radius.Integer, "octets": radius.Octets,
	"address": radius.Address, "address6": radius.Address6}

// Of returns the dictionary of a site.
func Of(s *site.Site) radius.Dictionary {
	var d radius.Dictionary
	for _, v := range s.Vendors {
		made := radius.Vendor{Name: v.Name, Number: uint32(v.Number)}
		for _, a := range v.Attributes {
			made.Attributes = append(made.Attributes,
				radius.Entry{Type: radius.Type(a.Number), Name: a.Name, Form: forms[a.Type], Section: "vendor " +
					v.Name})
		}
		d.Vendors = append(d.Vendors, made)
	}
	return d
}

// Check reports every attribute that a role sends, or a platform reads, and that
// cannot be made: a name that nobody knows, or a value that does not fit.
func Check(s *site.Site) []site.Problem {
	dictionary := Of(s)
	var bad []site.Problem
	say := func(place site.Place, name, value string) {
		if _, err := dictionary.Make(name, value); err != nil {
			bad = append(bad, s.Problem(place, "%s; add it to vendors, or use another", err))
		}
	}
	for _, r := range s.Roles {
		for _, a := range r.SendRADIUS {
			say(a.Place, a.Name, a.Value)
		}
	}
	overRADIUS := slices.ContainsFunc(s.Servers, func(v *site.Server) bool { return v.Protocol == site.RADIUS })
	for _, k := range s.Platforms {
		if k.Behaviour.LevelFrom != "" {
			say(k.Place, k.Behaviour.LevelFrom, k.Behaviour.LevelText(1))
		}
		if k.Behaviour.AccountFrom != "" && overRADIUS && k.Behaviour.Speaks(site.RADIUS) {
			say(k.Place, k.Behaviour.AccountFrom, "name")
		}
	}
	return bad
}
