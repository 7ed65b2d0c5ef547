package radius

import (
	"crypto/hmac"
	"crypto/md5"
	"testing"

	"github.com/stretchr/testify/require"
)

// The authenticators are worked out here once more, as RFC 5176 sections 2.3 and
// 3.4 say: both over a packet whose Authenticator is zeros.
func TestADisconnectRequestIsSigned(t *testing.T) {
	t.Parallel()
	key := []byte("a-key-for-these-tests")
	p := &Packet{Code: DisconnectRequest, ID: 7, Authenticator: [16]byte{1, 2, 3}}
	p.AddText(UserName, "ines")
	b, err := p.EncodeDisconnectRequest(key)
	require.NoError(t, err)
	require.Equal(t, []byte{40, 7, 0, 44}, b[:4])
	require.Equal(t, []byte{80, 18}, b[20:22], "the Message-Authenticator is first")

	bare := append([]byte(nil), b...)
	clear(bare[4:20])
	signed := append([]byte(nil), bare...)
	clear(bare[22:38])
	mac := hmac.New(md5.New, key)
	mac.Write(bare)
	require.Equal(t, mac.Sum(nil), b[22:38])
	sum := md5.Sum(append(signed, key...))
	require.Equal(t, sum[:], b[4:20])
	require.Equal(t, sum, p.Authenticator, "the answer is made with it")

	require.True(t, CheckDisconnectRequest(b, key))
	require.False(t, CheckDisconnectRequest(b, []byte("another")))
	require.False(t, CheckDisconnectRequest(b[:19], key))
	for at := range b {
		other := append([]byte(nil), b...)
		other[at] ^= 1
		require.False(t, CheckDisconnectRequest(other, key), at)
	}
	// One without a Message-Authenticator is taken, one with a wrong one is not.
	plain, err := p.EncodeAccountingRequest(key)
	require.NoError(t, err)
	require.True(t, CheckDisconnectRequest(plain, key))
	p.Add(MessageAuthenticator, make([]byte, 16))
	wrong, err := p.EncodeAccountingRequest(key)
	require.NoError(t, err)
	require.False(t, CheckDisconnectRequest(wrong, key))
	_, err = (&Packet{Attributes: []Attribute{{Type: Class, Value: make([]byte, 254)}}}).EncodeDisconnectRequest(key)
	require.ErrorIs(t, err, ErrTooLarge)
}
