package blueprint

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

func parsed(t *testing.T, text string) *site.Site {
	t.Helper()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	return s
}

func TestWhatADeviceHoldsNowDiffersFromItsDesignWhereTheSiteSaysSo(t *testing.T) {
	t.Parallel()
	d := parsed(t, strings.Replace(text, "    network: management\n",
		"    network: management\n    found: {keys: {t: seed}, ports: {t: {authentication: 4949, accounting: "+
			"4950}}, source: 192.0.2.77}\n", 1)).Device("d")
	design, now := Of(d), Now(d)
	require.Equal(t, []any{"192.0.2.9", "k", 49},
		[]any{design.Source, design.Servers[0].Key, design.Servers[0].AuthenticationPort + design.Servers[0].Port})
	require.Equal(t, []any{"192.0.2.77", "seed", 4949, 4950},
		[]any{now.Source, now.Servers[0].Key, now.Servers[0].AuthenticationPort, now.Servers[0].AccountingPort})
	other := now.Servers[1]
	require.Equal(t, "192.0.2.77", other.Source)
	other.Source = design.Servers[1].Source
	require.Equal(t, design.Servers[1], other, "of the other server nothing else is known")
	require.Equal(t, design.Lists, now.Lists)
}

func TestWhatIsFoundOfAServerThatNoListAsksIsLeftOut(t *testing.T) {
	t.Parallel()
	d := parsed(t, strings.Replace(text, "    network: management\n",
		"    network: management\n    found: {keys: {idle: seed}, ports: {idle: {authentication: 4949}}}\n", 1)).Device(
		"d")
	require.Equal(t, Of(d), Now(d))
}

func TestGroupsListsAndWaysStandOnceInTheOrderOfTheirUse(t *testing.T) {
	t.Parallel()
	b := plan(t)
	require.Equal(t, []Group{{Name: "gt", Protocol: "tacacs", Servers: []string{"t"}},
		{Name: "gr", Protocol: "radius", Servers: []string{"r"}}}, b.Groups)
	require.Equal(t, &b.Groups[1], b.Group("gr"))
	names := make([]string, len(b.Lists))
	for i, l := range b.Lists {
		names[i] = l.Name
	}
	require.ElementsMatch(t, []string{"login", "other", "raise", "rules", "visits"}, names)
	ways := map[string]string{}
	for _, w := range b.Ways {
		ways[w.Name] = w.Lines
	}
	require.Equal(t, map[string]string{"console": "", "ssh 0-4": "0-4", "ssh 5-15": "5-15"}, ways)
}

func TestAListOfRecordsSaysWhenItRecords(t *testing.T) {
	t.Parallel()
	for when, want := range map[string]string{"start": "start", "stop": "stop", "start and stop": "start and stop"} {
		b := Of(parsed(t, strings.Replace(text, "when: start,", "when: "+when+",", 1)).Device("d"))
		require.Equal(t, want, b.List("visits").When)
		require.Empty(t, b.List("login").When, "a login is no record")
		require.Empty(t, b.List("visits").Levels)
	}
}

func TestAServerThatIsForNothingInParticularIsForAll(t *testing.T) {
	t.Parallel()
	for uses, want := range map[string][3]bool{"authentication": {true, false, false},
		"authorization": {false, true, false}, "accounting": {false, false, true}} {
		v := server(&site.Server{Timeout: time.Second, For: site.Uses{Authentication: uses == "authentication",
			Authorization: uses == "authorization", Accounting: uses == "accounting"}})
		require.Equal(t, want, [3]bool{v.Authentication, v.Authorization, v.Accounting}, uses)
	}
	v := server(&site.Server{})
	require.True(t, v.Authentication && v.Authorization && v.Accounting)
}

func TestTheMainListIsTheConsolesWhereNoOtherWayInHasOne(t *testing.T) {
	t.Parallel()
	b := Blueprint{Lists: []List{{Name: "a"}, {Name: "b"}, {Name: "c"}}, Ways: []Way{
		{Name: "console", Access: site.Console, Lists: map[string]string{"login": "a", "session": "c"}},
		{Name: "web", Access: "web", Lists: map[string]string{}},
		{Name: "ssh", Access: "ssh", Lists: map[string]string{"login": "b"}},
	}}
	list, others := b.Main("login")
	require.Equal(t, []any{"b", []string{"console (a)"}}, []any{list.Name, others})
	list, others = b.Main("session")
	require.Equal(t, "c", list.Name)
	require.Empty(t, others)
}
