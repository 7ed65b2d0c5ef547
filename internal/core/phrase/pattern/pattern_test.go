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
		{"* <name>", "", "no"},
		{"* <name>", "any ines", "name=ines"},
		{"ask [again] *", "ask", ""},
		{"ask (first|last)=<order as rank> <name>", "ask last ines", "order=last name=ines"},
		{"ask <servers as pair>+,", "ask a b, c d", "servers=a b c d"},
		{"ask <servers>+,", "ask tern,, plover", "no"},
		{"ask <servers>+,", "ask tern, plover,", "no"},
		{"ask <servers>+(then) now", "ask tern then plover now", "servers=tern plover"},
		{"ask <servers>+(then)", "ask then plover", "no"},
		{"ask <servers>+ now", "ask tern plover now", "servers=tern plover"},
		{"ask <servers>+", "ask", "no"},
		{"port<port as number>", "port12", "port=12"},
		{"port<port as number>", "port", "no"},
		{"port<port as number>", "poxt12", "no"},
		{"port<port as number>", "PORT12", "port=12"},
		{"<port as number>/tcp", "12/tcp", "port=12"},
		{"<port as number>/tcp", "12/tcp/x", "no"},
		{"<port as number>/tcp", "/tcp", "no"},
		{"<port as number>/tcp", "x/tcp", "no"},
		{"<name>/<port as number>", "a/1/2", "no"},
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
		"a <>": "a hole has no name", "<x>+y": "+ goes with a hole that is a word of its own",
		"<x>+()": "stands in brackets", "<x>+(a b)": "stands in brackets", "<x>+(a|b)": "stands in brackets",
		"<x>+(<y>)": "stands in brackets", "a-<x>+": "+ goes with a hole that is a word of its own",
		"(a|b)=<x>+": "=<field as table> is wanted", "(a|b)=<x>y": "=<field as table> is wanted",
		"(a|b)=<x": "a hole is not closed", "[a": `a "]" is missing`,
		"a|b":     `a "|" stands there`,
		"a<x><y>": "two holes stand side by side", "a*b": "* stands for whole words",
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

// Parts that may stand in any order are those at the end that need not stand there at all.
func TestPartsAtTheEndMayStandInAnyOrder(t *testing.T) {
	t.Parallel()
	p, err := Parse("server <name> [port <port>] [wait <timeout>] [key <key>]")
	require.NoError(t, err)
	for line, has := range map[string]string{
		"server tern":                      "tern",
		"server tern key k":                "tern k",
		"server tern wait 5 port 49 key k": "tern 5 49 k",
		"server tern key k port 49":        "tern k 49",
		"server tern key k wait":           "no",
		"server tern key k key l":          "no",
		"server":                           "no",
	} {
		found, fits := p.AnyOrder().Match(plain{}, strings.Fields(line))
		words := []string{}
		for _, b := range found {
			words = append(words, b.Words...)
		}
		if !fits {
			words = []string{"no"}
		}
		require.Equal(t, has, strings.Join(words, " "), line)
	}
	_, fits := p.Match(plain{}, strings.Fields("server tern key k port 49"))
	require.False(t, fits, "only where it is asked for")
	one, err := Parse("server <name> [port <port>]")
	require.NoError(t, err)
	require.Equal(t, one, one.AnyOrder(), "one part has one order")
}

func TestThePlaceholdersOfAPatternAreTold(t *testing.T) {
	t.Parallel()
	p, err := Parse("server <name> at <address>:<port as number> [wait <timeout as time>] (a|b)=<order as rank> " +
		"<keys>+")
	require.NoError(t, err)
	var told []string
	p.Holes(func(hole, as string, many bool) { told = append(told, fmt.Sprint(hole, "/", as, "/", many)) })
	require.Equal(t, []string{"name//false", "address//false", "port/number/false", "timeout/time/false",
		"order/rank/false", "keys//true"}, told)
}

func TestTheFirstWordsOfALineFitOrDoNot(t *testing.T) {
	t.Parallel()
	p, err := Parse("[now] release <version as number>")
	require.NoError(t, err)
	require.True(t, p.Begins(plain{}, strings.Fields("now release 5 of it")))
	require.False(t, p.Begins(plain{}, strings.Fields("now release of it")))
	require.False(t, p.Begins(plain{}, strings.Fields("now")))
	literal, err := Parse("release <version as number>")
	require.NoError(t, err)
	require.False(t, literal.Begins(plain{}, strings.Fields("lease 5")))
	require.False(t, literal.CouldBegin(plain{}, nil))
	part, err := Parse("port<port as number>")
	require.NoError(t, err)
	require.True(t, part.Elements[0].FitsWord(plain{}, "port12"))
	require.False(t, part.Elements[0].FitsWord(plain{}, "portal"))
}
