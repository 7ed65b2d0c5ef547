package site

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The page of the words has each word of before beside the one of now, and no word has itself another name.
func TestThePageOfTheWordsHasEachThatChanged(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../../../docs/words.md")
	require.NoError(t, err)
	for _, words := range []map[string]string{renamedInSite, renamedInPlatform, renamedInDevice, renamedInShared,
		renamedInServer, renamedInBind, renamedInGrant, renamedInLimits, renamedBehaviour, renamedWhen,
		renamedFindings} {
		for old, now := range words {
			found := false
			for row := range strings.Lines(string(page)) {
				cells := strings.Split(row, "|")
				found = found || len(cells) == 5 && strings.Contains(cells[2], "`"+now+"`") &&
					strings.Contains(cells[3], "`"+old+"`")
			}
			require.True(t, found, "%s, now %s", old, now)
			current, renamed := CurrentWord(old)
			require.True(t, renamed)
			require.Equal(t, now, current)
			require.NotContains(t, words, now)
		}
	}
	_, renamed := CurrentWord("platforms")
	require.False(t, renamed)
	require.Equal(t, "password-form tacacs", CurrentBehaviour("password-as tacacs"))
	require.Equal(t, "refusal", CurrentBehaviour("refusal"))
}

// A site that was written anew by half is read, and each word of before is noted where it stands.
func TestEachWordOfBeforeIsNotedWhereItStands(t *testing.T) {
	t.Parallel()
	s, err := Parse(Source{Name: "site.yaml", Text: []byte(`keys: {k: file k}
servers: [{name: t, protocol: tacacs, address: 192.0.2.1, key: k, wait: 2s, dead-time: 5s}]
groups: [{name: g, servers: [t]}]
platforms: [{name: sw, behaviour: {refusal: ends-list, login-window: 9s}}]
lists: [{name: l, authenticate: login, methods: [group g]}, {name: a, account: sessions, when: start-stop, methods: [group g]}]
profiles: [{name: p, asks: {g: {timeout: 3s}}}]
devices: [{name: d, kind: sw, profile: p, addresses: [192.0.2.9], holds: {keys: {t: k}}}]
`)})
	require.NoError(t, err)
	var noted []string
	for _, r := range s.Renamed {
		noted = append(noted, s.Where(r.Place)+" "+r.String())
	}
	require.Equal(t, []string{`site.yaml:2:67 "wait" is now called "timeout"`,
		`site.yaml:4:56 "login-window" is now called "login-timeout"`,
		`site.yaml:5:96 "start-stop" is now called "start and stop"`,
		`site.yaml:6:22 "asks" is now called "requests-to"`,
		`site.yaml:7:21 "kind" is now called "platform"`, `site.yaml:7:67 "holds" is now called "found"`}, noted)
	d := s.Device("d")
	require.Equal(t, "sw", d.Platform.Name)
	require.Equal(t, "9s", d.Platform.Behaviour.Value(AspectLoginWindow))
	require.True(t, s.Lists[1].Start)
}
