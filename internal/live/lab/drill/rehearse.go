package drill

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"slices"
	"time"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
)

// passwords are those of a rehearsed site.
type passwords struct {
	common site.Secret            // of every person whose password is a hash
	device site.Secret            // of every local account whose password is a hash
	secret site.Secret            // every elevation secret that is a hash
	opens  map[string]string      // an elevation secret's key
	kept   map[string]site.Secret // of those whose password is a key, by the key's name
	people map[string]string      // a person's key
	local  map[string]string      // an account's key
	shared map[string]bool        // accounts with the password of the person of the same name
}

// of returns the password with which somebody logs in.
func (p passwords) of(w foresee.Who) site.Secret {
	switch w.Kind {
	case foresee.Known:
		if key, has := p.people[w.Typed()]; has {
			return p.kept[key]
		}
		return p.common
	case foresee.Local:
		if key, has := p.local[w.Typed()]; has {
			return p.kept[key]
		}
		if p.shared[w.Typed()] {
			return p.common
		}
		return p.device
	}
	return site.NewSecret("not the password of anybody")
}

// login returns what somebody types to log in, and raise what for an elevation: what
// the method that is foreseen to decide takes. Who is not foreseen to know a secret
// types their own password.
func (p passwords) login(c foresee.Case) site.Secret { return p.typed(c.Who, c.SecretOf(site.Login)) }

// loginAgain is what is typed the second time: while servers rest, another method may decide.
func (p passwords) loginAgain(c foresee.Case) site.Secret { return p.typed(c.Who, c.Again.Secret) }

func (p passwords) raise(c foresee.Case) site.Secret {
	return p.typed(c.Who, c.SecretOf(site.Elevation))
}

// typed is the password of a secret, or that of somebody where there is none.
func (p passwords) typed(who foresee.Who, s *site.ElevationSecret) site.Secret {
	if s == nil {
		return p.of(who)
	}
	if key, has := p.opens[s.Name]; has {
		return p.kept[key]
	}
	return p.secret
}

// rehearse changes a site so that it can be drilled: every hash is that of one of
// three made-up passwords, of people, of accounts and of secrets, and quick to check; nobody has
// a second factor, of which a code could be used once only; time runs faster;
// nothing is held back.
func rehearse(s *site.Site, keys site.Keys, factor int) (passwords, error) {
	var b [12]byte
	_, _ = rand.Read(b[:]) // never fails: crypto/rand ends the process instead
	made := hex.EncodeToString(b[:])
	hash, err := secrets.Hash(made, 64, 1)
	other, failed := secrets.Hash("device "+made, 64, 1)
	third, failedToo := secrets.Hash("secret "+made, 64, 1)
	if err = errors.Join(err, failed, failedToo); err != nil {
		return passwords{}, err
	}
	p := passwords{common: site.NewSecret(made), device: site.NewSecret("device " + made),
		secret: site.NewSecret("secret " + made), opens: map[string]string{}, shared: map[string]bool{},
		kept: map[string]site.Secret{}, people: map[string]string{},
		local: map[string]string{}}
	change := func(of *site.Password, name string, to map[string]string) {
		if of.None {
			return
		}
		if of.Key == nil {
			of.Hash = hash
			return
		}
		to[name] = of.Key.Name
		p.kept[of.Key.Name] = keys[of.Key.Name]
	}
	for _, v := range s.Accounts {
		if person := s.Person(v.Name); person != nil && person.Password.Same(v.Password) {
			p.shared[v.Name] = true
		}
	}
	for _, v := range s.People {
		change(&v.Password, v.Name, p.people)
		v.OneTime = nil
	}
	for _, m := range s.Members() { // the lab's directories know one of each team
		if !slices.Contains(s.Lab.People, m.Person) {
			m.Person.FromDirectory = false
			s.Lab.People = append(s.Lab.People, m.Person)
		}
	}
	for _, v := range s.Lab.People {
		change(&v.Password, v.Name, map[string]string{})
	}
	for _, v := range s.Accounts {
		change(&v.Password, v.Name, p.local)
		if v.Password.Key == nil && !v.Password.None && !p.shared[v.Name] {
			v.Password.Hash = other
		}
	}
	for _, v := range s.Elevations {
		change(&v.Password, v.Name, p.opens)
		if v.Password.Key == nil {
			v.Password.Hash = third
		}
	}
	for _, g := range s.Grants { // nobody comes from an address of the site, and a drill lasts an instant
		g.From, g.Hours = nil, nil
	}
	for _, d := range s.Devices {
		for _, w := range d.Ways {
			w.From = nil
		}
	}
	faster := func(d *time.Duration) { *d /= time.Duration(factor) }
	s.Hasten(factor)
	windows := map[*site.Platform]bool{}
	for _, d := range s.Devices {
		if !windows[d.Platform] {
			windows[d.Platform] = true
			faster(&d.Platform.Behaviour.LoginWindow)
		}
	}
	s.Service = site.DefaultService()
	s.Service.Limits.FailureDelay, s.Service.Traffic = 0, 0
	return p, nil
}
