package foresee

import (
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

// held is a small site with a device that holds something other than designed.
func held(t *testing.T, holds, servers string) Forecaster {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k, k2: file k2, k3: file k3}
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: {now: k, next: k2}}
  - {name: r, protocol: radius, address: 192.0.2.2, key: k` + servers + `}
  - {name: l, protocol: ldap, address: 192.0.2.3, base: o=x}
platforms: [{name: old, behaviour: {default-ports: legacy}}]
devices:
  - {name: d, addresses: [192.0.2.9], found: {` + holds + `}}
  - {name: other, addresses: [192.0.2.10]}
  - {name: aged, platform: old, addresses: [192.0.2.11]}
clients: [{from: 198.51.100.0/24, servers: [t, r], key: k3}]
`)})
	require.NoError(t, err)
	keys := site.Keys{"k": site.NewSecret("one"), "k2": site.NewSecret("two"), "k3": site.NewSecret("three")}
	return Forecaster{Site: s, Keys: keys}
}

func TestWhyAServerThatIsUpIsNotHeard(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		holds, servers, device, server string
		purpose                        site.Purpose
		want                           reason.Reason
	}{
		{"", "", "d", "t", site.Login, ""},
		{"keys: {t: k2}", "", "d", "t", site.Login, ""}, // the next key is taken already
		{"keys: {t: k3}", "", "d", "t", site.Login, reason.KeyDiffers},
		{"keys: {r: k2}", "", "d", "r", site.Login, reason.KeyDiffers},
		{"source: 192.0.2.77", "", "d", "t", site.Login, reason.ClientUnknown},
		// it is taken for another device
		{"source: 192.0.2.10", "", "d", "t", site.Login, ""},
		// a client entry covers it, with the same key
		{"source: 198.51.100.7", "", "d", "t", site.Login, ""},
		// or with the entry's own
		{"source: 198.51.100.7, keys: {t: k3}", "", "d", "t", site.Login, ""},
		{"ports: {r: {authentication: 1645}}", "", "d", "r", site.Login, reason.WrongPort}, // one of the pair
		// the other one is right
		{"ports: {r: {authentication: 1645}}", "", "d", "r", site.RecordSessions, ""},
		{"", "", "aged", "r", site.Login, reason.WrongPort}, // the platform's own ports
		// said, so set on the device
		{"", ", ports: {authentication: 1812, accounting: 1813}", "aged", "r", site.Login, ""},
		{"", ", for: authentication", "d", "r", site.RecordSessions, reason.NotForThis}, //
		// the rights come with the login
		{"", ", for: authentication", "d", "r", site.Session, ""},
		{"source: 192.0.2.77", "", "d", "l", site.Login, ""}, // a directory knows no askers
	} {
		f := held(t, c.holds, c.servers)
		require.Equal(t, c.want, f.Unheard(f.Site.Device(c.device), f.Site.Server(c.server), c.purpose), "%v", c)
	}
}

func TestTheStatesOfAServerAreThoseOfItsProtocol(t *testing.T) {
	t.Parallel()
	f := held(t, "", "")
	for name, want := range map[string]int{"t": 6, "r": 5, "l": 5} {
		require.Len(t, States(f.Site.Server(name), true), want, name)
		require.Equal(t, []State{Up, Down}, States(f.Site.Server(name), false))
	}
}

func TestStandingIsTheBestThatIsLeft(t *testing.T) {
	t.Parallel()
	f := reckoner(t, drafted)
	for device, want := range map[string][]Standing{
		"hq-fw-1":     {ByPeople, ByConsole}, // ssh has no fallback there
		"north-rtr-1": {ByPeople, ByAccount},
		"ashore-ap-1": {ByPeople, Nobody},
	} {
		sh := f.Shapes([]*site.Device{f.Site.Device(device)})[0]
		dark := Outage{}
		for _, s := range f.Site.Servers {
			dark[s] = true
		}
		require.Equal(t, want, []Standing{sh.Standing(Outage{}), sh.Standing(dark)}, device)
	}
	sh := f.Shapes([]*site.Device{f.Site.Device("ashore-ap-1")})[0]
	require.Equal(t, Ajar, sh.Standing(Outage{f.Site.Server("sanderling"): true}))
	require.Len(t, Outages(f.Site.Servers[:3]), 8)
	require.Len(t, Outages(f.Site.Servers[:4]), 6, "above three servers: each alone, and all")
}
