// Package words gives the RADIUS attributes that a site knows by name: those of
// the RFCs, and those of its vendors.
package words

import (
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/radius"
)

var forms = map[string]radius.Form{"text": radius.Text, "integer": radius.Integer, "octets": radius.Octets,
	"address": radius.Address, "address6": radius.Address6}

// Of gives the dictionary of a site.
func Of(s *site.Site) radius.Dictionary {
	var d radius.Dictionary
	for _, v := range s.Vendors {
		made := radius.Vendor{Name: v.Name, Number: uint32(v.Number)}
		for _, a := range v.Attributes {
			made.Attributes = append(made.Attributes, radius.Entry{Type: radius.Type(a.Number), Name: a.Name, Form: forms[a.Type], Section: "vendor " + v.Name})
		}
		d.Vendors = append(d.Vendors, made)
	}
	return d
}
