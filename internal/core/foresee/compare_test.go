package foresee

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// versions returns the reviewed demo site, and the same with one change.
func versions(t *testing.T, from, to string) (before, after Forecaster) {
	text, err := os.ReadFile(reviewed)
	require.NoError(t, err)
	require.Contains(t, string(text), from)
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(strings.Replace(string(text), from, to, 1))})
	require.NoError(t, err)
	before = reckoner(t, reviewed)
	return before, Forecaster{Site: s, Now: before.Now}
}

func TestAFallbackThatIsTakenAwayIsALossOfThoseWhoHadIt(t *testing.T) {
	t.Parallel()
	before, after := versions(t, "  - name: crew\n    authenticate: login\n    methods: [group shore, local]",
		"  - name: crew\n    authenticate: login\n    methods: [group shore]")
	changes := Compare(before, after)
	require.NotEmpty(t, changes)
	for _, c := range changes {
		require.Equal(t, []Named{{"tern", Down}, {"plover", Down}}, c.When, "it shows in the outage only")
		require.Equal(t, c.People[0] == "harbourmaster", c.Loses)
		require.NotContains(t, c.Devices, "mv-avocet-rtr", "the ships have a list of their own")
	}
	for _, c := range Compare(after, before) {
		require.False(t, c.Loses, "the way back is no loss")
	}
}

func TestALongerWaitIsAChangeOfTheWaitAlone(t *testing.T) {
	t.Parallel()
	before, after := versions(t, "timeout: 1s\n    dead-time: 1m\n    run: true\n  - name: plover",
		"timeout: 2s\n    dead-time: 1m\n    run: true\n  - name: plover")
	changes := Compare(before, after)
	require.NotEmpty(t, changes)
	for _, c := range changes {
		require.True(t, c.WaitOnly())
		require.Greater(t, c.After.Wait, c.Before.Wait)
		require.False(t, c.Loses)
	}
}

func TestDevicesWaysAndPeopleThatComeOrGoAreChanges(t *testing.T) {
	t.Parallel()
	before, after := versions(t, "  - name: tobin.reed\n", "  - name: tobin.new\n")
	seen := map[string]bool{}
	for _, c := range Compare(before, after) {
		require.True(t, c.Before == nil || c.After == nil)
		require.False(t, c.WaitOnly())
		for _, p := range c.People {
			seen[p] = true
		}
	}
	require.Equal(t, map[string]bool{"tobin.reed": true, "tobin.new": true}, seen)

	before, after = versions(t, "      web: {}\n", "      web: off\n")
	loses := false
	for _, c := range Compare(before, after) {
		require.Equal(t, "web", c.Way)
		require.Nil(t, c.After)
		loses = loses || c.Loses
	}
	require.True(t, loses)
}

func TestASummarySaysHowALoginComesOut(t *testing.T) {
	t.Parallel()
	f := reckoner(t, reviewed)
	require.Equal(t, "in, level 15, by plover, after 1s",
		find(t, f, "north-sw-1", "ssh", "ines.marsh", "tern").Summary())
	require.Equal(t, "refused, list-ended, after 2s",
		find(t, f, "north-sw-1", "ssh", "ines.marsh", "tern", "plover").Summary())
	require.Equal(t, "low, level 1 (15 by elevation), no command works, by t",
		Case{Outcome: walk.OutcomeLow, Level: 1, Raised: 15, Stuck: true, By: "t"}.Summary())
}

// A device that only one of two sites has is compared with nothing, and not with the first that the other has.
func TestADeviceThatComesOrGoesIsComparedWithNothing(t *testing.T) {
	t.Parallel()
	lists := twoServers + "lists: [{name: l, authenticate: login, methods: [group g, local]}]\n" +
		"people: [{name: a, password: $6$x$y}]\nprofiles: [{name: p, access: {console: {login: l}}}]\ndevices:\n" +
		"  - {name: d1, profile: p, addresses: [192.0.2.9]}\n"
	one, two := of(t, lists), of(t, lists+"  - {name: d2, profile: p, addresses: [192.0.2.10]}\n")
	changes := Compare(one, two)
	require.NotEmpty(t, changes)
	for _, c := range changes {
		require.Equal(t, []string{"d2"}, c.Devices)
		require.Nil(t, c.Before)
		require.NotNil(t, c.After)
	}
	changes = Compare(two, one)
	require.NotEmpty(t, changes)
	for _, c := range changes {
		require.Equal(t, []string{"d2"}, c.Devices)
		require.NotNil(t, c.Before)
		require.Nil(t, c.After)
	}
}
