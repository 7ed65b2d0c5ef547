// Package mschap is the arithmetic of MS-CHAPv2, RFC 2759. RADIUS (RFC 2548)
// and TACACS+ (RFC 8907, section 5.4.2.5) carry it; neither encrypts it.
package mschap

import (
	"crypto/des" // RFC 2759 is built on DES and MD4
	"crypto/sha1"
	"crypto/subtle"
	"encoding/binary"
	"encoding/hex"
	"strings"
	"unicode/utf16"

	//lint:ignore SA1019 RFC 2759, section 8.3, asks for MD4
	"golang.org/x/crypto/md4"
)

// Exchange is an MS-CHAPv2 exchange as its two sides see it. The challenges have
// 16 octets; User is the name as typed, without a domain before it.
type Exchange struct {
	User                   string
	AuthenticatorChallenge [16]byte // the server's, or the asker's on its behalf
	PeerChallenge          [16]byte
}

// challengeHash is ChallengeHash of RFC 2759 section 8.2.
func (x Exchange) challengeHash() []byte {
	user := x.User
	if i := strings.LastIndexByte(user, '\\'); i >= 0 {
		user = user[i+1:]
	}
	h := sha1.New()
	h.Write(x.PeerChallenge[:])
	h.Write(x.AuthenticatorChallenge[:])
	h.Write([]byte(user))
	return h.Sum(nil)[:8]
}

// passwordHash is NtPasswordHash of RFC 2759 section 8.3.
func passwordHash(password string) []byte {
	h := md4.New()
	for _, unit := range utf16.Encode([]rune(password)) {
		h.Write(binary.LittleEndian.AppendUint16(nil, unit))
	}
	return h.Sum(nil)
}

// NTResponse is GenerateNTResponse of RFC 2759 section 8.1.
func (x Exchange) NTResponse(password string) [24]byte {
	var key [21]byte
	copy(key[:], passwordHash(password))
	challenge := x.challengeHash()
	var out [24]byte
	for i := range 3 {
		// The parity bits make 8 octets of 7; DES does not look at thex.
		k := key[7*i : 7*i+7]
		wide := []byte{k[0], k[0]<<7 | k[1]>>1, k[1]<<6 | k[2]>>2, k[2]<<5 | k[3]>>3, k[3]<<4 | k[4]>>4,
			k[4]<<3 | k[5]>>5,
			k[5]<<2 | k[6]>>6, k[6] << 1}
		block, err := des.NewCipher(wide)
		if err != nil { // the key has 8 octets
			panic(err)
		}
		block.Encrypt(out[8*i:], challenge)
	}
	return out
}

// Success is GenerateAuthenticatorResponse of RFC 2759 section 8.7: the text
// with which the server proves that it knows the password too.
func (x Exchange) Success(password string) string {
	response := x.NTResponse(password)
	hash := passwordHash(password)
	twice := md4.New()
	twice.Write(hash)
	h := sha1.New()
	h.Write(twice.Sum(nil))
	h.Write(response[:])
	h.Write([]byte("Magic server to client signing constant"))
	digest := h.Sum(nil)
	h = sha1.New()
	h.Write(digest)
	h.Write(x.challengeHash())
	h.Write([]byte("Pad to make it do more than one iteration"))
	return "S=" + strings.ToUpper(hex.EncodeToString(h.Sum(nil)))
}

// Check reports whether a response of 24 octets fits a password.
func (x Exchange) Check(response []byte, password string) bool {
	want := x.NTResponse(password)
	return subtle.ConstantTimeCompare(want[:], response) == 1
}
