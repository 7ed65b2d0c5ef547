package gate_test

import (
	"crypto/tls"
	"errors"
	"net"
	"net/netip"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/store/pki"
)

func TestServersBeginMoveAndEndWithADesign(t *testing.T) {
	t.Parallel()
	r := start(t)
	design := designOf(r.site, site.Keys{"k": site.NewSecret(key), "kept": site.NewSecret("right")})
	anywhere, elsewhere := netip.MustParseAddrPort("127.0.0.1:0"), netip.MustParseAddrPort("127.0.0.2:0")
	at := func(server string, place netip.AddrPort) gate.Place {
		return gate.Place{Server: r.site.Server(server), Authentication: place, Accounting: place}
	}
	stays := gate.Place{Server: r.site.Server("t"), Authentication: anywhere}

	changes, err := r.gate.Reconfigure(design, []gate.Place{stays, at("r", elsewhere)})
	require.NoError(t, err)
	require.Len(t, changes, 2, "t has not changed")
	require.Equal(t, []any{true, false, "127.0.0.2"},
		[]any{changes[0].Ended, changes[1].Ended, changes[1].Place.Authentication.Addr().String()})
	require.Equal(t, walk.Unavailable, r.ask("r", login("ines"), "right").Result, "nobody is there any more")
	r.radius = changes[1].Place
	require.Equal(t, walk.Accepted, r.ask("r", login("ines"), "right").Result)

	// One that cannot begin leaves all as it was, those that were to end too.
	_, err = r.gate.Reconfigure(design, []gate.Place{at("r", elsewhere),
		{Server: r.site.Server("t"), Authentication: netip.MustParseAddrPort("192.0.2.1:49")}})
	var refused *gate.ListenError
	require.ErrorAs(t, err, &refused)
	require.True(t, errors.Is(err, syscall.EADDRNOTAVAIL), err.Error())
	for _, server := range []string{"t", "r"} {
		require.Equal(t, walk.Accepted, r.ask(server, login("ines"), "right").Result, server)
	}

	changes, err = r.gate.Reconfigure(design, []gate.Place{at("r", elsewhere)})
	require.NoError(t, err)
	require.True(t, changes[0].Ended)
	require.Equal(t, reason.Closed, r.ask("t", login("ines"), "right").Reason)
}

func TestARenewedCertificateIsShownFromThenOn(t *testing.T) {
	t.Parallel()
	r := start(t)
	authority, err := pki.NewAuthority("ours", time.Now())
	require.NoError(t, err)
	issue := func(name string) pki.Identity {
		i, err := authority.Issue(name, netip.MustParseAddr("127.0.0.1"), time.Now())
		require.NoError(t, err)
		return i
	}
	server := *r.site.Server("t")
	server.Transport = site.TLS
	place := gate.Place{Server: &server, Authentication: netip.MustParseAddrPort("127.0.0.1:0")}
	serve := func(i pki.Identity) []gate.Change {
		place.TLS = i.Server(site.TACACS)
		changes, err := r.gate.Reconfigure(designOf(r.site, site.Keys{
			"k": site.NewSecret(key), "kept": site.NewSecret("right")}),
			[]gate.Place{place})
		require.NoError(t, err)
		return changes
	}
	changes := serve(issue("old"))
	on := changes[len(changes)-1].Place.Authentication
	shown := func() string {
		mine := issue("device")
		conn, err := tls.Dial("tcp", on.String(), mine.Client(site.TACACS, "127.0.0.1"))
		require.NoError(t, err)
		defer func() { _ = conn.Close() }()
		return conn.ConnectionState().PeerCertificates[0].Subject.CommonName
	}
	require.Equal(t, "old", shown())
	require.Empty(t, serve(issue("new")), "the port stays open")
	require.Equal(t, "new", shown())
}

func TestBothProtocolsAreServedOverIPv6(t *testing.T) {
	t.Parallel()
	six := netip.MustParseAddrPort("[::1]:0")
	if l, err := net.Listen("tcp", six.String()); err != nil {
		t.Skip("this machine has no IPv6 on loopback")
	} else {
		_ = l.Close()
	}
	r := start(t)
	design := designOf(r.site, site.Keys{"k": site.NewSecret(key), "kept": site.NewSecret("right")})
	design.Clients[netip.MustParseAddr("::1")] = r.site.Device("sw")
	changes, err := r.gate.Reconfigure(design, []gate.Place{{Server: r.site.Server("t"), Authentication: six},
		{Server: r.site.Server("r"), Authentication: six, Accounting: six}})
	require.NoError(t, err)
	for _, c := range changes {
		if c.Place.Server.Name == "t" && !c.Ended {
			r.tacacs = c.Place
		} else if !c.Ended {
			r.radius = c.Place
		}
	}
	for _, server := range []string{"t", "r"} {
		require.Equal(t, walk.Accepted, r.ask(server, login("ines"), "right").Result, server)
		require.Equal(t, "::1", r.last().Client)
		require.Equal(t, walk.Accepted,
			r.ask(server, walk.Question{Purpose: site.RecordSessions, Person: "ines", Start: true}, "").Result, server)
		require.Equal(t, walk.Refused, r.ask(server, login("ines"), "wrong").Result, server)
	}
}
