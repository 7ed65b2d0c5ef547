package reach

import (
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/aaa"
)

func made(t *testing.T) *site.Site {
	t.Helper()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k, own: file own, dir: file dir}
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k}
  - {name: r, protocol: radius, address: 192.0.2.2, key: k, ports: {authentication: 1645, accounting: 1646}}
  - {name: s, protocol: radius, address: 192.0.2.3, transport: tls}
  - {name: d, protocol: ldap, address: 192.0.2.4, base: "o=x", bind: {dn: "cn=g,o=x", key: dir}}
groups: [{name: g, servers: [t]}, {name: h, servers: [r]}, {name: i, servers: [s]}]
lists:
  - {name: l, authenticate: login, methods: [group g, group h, group i]}
devices: [{name: sw, addresses: [198.51.100.1], keys: {t: own}, access: {ssh: {login: l}}}]
`)})
	require.NoError(t, err)
	return s
}

var keys = site.Keys{"k": site.NewSecret("the key of k"), "own": site.NewSecret("the own key"),
	"dir": site.NewSecret("the key of dir")}

func TestAServerIsAskedAtItsOwnAddressWithTheKeyOfTheDevice(t *testing.T) {
	t.Parallel()
	s := made(t)
	m := Map{Site: s, Keys: keys}
	for name, want := range map[string][3]string{
		"t": {"192.0.2.1:49", "192.0.2.1:49", "the own key"},
		"r": {"192.0.2.2:1645", "192.0.2.2:1646", "the key of k"},
		"s": {"192.0.2.3:2083", "192.0.2.3:2083", ""},
		"d": {"192.0.2.4:389", "192.0.2.4:389", "the key of dir"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			target, err := m.Server(t.Context(), s.Devices[0], s.Server(name), false)
			require.NoError(t, err)
			require.Equal(t, want, [3]string{target.Authentication.String(), target.Accounting.String(),
				target.Key.Reveal()})
			require.False(t, target.From.IsValid(), "the system chooses")
			require.Nil(t, target.Dialer)
		})
	}
	target, err := m.Server(t.Context(), s.Devices[0], s.Server("t"), true)
	require.NoError(t, err)
	require.Equal(t, "198.51.100.1", target.From.String())
}

func TestInALabAServerIsAskedWhereItRunsThere(t *testing.T) {
	t.Parallel()
	s := made(t)
	m := Map{Site: s, Keys: keys, Places: evidence.Places{
		Servers: []evidence.ServerPlace{{Name: "t", Address: "127.77.0.1", Port: 10049},
			{Name: "r", Address: "127.77.0.2", Authentication: 11645, Accounting: 11646},
			{Name: "s", Address: "no address"}},
		Devices: []evidence.DevicePlace{{Name: "sw", Source: "127.77.0.9"}}}}
	target, err := m.Server(t.Context(), s.Devices[0], s.Server("t"), false)
	require.NoError(t, err)
	require.Equal(t, []string{"127.77.0.1:10049", "127.77.0.1:10049", "127.77.0.9"},
		[]string{target.Authentication.String(), target.Accounting.String(), target.From.String()})
	target, err = m.Server(t.Context(), s.Devices[0], s.Server("r"), false)
	require.NoError(t, err)
	require.Equal(t, []string{"127.77.0.2:11645", "127.77.0.2:11646"},
		[]string{target.Authentication.String(), target.Accounting.String()})
	_, err = m.Server(t.Context(), s.Devices[0], s.Server("s"), false)
	require.ErrorContains(t, err, `the server s: the state folder gives it the address "no address"`)
	_, err = m.Server(t.Context(), s.Devices[0], s.Server("d"), false)
	require.ErrorIs(t, err, ErrNotThere)

	designed := m.Designed(s, keys, s.Devices[0], s.Server("r"))
	require.Equal(t, []string{"127.77.0.2:11645", "127.77.0.9"},
		[]string{designed.Authentication.String(), designed.From.String()})
	other := *s.Server("r")
	other.AuthenticationPort = 1812
	require.Equal(t, "127.77.0.2:1812", m.Designed(s, keys, s.Devices[0], &other).Authentication.String(),
		"at another port than the server's nobody may be")
	other.Address = "192.0.2.99"
	_, err = m.Designed(s, keys, s.Devices[0], &other).Dialer.Dial(t.Context(), "udp", netip.Addr{}, netip.AddrPort{})
	require.Error(t, err, "nobody has that address")
}

func TestAQuestionOfOursIsNoted(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	var asked []evidence.OwnQuestion
	m := Map{Site: made(t), Asked: func(q evidence.OwnQuestion) { asked = append(asked, q) }}
	var dialer aaa.Dialer = m.dialer()
	conn, err := dialer.Dial(t.Context(), "tcp", netip.Addr{}, l.Addr().(*net.TCPAddr).AddrPort())
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	require.Len(t, asked, 1)
	require.Equal(t, conn.LocalAddr().String(), asked[0].From)
}

func TestAHostNameThatNobodyKnowsIsSaid(t *testing.T) {
	t.Parallel()
	s := *made(t).Server("t")
	s.Address = "nowhere.invalid"
	_, err := Resolve(t.Context(), &s)
	require.ErrorContains(t, err, "the server t: its address nowhere.invalid cannot be found")
}
