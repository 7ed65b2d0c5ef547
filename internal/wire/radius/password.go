package radius

import (
	"crypto/md5"
	"crypto/subtle"
	"errors"
)

// MaxPassword is the longest User-Password, RFC 2865 section 5.2.
const MaxPassword = 128

// ErrPassword is a User-Password that is not 16 to 128 octets in sixteens.
var ErrPassword = errors.New("User-Password is not 16 to 128 octets long in steps of 16 (RFC 2865, section 5.2)")

// ErrLongPassword is a password longer than User-Password carries.
var ErrLongPassword = errors.New("a RADIUS password has at most 128 octets (RFC 2865, section 5.2)")

// HidePassword hides a password of at most 128 octets for User-Password,
// RFC 2865 section 5.2.
func HidePassword(password string, request [16]byte, key []byte) ([]byte, error) {
	if len(password) > MaxPassword {
		return nil, ErrLongPassword
	}
	n := (len(password) + 15) / 16 * 16
	if n == 0 {
		n = 16
	}
	hidden := make([]byte, n)
	copy(hidden, password)
	last := request[:]
	for i := 0; i < n; i += 16 {
		pad := passwordPad(key, last)
		subtle.XORBytes(hidden[i:i+16], hidden[i:i+16], pad[:])
		last = hidden[i : i+16]
	}
	return hidden, nil
}

// RevealPassword undoes HidePassword. With another key the result is noise.
func RevealPassword(hidden []byte, request [16]byte, key []byte) (string, error) {
	if len(hidden) > MaxPassword && len(hidden)%16 == 0 {
		return "", ErrLongPassword
	}
	if len(hidden) == 0 || len(hidden)%16 != 0 || len(hidden) > MaxPassword {
		return "", ErrPassword
	}
	clear := make([]byte, len(hidden))
	last := request[:]
	for i := 0; i < len(hidden); i += 16 {
		pad := passwordPad(key, last)
		subtle.XORBytes(clear[i:i+16], hidden[i:i+16], pad[:])
		last = hidden[i : i+16]
	}
	n := len(clear)
	for n > 0 && clear[n-1] == 0 {
		n--
	}
	return string(clear[:n]), nil
}

func passwordPad(key, last []byte) [16]byte {
	var room [256]byte
	return md5.Sum(append(append(room[:0], key...), last...))
}

// CHAP builds the value of a CHAP-Password: the identifier and the response,
// RFC 2865 section 5.3.
func CHAP(ident byte, challenge []byte, password string) []byte {
	h := md5.New()
	h.Write([]byte{ident})
	h.Write([]byte(password))
	h.Write(challenge)
	return h.Sum([]byte{ident})
}

// CheckCHAP reports whether a CHAP-Password fits a password, RFC 2865 section
// 5.3. The challenge is CHAP-Challenge, or the request's Authenticator where
// there is none.
func CheckCHAP(chap []byte, challenge []byte, password string) bool {
	if len(chap) != 17 {
		return false
	}
	return subtle.ConstantTimeCompare(CHAP(chap[0], challenge, password), chap) == 1
}
