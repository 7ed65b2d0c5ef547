package site

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAQuestionIsARecordOrNot(t *testing.T) {
	t.Parallel()
	for p := range PurposeCount {
		want := p == RecordSessions || p == RecordCommands || p == RecordSystem
		require.Equal(t, want, p.Records(), p)
		require.Equal(t, want, p.Question().Records(), p)
	}
	for _, q := range []Question{AskStatus, AskConnect, ""} {
		require.False(t, q.Records())
	}
	require.Equal(t, []string{"", ""}, []string{PurposeCount.String(), Purpose(-1).String()})
}

func TestARangeOfOneIsWrittenAsOne(t *testing.T) {
	t.Parallel()
	require.Equal(t, []string{"7", "0-9"}, []string{Range{7, 7}.String(), Range{0, 9}.String()})
	require.True(t, Range{3, 5}.Has(3) && Range{3, 5}.Has(5))
	require.False(t, Range{3, 5}.Has(2) || Range{3, 5}.Has(6))
}

func TestALabsNetworkIsALoopbackNetworkOfAUsefulSize(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{"127.77.0.0/16": "127.77.0.0/16", "127.77.5.9/24": "127.77.5.0/24",
		"127.128.0.0/9": "127.128.0.0/9", "127.0.0.0/9": "", "127.77.0.0/25": "", "127.0.0.0/8": "", "127.0.0.0/24": "",
		"10.0.0.0/16": "", "::1/128": "", "126.0.0.0/7": "", "here": ""} {
		p, err := ParseLabNetwork(text)
		if want == "" {
			require.ErrorContains(t, err, "the lab's network is", text)
			continue
		}
		require.NoError(t, err, text)
		require.Equal(t, want, p.String())
	}
}

func TestALineThatMayHoldASecretIsNotPrinted(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{
		"k: clear of-a-person": "k: clear (not shown)",
		"password: word":       "password: (not shown)",
		"x: $2b$10$abc":        "x: $2 (not shown)",
		"x: $5$abc":            "x: $5$ (not shown)",
		"x: $6$abc":            "x: $6$ (not shown)",
		"x: $argon2id$v=19":    "x: $argon2 (not shown)",
		"x: $scrypt$ln=1":      "x: $scrypt (not shown)",
		"x: $pbkdf2-sha256$1":  "x: $pbkdf2 (not shown)",
		"timeout: 2s":          "timeout: 2s",
		"a\ttab":               "a tab",
		"a bell \a":            "",
		"no text \xff":         "",
	} {
		require.Equal(t, want, (&reader{source: Source{Text: []byte("first\n" + line + "\r\nlast")}}).line(2))
	}
	require.Empty(t, (&reader{source: Source{Text: []byte("one")}}).line(3))
}

func TestManyProblemsAreCutAndCounted(t *testing.T) {
	t.Parallel()
	var ps Problems
	for i := range mostShown + 3 {
		ps = append(ps, Problem{Where: fmt.Sprintf("site.yaml:%d:1", i+1), What: "wrong"})
	}
	said := ps.Error()
	require.Contains(t, said, fmt.Sprintf("site.yaml:%d:1", mostShown))
	require.NotContains(t, said, fmt.Sprintf("site.yaml:%d:1", mostShown+1))
	require.Contains(t, said, "and 3 more problems")
	require.NotContains(t, ps[:mostShown].Error(), "more problems")
}

// A file of millions of entries is refused before anything is made of it.
func TestAFileOfMillionsOfEntriesIsRefusedAtOnce(t *testing.T) {
	t.Parallel()
	_, err := Parse(Source{Name: "site.yaml", Text: []byte("devices: [" + strings.Repeat("{},", mostParts/2))})
	require.ErrorContains(t, err, "the file has about 2000001 entries, and 2000000 are the most; split the site")
	require.Equal(t, 7, parts([]byte("a: [{b: 1},\n{b: 2, c: 3}]\n")))
}

func TestNoTwoKeysAreOneUnlessTheirValuesAreKnownAndEqual(t *testing.T) {
	t.Parallel()
	a := &Key{}
	b := &Key{}
	c := &Key{}
	unknown := &Key{}
	a.Name = "a"
	b.Name = "b"
	c.Name = "c"
	unknown.Name = "d"
	keys := Keys{"a": NewSecret("one"), "b": NewSecret("one"), "c": NewSecret("two")}
	for name, x := range map[string]struct {
		a, b *Key
		want bool
	}{"itself": {a, a, true}, "equal": {a, b, true}, "not equal": {a, c, false}, "none and one": {nil, a, false},
		"one and none": {a, nil, false}, "none": {nil, nil, true}, "unknown": {a, unknown, false},
		"unknown first": {unknown, a, false}, "itself unknown": {unknown, unknown, true}} {
		require.Equal(t, x.want, keys.Same(x.a, x.b), name)
	}
	other := &Key{}
	other.Name = "e"
	require.False(t, keys.Same(unknown, other), "two names that are not known count as two values")
}

func TestMoreOfTheLanguageKeepsWhatWasMeant(t *testing.T) {
	t.Parallel()
	s := parse(t, strings.NewReplacer("  - {name: crew, authenticate",
		"  - {name: all, account: commands, methods: [group shore]}\n  - {name: crew, authenticate",
		"telnet: off", "telnet: off\n      api: ", "site: Test",
		"site: Test\nservice: {spool: 1000}\naccept: [{code: one-server, device: sw-1, why: known}]\nlabels:",
		"- {name: ines.marsh, teams: [network],", "- {name: ines.marsh, teams: [],").Replace(small))
	require.Equal(t, Range{0, 15}, s.Lists[0].Levels)
	require.Equal(t, 1000, s.Service.Ledger.Spool)
	require.Nil(t, s.Device("sw-1").Way("telnet"))
	require.NotNil(t, s.Device("sw-1").Way("api"))
	require.Empty(t, s.Person("ines.marsh").Teams)
	require.Equal(t, "sw-1", s.Accepted[0].Device.Name)
}

func TestEachAccessNeedsTheLevelOfItsKind(t *testing.T) {
	t.Parallel()
	behaviour := Behaviour{WebNeedsLevel: 7, APINeedsLevel: 9}
	for access, want := range map[string]int{Web: 7, API: 9, SSH: 0, Console: 0} {
		level, aspect := behaviour.NeedsLevel(access)
		require.Equal(t, want, level, access)
		require.Equal(t, map[string]string{Web: "web-needs-level", API: "api-needs-level"}[access], aspect)
	}
}
