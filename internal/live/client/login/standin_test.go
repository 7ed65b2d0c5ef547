package login_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/lab/standin"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/live/store/secrets"
)

// rig is a stand-in without servers, of every access method: its local accounts keeper (15) and guest (1), and the
// elevation secret bridge, have the password "right".
type rig struct {
	at      map[string]string // access method to address:port
	key     ssh.PublicKey
	trusted *x509.CertPool
}

func start(t *testing.T) rig {
	t.Helper()
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
lists:
  - {name: l, authenticate: login, methods: [local]}
  - {name: s, authorize: session, methods: [local]}
  - {name: e, authenticate: elevation, methods: [secret bridge]}
platforms: [{name: k, behaviour: {refusal: ends-list, local-level-needs-session: true, login-tries: 2, below-level: reads}}]
elevation-secrets: [{name: bridge, password: '` + hash + `'}]
accounts:
  - {name: keeper, level: 15, password: '` + hash + `'}
  - {name: guest, level: 1, password: '` + hash + `'}
devices:
  - name: sw
    platform: k
    addresses: [127.0.0.1]
    accounts: [keeper, guest]
    access:
      console: {login: l, session: s, elevation: e}
      telnet: {login: l, session: s, elevation: e}
      web: {login: l, session: s}
      api: {login: l, session: s}
      ssh: {lines: 0-7, login: l, session: s, elevation: e}
      netconf: {login: l, session: s}
`)})
	require.NoError(t, err)
	signer := newKey(t)
	authority, err := pki.NewAuthority("tests", time.Now())
	require.NoError(t, err)
	identity, err := authority.Issue("sw", netip.MustParseAddr("127.0.0.1"), time.Now())
	require.NoError(t, err)
	device := standin.New(standin.Config{Device: s.Device("sw"), HostKey: signer, Certificate: identity.Certificate})
	t.Cleanup(device.Shutdown)
	r := rig{at: map[string]string{}, key: signer.PublicKey(), trusted: identity.Trusted}
	for _, way := range s.Device("sw").Ways {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		require.True(t, device.Serve(way.Access, listener))
		r.at[way.Access] = listener.Addr().String()
	}
	return r
}

func newKey(t *testing.T) ssh.Signer {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return signer
}

func (r rig) attempt(access, person, password string) login.Attempt {
	return login.Attempt{Access: access, Address: r.at[access], Person: person, Password: site.NewSecret(password),
		HostKey: r.key, Trusted: r.trusted, ServerName: "127.0.0.1", Patience: time.Minute}
}

// Every access method lets in by the right password alone, and shows the level where it has one.
func TestEveryAccessMethodIsTried(t *testing.T) {
	t.Parallel()
	r := start(t)
	for access := range r.at {
		t.Run(access, func(t *testing.T) {
			t.Parallel()
			require.True(t, login.Has(access))
			a := r.attempt(access, "guest", "right")
			level := 1
			if a.Commands = []string{"look session", "set port 3 off"}; access == site.NETCONF {
				a.Commands, level = nil, login.UnknownLevel
			}
			seen, err := login.Do(context.Background(), a)
			require.NoError(t, err)
			require.Empty(t, seen.Detail)
			require.Equal(t, walk.OutcomeIn, seen.Outcome)
			require.Equal(t, []int{level, level}, []int{seen.Level, seen.Raised})
			require.Positive(t, seen.Took)
			require.Less(t, seen.Took, time.Minute)
			if a.Commands != nil {
				require.Len(t, seen.Commands, 2)
				require.Equal(t, "look session", seen.Commands[0].Command)
				require.Equal(t, walk.OutcomeAllowed, seen.Commands[0].Result)
				require.Contains(t, seen.Commands[0].Output, "guest")
				require.NotContains(t, seen.Commands[0].Output, "look session")
				require.Equal(t, walk.OutcomeRefused, seen.Commands[1].Result)
				require.True(t, strings.HasPrefix(seen.Commands[1].Output, "refused: "), seen.Commands[1].Output)
			}
			seen, err = login.Do(context.Background(), r.attempt(access, "guest", "wrong"))
			require.NoError(t, err)
			require.Equal(t, walk.OutcomeRefused, seen.Outcome)
			require.Less(t, seen.Took, time.Minute)
		})
	}
}

func TestALevelIsRaisedByItsSecret(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, access := range []string{site.Console, site.Telnet, site.SSH} {
		for password, raised := range map[string]int{"right": 15, "wrong": 1} {
			a := r.attempt(access, "guest", "right")
			a.Raise = &login.Raise{Level: 15, Password: site.NewSecret(password)}
			a.Commands = []string{"set port 3 off"}
			seen, err := login.Do(context.Background(), a)
			require.NoError(t, err)
			require.Equal(t, []any{walk.OutcomeIn, 1, raised}, []any{seen.Outcome, seen.Level, seen.Raised},
				"%s by a %s secret: %s", access, password, seen.Detail)
			require.Equal(t, raised == 15, seen.Commands[0].Result == walk.OutcomeAllowed)
		}
	}
}

// A device that shows another key or certificate than expected gets no password.
func TestADeviceThatProvesToBeAnotherOneGetsNoPassword(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, access := range []string{site.SSH, site.NETCONF} {
		a := r.attempt(access, "guest", "right")
		a.HostKey = newKey(t).PublicKey()
		_, err := login.Do(context.Background(), a)
		require.ErrorIs(t, err, login.ErrHostKey)
		a.HostKey = nil
		_, err = login.Do(context.Background(), a)
		require.ErrorContains(t, err, "no SSH host key to compare with")
	}
	for _, access := range []string{site.Web, site.API} {
		a := r.attempt(access, "guest", "right")
		a.Trusted = x509.NewCertPool()
		_, err := login.Do(context.Background(), a)
		require.ErrorContains(t, err, "the certificate that the device shows is not trusted")
		other := r.attempt(access, "guest", "right")
		other.ServerName = "elsewhere.example.net"
		_, err = login.Do(context.Background(), other)
		require.ErrorContains(t, err, "not trusted")
	}
}

// Where nobody listens, and where somebody else does, no answer is taken for one.
func TestWhereNoDeviceIsThereIsNoAnswer(t *testing.T) {
	t.Parallel()
	r := start(t)
	for access := range r.at {
		a := r.attempt(access, "guest", "right")
		a.Address = "127.0.0.1:1" // nobody listens there
		seen, err := login.Do(context.Background(), a)
		require.NoError(t, err)
		require.Equal(t, walk.OutcomeNoAnswer, seen.Outcome, access)
		require.NotEmpty(t, seen.Detail)
	}
	for access, says := range map[string]string{site.Web: "these pages are not those of a stand-in (status 404)",
		site.API: "this is not the API of a stand-in (status 404)"} {
		a := r.attempt(access, "guest", "right")
		a.Address = map[string]string{site.Web: r.at[site.API], site.API: r.at[site.Web]}[access]
		seen, err := login.Do(context.Background(), a)
		require.NoError(t, err)
		require.Equal(t, []any{walk.OutcomeNoAnswer, says}, []any{seen.Outcome, seen.Detail})
	}
}
