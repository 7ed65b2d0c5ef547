package learn

import (
	"context"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/state"
)

const text = `site: Learned
keys: {k: clear a-key-for-this-test}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 400ms, dead-time: 1s}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k, timeout: 400ms, dead-time: 1s}
  - {name: r1, protocol: radius, address: 192.0.2.3, key: k, timeout: 400ms, attempts: 2, dead-time: 1s}
groups: [{name: t, servers: [t1, t2]}, {name: r, servers: [r1]}]
lists:
  - {name: l, authenticate: login, methods: [group t, local]}
  - {name: lr, authenticate: login, methods: [group r, local]}
  - {name: first, authenticate: login, methods: [local, group t]}
  - {name: s, authorize: session, methods: [group t, local]}
  - {name: sr, authorize: session, methods: [group r, local]}
  - {name: v, account: sessions, when: start and stop, methods: [group t]}
kinds: [{name: make}]
accounts: [{name: keeper, level: 15, password: 'HASH'}]
devices:
  - {name: sw, kind: make, addresses: [192.0.2.11], accounts: [keeper], access: {ssh: {login: l, session: s, record-sessions: v}, telnet: {login: first}, web: {login: l, session: s}, console: {login: l, session: s}}}
  - {name: ap, kind: make, addresses: [192.0.2.12], accounts: [keeper], access: {ssh: {login: lr, session: sr}, telnet: {login: lr}, console: {login: lr, session: sr}}}
`

func read(t *testing.T) (*site.Site, site.Keys) {
	t.Helper()
	hash, err := secrets.Hash("the way back", 64, 1)
	require.NoError(t, err)
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(strings.ReplaceAll(text, "HASH", hash))})
	require.NoError(t, err)
	return s, site.Keys{"k": site.NewSecret("a-key-for-this-test")}
}

// stand is a lab of stand-ins that behave in some way, whose servers nobody runs.
type stand struct {
	places  evidence.Places
	lab     *lab.Lab
	trusted string
}

func start(t *testing.T, behave ...string) stand {
	t.Helper()
	s, keys := read(t)
	s.Lab.Network = labtest.Network(t)
	folder, err := state.Create(t.TempDir() + "/state")
	require.NoError(t, err)
	config := lab.Config{Site: s, Keys: keys, State: folder, Devices: true}
	for _, text := range behave {
		b, err := s.Behaviour("make " + text)
		require.NoError(t, err)
		config.Behaves = append(config.Behaves, b)
	}
	l, err := lab.Start(config)
	require.NoError(t, err)
	t.Cleanup(func() { l.Shutdown(); _ = folder.Close() })
	return stand{places: l.Places, lab: l}
}

// config is how a device of the lab is learned.
func (st stand) config(t *testing.T, device string) Config {
	s, keys := read(t)
	d := s.Device(device)
	place, found := st.places.Device(device)
	require.True(t, found)
	clients := map[netip.Addr]*site.Device{}
	for _, p := range st.places.Devices {
		clients[netip.MustParseAddr(p.Source)] = s.Device(p.Name)
	}
	return Config{Site: s, Keys: keys, Device: d, Account: "keeper", Password: site.NewSecret("the way back"),
		Clients:   clients,
		Directory: func() exchange.Directory { return exchange.InPlaces(s, keys, st.places) },
		Where: func(v *site.Server) gate.Place {
			for _, p := range st.places.Servers {
				if p.Name == v.Name {
					at := netip.MustParseAddr(p.Address)
					if v.Protocol == site.RADIUS {
						return gate.Place{Server: v, Authentication: netip.AddrPortFrom(at, v.AuthenticationPort),
							Accounting: netip.AddrPortFrom(at, v.AccountingPort)}
					}
					return gate.Place{Server: v, Authentication: netip.AddrPortFrom(at, p.Port)}
				}
			}
			return gate.Place{}
		},
		Attempt: func(w *site.Way) (login.Attempt, error) {
			key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(place.HostKey))
			require.NoError(t, err)
			for _, at := range place.Ways {
				if at.Access == w.Access {
					return login.Attempt{Access: w.Access, Address: at.Address, HostKey: key, Trusted: st.lab.Trusted(),
						ServerName: device, Patience: 20 * time.Second}, nil
				}
			}
			t.Fatal("no way in by " + w.Access)
			return login.Attempt{}, nil
		}, Say: func(text string) { t.Log(text) }}
}

func TestX(t *testing.T) {
	st := start(t, "refusal: ends-list", "password-as tacacs: pap")
	r, err := Learn(context.Background(), st.config(t, "sw"))
	require.NoError(t, err)
	t.Logf("%+v", r)
}

func TestY(t *testing.T) {
	st := start(t, "refusal: ends-list", "password-as radius: mschapv2", "heeds-icmp: true")
	r, err := Learn(context.Background(), st.config(t, "ap"))
	require.NoError(t, err)
	t.Logf("%+v", r)
}
