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
// code is to be asked for.
func (s *server) withCode(q *question, person *site.Person) rights.Credential {
	if q.challenged {
		q.Code = s.takeCode(person, q.answers)
		return rated(q.Code)
	}
	if q.proves != nil {
		return s.provenWithCode(q, person)
	}
	if password, code, ok := splitCode(q.typed); ok && s.passwordIs(person.Password, password) {
		q.Code = s.takeCode(person, func(c string) bool { return same(code, c) })
		return rated(q.Code)
	}
	if s.passwordIs(person.Password, q.typed) {
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
	found := s.takeCode(person, func(code string) bool {
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

func (s *server) passwordIs(p site.Password, typed string) bool {
	ok, err := secrets.PasswordIs(p, typed, s.Keys)
	return err == nil && ok
}

// takeCode uses up the code of a person that fits.
func (s *server) takeCode(person *site.Person, fits func(code string) bool) rights.Code {
	seed, known := s.Keys[person.OneTime.Name]
	if !known {
		return rights.Code{}
	}
	return s.gate.codes.Take(person.Name, seed, s.gate.config.Now(), fits)
}
