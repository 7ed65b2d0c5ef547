package gate

import (
	"net/netip"
	"strings"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
)

// codePrompt is what a person is asked once the password is right.
const codePrompt = "One-time code: "

// withCode checks the two factors of a person: a code that answers a challenge, a password with the code right
// after it, or a password alone, after which the code is to be asked for. Where the password is checked,
// passwordIs knows.
func (s *server) withCode(q *question, person *site.Person, passwordIs func(string) bool) checked {
	if q.replies == toChallenge {
		found := checked{}
		found.code = s.takeCode(person, true, func(code string) bool {
			if !q.matches(code) {
				return false
			}
			found.secret = code
			return true
		})
		return found.rated()
	}
	if q.hidden() {
		return s.provenWithCode(q, person)
	}
	typed := q.typed()
	if password, code, ok := splitCode(typed); ok && passwordIs(password) {
		return checked{code: s.takeCode(person, true, func(c string) bool { return same(code, c) })}.rated()
	}
	if passwordIs(typed) {
		return checked{credential: rights.CodeWanted}
	}
	return checked{credential: rights.Wrong}
}

// provenWithCode is withCode for CHAP and MS-CHAPv2, for which the password itself must be known.
func (s *server) provenWithCode(q *question, person *site.Person) checked {
	password, known := s.Keys[keyName(person.Password.Key)]
	switch {
	case person.Password.Key == nil:
		return checked{credential: rights.Uncheckable}
	case !known:
		return checked{credential: rights.Wrong}
	case q.matches(password.Reveal()):
		return checked{credential: rights.CodeWanted, secret: password.Reveal()}
	}
	found := checked{}
	found.code = s.takeCode(person, false, func(code string) bool {
		if !q.matches(password.Reveal() + code) {
			return false
		}
		found.secret = password.Reveal() + code
		return true
	})
	if !found.code.Found { // the password, the code or both: a proof does not tell
		return checked{credential: rights.Wrong}
	}
	return found.rated()
}

// rated gives what was checked the credential that its code is worth.
func (c checked) rated() checked {
	if c.credential = rights.WrongCode; c.code.Taken {
		c.credential = rights.Right
	}
	return c
}

func keyName(k *site.Key) string {
	if k == nil {
		return ""
	}
	return k.Name
}

// splitCode takes the code off the end of a password. It is false where what
// was typed does not end like a code.
func splitCode(typed string) (password, code string, ok bool) {
	index := len(typed) - secrets.CodeDigits
	if index < 0 || strings.Trim(typed[index:], "0123456789") != "" {
		return "", "", false
	}
	return typed[:index], typed[index:], true
}

// passwordIs checks a password for a question. One that can be read takes as long as a hash does: the time of an
// answer does not tell which it is. It is crowded where it was not checked.
func (s *server) passwordIs(q *question, p site.Password, typed string) (ok, crowded bool) {
	return s.judged(q.client.Addr(), p, typed, func() bool { return false })
}

// judgedOnce checks the password of a login, of somebody or of nobody. The same password of the same name that is
// asked about many times at once, as by a program on all devices, is checked once for all of them.
func (s *server) judgedOnce(q *question, person *site.Person) (ok, crowded bool) {
	of, typed := person, q.typed()
	if of == nil {
		of = &site.Person{Ref: site.Ref{Name: q.Person}, Password: s.dummy}
	}
	type verdict struct{ is, crowded bool }
	v, _, shared := s.gate.judging.Do(s.verified.Key(of, typed), func() (any, error) {
		known := func() bool { return person != nil && s.verified.Knows(person, typed, q.at) }
		is, crowded := s.judged(q.client.Addr(), of.Password, typed, known)
		if is && person != nil {
			s.verified.Remember(person, typed, q.at)
		}
		return verdict{is: is, crowded: crowded}, nil
	})
	found := v.(verdict)
	if shared && found.crowded { // another client has too much waiting; this one may not
		return s.passwordIs(q, of.Password, typed)
	}
	return found.is, found.crowded
}

// judged is passwordIs for a client, unless it is known by the time that there is room for it.
func (s *server) judged(client netip.Addr, p site.Password, typed string, known func() bool) (found, crowded bool) {
	if len(typed) > mostPassword { // no device can have sent it as it was set
		return false, false
	}
	slow := p
	if p.Key != nil {
		slow = s.dummy
	}
	done := s.gate.hashing.Do(client, secrets.Cost(slow), func() {
		if found = known(); found {
			return
		}
		ok, err := secrets.PasswordIs(p, typed, s.Keys)
		found = err == nil && ok
		if p.Key != nil && slow.Hash != "" {
			_, _ = secrets.PasswordIs(slow, typed, s.Keys)
		}
	})
	return found, !done
}

// mostPassword is how long a password can be in octets: what RADIUS carries (RFC
// 2865, section 5.2).
const mostPassword = 128

// takeCode uses up the code of a person that fits; proven where the password was
// right before.
func (s *server) takeCode(person *site.Person, proven bool, fits func(code string) bool) rights.Code {
	seed, known := s.Keys[person.OneTime.Name]
	if !known {
		return rights.Code{}
	}
	return s.gate.codes.Take(person.Name, seed, s.gate.config.Now(), proven, fits)
}
