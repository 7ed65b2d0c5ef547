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

// books are the directories of a design, asked in order for names that the
// site does not have. Who was found is remembered for a short time: a device
// that asks about each command need not wait for a search each time.
type books struct {
	all   []*ldap.Directory
	known guard.People
}

func newBooks(d Design) *books {
	b := &books{}
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

func (b *books) close() {
	for _, d := range b.all {
		d.Close()
	}
}

// outside reports whether a question is about a name that only a directory could
// know, or whose password it has, and that must be looked up. A spelling of a
// name of the site never is: that name is the site's.
func (s *server) outside(q *question) bool {
	if p := s.Site.Spelled(q.Person); len(s.books.all) == 0 || p != nil && !p.FromDirectory {
		return false
	}
	if _, isName := site.NormalName(q.Person); !isName {
		return false
	}
	if q.Purpose != site.Login {
		q.Known = s.books.known.Recall(q.Person, q.at)
	}
	return q.Known == nil
}

// limited is a person as a directory has them, within what the site says of the
// name.
func (s *server) limited(found *ldap.Found) *site.Person {
	p := &site.Person{Ref: site.Ref{Name: found.Name}, Teams: found.Teams}
	if limits := s.Site.Person(found.Name); limits != nil {
		p.Place, p.OneTime, p.Disabled, p.Until = limits.Place, limits.OneTime, limits.Disabled, limits.Until
		for _, team := range limits.Teams {
			if !slices.Contains(p.Teams, team) {
				p.Teams = append(p.Teams, team)
			}
		}
	}
	return p
}

// lookUp finds a person in the directories, and for a login checks the
// password there. Text says where it looked. An error means that no directory
// that could know the person answered.
func (s *server) lookUp(ctx context.Context, q *question) (text string, err error) {
	var looked []string
	for _, d := range s.books.all {
		found, where, failure := d.Find(ctx, q.Person)
		looked = append(looked, where)
		if errors.Is(failure, ldap.ErrSpelling) {
			return where, failure
		}
		if failure != nil {
			err = errors.Join(err, failure)
			continue
		}
		if found == nil {
			continue
		}
		q.Credential = rights.Unchecked
		known := s.limited(found)
		if !s.gate.confirmed.Has(known.Name) {
			s.gate.config.Learned(known.Name, "", s.gate.config.Now())
		}
		s.gate.confirmed.Note(known.Name)
		if q.Purpose == site.Login {
			if q.Credential, failure = s.bind(ctx, d, found, known, q); failure != nil {
				return d.Name() + ": " + failure.Error(), failure
			}
		}
		q.Known, q.spelled, q.Person = known, q.Person, known.Name
		s.books.known.Remember(q.Known, q.at)
		return where, nil
	}
	// an unknown name takes as long as a wrong password
	if err == nil && q.Purpose == site.Login && len(s.books.all) > 0 {
		_, _ = s.books.all[0].PasswordIs(ctx, &ldap.Found{DN: "cn=nobody," + s.Site.Directories[0].Directory.Base},
			q.typed)
	}
	return strings.Join(looked, "; "), err
}

// bind checks a password by binding with it. A proof in place of a password
// cannot be checked so.
func (s *server) bind(ctx context.Context, d *ldap.Directory, found *ldap.Found, known *site.Person, q *question) (
	rights.Credential, error) {
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
	var c rights.Credential
	switch {
	case known.OneTime != nil && q.late:
		return rights.LateCode, nil
	case known.OneTime != nil && q.challenged:
		return s.withCode(q, known, is), nil
	case q.proves != nil:
		return rights.Uncheckable, nil
	case known.OneTime != nil:
		c = s.withCode(q, known, is)
	case is(q.typed):
		c = rights.Right
	default:
		c = rights.Wrong
	}
	switch {
	case failure != nil:
		return rights.Unchecked, failure
	case stale:
		return rights.Stale, nil
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
