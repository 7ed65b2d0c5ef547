package site

import (
	"slices"
	"strings"

	"golang.org/x/text/secure/precis"
)

// NormalName returns the form in which names of people are compared: that of
// UsernameCaseMapped (RFC 8265, section 3.3), in which spellings that differ in
// case or width are one. It is false for what can be no name: an empty one, or
// one with blanks or control characters.
func NormalName(name string) (string, bool) {
	normal, err := precis.UsernameCaseMapped.String(name)
	return normal, err == nil && normal != ""
}

// FoldedName returns the form in which names of anybody are counted and looked
// for: the normal form without blanks around it or, of what can be no name, the
// text itself.
func FoldedName(name string) string {
	if normal, ok := NormalName(strings.TrimSpace(name)); ok {
		return normal
	}
	return name
}

// Spelled returns the person of whose name another one is a spelling, nil for
// nobody. Blanks around it do not count: some devices leave them.
func (s *Site) Spelled(name string) *Person {
	if p := s.people[name]; p != nil {
		return p
	}
	if normal, ok := NormalName(strings.TrimSpace(name)); ok {
		return s.normal[normal]
	}
	return nil
}

// NeedsCode returns a team of a person that needs a one-time code, nil for none.
func (s *Site) NeedsCode(p *Person) *Team {
	for _, t := range s.Teams {
		if t.NeedsCode && slices.Contains(p.Teams, t.Name) {
			return t
		}
	}
	return nil
}
