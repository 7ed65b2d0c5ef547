package device

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/wire/netconf"
)

func TestModelsAreTakenByNamespaceRevisionAndFeatures(t *testing.T) {
	t.Parallel()
	for _, k := range []struct {
		announced map[string]netconf.Module
		models    string
		note      string
	}{
		{map[string]netconf.Module{yang.SystemNS: {Revision: "2014-08-06"}, yang.TACACSNS: {Revision: "2021-08-05"},
			yang.OpenNS: {Revision: "2023-12-20"}}, "ietf-system, ietf-system-tacacs-plus, openconfig-system", ""},
		{map[string]netconf.Module{yang.SystemNS: {Revision: "2013-11-10"}}, "none of ours",
			"a draft from before the standard"},
		{map[string]netconf.Module{yang.SystemNS: {Revision: "2029-01-01"}}, "ietf-system",
			"newer than the one that is written here"},
		{map[string]netconf.Module{yang.SystemNS: {}}, "ietf-system", ""},
		{map[string]netconf.Module{yang.TACACSNS: {Revision: "2021-08-05"}}, "none of ours", "without ietf-system"},
		{map[string]netconf.Module{yang.OpenNS: {Revision: "2018-01-01"}}, "openconfig-system",
			"may not know every part"},
		{map[string]netconf.Module{"urn:other": {}}, "none of ours", ""},
	} {
		m := ModelsOf(k.announced)
		require.Equal(t, k.models, m.String())
		if k.note == "" {
			require.Empty(t, m.Notes)
		} else {
			require.Len(t, m.Notes, 1)
			require.Contains(t, m.Notes[0], k.note)
		}
	}
}

func TestWhatADeviceHasNoFeatureForIsLeftOutAndSaid(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k}
servers: [{name: r, protocol: radius, address: 192.0.2.1, key: k}, {name: t, protocol: tacacs, address: 192.0.2.2, key: k}]
groups: [{name: gr, servers: [r]}, {name: gt, servers: [t]}]
lists: [{name: l, authenticate: login, methods: [group gr, group gt, local]}]
accounts: [{name: keeper, level: 15, password: key k}]
devices: [{name: d, addresses: [192.0.2.9], accounts: [keeper], access: {netconf: {login: l}}}]
`)})
	require.NoError(t, err)
	features := func(some ...string) Models {
		return ModelsOf(map[string]netconf.Module{yang.SystemNS: {Features: some}})
	}
	for says, m := range map[string]Models{
		"without the feature radius":                features("authentication", "local-users"),
		"without the feature local-users":           features("authentication", "radius"),
		"without the feature authentication":        features("radius", "local-users"),
		"does not announce ietf-system-tacacs-plus": features("radius", "local-users", "authentication"),
	} {
		_, config, left, err := Wanted(s.Device("d"), site.Keys{"k": site.NewSecret("the-key-of-this-test")}, m)
		require.NoError(t, err)
		require.Contains(t, left[len(left)-1]+left[len(left)-2], says)
		text := string(netconf.Bytes(config))
		require.NotContains(t, text, "192.0.2.2")
		require.Equal(t, !m.Lacks.RADIUS, strings.Contains(text, "192.0.2.1"))
		require.Equal(t, !m.Lacks.Users && !m.Lacks.Authentication, strings.Contains(text, "keeper"))
		require.Equal(t, !m.Lacks.RADIUS && !m.Lacks.Authentication, strings.Contains(text, ":radius<"))
	}
}

func TestAPasswordInClearIsTheHashThatADeviceMadeOfIt(t *testing.T) {
	t.Parallel()
	hash, err := secrets.Hash("clear", 64, 1)
	require.NoError(t, err)
	require.True(t, samePassword(site.NewSecret("$0$clear"), site.NewSecret(hash)))
	require.False(t, samePassword(site.NewSecret("$0$something else"), site.NewSecret(hash)))
	require.False(t, samePassword(site.NewSecret(hash), site.NewSecret(hash)), "that is compared as it is")
	require.False(t, samePassword(site.NewSecret("$0$x"), site.NewSecret("no hash")))
	require.ErrorContains(t,
		deviceRefuses(&netconf.Error{Tag: "unknown-namespace"}, Models{has: map[string]bool{yang.SystemNS: true}}),
		"the device announces ietf-system, and does not know a part")
	other := errors.New("something else")
	require.Equal(t, other, deviceRefuses(other, Models{}))
}

func TestSecretsThatADeviceHidesAreThereAllTheSame(t *testing.T) {
	t.Parallel()
	const system = `<data><system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><radius><server><name>r</name><udp><address>192.0.2.1</address>KEY</udp></server></radius>
		<authentication><user><name>keeper</name></user></authentication></system></data>`
	facts := FactsOf([]byte(strings.Replace(system, "KEY", "", 1)))
	require.False(t, facts.Shows())
	want := drift.Facts{}
	want.Hide(drift.Server, "r", "key", "the key")
	want.Hide(drift.Account, "keeper", "password", "$6$a$b")
	kinds := func(have drift.Facts) (all []string) {
		for _, d := range drift.Compare(want, have, func(drift.About, string) string { return "" }) {
			if d.What == "key" || d.What == "password" {
				all = append(all, d.Kind)
			}
		}
		return all
	}
	require.Equal(t, []string{drift.Unread, drift.Unread}, kinds(facts))
	facts = FactsOf([]byte(strings.Replace(system, "KEY", "<shared-secret>the key</shared-secret>", 1)))
	require.Equal(t, []string{drift.Missing}, kinds(facts), "where secrets are shown, an account without one has none")
	require.Empty(t, FactsOf([]byte("no XML")))
}
