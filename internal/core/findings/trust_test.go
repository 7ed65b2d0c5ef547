package findings

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

func TestCertificatesAreLookedAt(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(base)})
	require.NoError(t, err)
	t1, t2 := s.Server("t1"), s.Server("t2")
	t1.Certificates.Place = t1.Place
	found := func(shown ...Certificate) Report {
		return Check(foresee.Forecaster{Site: s, Keys: keysOf(s), Now: now, Assume: true}, Facts{Shown: shown})
	}
	day := 24 * time.Hour
	require.Empty(t, found(Certificate{Server: t1, Ends: now.Add(31 * day), Names: true}).Findings)
	r := found(Certificate{Server: t1, Ends: now.Add(3*day + time.Hour), Names: true})
	require.Equal(t, []string{"certificate-ends-soon"}, codesOf(r))
	require.Equal(t, "The certificate of t1 ends on 2026-11-26, in 3 days; from then on no device takes it.",
		r.Findings[0].Text)
	r = found(Certificate{Server: t2, Ends: now.Add(90 * day), Bears: "printer.example"})
	require.Equal(t, []string{"certificate-names-nobody"}, codesOf(r))
	require.Contains(t, r.Findings[0].Text,
		"bears printer.example, and neither the server's name nor its address 192.0.2.2")
	r = found(Certificate{Server: t1, Problem: "the certificate x ended on 2026-01-01"})
	require.Equal(t, []string{"certificate-unusable"}, codesOf(r), "and nothing else of it")
	require.Contains(t, r.Findings[0].Text, "No device can ask t1 over TLS: the certificate x ended on 2026-01-01.")
}

// A directory that a device asks itself asks for no code: who has one gets in without it.
func TestADirectoryThatADeviceAsksItselfIsNoSecondFactor(t *testing.T) {
	t.Parallel()
	for code, found := range map[string]bool{"": false, ", one-time-code: key k2": true} {
		s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k, k2: file k2}
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k}
  - {name: book, protocol: ldap, address: 192.0.2.9, base: o=x, tls: start}
groups: [{name: b, servers: [book]}]
lists: [{name: l, authenticate: login, methods: [group b, local]}]
accounts: [{name: keeper, level: 15, password: $6$a$b}]
people: [{name: ines, teams: [net], password: $6$c$d` + code + `}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
devices: [{name: sw-1, addresses: [192.0.2.11], accounts: [keeper], access: {console: {login: l}}}]
`)})
		require.NoError(t, err)
		text := ""
		for _, f := range Check(foresee.Forecaster{Site: s, Keys: keysOf(s), Now: now, Assume: true},
			Facts{}).Findings {
			if f.Code == "admits-a-directory" && strings.Contains(f.Text, "ines") {
				text += f.Text
			}
		}
		if !found {
			require.Empty(t, text)
			continue
		}
		require.Contains(t, text, "The list l asks the directory book, which knows no one-time codes: ines gets in by "+
			"the password alone, at level ")
	}
}
