package site

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const pathSite = `site: T
keys: {k: file k}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k}
  - {name: t2, protocol: tacacs, address: "2001:db8::1", key: k}
  - {name: t3, protocol: tacacs, address: tacacs.saltmarsh.example, key: k}
groups: [{name: g, servers: [t1, t2], interface: loop, network: of-group}, {name: h, servers: [t3]}]
lists: [{name: l, authenticate: login, methods: [group g, group h]}]
profiles: [{name: p, access: {console: {login: l}}PROFILE}]
devices:
  - {name: d, profile: p, addresses: [192.0.2.11, 192.0.2.12, "2001:db8::11"], interfaces: {loop: [192.0.2.12,
     "2001:db8::12"], up: 192.0.2.13}DEVICE}
  - {name: e, profile: p, addresses: [192.0.2.21], interfaces: {loop: 192.0.2.22, up: 192.0.2.23}}
`

func TestQuestionsLeaveAsWhatIsNearestToTheDeviceSays(t *testing.T) {
	t.Parallel()
	for _, k := range []struct{ profile, device, want string }{
		{"", "", "192.0.2.12 of-group loop, 2001:db8::12 of-group loop, 192.0.2.11"},
		{"", ", network: own", "192.0.2.12 of-group loop, 2001:db8::12 of-group loop, 192.0.2.11 own"},
		{", requests-to: {g: {network: of-profile}}", "", "192.0.2.12 of-profile loop, 2001:db8::12 of-profile loop, " +
			"192.0.2.11"},
		{", requests-to: {g: {interface: up}, t1: {network: of-server}}", "",
			"192.0.2.13 of-server up, invalid IP of-group up, 192.0.2.11"},
		{", requests-to: {t3: {interface: up}}", ", requests-to: {g: {source: 192.0.2.11}, t2: {source: " +
			"'2001:db8::11'}}",
			"192.0.2.11 of-group, 2001:db8::11 of-group, 192.0.2.13 up"},
		{"", ", source: [192.0.2.12], requests-to: {h: {network: n}}",
			"192.0.2.12 of-group loop, 2001:db8::12 of-group loop, 192.0.2.12 n"},
	} {
		s, err := Parse(Source{Name: "s.yaml", Text: []byte(
			strings.NewReplacer("PROFILE", k.profile, "DEVICE", k.device).
				Replace(pathSite))})
		require.NoError(t, err, k)
		var got []string
		for _, server := range s.Servers {
			p := s.Device("d").Path(server)
			got = append(got, strings.TrimSpace(strings.ReplaceAll(
				p.Source.String()+" "+p.Network+" "+p.Interface, "  ", " ")))
		}
		require.Equal(t, k.want, strings.Join(got, ", "), k)
	}
}

func TestAPathThatLeadsNowhereIsSaid(t *testing.T) {
	t.Parallel()
	for part, says := range map[string]string{
		", requests-to: {t9: {network: n}}": `there is no server or group "t9"`,
		", requests-to: {t1: {interface: none}}": "d asks t1 from its interface none, and the site does not say the " +
			"address of that",
		", requests-to: {t1: {source: up}}": `source is "up"; an IPv4 or IPv6 address is wanted`,
		", source: [192.0.2.22]":            "requests of e come from 192.0.2.22, as those of d in s.yaml:11:12 do",
	} {
		_, err := Parse(Source{Name: "s.yaml", Text: []byte(strings.NewReplacer("PROFILE", "", "DEVICE", part).
			Replace(pathSite))})
		require.ErrorContains(t, err, says, part)
	}
	s, err := Parse(Source{Name: "s.yaml", Text: []byte(strings.NewReplacer("PROFILE", "", "DEVICE", "").
		Replace(pathSite))})
	require.NoError(t, err)
	require.Equal(t, "[192.0.2.11 192.0.2.12 2001:db8::12]", fmt.Sprint(s.Device("d").Sources()))
	require.NotEqual(t, s.Device("d").AsksAlike(), s.Device("e").AsksAlike(), "e cannot ask t2")
}

func TestADeviceIsAsPatientAsWhatIsNearestToItSays(t *testing.T) {
	t.Parallel()
	radius := strings.NewReplacer("protocol: tacacs, address: 192.0.2.1,",
		"protocol: radius, address: 192.0.2.1, attempts: 2, dead-time: 1m,", "protocol: tacacs, address: \"2001",
		"protocol: radius, attempts: 1, address: \"2001").Replace(pathSite)
	s, err := Parse(Source{Name: "s.yaml", Text: []byte(strings.NewReplacer("PROFILE",
		", requests-to: {g: {timeout: 2s, attempts: 4}, t1: {dead-time: 5m}}", "DEVICE",
		", requests-to: {t1: {timeout: 7s, dead-time: 0}}").Replace(radius))})
	require.NoError(t, err)
	d, e := s.Device("d"), s.Device("e")
	for name, want := range map[string]string{"t1": "{7s 4 0s}", "t2": "{2s 4 0s}", "t3": "{3s 1 0s}"} {
		require.Equal(t, want, fmt.Sprint(d.Patience(s.Server(name))), name)
	}
	require.Equal(t, "{2s 4 5m0s}", fmt.Sprint(e.Patience(s.Server("t1"))))
	require.NotEqual(t, d.AsksAlike(), e.AsksAlike())
	stranger := *s.Server("t1")
	require.Equal(t, "{3s 2 1m0s}", fmt.Sprint(d.Patience(&stranger)), "it is not of the site: its own values hold")
	s.Hasten(10)
	require.Equal(t, "{700ms 4 0s}", fmt.Sprint(d.Patience(s.Server("t1"))))
	require.Equal(t, "{200ms 4 30s}", fmt.Sprint(e.Patience(s.Server("t1"))))
	require.Equal(t, "{300ms 1 0s}", fmt.Sprint(e.Patience(s.Server("t3"))))
	for part, says := range map[string]string{
		", requests-to: {t1: {attempts: 21}}": `attempts is "21"; a whole number from 1 to 20 is wanted`,
		", requests-to: {t3: {attempts: 2}}": "the TACACS+ server t3 is asked once: TCP repeats what is lost by " +
			"itself",
	} {
		_, err = Parse(Source{Name: "s.yaml", Text: []byte(strings.NewReplacer("PROFILE", part, "DEVICE", "").
			Replace(pathSite))})
		require.ErrorContains(t, err, says)
	}
}
