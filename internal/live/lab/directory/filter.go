package directory

import (
	"slices"
	"strings"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"
)

// collect calls each for every value that a filter asks an entry to have.
func collect(f *ber.Packet, each func(attribute, value string)) {
	switch f.Tag {
	case ldap.FilterAnd, ldap.FilterOr:
		for _, part := range f.Children {
			collect(part, each)
		}
	case ldap.FilterEqualityMatch, ldap.FilterApproxMatch:
		if len(f.Children) == 2 {
			each(text(f.Children[0]), text(f.Children[1]))
		}
	}
}

// matches reports whether an entry is one that a filter (RFC 4511, section
// 4.5.1.7) chooses. Parts that ask for an order, or for rules of matching, choose
// nobody.
func matches(f *ber.Packet, attributes map[string][]string) bool {
	switch f.Tag {
	case ldap.FilterAnd:
		return !slices.ContainsFunc(f.Children, func(part *ber.Packet) bool { return !matches(part, attributes) })
	case ldap.FilterOr:
		return slices.ContainsFunc(f.Children, func(part *ber.Packet) bool { return matches(part, attributes) })
	case ldap.FilterNot:
		return len(f.Children) == 1 && !matches(f.Children[0], attributes)
	case ldap.FilterPresent:
		return len(attributes[strings.ToLower(f.Data.String())]) > 0
	case ldap.FilterEqualityMatch, ldap.FilterApproxMatch:
		return len(f.Children) == 2 &&
			slices.ContainsFunc(attributes[strings.ToLower(text(f.Children[0]))], func(v string) bool {
				return strings.EqualFold(v, text(f.Children[1]))
			})
	case ldap.FilterSubstrings:
		return len(f.Children) == 2 &&
			slices.ContainsFunc(attributes[strings.ToLower(text(f.Children[0]))], func(v string) bool {
				return holds(strings.ToLower(v), f.Children[1].Children)
			})
	}
	return false
}

// holds reports whether a value is made of the parts of a substring filter, in
// their order.
func holds(v string, parts []*ber.Packet) bool {
	for _, p := range parts {
		part := strings.ToLower(p.Data.String())
		index := strings.Index(v, part)
		switch {
		case p.Tag == ldap.FilterSubstringsInitial && index != 0, index < 0:
			return false
		case p.Tag == ldap.FilterSubstringsFinal:
			return strings.HasSuffix(v, part)
		}
		v = v[index+len(part):]
	}
	return true
}
