package radius

import (
	"bytes"
	"crypto/rand"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/wire/mschap"
)

func TestAVeiledRequestTellsNoPasswordAndAllElse(t *testing.T) {
	t.Parallel()
	seen := map[Type]int{}
	for _, file := range []string{"packets.json", "rfc-examples.json"} {
		for _, s := range read(t, file) {
			b, key := unhex(t, s.Packet), []byte(s.Key)
			was := bytes.Clone(b)
			veiled := Veil(b, [][]byte{[]byte("another"), key})
			require.Equal(t, was, b, "the packet itself is left as it is")
			p, err := Decode(veiled)
			require.NoError(t, err)
			before, err := Decode(b)
			require.NoError(t, err)
			if before.Code != AccessRequest {
				require.Equal(t, b, veiled, s.Name)
				continue
			}
			require.Equal(t, CheckMessageAuthenticator(b, before.Authenticator, key),
				CheckMessageAuthenticator(veiled, p.Authenticator, key), s.Name)
			for i, a := range p.Attributes {
				had := before.Attributes[i]
				switch a.Type {
				case UserPassword:
					clear, err := RevealPassword(a.Value, p.Authenticator, key)
					require.NoError(t, err)
					password := s.Password + s.Fields.Password
					require.Equal(t, string(bytes.Repeat([]byte("*"), len(password))), clear, s.Name)
					require.Equal(t, had.Value, Veil(b,
						[][]byte{[]byte("another")})[len(b)-len(rest(before, i)):][:len(had.Value)],
						"what no key opens stays")
					seen[a.Type]++
				case CHAPPassword:
					require.Equal(t, had.Value[0], a.Value[0])
					require.Equal(t, make([]byte, 16), a.Value[1:])
					seen[a.Type]++
				case MessageAuthenticator, VendorSpecific: // the one is made again, the other has a test of its own
				default:
					require.Equal(t, had, a, s.Name)
				}
			}
		}
	}
	require.Greater(t, seen[UserPassword], 5)
	require.Positive(t, seen[CHAPPassword])
}

// rest returns the octets from the value of an attribute to the end.
func rest(p *Packet, i int) []byte {
	var b []byte
	for _, a := range p.Attributes[i:] {
		b = append(append(b, 0, 0), a.Value...)
	}
	return b[2:]
}

func TestAVeiledMSCHAPRequestKeepsItsChallengesOnly(t *testing.T) {
	t.Parallel()
	p := &Packet{Code: AccessRequest, ID: 7}
	_, _ = rand.Read(p.Authenticator[:])
	p.AddText(UserName, "ines.marsh")
	x := mschap.Exchange{User: "ines.marsh", AuthenticatorChallenge: [16]byte{1}, PeerChallenge: [16]byte{2}}
	p.AddMSCHAP2(x, 3, "right")
	b, err := p.EncodeRequest([]byte("key"))
	require.NoError(t, err)
	veiled, err := Decode(Veil(b, [][]byte{[]byte("key")}))
	require.NoError(t, err)
	read, ident, response, present, err := veiled.MSCHAP2()
	require.NoError(t, err)
	require.True(t, present)
	require.Equal(t, x, read)
	require.Equal(t, byte(3), ident)
	require.Equal(t, make([]byte, 24), response)
}

func TestWhatIsNoRequestIsVeiledAsItIs(t *testing.T) {
	t.Parallel()
	for _, b := range [][]byte{nil, {1}, {1, 2, 0, 20}, bytes.Repeat([]byte{1}, 60),
		append([]byte{1, 2, 0, 24, 19: 0}, 2, 1, 0, 0), append([]byte{1, 2, 0, 24, 19: 0}, 26, 4, 0, 0)} {
		require.Equal(t, string(b), string(Veil(b, [][]byte{[]byte("key")})))
	}
}
