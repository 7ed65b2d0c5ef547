package radius

import (
	"bytes"
	"crypto/hmac"
	"crypto/md5"
	"encoding/binary"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// reference signs a packet as RFC 3579 section 3.2 says, with the standard
// library's own HMAC: the Message-Authenticator is the attribute at octet 20.
func reference(b []byte, authenticator [16]byte, key []byte) []byte {
	c := bytes.Clone(b)
	copy(c[4:20], authenticator[:])
	clear(c[22:38])
	h := hmac.New(md5.New, key)
	h.Write(c)
	return h.Sum(nil)
}

// padded is a packet of a size with a Message-Authenticator in front.
func padded(t *testing.T, size int, authenticator [16]byte, key []byte) []byte {
	p := &Packet{Code: AccessRequest, ID: 7, Authenticator: authenticator}
	for left := size - 38; left > 0; {
		n := min(left, 255)
		if left-n == 1 { // an attribute has two octets at least
			n--
		}
		p.Add(ReplyMessage, bytes.Repeat([]byte{'x'}, n-2))
		left -= n
	}
	b, err := p.EncodeRequest(key)
	require.NoError(t, err)
	require.Len(t, b, size)
	return b
}

// Around the size up to which nothing is allocated, and with keys around the
// size of a block, a packet is signed as HMAC says.
func TestPacketsOfEverySizeAreSigned(t *testing.T) {
	t.Parallel()
	authenticator := [16]byte{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16}
	for _, keySize := range []int{1, 16, 63, 64, 65, 200} {
		key := bytes.Repeat([]byte{'k'}, keySize)
		for _, size := range []int{38, 40, 100, 511, 512, 513, 514, 1024, 4095, 4096} {
			b := padded(t, size, authenticator, key)
			require.Equal(t, reference(b, authenticator, key), b[22:38], "%d octets, a key of %d", size, keySize)
			require.Equal(t, Valid, CheckMessageAuthenticator(b, authenticator, key))
			require.Equal(t, Valid, CheckMessageAuthenticator(append(bytes.Clone(b), 0, 1, 2), authenticator, key),
				"octets beyond the length do not count")
			require.Equal(t, Invalid, CheckMessageAuthenticator(b, authenticator, append(bytes.Clone(key), 'k')))
			for _, at := range []int{0, 1, 21, 22, 37, size - 1} {
				if c := bytes.Clone(b); true {
					c[at] ^= 1
					require.NotEqual(t, Valid, CheckMessageAuthenticator(c, authenticator, key), "octet %d of %d", at,
						size)
				}
			}
			require.Equal(t, Invalid, CheckMessageAuthenticator(b[:len(b)-1], authenticator, key), "cut")
		}
	}
	_, err := (&Packet{Code: AccessRequest, Attributes: []Attribute{{Type: ReplyMessage, Value: make([]byte, 254)}}}).
		Append(nil)
	require.ErrorIs(t, err, ErrTooLarge)
}

// The smallest answer has 20 octets: an Accounting-Response without an
// attribute (RFC 2866, section 4.2).
func TestTheSmallestAnswer(t *testing.T) {
	t.Parallel()
	request, key := [16]byte{9}, []byte("a key")
	p := &Packet{Code: AccountingResponse, ID: 3}
	b, err := p.EncodeResponse(request, key)
	require.NoError(t, err)
	require.Len(t, b, 20)
	h := md5.New()
	h.Write(b[:4])
	h.Write(request[:])
	h.Write(key)
	require.Equal(t, h.Sum(nil), b[4:])
	require.True(t, CheckResponse(b, request, key))
	require.False(t, CheckResponse(b, request, []byte("another key")))
	require.False(t, CheckResponse(b, [16]byte{8}, key))
	require.False(t, CheckResponse(b[:19], request, key))
	require.Equal(t, Absent, CheckMessageAuthenticator(b, request, key))
	require.Equal(t, Invalid, CheckMessageAuthenticator(b[:19], request, key))
	got, err := Decode(b)
	require.NoError(t, err)
	require.Empty(t, got.Attributes)
	for n := range 20 {
		_, err := Decode(b[:n])
		require.ErrorIs(t, err, ErrShort, "%d octets", n)
	}
	for length, want := range map[uint16]error{0: ErrLength, 19: ErrLength, 20: nil, 21: ErrShort, 4096: ErrShort,
		4097: ErrLength} {
		c := bytes.Clone(b)
		binary.BigEndian.PutUint16(c[2:], length)
		_, err := Decode(c)
		require.ErrorIs(t, err, want, "a length of %d", length)
		if want == nil {
			require.True(t, CheckAccountingRequest(signedAs(c, key), key))
		} else {
			require.False(t, CheckResponse(c, request, key))
		}
		if want == ErrLength {
			_, err = ReadPacket(bytes.NewReader(c))
			require.ErrorIs(t, err, ErrLength)
		}
	}
}

// signedAs signs an Accounting-Request as RFC 2866 section 3 says.
func signedAs(b, key []byte) []byte {
	c := bytes.Clone(b)
	clear(c[4:20])
	sum := md5.Sum(append(bytes.Clone(c), key...))
	copy(c[4:20], sum[:])
	return c
}

// What follows a packet in its datagram is padding (RFC 2865, section 3); a
// stream holds the next packet there.
func TestPaddingIsPassedOver(t *testing.T) {
	t.Parallel()
	key := []byte("a key")
	p := &Packet{Code: AccessRequest, ID: 1, Authenticator: [16]byte{1}}
	p.AddText(UserName, "ines")
	b, err := p.EncodeRequest(key)
	require.NoError(t, err)
	for _, rest := range [][]byte{{0}, {1, 255}, bytes.Repeat([]byte{1}, 300)} {
		got, err := Decode(append(bytes.Clone(b), rest...))
		require.NoError(t, err)
		require.Len(t, got.Attributes, 2)
		require.Equal(t, "ines", got.Text(UserName))
		stream := bytes.NewReader(append(bytes.Clone(b), rest...))
		one, err := ReadPacket(stream)
		require.NoError(t, err)
		require.Equal(t, b, one)
		require.Equal(t, len(rest), stream.Len())
	}
	_, err = ReadPacket(bytes.NewReader(b[:len(b)-1]))
	require.Error(t, err)
}

// Attributes that are shorter than two octets, or run over the end, drop the
// packet; the longest value has 253 octets.
func TestAttributesEndWhereThePacketEnds(t *testing.T) {
	t.Parallel()
	packet := func(attributes ...byte) []byte {
		b := append([]byte{1, 2, 0, 0}, make([]byte, 16)...)
		b = append(b, attributes...)
		binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
		return b
	}
	for _, bad := range [][]byte{{1}, {1, 0}, {1, 1}, {1, 3}, {1, 4, 'x'}, {1, 2, 1}, {1, 255}} {
		_, err := Decode(packet(bad...))
		require.ErrorIs(t, err, ErrOverrun, "%v", bad)
	}
	for n, good := range map[int][]byte{1: {1, 2}, 2: {1, 3, 'x', 1, 2}} {
		p, err := Decode(packet(good...))
		require.NoError(t, err)
		require.Len(t, p.Attributes, n)
	}
	p := &Packet{Code: AccessAccept}
	p.AddText(ReplyMessage, strings.Repeat("x", 300))
	require.Len(t, p.Text(ReplyMessage), 253)
	require.Empty(t, p.Text(UserName))
	_, has := p.Get(UserName)
	require.False(t, has)
	p.AddInteger(SessionTimeout, 0x01020304)
	n, ok := p.Integer(SessionTimeout)
	require.True(t, ok)
	require.EqualValues(t, 0x01020304, n)
	_, ok = p.Integer(ReplyMessage)
	require.False(t, ok, "an integer has four octets")
	_, ok = p.Integer(State)
	require.False(t, ok)
}

// Passwords of every length that matters come back, and empty ones too; what is
// no hidden password is an error and no panic.
func TestPasswordsOfEveryLength(t *testing.T) {
	t.Parallel()
	request, key := [16]byte{4, 5}, []byte("a key")
	for _, n := range []int{0, 1, 15, 16, 17, 31, 32, 33, 127, 128} {
		password := strings.Repeat("p", n)
		hidden, err := HidePassword(password, request, key)
		require.NoError(t, err)
		require.Len(t, hidden, max(16, (n+15)/16*16))
		got, err := RevealPassword(hidden, request, key)
		require.NoError(t, err)
		require.Equal(t, password, got)
		first := md5.Sum(append(bytes.Clone(key), request[:]...))
		for i := range min(n, 16) { // RFC 2865, section 5.2
			require.Equal(t, byte('p')^first[i], hidden[i])
		}
		other, err := RevealPassword(hidden, request, []byte("another key"))
		require.NoError(t, err)
		require.NotEqual(t, password, other, "%d", n)
	}
	_, err := HidePassword(strings.Repeat("p", 129), request, key)
	require.ErrorContains(t, err, "at most 128 octets")
	_, err = RevealPassword(make([]byte, 144), request, key)
	require.ErrorIs(t, err, ErrLongPassword)
	for _, n := range []int{0, 1, 15, 17, 129} {
		_, err := RevealPassword(make([]byte, n), request, key)
		require.ErrorIs(t, err, ErrPassword, "%d octets", n)
	}
}

// A CHAP-Password has 17 octets; a shorter challenge or response is refused
// without a panic.
func TestCHAPOfEveryLength(t *testing.T) {
	t.Parallel()
	for _, challenge := range [][]byte{nil, {1}, make([]byte, 16), make([]byte, 200)} {
		for _, password := range []string{"", "right"} {
			chap := CHAP(9, challenge, password)
			sum := md5.Sum(append(append([]byte{9}, password...), challenge...))
			require.Equal(t, append([]byte{9}, sum[:]...), chap)
			require.True(t, CheckCHAP(chap, challenge, password))
			require.False(t, CheckCHAP(chap, challenge, password+"x"))
			require.False(t, CheckCHAP(chap, append(bytes.Clone(challenge), 1), password))
			for n := range 17 {
				require.False(t, CheckCHAP(chap[:n], challenge, password))
			}
			require.False(t, CheckCHAP(append(bytes.Clone(chap), 0), challenge, password))
		}
	}
}

func TestMSCHAPAttributesOfOtherLengthsAreRefused(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		challenge, response int
		present             bool
		err                 error
	}{{16, 50, true, nil}, {15, 50, true, ErrMSCHAP}, {17, 50, true, ErrMSCHAP}, {16, 49, true, ErrMSCHAP},
		{16, 51, true, ErrMSCHAP}, {0, 50, true, ErrMSCHAP}, {16, -1, false, nil}} {
		p := &Packet{Code: AccessRequest}
		if c.challenge > 0 {
			p.Add(VendorSpecific, AppendVendor(nil, VendorMSCHAP, Attribute{Type: MSCHAPChallenge,
				Value: make([]byte, c.challenge)}))
		}
		if c.response >= 0 {
			value := make([]byte, c.response)
			value[0] = 42
			p.Add(VendorSpecific, AppendVendor(nil, VendorMSCHAP, Attribute{Type: MSCHAP2Response, Value: value}))
		}
		_, ident, response, present, err := p.MSCHAP2()
		require.Equal(t, c.present, present, "%+v", c)
		require.ErrorIs(t, err, c.err)
		if c.present && c.err == nil {
			require.EqualValues(t, 42, ident)
			require.Len(t, response, 24)
		}
	}
}
