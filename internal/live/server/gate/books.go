package gate

import (
	"context"
	"errors"
	"slices"
	"strings"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/ldap"
	"mellowgate/internal/live/server/guard"
)

// directories are the directories of a design, asked in order for names that the
// site does not have. Who was found is remembered for a short time: a device
// that asks about each command need not wait for a search each time.
type directories struct {
	all   []*ldap.Directory
	known guard.People
}

func newDirectories(d Design) *directories {
	b := &directories{}
	for _, s := range d.Site.Directories {
		password := site.Secret{}
		if s.Directory.Key != nil {
			password = d.Keys[s.Directory.Key.Name]
		}
		var reach ldap.Reach
		if d.Directory != nil {
			reach = d.Directory(s)
		}
		b.all = append(b.all, ldap.New(s, password, reach))
	}
	return b
}

func (b *directories) close() {
	for _, d := range b.all {
		d.Close()
	}
}

// needsDirectory reports whether a question is about a name that only a directory could know, or whose password it has,
// and that must be looked up; else it returns the person as a directory was found to have them not long ago, nil
// where the name is the site's. A spelling of a name of the site never is outside: that name is the site's.
func (s *server) needsDirectory(q *question) (known *site.Person, ask bool) {
	if p := s.Site.Spelled(q.Person); len(s.directories.all) == 0 || p != nil && !p.FromDirectory {
		return nil, false
	}
	if _, isName := site.NormalName(q.Person); !isName {
		return nil, false
	}
	if q.Purpose != site.Login {
		known = s.directories.known.Recall(q.Person, q.at)
	}
	return known, known == nil
}

// limited is a person as a directory has them, within what the site says of the
// name.
func (s *server) limited(found *ldap.Found) *site.Person {
	p := &site.Person{Ref: site.Ref{Name: found.Name}, Teams: found.Teams}
	if limits := s.Site.Person(found.Name); limits != nil {
		p.Place = limits.Place
		p.OneTime = limits.OneTime
		p.Disabled = limits.Disabled
		p.Until = limits.Until
		for _, team := range limits.Teams {
			if !slices.Contains(p.Teams, team) {
				p.Teams = append(p.Teams, team)
			}
		}
	}
	return p
}

// lookUp finds a person in the directories, and for a login checks the password there. Its failure means that no
// directory that could know the person answered.
func (s *server) lookUp(ctx context.Context, q *question) identity {
	var where []string
	var failures error
	for _, d := range s.directories.all {
		found, place, failure := d.Find(ctx, q.Person)
		where = append(where, place)
		if errors.Is(failure, ldap.ErrSpelling) {
			return identity{looked: place, failure: failure}
		}
		if failure != nil {
			failures = errors.Join(failures, failure)
			continue
		}
		if found == nil {
			continue
		}
		known := s.limited(found)
		if !s.gate.confirmed.Has(known.Name) {
			s.gate.config.Learned(known.Name, "", s.gate.config.Now())
		}
		s.gate.confirmed.Note(known.Name)
		who := identity{known: known, name: known.Name, looked: place}
		if q.Purpose == site.Login {
			if who.checked, failure = s.bind(ctx, d, found, known, q); failure != nil {
				return identity{looked: d.Name() + ": " + failure.Error(), failure: failure}
			}
		}
		s.directories.known.Remember(known, q.at)
		return who
	}
	// an unknown name takes as long as a wrong password
	if failures == nil && q.Purpose == site.Login && len(s.directories.all) > 0 {
		_, _ = s.directories.all[0].PasswordIs(ctx, &ldap.Found{
			DN: "cn=nobody," + s.Site.Directories[0].Directory.Base},
			q.typed())
	}
	return identity{looked: strings.Join(where, "; "), failure: failures}
}

// bind checks a password by binding with it. A proof in place of a password cannot be checked so.
func (s *server) bind(ctx context.Context, d *ldap.Directory, found *ldap.Found, known *site.Person, q *question) (
	checked, error) {
	var failure error
	stale := false
	is := func(password string) bool {
		ok, err := d.PasswordIs(ctx, found, password)
		if errors.Is(err, ldap.ErrExpired) {
			stale = true
			return false
		}
		failure = errors.Join(failure, err)
		return ok && err == nil
	}
	c := checked{credential: rights.Wrong}
	switch {
	case known.OneTime != nil && q.replies == tooLate:
		return checked{credential: rights.LateCode}, nil
	case known.OneTime != nil && q.replies == toChallenge:
		return s.withCode(q, known, is), nil
	case q.hidden():
		return checked{credential: rights.Uncheckable}, nil
	case known.OneTime != nil:
		c = s.withCode(q, known, is)
	case is(q.typed()):
		c.credential = rights.Right
	}
	switch {
	case failure != nil:
		return checked{}, failure
	case stale:
		c.credential = rights.Stale
	}
	return c, nil
}

// unsure is the decision where directories did not answer.
func unsure(err error, text string) rights.Decision {
	if errors.Is(err, ldap.ErrSpelling) {
		return rights.Decision{Reason: reason.NameSpelling, Text: text}
	}
	why := reason.DirectoryDown
	switch {
	case errors.Is(err, ldap.ErrRefusesUs):
		why = reason.DirectoryRefuses
	case errors.Is(err, ldap.ErrNoBase):
		why = reason.DirectoryNoBase
	case errors.Is(err, ldap.ErrTLS):
		why = reason.DirectoryTLS
	}
	return rights.Decision{Unsure: true, Reason: why, Text: text}
}
