package site

import (
	"slices"
	"strings"
)

// Member stands for people whom only a directory knows and who are alike to every
// grant: those in one team, or in none that any grant names.
type Member struct {
	Team   string // "" for none
	Person *Person
}

// Title is how a member is called in sentences.
func (m Member) Title() string {
	if m.Team == "" {
		return "anyone else in a directory"
	}
	return "anyone of team " + m.Team
}

// Books returns the LDAP servers that can know people whom the site does not name:
// those that serve asks, and those that devices ask themselves.
func (s *Site) Books() []*Server {
	servers := slices.Clone(s.Directories)
	for _, g := range s.Groups {
		for _, v := range g.Servers {
			if v.Protocol == LDAP && !slices.Contains(servers, v) {
				servers = append(servers, v)
			}
		}
	}
	return servers
}

// Members returns one member for each team that a grant names, in the order of
// the grants, and one for people in no such team; none where no directory is
// asked. Whoever is in several teams has the first grant that any of them has, as
// one of these members has it. Teams come from a directory only where it says
// which attribute names them.
//
// The person of a member is one of lab.people with just that team, else one that
// is made up here: nobody else of the site has the name.
func (s *Site) Members() []Member {
	books := s.Books()
	if len(books) == 0 {
		return nil
	}
	var members []Member
	add := func(team string) {
		if !slices.ContainsFunc(members, func(m Member) bool { return m.Team == team }) {
			members = append(members, Member{Team: team, Person: s.member(team)})
		}
	}
	if slices.ContainsFunc(books, func(v *Server) bool { return v.Directory.TeamsFrom != "" }) {
		for _, g := range s.Grants {
			for _, w := range g.Who {
				if w.Team != "" {
					add(w.Team)
				}
			}
		}
	}
	add("")
	return members
}

// member returns the person that stands for a team.
func (s *Site) member(team string) *Person {
	var teams []string
	if team != "" {
		teams = []string{team}
	}
	for _, p := range s.Lab.People {
		if slices.Equal(p.Teams, teams) && !p.Disabled && p.Until.IsZero() && s.Person(p.Name) == nil {
			return p
		}
	}
	name := "someone.of." + strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' {
			return c
		}
		return '.'
	}, team)
	if team == "" {
		name = "someone.of.no.team"
	}
	taken := func() bool {
		return s.Person(name) != nil || slices.ContainsFunc(
			s.Accounts, func(a *Account) bool { return a.Name == name }) ||
			slices.ContainsFunc(s.Lab.People, func(p *Person) bool { return p.Name == name })
	}
	for taken() {
		name += "."
	}
	return &Person{Ref: Ref{Name: name}, Teams: teams, FromDirectory: true}
}
