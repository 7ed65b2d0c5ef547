package radius

import (
	"strings"
	"unicode/utf8"
)

// Veil returns a copy of an Access-Request in which what proves who somebody is cannot
// be read any more: a User-Password that one of the keys opens (RFC 2865, section 5.2)
// is stars of its length, and the responses of CHAP and MS-CHAPv2 are zeros. A
// Message-Authenticator that held with one of the keys holds with it again. All else is
// as it was, also what no key opens: it shows that the keys of two sides differ.
func Veil(b []byte, keys [][]byte) []byte {
	copied := append([]byte(nil), b...)
	p, err := Decode(copied)
	if err != nil || p.Code != AccessRequest {
		return copied
	}
	var signedBy []byte
	for _, key := range keys {
		if CheckMessageAuthenticator(b, p.Authenticator, key) == Valid {
			signedBy = key
		}
	}
	for _, a := range p.Attributes {
		switch a.Type {
		case UserPassword:
			hideAgain(a.Value, p.Authenticator, keys)
		case CHAPPassword:
			clear(a.Value[min(1, len(a.Value)):])
		case VendorSpecific:
			veilMSCHAP(a.Value)
		}
	}
	for index := headerSize; signedBy != nil && index < len(copied); index += int(copied[index+1]) {
		if Type(copied[index]) == MessageAuthenticator {
			mac := messageAuthenticator(copied[:len(b)], p.Authenticator, index+2, signedBy)
			copy(copied[index+2:], mac[:])
			break
		}
	}
	return copied
}

// veilMSCHAP clears the response of MS-CHAPv2, and leaves the challenges.
func veilMSCHAP(value []byte) {
	vendor, subs, err := DecodeVendor(value)
	if err != nil || vendor != VendorMSCHAP {
		return
	}
	for _, s := range subs {
		if s.Type == MSCHAP2Response && len(s.Value) == 50 {
			clear(s.Value[26:])
		}
	}
}

// hideAgain puts stars in the place of a password that a key opens.
func hideAgain(hidden []byte, request [16]byte, keys [][]byte) {
	for _, key := range keys {
		password, err := RevealPassword(hidden, request, key)
		if err != nil || !utf8.ValidString(password) ||
			strings.ContainsFunc(password, func(c rune) bool { return c < ' ' }) {
			continue
		}
		if stars, err := HidePassword(strings.Repeat("*", len(password)), request, key); err == nil {
			copy(hidden, stars)
		}
		return
	}
}
