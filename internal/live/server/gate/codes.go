package gate

import (
	"crypto/subtle"
	"strings"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
)

// codePrompt is what a person is asked once the password is right.
const codePrompt = "One-time code: "

// withCode checks the two factors of a person: a code that answers a challenge,
// a password with the code right after it, or a password alone, after which the
// code is to be asked for. Where the password is checked, passwordIs knows.
func (s *server) withCode(q *question, person *site.Person, passwordIs func(string) bool) rights.Credential {
	if q.challenged {
		q.Code = s.takeCode(person, true, q.answers)
		return rated(q.Code)
	}
	if q.proves != nil {
		return s.provenWithCode(q, person)
	}
	if password, code, ok := splitCode(q.typed); ok && passwordIs(password) {
		q.Code = s.takeCode(person, true, func(c string) bool { return same(code, c) })
		return rated(q.Code)
	}
	if passwordIs(q.typed) {
		return rights.CodeWanted
	}
	return rights.Wrong
}

// provenWithCode is withCode for CHAP and MS-CHAPv2, for which the password
// itself must be known.
func (s *server) provenWithCode(q *question, person *site.Person) rights.Credential {
	password, known := s.Keys[keyName(person.Password.Key)]
	switch {
	case person.Password.Key == nil:
		return rights.Uncheckable
	case !known:
		return rights.Wrong
	case q.proves(password.Reveal()):
		q.matched = password.Reveal()
		return rights.CodeWanted
	}
	found := s.takeCode(person, false, func(code string) bool {
		if !q.proves(password.Reveal() + code) {
			return false
		}
		q.matched = password.Reveal() + code
		return true
	})
	if !found.Found { // the password, the code or both: a proof does not tell
		return rights.Wrong
	}
	q.Code = found
	return rated(found)
}

func keyName(k *site.Key) string {
	if k == nil {
		return ""
	}
	return k.Name
}

// answers reports whether what was given is a code, whatever its form.
func (q *question) answers(code string) bool {
	if q.proves == nil {
		return same(q.typed, code)
	}
	if !q.proves(code) {
		return false
	}
	q.matched = code
	return true
}

func same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

func rated(c rights.Code) rights.Credential {
	if c.Taken {
		return rights.Right
	}
	return rights.WrongCode
}

// splitCode takes the code off the end of a password. It is false where what
// was typed does not end like a code.
func splitCode(typed string) (password, code string, ok bool) {
	at := len(typed) - secrets.CodeDigits
	if at < 0 || strings.Trim(typed[at:], "0123456789") != "" {
		return "", "", false
	}
	return typed[:at], typed[at:], true
}

// passwordIs checks a password for a question. One that can be read takes as long
// as a hash does: the time of an answer does not tell which it is.
func (s *server) passwordIs(q *question, p site.Password, typed string) bool {
	return s.judged(q, p, typed, func() bool { return false })
}

// judgedOnce checks the password of a login, of somebody or of nobody. The same password of
// the same name that is asked about many times at once, as by a program on all devices,
// is checked once for all of them.
func (s *server) judgedOnce(q *question, person *site.Person) bool {
	of := person
	if of == nil {
		of = &site.Person{Ref: site.Ref{Name: q.Person}, Password: s.dummy}
	}
	type verdict struct{ is, crowded bool }
	v, _, shared := s.gate.judging.Do(s.verified.Key(of, q.typed), func() (any, error) {
		known := func() bool { return person != nil && s.verified.Knows(person, q.typed, q.at) }
		is := s.judged(q, of.Password, q.typed, known)
		if is && person != nil {
			s.verified.Remember(person, q.typed, q.at)
		}
		return verdict{is: is, crowded: q.crowded}, nil
	})
	found := v.(verdict)
	if shared && found.crowded { // another client has too much waiting; this one may not
		q.crowded = false
		return s.judged(q, of.Password, q.typed, func() bool { return false })
	}
	q.crowded = found.crowded
	return found.is
}

// judged is passwordIs, unless it is known by the time that there is room for it.
func (s *server) judged(q *question, p site.Password, typed string, known func() bool) (is bool) {
	if len(typed) > mostPassword { // no device can have sent it as it was set
		return false
	}
	slow := p
	if p.Key != nil {
		slow = s.dummy
	}
	if !s.gate.hashing.Do(q.client.Addr(), secrets.Cost(slow), func() {
		if is = known(); is {
			return
		}
		ok, err := secrets.PasswordIs(p, typed, s.Keys)
		is = err == nil && ok
		if p.Key != nil && slow.Hash != "" {
			_, _ = secrets.PasswordIs(slow, typed, s.Keys)
		}
	}) {
		q.crowded = true
	}
	return is
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
