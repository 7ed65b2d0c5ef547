package site

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var makeWritten = flag.Bool("make-written", false, "write the words that are taken for others into testdata")

// Every key, word and bound of the language stands in the schema that editors read.
func TestTheSchemaIsAsWritten(t *testing.T) {
	t.Parallel()
	want, err := os.ReadFile("../../../docs/site.schema.json")
	require.NoError(t, err)
	require.Equal(t, string(want), string(Schema()), "make it again: mellowgate new -schema > docs/site.schema.json")
}

func TestWordsThatAreTakenForOthersAreAsWritten(t *testing.T) {
	t.Parallel()
	var text strings.Builder
	for _, word := range slices.Sorted(maps.Keys(tradeWords)) {
		fmt.Fprintln(&text, word, tradeWords[word])
	}
	if *makeWritten {
		require.NoError(t, os.WriteFile("testdata/trade-words.txt", []byte(text.String()), 0o644))
	}
	want, err := os.ReadFile("testdata/trade-words.txt")
	require.NoError(t, err)
	require.Equal(t, string(want), text.String())
}

// A source may take the place of devices, and stand for lines of another text.
func TestDevicesOfASourceTakeThePlaceOfOthers(t *testing.T) {
	t.Parallel()
	whole := `site: T
lists: [{name: l, authenticate: login, methods: [local]}]
platforms: [{name: k}]
devices:
  - {name: a, platform: k, addresses: [192.0.2.1, 192.0.2.2], source: 192.0.2.2, interfaces: {up: 192.0.2.2},
     labels: {x: y}, certificate: {name: a.example}, access: {console: {login: l}, ssh: {login: l}}}
  - {name: b, addresses: [192.0.2.3]}
`
	text := "\ndevices:\n  - name: a\n    addresses: []\n    access: {console: {}, telnet: {login: l}}\n    " +
		"accounts: [gone]\n"
	source := Source{Name: "a.txt", Text: []byte(strings.Replace(text, "    accounts: [gone]\n", "", 1)),
		Lines: []int{0, 0, 7, 0, 9}, Replaces: true}
	s, err := Parse(Source{Name: "s.yaml", Text: []byte(whole)}, source)
	require.NoError(t, err)
	require.Len(t, s.Devices, 2)
	a := s.Device("a")
	require.Equal(t, []string{"console", "telnet"}, []string{a.Ways[0].Name(), a.Ways[1].Name()})
	require.Equal(t, "k [192.0.2.1 192.0.2.2] 192.0.2.2 true map[up:[192.0.2.2]] map[x:y] a.example",
		fmt.Sprint(a.Platform.Name, " ",
			a.Addresses, " ", a.Source, " ", a.SourceSet, " ", a.Interfaces, " ", a.Labels, " ", a.Shows.Name))
	require.Equal(t, "a.txt:7", s.Where(a.Place))
	require.Equal(t, "a.txt:9", s.Where(a.Ways[1].Place))
	require.Equal(t, "a.txt", s.Where(Place{File: 1, Line: 4, Column: 1}), "a line that no line of the text says")
	require.Equal(t, "a.txt", s.Where(Place{File: 1, Line: 40, Column: 1}))
	require.Equal(t, "s.yaml:1:1", s.Where(Place{File: 0, Line: 1, Column: 1}))

	source.Text = []byte("devices: [{name: a, platform: other, addresses: [192.0.2.9], source: 192.0.2.9, " +
		"interfaces: " +
		"{}}]\nkinds: [{name: other}]\n")
	s, err = Parse(Source{Name: "s.yaml", Text: []byte(whole)}, source)
	require.NoError(t, err)
	require.Equal(t, "other [192.0.2.9] 192.0.2.9 map[]",
		fmt.Sprint(s.Device("a").Platform.Name, " ", s.Device("a").Addresses, " ",
			s.Device("a").Source, " ", s.Device("a").Interfaces))

	source.Text = []byte("devices: [{name: new, addresses: [192.0.2.9]}]\n")
	s, err = Parse(Source{Name: "s.yaml", Text: []byte(whole)}, source)
	require.NoError(t, err)
	require.Len(t, s.Devices, 3, "a device that no other source has is one more")
	source.Replaces, source.Text = false, []byte("devices: [{name: a, addresses: [192.0.2.9]}]\n")
	_, err = Parse(Source{Name: "s.yaml", Text: []byte(whole)}, source)
	require.ErrorContains(t, err, "a.txt")
}

