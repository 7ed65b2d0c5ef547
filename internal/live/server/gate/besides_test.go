package gate_test

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/ldap"
	"mellowgate/internal/live/client/ldap/ldaptest"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/wire/radius"
)

// A directory that answers nobody holds up the login of whom it is to know, and no other on the same connection.
func TestASlowDirectoryHoldsUpOneQuestionOfATLSConnection(t *testing.T) {
	t.Parallel()
	keys := site.Keys{"dir": site.NewSecret(ldaptest.Secret)}
	r := startWith(t, keys, time.Now, fmt.Sprintf(`
keys: {k: file k, dir: file dir}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: k, timeout: 5s}
  - {name: r, protocol: radius, address: 127.0.0.1, key: k, timeout: 300ms}
  - {name: dunlin, protocol: ldap, address: 127.0.0.1, base: "%s", bind: {dn: "%s", key: dir}, tls: none, timeout: 1m}
devices: [{name: sw, addresses: [127.0.0.1]}]
directories: [dunlin]
people: [{name: ines, teams: [network], password: 'HASH'}]
roles: [{name: all, level: 15, commands: [allow look]}]
grants: [{who: team network, role: all}]
`, ldaptest.Base, ldaptest.Searcher))
	asked, answers := make(chan bool, 10), make(chan struct{})
	design := designOf(r.site, keys)
	design.Directory = func(*site.Server) ldap.Reach {
		return ldap.Reach{Dial: func(context.Context) (net.Conn, error) {
			asked <- true
			<-answers
			return nil, net.ErrClosed
		}}
	}
	require.NoError(t, r.gate.Reload(design))
	ours, err := pki.NewAuthority("ours", time.Now())
	require.NoError(t, err)
	own, err := ours.Issue("name", netip.MustParseAddr("127.0.0.1"), time.Now())
	require.NoError(t, err)
	place, err := r.gate.Listen(gate.Place{Authentication: netip.MustParseAddrPort("127.0.0.1:0"),
		TLS: own.Server(site.RADIUS),
		Server: &site.Server{Ref: site.Ref{Name: "over-tls"}, Protocol: site.RADIUS, Transport: site.TLS,
			Timeout: time.Minute}})
	require.NoError(t, err)
	conn, err := tls.Dial("tcp", place.Authentication.String(), own.Client(site.RADIUS, "127.0.0.1"))
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	request := func(id byte, person, password string) {
		p := &radius.Packet{Code: radius.AccessRequest, ID: id, Authenticator: [16]byte{id}}
		p.AddText(radius.UserName, person)
		hidden, err := radius.HidePassword(password, p.Authenticator, []byte(pki.RADIUSKey))
		require.NoError(t, err)
		p.Add(radius.UserPassword, hidden)
		b, err := p.EncodeRequest([]byte(pki.RADIUSKey))
		require.NoError(t, err)
		_, err = conn.Write(b)
		require.NoError(t, err)
	}
	answer := func() (byte, radius.Code) {
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(30*time.Second)))
		b, err := radius.ReadPacket(conn)
		require.NoError(t, err)
		return b[1], radius.Code(b[0])
	}
	request(1, "ebba", "unknown here")
	<-asked
	request(2, "ines", "wrong")
	id, code := answer()
	require.Equal(t, []any{byte(2), radius.AccessReject}, []any{id, code})
	close(answers)
	id, code = answer()
	require.Equal(t, []any{byte(1), radius.AccessReject}, []any{id, code}, "a name that no directory ever had")
}
