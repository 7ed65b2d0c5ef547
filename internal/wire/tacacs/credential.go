package tacacs

import (
	"crypto/md5"
	"crypto/subtle"

	"mellowgate/internal/wire/mschap"
)

// chapResponse is the length of a CHAP response, RFC 1994.
const chapResponse = 16

// CHAPData builds the data of a CHAP START: the PPP identifier, the challenge
// and the response, RFC 8907 section 5.4.2.3.
func CHAPData(ident byte, challenge []byte, password string) string {
	return string([]byte{ident}) + string(challenge) + string(chap(ident, challenge, password))
}

func chap(ident byte, challenge []byte, password string) []byte {
	h := md5.New()
	h.Write([]byte{ident})
	h.Write([]byte(password))
	h.Write(challenge)
	return h.Sum(nil)
}

// CheckCHAP reports whether the data of a CHAP START fits a password.
func CheckCHAP(data, password string) bool {
	n := len(data) - chapResponse
	if n < 2 {
		return false
	}
	return subtle.ConstantTimeCompare(chap(data[0], []byte(data[1:n]), password), []byte(data[n:])) == 1
}

// MSCHAP2Data builds the data of an MS-CHAPv2 START: the PPP identifier, the
// challenge of 16 octets and the response of 49, RFC 8907 section 5.4.2.5.
func MSCHAP2Data(ident byte, x mschap.Exchange, password string) string {
	response := x.NTResponse(password)
	data := append([]byte{ident}, x.AuthenticatorChallenge[:]...)
	data = append(append(data, x.PeerChallenge[:]...), make([]byte, 8)...)
	return string(append(append(data, response[:]...), 0))
}

// CheckMSCHAP2 reports whether the data of an MS-CHAPv2 START fits a password.
func CheckMSCHAP2(user, data, password string) bool {
	if len(data) != 1+16+49 {
		return false
	}
	x := mschap.Exchange{User: user, AuthenticatorChallenge: [16]byte([]byte(data[1:17])),
		PeerChallenge: [16]byte([]byte(data[17:33]))}
	return x.Check([]byte(data[41:65]), password)
}