func TestPurposesHaveNames(t *testing.T) {
	t.Parallel()
	for p := range PurposeCount {
		got, known := PurposeOf(p.String())
		require.True(t, known)
		require.Equal(t, p, got)
	}
	_, known := PurposeOf("dance")
	require.False(t, known)
	require.True(t, Login.Takes(BySecret))
	require.False(t, Login.Takes(SignedIn))
	require.False(t, RecordSystem.Takes(ByLocal))
}

func TestTwoPasswordsAreOneByTheirHashOrTheirKey(t *testing.T) {
	t.Parallel()
	k, o := &Key{}, &Key{}
	for _, c := range []struct {
		a, b Password
		same bool
	}{
		{Password{Hash: "$x"}, Password{Hash: "$x"}, true}, {Password{Hash: "$x"}, Password{Hash: "$y"}, false},
		{Password{}, Password{}, false}, {Password{Key: k}, Password{Key: k}, true},
		{Password{Key: k}, Password{Key: o}, false}, {Password{Key: k, Hash: "$x"}, Password{Hash: "$x"}, false},
		{Password{Hash: "$x"}, Password{Key: k, Hash: "$x"}, false},
	} {
		require.Equal(t, c.same, c.a.Same(c.b))
	}
}

func TestBoundsThatOneWordLess(t *testing.T) {
	t.Parallel()
	base := "site: T\nkeys: {k: file k}\nservers: [{name: r, protocol: radius, address: 192.0.2.1%s}]\n"
	for part, want := range map[string]string{
		", transport: tls, ports: {authentication: 1}": "has one port over TLS: write port: 2083",
		", transport: tls, ports: {accounting: 1}":     "has one port over TLS: write port: 2083",
	} {
		_, err := Parse(Source{Name: "s.yaml", Text: []byte(fmt.Sprintf(base, part))})
		require.ErrorContains(t, err, want, part)
	}
	rights := "site: T\nvendors: [{name: v, number: 1, attributes: [{name: A, number: 1, type: text}], commands: " +
		"{%s}}]\n"
	for part, want := range map[string]string{
		"word: ''":            "commands needs an attribute: allow: NAME, refuse: NAME, or both",
		"allow: A, word: ''":  "word and rest are how * and ** are written, and cannot be empty",
		"allow: A, rest: ''":  "word and rest are how * and ** are written, and cannot be empty",
		"refuse: A, rest: ''": "word and rest are how * and ** are written, and cannot be empty",
	} {
		_, err := Parse(Source{Name: "s.yaml", Text: []byte(fmt.Sprintf(rights, part))})
		require.ErrorContains(t, err, want, part)
	}
	for ledger, ok := range map[string]bool{"postgres postgres://gate@192.0.2.60/ledger": true,
		"postgres postgresql://gate@192.0.2.60/ledger": true, "postgres mysql://gate@192.0.2.60/ledger": false,
		"folder records": true, "folder": false} {
		_, err := Parse(Source{Name: "s.yaml", Text: []byte("site: T\nservice: {ledger: \"" + ledger + "\"}\n")})
		require.Equal(t, ok, err == nil, ledger)
	}
}

func TestWordsForYesAndNo(t *testing.T) {
	t.Parallel()
	for word, yes := range map[string]bool{"true": true, "yes": true, "on": true, "ON": true, "false": false,
		"no":  false,
		"Off": false} {
		s, err := Parse(Source{Name: "s.yaml", Text: []byte(
			"site: T\nkeys: {k: file k}\nservers: [{name: r, protocol: radius, address: 192.0.2.1, key: k, run: " +
				word + "}]\n")})
		require.NoError(t, err, word)
		require.Equal(t, yes, s.Server("r").Run, word)
	}
}
