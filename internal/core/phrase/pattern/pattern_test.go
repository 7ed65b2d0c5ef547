package pattern

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// plain are words that differ in nothing but case; a number is one word of digits, a pair is two words.
type plain struct{}

func (plain) Same(a, b string) bool     { return strings.EqualFold(a, b) }
func (plain) Folded(word string) string { return strings.ToLower(word) }
func (plain) Longest(as string) int     { return map[string]int{"pair": 2}[as] + 1 }
func (plain) Takes(as string, words []string) bool {
	switch as {
	case "number":
		return len(words) == 1 && strings.Trim(words[0], "0123456789") == ""
	case "pair":
		return len(words) == 2
	}
	return len(words) == 1
}

func TestAPatternTellsWhatItsHolesHave(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ pattern, line, has string }{
		{"server <name> at <address>", "server tern at 192.0.2.1", "name=tern address=192.0.2.1"},
		{"server <name> at <address>", "SERVER tern AT 192.0.2.1", "name=tern address=192.0.2.1"},
		{"server <name> at <address>", "server tern", "no"},
		{"server <name>", "server tern at 192.0.2.1", "no"},
		{"wait <timeout as number>", "wait 5", "timeout=5"},
		{"wait <timeout as number>", "wait long", "no"},
		{"shown <name as pair> end", "shown a b end", "name=a b"},
		{"wait <timeout> [tries <attempts>]", "wait 5", "timeout=5"},
		{"wait <timeout> [tries <attempts>]", "wait 5 tries 2", "timeout=5 attempts=2"},
		{"key * <key>", "key 7 abc", "key=abc"},
		{"banner *", "banner any words there are", ""},
		{"banner *", "banner", ""},
		{"ask <servers>+", "ask tern plover", "servers=tern plover"},
		{"ask <servers>+,", "ask tern, plover", "servers=tern plover"},
		{"ask <servers>+(then)", "ask tern then plover", "servers=tern plover"},
		{"ask <servers>+(then)", "ask tern plover", "no"},
		{"at <address>:<port as number>", "at 192.0.2.1:49", "address=192.0.2.1 port=49"},
		{"at <address>:<port as number>", "at 2001:db8::1:49", "address=2001:db8::1 port=49"},
		{"log (in|out) <name>", "log out ines", "name=ines"},
		{"log (in|out) <name>", "log off ines", "no"},
		{"say \\<all>", "say <all>", ""},
	} {
		p, err := Parse(c.pattern)
		require.NoError(t, err, c.pattern)
		found, fits := p.Match(plain{}, strings.Fields(c.line))
		has := "no"
		if fits {
			var all []string
			for _, b := range found {
				all = append(all, fmt.Sprintf("%s=%s", b.Hole, strings.Join(b.Words, " ")))
			}
			has = strings.Join(all, " ")
		}
		require.Equal(t, c.has, has, "%q of %q", c.pattern, c.line)
	}
}

func TestAPatternThatIsWrittenWronglySaysWhat(t *testing.T) {
	t.Parallel()
	for text, says := range map[string]string{"": "it says nothing", "wait [tries": `a "]" is missing`,
		"wait ]": `a "]" stands there that nothing opened`, "wait <": "a hole is not closed", "(a | b": "is missing",
		"a <>": "a hole has no name", "a<x><y>": "two holes stand side by side", "a*b": "* stands for whole words",
		"a<x>+": "+ goes with a hole that is a word of its own", "<x>+(": "stands in brackets"} {
		_, err := Parse(text)
		require.Error(t, err, text)
		require.Contains(t, err.Error(), says, text)
	}
}

func TestTheFirstWordsOfALineMayFit(t *testing.T) {
	t.Parallel()
	p, err := Parse("release <version>")
	require.NoError(t, err)
	require.True(t, p.Begins(plain{}, []string{"release", "5", "of", "it"}))
	require.True(t, p.CouldBegin(plain{}, []string{"RELEASE"}))
	require.False(t, p.CouldBegin(plain{}, []string{"lease"}))
	var versions []string
	p.Heads(plain{}, []string{"release", "5", "of"}, func(have []Bound) bool {
		versions = append(versions, have[0].Words...)
		return true
	})
	require.Equal(t, []string{"5"}, versions)
}
