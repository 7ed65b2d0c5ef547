package gate

import (
	"context"
	"errors"
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
// know, and that must be looked up.
func (s *server) outside(q *question) bool {
	if len(s.books.all) == 0 || s.Site.Person(q.Person) != nil {
		return false
	}
	if q.Purpose != site.Login {
		q.Known = s.books.known.Recall(q.Person, q.at)
	}
	return q.Known == nil
}

// lookUp finds a person in the directories, and for a login checks the
// password there. Text says where it looked. An error means that no directory
// that could know the person answered.
func (s *server) lookUp(ctx context.Context, q *question) (text string, err error) {
	var looked []string
	for _, d := range s.books.all {
		found, where, failure := d.Find(ctx, q.Person)
		looked = append(looked, where)
		if failure != nil {
			err = errors.Join(err, failure)
			continue
		}
		if found == nil {
			continue
		}
		q.Credential = rights.Unchecked
		if q.Purpose == site.Login {
			if q.Credential, failure = s.bind(ctx, d, found, q); failure != nil {
				return d.Name() + ": " + failure.Error(), failure
			}
		}
		q.Known = &site.Person{Ref: site.Ref{Name: q.Person}, Teams: found.Teams}
		s.books.known.Remember(q.Known, q.at)
		return where, nil
	}
	if err == nil && q.Purpose == site.Login && len(s.books.all) > 0 { // an unknown name takes as long as a wrong password
		_, _ = s.books.all[0].PasswordIs(ctx, &ldap.Found{DN: "cn=nobody," + s.Site.Directories[0].Directory.Base}, q.typed)
	}
	return strings.Join(looked, "; "), err
}

// bind checks a password by binding with it. A proof in place of a password
// cannot be checked so.
func (s *server) bind(ctx context.Context, d *ldap.Directory, found *ldap.Found, q *question) (rights.Credential,
	error) {
	if q.proves != nil {
		return rights.Uncheckable, nil
	}
	ok, err := d.PasswordIs(ctx, found, q.typed)
	switch {
	case err != nil:
		return rights.Unchecked, err
	case ok:
		return rights.Right, nil
	}
	return rights.Wrong, nil
}

// unsure is the decision where directories did not answer.
func unsure(err error, text string) rights.Decision {
	why := reason.DirectoryDown
	if errors.Is(err, ldap.ErrRefusesUs) {
		why = reason.DirectoryRefuses
	}
	return rights.Decision{Unsure: true, Reason: why, Text: text}
}
