package secrets

import (
	"errors"
	"fmt"
	"slices"
	"sync"

	"github.com/go-crypt/crypt"
	"github.com/go-crypt/crypt/algorithm"
	"github.com/go-crypt/crypt/algorithm/argon2"
	"github.com/go-crypt/crypt/algorithm/shacrypt"

	"mellowgate/internal/core/site"
)

// hashForms reads argon2, bcrypt, scrypt, PBKDF2 and SHA-crypt. The library's
// own default is made on first use without a lock, so we hold one.
var hashForms = sync.OnceValues(crypt.NewDefaultDecoder)

func decodeHash(hash string) (algorithm.Digest, error) {
	forms, err := hashForms()
	if err != nil {
		return nil, err
	}
	return forms.Decode(hash)
}

// PasswordIs reports whether typed is the password. A hash in a form that is not
// known is an error.
func PasswordIs(p site.Password, typed string, keys site.Keys) (bool, error) {
	if p.Key != nil {
		value, known := keys[p.Key.Name]
		if !known {
			return false, fmt.Errorf("the password is the key %s, which has no value here", p.Key.Name)
		}
		return value.Equal(site.NewSecret(typed)), nil
	}
	digest, err := decodeHash(p.Hash)
	if err != nil {
		return false, errors.New("the password's hash is in a form that is not known; argon2id, bcrypt, scrypt, " +
			"PBKDF2 and SHA-crypt are")
	}
	ok, err := digest.MatchAdvanced(typed)
	if err != nil {
		return false, errors.New("the password's hash cannot be checked; it may be cut short")
	}
	return ok, nil
}

// CheckHashes reports every password of a site whose hash cannot be checked.
func CheckHashes(s *site.Site) []site.Problem {
	var bad []site.Problem
	say := func(what string, p site.Password) {
		if p.Hash == "" { // none, or the name of a key
			return
		}
		if _, err := decodeHash(p.Hash); err != nil {
			bad = append(bad, s.Problem(p.Place,
				"the password of %s is no hash in PHC or crypt form; make one with: mellowgate keys hash", what))
		}
	}
	for _, a := range s.Accounts {
		say(a.Name, a.Password)
	}
	for _, p := range slices.Concat(s.People, s.Lab.People) {
		say(p.Name, p.Password)
	}
	for _, e := range s.Elevations {
		say(e.Name, e.Password)
	}
	return bad
}

// Hash makes an argon2id hash in PHC form with the given memory in KiB and
// number of passes.
func Hash(password string, memory uint32, passes int) (string, error) {
	hasher, err := argon2.New(argon2.WithVariantID(), argon2.WithM(memory), argon2.WithT(passes), argon2.WithP(1))
	if err != nil {
		return "", err
	}
	digest, err := hasher.Hash(password)
	if err != nil {
		return "", err
	}
	return digest.Encode(), nil
}

// HashForDevices makes a SHA-512 crypt hash, which devices take more often than
// argon2id.
func HashForDevices(password string) (string, error) {
	hasher, err := shacrypt.New(shacrypt.WithSHA512())
	if err != nil {
		return "", err
	}
	digest, err := hasher.Hash(password)
	if err != nil {
		return "", err
	}
	return digest.Encode(), nil
}

// Known reports whether a hash is in a form in which passwords can be checked.
func Known(hash string) bool {
	_, err := decodeHash(hash)
	return err == nil
}
