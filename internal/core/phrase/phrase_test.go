package phrase

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/testscale"
)

var makeFacts = flag.Bool("make-facts", false, "write what the texts say into testdata, to be read by eye")

var mutations = flag.Int("mutations", testscale.Of(24, 100), "how many changes of each saved text are tried")

const shipped = "../../../demo/"

// texts are saved texts and their phrasebooks.
var texts = func() map[string]string {
	all := map[string]string{}
	for i := range 5 {
		all[fmt.Sprintf("testdata/crane-%d.txt", i+1)] = "testdata/crane-controller.yaml"
	}
	for i := range 3 {
		all[fmt.Sprintf("testdata/lantern-%d.txt", i+7)] = "testdata/lantern-point.yaml"
	}
	saved, _ := filepath.Glob(shipped + "saved/*.txt")
	for _, file := range saved {
		all[file] = shipped + "phrasebooks/quay-switch.yaml"
		if name := filepath.Base(file); strings.HasPrefix(name, "mv-") || strings.HasPrefix(name, "ashore-") {
			all[file] = shipped + "phrasebooks/hull-router.yaml"
		}
	}
	return all
}()

func book(t testing.TB, file string) *Book {
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	b, err := Load(file, text)
	require.NoError(t, err)
	return b
}

func small(t testing.TB, text string) *Book {
	b, err := Load("book.yaml", []byte("phrasebook: 1\nmake: small\n"+text))
	require.NoError(t, err)
	return b
}

// said is all that a reading says, secrets too where raw: for comparing.
func said(text *Text, lines []Line, raw bool) string {
	var out strings.Builder
	if raw && text.Version != "" {
		fmt.Fprintln(&out, text.Version)
	}
	for _, l := range lines {
		if l.Kind != Elsewhere {
			fmt.Fprintf(&out, "%d %s | %s | %s\n", l.Number, l.Kind, l.Text, l.Means)
		}
	}
	for _, r := range text.Records {
		fmt.Fprintln(&out, r)
		for _, f := range r.Facts() {
			value := f.String()
			if raw {
				value = fmt.Sprint(f.Values)
				if slices.ContainsFunc(f.marks, func(m int) bool { return m > 0 }) {
					value += fmt.Sprint(" ", f.marks)
				}
				for _, v := range f.Values {
					value += " " + v.Text
				}
			}
			fmt.Fprintf(&out, "  %s: %s (%s", f.Field, value, f.State)
			if f.Line > 0 && !raw {
				fmt.Fprintf(&out, ", line %d", f.Line)
			}
			fmt.Fprintln(&out, ")")
		}
	}
	for _, n := range text.Notes {
		fmt.Fprintf(&out, "note")
		if !raw {
			fmt.Fprintf(&out, ", line %d", n.Line)
		}
		fmt.Fprintln(&out, ": "+n.What)
	}
	return out.String()
}

func read(t testing.TB, b *Book, text string) (*Text, []Line) {
	var lines []Line
	got, err := b.Read(strings.NewReader(text), func(l Line) { lines = append(lines, l) })
	require.NoError(t, err)
	return got, lines
}

func TestWhatSavedTextsSay(t *testing.T) {
	t.Parallel()
	for file, from := range texts {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		got, lines := read(t, book(t, from), string(text))
		all := said(got, lines, false)
		for _, secret := range []string{"demo-only", "Sea-shanty", "In-the-clear", "Ship-word", "Crane-word",
			"Not-ours",
			"Summer-word", "Old-ship-word", "Lamp word", "zz11"} {
			require.NotContains(t, all, secret, file)
		}
		for _, secret := range regexp.MustCompile(`(?im)^.* (?:mixed|sealed) (\S+)`).FindAllStringSubmatch(string(text), -1) {
			require.NotContains(t, all, strings.TrimSpace(secret[1]), file)
		}
		golden := "testdata/" + strings.TrimSuffix(filepath.Base(file), ".txt") + ".facts"
		if *makeFacts {
			require.NoError(t, os.WriteFile(golden, []byte(all), 0o644))
		}
		want, err := os.ReadFile(golden)
		require.NoError(t, err)
		require.Equal(t, string(want), all, file)
	}
}

// A line that says something cannot change or go away without a trace: other facts come out
// of it, or it is listed.
func TestNoLineChangesInSilence(t *testing.T) {
	t.Parallel()
	for file, from := range texts {
		random := rand.New(rand.NewPCG(7, 7))
		b := book(t, from)
		whole, err := os.ReadFile(file)
		require.NoError(t, err)
		lines := strings.SplitAfter(string(whole), "\n")
		before, kinds := read(t, b, string(whole))
		ours := map[int]bool{}
		for _, l := range kinds {
			before, seen := ours[l.Number]
			ours[l.Number] = l.Kind == Understood && (before || !seen)
		}
		for range *mutations {
			at := random.IntN(len(lines))
			if !ours[at+1] || strings.Contains(lines[at], "keeper watchman") { // whom the next line takes back
				continue
			}
			line := lines[at]
			how := "left out"
			words := strings.Fields(line)
			switch random.IntN(3) {
			case 0:
				line = ""
			case 1: // one word becomes another one of the text
				other := strings.Fields(lines[random.IntN(len(lines))])
				if len(other) == 0 {
					continue
				}
				was, is := words[random.IntN(len(words))], other[random.IntN(len(other))]
				if strings.ContainsAny(was+is, "\"'{};|") {
					continue
				}
				line = strings.Replace(line, was, is, 1)
				how = fmt.Sprintf("changed, %s for %s", is, was)
			default:
				letter := random.IntN(len(strings.TrimRight(line, "\r\n")))
				if strings.ContainsRune(" \t\"'<>{};|", rune(line[letter])) {
					continue
				}
				line = line[:letter] + "Z" + line[letter+1:]
				how = "changed"
			}
			changed := strings.Join(lines[:at], "") + line + strings.Join(lines[at+1:], "")
			after, _ := read(t, b, changed)
			if strings.EqualFold(changed, string(whole)) {
				continue
			}
			require.NotEqual(t, said(before, nil, true), said(after, nil, true), "%s: line %d is %s: %q", file, at+1,
				how,
				line)
		}
	}
}

const endWords = `
layout: {sections: end-word, end-word: done, words: any-case, opens: ["berth *"], comment: "~", quote: "'"}
types: {key: {forms: {"<key>": clear}}}
territory: [asks, ring]
phrases:
- about: server
  say: asks <name> <address>
  where: {protocol: radius}
  below: [{say: waits <timeout>}, {say: "lock <key as key>"}]
- {about: group, say: "ring <name> <servers>+,"}
`

func TestSectionsThatAnEndWordEnds(t *testing.T) {
	t.Parallel()
	got, lines := read(t, small(t, endWords), "berth 1\n waits 9\nDone\nASKS 'north one' 192.0.2.1 ~ the first\n"+
		"lock open\nwaits 5\ndone\nring r north,south\nwaits 7\n")
	require.Equal(t, `4 understood | ASKS north one 192.0.2.1 | server north one: address 192.0.2.1, protocol radius
5 understood | lock … | server north one: key (not shown here)
6 understood | waits 5 | server north one: timeout 5
8 understood | ring r north,south | group r: servers north, then south
server north one
  address: 192.0.2.1 (said, line 4)
  name: north one (said, line 4)
  protocol: radius (said, line 4)
  key: (not shown here) (said, line 5)
  timeout: 5 (said, line 6)
group r
  name: r (said, line 8)
  servers: north, then south (said, line 8)
note, line 8: group r names the server north, and the text has none; did you mean the server north one?
note, line 8: group r names the server south, and the text has none
`, said(got, lines, false))
}

func TestSectionsOfNamesAndValues(t *testing.T) {
	t.Parallel()
	b := small(t, `
layout: {sections: fields, comment: "#"}
types: {key: {forms: {"<key>": clear}}}
territory: [login]
phrases:
- about: server
  say: login <name>
  where: {protocol: tacacs}
  below: [{say: addr = <address>}, {say: "key = <key as key>"}]
`)
	got, lines := read(t, b, "[network]\naddr = 10\n[login tern]\n# one\naddr = 192.0.2.1\nkey=s3cret\nfoo = s3cret\n")
	require.Equal(t, `3 understood | login tern | server tern: protocol tacacs
5 understood | addr = 192.0.2.1 | server tern: address 192.0.2.1
6 understood | key = … | server tern: key (not shown here)
7 not understood | … = … | no phrase below "login <name>" reads it
server tern
  name: tern (said, line 3)
  protocol: tacacs (said, line 3)
  address: 192.0.2.1 (said, line 5)
  key: (not shown here) (said, line 6)
note, line 0: some lines were not understood, so nothing follows from what the text does not say
`, said(got, lines, false))
	require.False(t, got.Whole)
}

const tiny = `
layout: {sections: indent, end: that is all, block: {starts: "motto <m> *", ends: m}, noise: ["-- more *"]}
types: {key: {forms: {"<key>": clear, "sealed *": hidden}}}
territory: [gate]
unsaid:
  server.attempts: "3"
  server.timeout: device.timeout
  server.port: "49"
  server.accounting-port: port + 1
phrases:
- about: server
  say: gate <name> <address>
  where: {protocol: tacacs}
  below: [{say: "word <key as key>"}, {say: again <attempts>}]
- {about: device, say: patience <timeout>}
`

func TestFromATextThatMayBeCutNothingFollows(t *testing.T) {
	t.Parallel()
	b := small(t, tiny)
	for text, want := range map[string]string{
		"gate a 192.0.2.1\nthat is all\n":             "attempts: 3 (implied)",
		"gate a 192.0.2.1\nthat is all":               "accounting-port: 50 (implied)",
		"patience 4\ngate a 192.0.2.1\nthat is all\n": "timeout: 4 (implied)",
		"gate a 192.0.2.1\n":                          "note, line 0: the end of the text (that is all) was not seen",
		"gate a 192.0.2.1\nthat is all\ngate b 192.0.2.2\n": "note, line 3: the text goes on after its end: it may " +
			"be of two devices",
		"gate a 192.0.2.1\nthat is all\ngate b 192.0.2.2\nhello\nhello\n": "note, line 3: the text goes on after " +
			"its end",
		"gate a b c\nthat is all\n": "note, line 0: some lines were not understood, so nothing follows",
		"hello\nthat is all\n": "note, line 0: no line of it is of the territory: it may be of another make " +
			"than small",
	} {
		got, lines := read(t, b, text)
		all := said(got, lines, false)
		require.Contains(t, all, want, text)
		require.Equal(t, strings.Count(want, "note, "), strings.Count(all, "note, "), all)
		require.Equal(t, strings.HasPrefix(want, "a") || strings.HasPrefix(want, "timeout"),
			strings.Contains(all, "(implied)"), "%s: what is not said holds where the text is whole, and only there",
			text)
	}
}

func TestWhatIsSaidTwiceIsNoted(t *testing.T) {
	t.Parallel()
	got, _ := read(t, small(t, tiny), "gate a 192.0.2.1\n again 2\ngate a 192.0.2.1\n again 4\nthat is all\n")
	require.Equal(t, []Note{{Line: 4, What: "the attempts of server a is said before, in line 2, as something " +
		"else; the last one holds"}}, got.Notes)
	require.Contains(t, said(got, nil, false), "attempts: 4 (said, line 4)")
}

func TestLinesThatAreNoText(t *testing.T) {
	t.Parallel()
	b := small(t, tiny)
	got, lines := read(t, b, "\ufeffgate a 192.0.2.1\r\n-- more --\b\b\n word plain\x1b[1m\n\xff\xfe\n"+
		"motto %% gate x %%\nmotto %% gate x\ngate evil 192.0.2.66\n%%\nxx\b\bgate b 192.0.2.2\nthat is all\n")
	require.Equal(t, `1 understood | gate a 192.0.2.1 | server a: address 192.0.2.1, protocol tacacs
3 not understood |  | it has control characters
4 not understood |  | it is not UTF-8 text: save it in that encoding
9 understood | gate b 192.0.2.2 | server b: address 192.0.2.2, protocol tacacs
10 understood | that is all | the end of the text
`, said(&Text{}, lines, false))
	require.False(t, got.Whole)
	require.Equal(t, 10, got.Lines)
	require.Equal(t, map[Kind]int{Understood: 3, NotUnderstood: 2}, got.Counts)

	_, err := b.Read(strings.NewReader("gate a 192.0.2.1\n"+strings.Repeat("x", longestLine+1)), nil)
	require.EqualError(t, err, "line 2 has more than a million octets: this is no text of a device")
}

// Nothing of a line that was not understood is shown but words of the phrasebook, names that
// are known, addresses and small numbers.
func TestALineThatIsNotUnderstoodShowsNoSecret(t *testing.T) {
	t.Parallel()
	b := small(t, tiny)
	for line, want := range map[string]string{
		" word plain 7 gate":     "word …",
		" lock hunter2 again":    "… again",
		" wrod hunter2":          "…",
		" again a 192.0.2.9 100": "again a 192.0.2.9 100",
		" again 1234":            "again 1234", // understood: it is a number of tries
		" again 1234 1234":       "again …",
		" word sealed hunter2":   "word sealed …",
	} {
		_, lines := read(t, b, "gate a 192.0.2.1\n"+line+"\n")
		require.Equal(t, want, lines[1].Text, line)
	}
	_, lines := read(t, b, "gate a 192.0.2.1\n agian 3\n")
	require.Equal(t, `no phrase below "gate <name> <address>" reads it; did you mean "again"?`, lines[1].Means)
}

// One of several values is taken back alone, and so is a server from the group that it
// stands in.
func TestOneOfSeveralValuesIsTakenBackAlone(t *testing.T) {
	t.Parallel()
	got, _ := read(t, small(t, `
layout: {sections: indent, take-back: no}
territory: [ring, crowd]
phrases:
- {about: group, say: ring <name>, below: [{say: gate <servers>}]}
- {about: group, say: crowd <name>, below: [{about: server, say: host <name> <address>, where: {protocol: radius}}]}
`), "ring r\n gate a\n gate b\n no gate a\ncrowd c\n host a 192.0.2.1\n host b 192.0.2.2\n host z 192.0.2.3\n"+
		" no host z 192.0.2.3\n")
	require.Equal(t, "b", valuesText(got.Records[1+1].Get("servers")))
	require.Equal(t, "a, then b", valuesText(got.Records[3].Get("servers")))
	require.Len(t, got.Records, 4)
}

// A secret is not shown as part of a longer word, nor where a type alone says that it is one.
func TestASecretIsNotShownWhereverItStands(t *testing.T) {
	t.Parallel()
	_, lines := read(t, small(t, `
layout: {sections: indent}
types: {hush: {forms: {"<x>": clear}}}
territory: [gate]
phrases:
- {about: server, say: "gate <name>:<key as hush>"}
- {about: account, say: "gate <name> crew <role as hush>"}
`), "gate a:hunter2\ngate b crew hunter2\n")
	for _, l := range lines {
		require.Equal(t, Understood, l.Kind)
		require.NotContains(t, l.Text+l.Means, "hunter2")
	}
}

// A line that ends by a carriage return alone is a line all the same.
func TestNothingIsLostBeforeACarriageReturn(t *testing.T) {
	t.Parallel()
	got, lines := read(t, small(t, tiny),
		"gate a 192.0.2.1\r again 2\r-- more --\r           \rgate b 192.0.2.2\r\nthat is all\n")
	require.Equal(t, `1 understood | gate a 192.0.2.1 | server a: address 192.0.2.1, protocol tacacs
1 understood | again 2 | server a: attempts 2
1 understood | gate b 192.0.2.2 | server b: address 192.0.2.2, protocol tacacs
2 understood | that is all | the end of the text
`, said(&Text{}, lines, false))
	require.Equal(t, 2, got.Lines)
}

// An address is one, whatever stands around it and however it is written.
func TestAnAddressIsOneHoweverItIsWritten(t *testing.T) {
	t.Parallel()
	b := small(t, tiny)
	for _, text := range []string{"2001:db8::1", "[2001:db8::1]", "2001:DB8:0:0::1"} {
		got, _ := read(t, b, "gate a "+text+"\n")
		require.Equal(t, "2001:db8::1", got.Records[0].first("address"), text)
	}
}

// Words of a table without a hole come before those that take anything, wherever they stand.
func TestTheNearestWordOfATableHolds(t *testing.T) {
	t.Parallel()
	got, _ := read(t, small(t, `
layout: {sections: indent, words: any-case, quote: "'"}
tables: {rank: {"<n>": "<n>", full: "15", "rank <n>": "<n>", "top most": "14"}}
territory: [crew]
phrases:
- {about: account, say: crew <name> <level as rank>}
- {about: account, say: "crew <name> [with] role <role>"}
`), "crew a FULL\ncrew b 7\ncrew c rank 3\ncrew 'the fourth' Top most\ncrew e\ncrew f x\ncrew g role 'of all'\n")
	require.Equal(t, "account a\n  level: 15 (said)\n  name: [a] a (said)\naccount b\n  level: [7] 7 (said)\n"+
		"  name: [b] b (said)\naccount c\n  level: [3] 3 (said)\n  name: [c] c (said)\naccount the fourth\n"+
		"  level: [14] 14 (said)\n  name: [the fourth] the fourth (said)\naccount g\n  name: [g] g (said)\n"+
		"  role: [of all] of all (said)\nnote: some lines were not understood, so nothing follows from what the "+
		"text does not say\n", strings.Replace(said(got, nil, true), "level: [15] 15", "level: 15", 1))
	require.Equal(t, 2, got.Counts[NotUnderstood], "a level is a number, and stands there")
}

// Braces stand where they like.
func TestBracesStandWhereTheyLike(t *testing.T) {
	t.Parallel()
	b := small(t, `
layout: {sections: braces, comment: "//", quote: '"'}
territory: [gate]
phrases:
- {about: server, say: gate <name>, where: {protocol: radius}, below: [{say: at <address>}, {say: again <attempts>}]}
- {about: account, say: crew <name>}
`)
	want := "server a\n  name: a (said)\n  protocol: radius (said)\n  address: 192.0.2.1 (said)\n  attempts: 2 " +
		"(said)\n" +
		"account x\n  name: x (said)\n"
	for _, text := range []string{
		"gate a { at 192.0.2.1; again 2; }\ncrew x;\n",
		"gate a {at 192.0.2.1;again 2;}\ncrew x",
		"gate a\t{\n\tat 192.0.2.1 ;\n  again 2; // {\n}\ncrew \"x\";;\n",
		"port {at 192.0.2.9; deep {gate b {at 192.0.2.8;}}}gate a {at 192.0.2.1;again 2}crew x;\n",
	} {
		got, _ := read(t, b, text)
		all := said(got, nil, false)
		all = strings.ReplaceAll(regexp.MustCompile(`, line \d+`).ReplaceAllString(all, ""), "note: x", "")
		require.Equal(t, want, all, text)
	}
	for text, note := range map[string]string{
		"}gate a {at 192.0.2.1;again 2;}}crew x;\n": "a section is closed that none had opened: the beginning may " +
			"be cut off",
		"gate a {at 192.0.2.1;again 2;}crew x;\nport {\none {": "the section that begins here has no end: the text " +
			"may be cut off",
	} {
		got, _ := read(t, b, text)
		all := regexp.MustCompile(`, line \d+`).ReplaceAllString(said(got, nil, false), "")
		require.Equal(t, want+"note: "+note+"\n", all)
		require.False(t, got.Whole)
	}
	got, _ := read(t, small(t, "layout: {sections: indent, block: {starts: \"greeting <mark>\", ends: "+
		"mark}}\nterritory: [gate]\n"+
		"phrases: [{about: server, say: gate <name>}]\n"), "gate a\ngreeting @\nwelcome\ngate b\n")
	require.Equal(t, []Note{{Line: 2, What: "the text that begins here and is not looked into has no end"}}, got.Notes)
	require.False(t, got.Whole)
}

// In a section, what is wanted of the same thing tells phrases apart.
func TestConditionsTellPhrasesApart(t *testing.T) {
	t.Parallel()
	const text = `phrasebook: 1
make: m
layout: {sections: indent}
territory: [gate]
phrases:
- about: server
  say: gate <name> <protocol>
  below:
  - {say: door <port>, where: {protocol: tacacs}}
  - {say: door <authentication-port>, where: {protocol: radius}}
`
	b, err := Load("b.yaml", []byte(text))
	require.NoError(t, err)
	got, _ := read(t, b, "gate a tacacs\n door 49\ngate b radius\n door 1812\n")
	require.Equal(t, "49 1812", got.Records[0].first("port")+" "+got.Records[1].first("authentication-port"))
	_, err = Load("b.yaml", []byte(strings.Replace(text, "{protocol: radius}", "{protocol: [radius, tacacs]}", 1)))
	require.ErrorContains(t, err, "where says several values of protocol")
	_, err = Load("b.yaml", []byte(strings.Replace(text, "{protocol: radius}", "{protocol: tacacs}", 1)))
	require.ErrorContains(t, err, `two phrases read the line "door 7"`)
	_, err = Load("b.yaml", []byte(strings.Replace(text, ", where: {protocol: radius}", "", 1)))
	require.ErrorContains(t, err, `two phrases read the line "door 7"`)
	_, err = Load("b.yaml", []byte(strings.Replace(text, "{protocol: radius}", "{source: x}", 1)))
	require.ErrorContains(t, err, `two phrases read the line "door 7"`)
}

func TestWhatIsTakenBackIsGone(t *testing.T) {
	t.Parallel()
	b := small(t, `
layout: {sections: indent, take-back: no}
territory: [gate]
phrases:
- {about: server, say: gate <name> <address>, where: {protocol: tacacs}, below: [{say: again <attempts>}]}
- {about: account, say: crew <name> level <level>}
- {about: account, say: crew <name> role <role>}
`)
	got, _ := read(t, b, "gate a 192.0.2.1\n again 2\n no again 2\ngate b 192.0.2.2\n again 4\nno gate b 192.0.2.2\n"+
		"crew x level 15\ncrew x role all\nno crew x role all\ncrew y level 1\nno crew y level 1\n")
	require.Equal(t, "server a\n  address: 192.0.2.1 (said, line 1)\n  name: a (said, line 1)\n  protocol: tacacs "+
		"(said, line 1)\naccount x\n  level: 15 (said, line 7)\n  name: x (said, line 7)\n", said(got, nil, false))
}

func TestWhatAPhrasebookMayNotSay(t *testing.T) {
	t.Parallel()
	const whole = `phrasebook: 1
make: small
layout: {sections: indent}
types: {secs: {unit: 1s}}
tables: {uses: {who: login}}
unsaid: {server.port: "49"}
territory: [gate]
phrases:
- {about: server, say: gate <name> at <address>}
- {about: list, say: "plan <name> <purpose as uses> <methods>+"}
`
	_, err := Load("b.yaml", []byte(whole))
	require.NoError(t, err)
	for _, c := range []struct{ from, to, want string }{
		{"phrasebook: 1", "site: x", `b.yaml:1:1: it does not say "phrasebook: 1", so it is another kind of file`},
		{"phrasebook: 1", "phrasebook: 2", `b.yaml:1:13: the version of a phrasebook is not "2"; write 1`},
		{"make: small", "mkae: small", `b.yaml:2:1: a phrasebook has no "mkae"; did you mean "make"?`},
		{"make: small", "make: [small]", `b.yaml:2:7: make must be a text`},
		{"sections: indent", "sections: indnt", `b.yaml:3:20: sections is not "indnt"; did you mean "indent"?`},
		{"sections: indent", "sections: end-word", `b.yaml:3:9: sections: end-word wants the word: end-word: WORD`},
		{"sections: indent", "words: exact", `b.yaml:1:1: it says no layout: layout: {sections: indent | `},
		{"sections: indent", "sections: indent, quote: abc", `b.yaml:3:35: quote must be one mark, such as '"'`},
		{"sections: indent", `sections: indent, block: {starts: "a <b>", ends: c}`, `ends must name the hole of starts`},
		{"unit: 1s", "unit: soon", `b.yaml:4:22: unit is a time such as 1s, 100ms or 1m`},
		{"unit: 1s", "unit: 0s", `b.yaml:4:22: unit is a time such as 1s, 100ms or 1m`},
		{"unit: 1s", "add: one", `b.yaml:4:21: add is a number`},
		{"unit: 1s", "forms: {x: secret}", `a form is not "secret"; write one of clear, hidden, hash`},
		{"who: login", "who: logon", `b.yaml:10:22: the table uses makes "logon" of a word, and the site has no such ` +
			`purpose; did you mean "login"?`},
		{"server.port", "server", `b.yaml:6:10: what is unsaid is written WHAT.FIELD: VALUE or WHAT[WHICH].FIELD: VALUE`},
		{"server.port", "server.prot", `b.yaml:6:10: a server has no field "prot"; did you mean "port"?`},
		{"server.port", "gate.port",
			`nothing is called "gate"; write one of account, device, group, interface, list, secret, server, template, way`},
		{"territory: [gate]", "territory: [[gate]]", `b.yaml:7:13: the territory must be texts`},
		{"territory: [gate]", "territory: {a: b}", `b.yaml:7:12: the territory must be a text, or several`},
		{"about: server", "about: sever", `b.yaml:9:11: about is not "sever"; did you mean "server"?`},
		{"about: server, ", "", `b.yaml:9:3: a phrase wants what it is about: about: account | device`},
		{"say: gate <name> at <address>", "where: {name: x}", `b.yaml:9:3: a phrase wants the line: say: ...`},
		{"gate <name> at <address>", "gate <name at", `the phrase cannot be read: a hole is not closed: <name at`},
		{"gate <name> at <address>", "gate <> at", `the phrase cannot be read: a hole has no name`},
		{"gate <name> at <address>", "gate (a|b <name>", `the phrase cannot be read: a ")" is missing`},
		{"gate <name> at <address>", `"gate [<name>"`, `the phrase cannot be read: a "]" is missing`},
		{"gate <name> at <address>", "gate <name> a) b", `the phrase cannot be read: a ")" stands there that nothing opened`},
		{"territory: [gate]", `territory: ["gate*"]`, `* stands for whole words, and not for a part of one; write \* for`},
		{"gate <name> at <address>", "gate <name> |b", `the phrase cannot be read: a "|" stands there that nothing opened`},
		{"gate <name> at <address>", `"gate <name> [a|b]"`, `a "|" stands there that nothing opened`},
		{"gate <name> at <address>", "gate (a|b)=<protocol>x <name>", `=<field as table> is wanted after the alternatives`},
		{"gate <name> at <address>", "gate <name><address>", `two holes stand side by side in a word`},
		{"gate <name> at <address>", "gate a<name>+", `+ goes with a hole that is a word of its own`},
		{"gate <name> at <address>", "gate <name> <name>", `<name> stands twice in the line`},
		{"gate <name> at <address>", "gate <name>+", `<name>+ takes several values, and a server has one`},
		{"gate <name> at <address>", "gate <nam> <name>", `a server has no field "nam"; did you mean "name"?`},
		{"gate <name> at <address>", "gate <name> <port as sec>", `there is no type or table "sec"; did you mean "secs"?`},
		{"gate <name> at <address>", "gate <port>", `this line does not tell one server from another: it wants <name>, or ` +
			`<protocol> and <mark>, or <address>, as a hole or with where`},
		{"at <address>}", "at <address>, where: {port: [1, 2]}}",
			`where says several values of port: then <port> must stand`},
		{"at <address>}", "at <address>, below: {say: x}}", `phrases must be a list: - {about: server, say: ...}`},
		{"at <address>}", "at <address>}\n- {about: server, say: \"gate <name> [at] <address>\"}",
			`b.yaml:10:3: two phrases read the line "gate x7 at 192.0.2.7"`},
		{"at <address>}", "at <address>, say: x}", `b.yaml:9:50: "say" is said twice; keep one`},
		{"<purpose as uses> <methods>+", "<purpose as uess> <methods>+, where: {name: x}",
			`there is no type or table "uess"; did you mean "uses"?`},
		{"territory: [gate]", "territory: [gate, a<b]", `b.yaml:7:19: the territory cannot be read: a hole is not closed`},
		{"make: small", "make: {", `b.yaml:1:1: it is not YAML: `},
	} {
		_, err := Load("b.yaml", []byte(strings.Replace(whole, c.from, c.to, 1)))
		require.ErrorContains(t, err, c.want, c.to)
		require.Equal(t, 1, strings.Count(err.Error(), "b.yaml:"), "one mistake, one problem: %v", err)
	}
	_, err = Load("b.yaml", nil)
	require.EqualError(t, err, "b.yaml:1:1: the file is empty")
}

// Two phrases that read one line are found, with the line, and phrases that read none in
// common are let be.
func TestPhrasesThatReadOneLine(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ one, two, line string }{
		{"a <name>", "a <name>", "a x7"},
		{"a <name>", "a b", "a b"},
		{"a <name>", "b <name>", ""},
		{"a <name> [b] <port>", "a <name> <port>", "a x7 7"},
		{"a <name> [b <port>]", "a <name> b <level>", "a x7 b 7"},
		{"a <name> [b <port>]", "a <name> c <level>", ""},
		{"a <name> <methods>+", "a <name> ranks <methods>+", "a x7 ranks x7"},
		{"a <name> <purpose as uses> <methods as method>+", "a <name> ranks <methods as method>+", ""},
		{"a <name> <methods as method>+", "a <name> ask <name2>", "a x7 ask x7"},
		{"a <name> <address>", "a <name> <port>", "a x7 7"},
		{"a <name> <purpose as uses>", "a <name> <port>", ""},
		{"a <name>:<port>", "a <name>", "a x7:7"},
		{"a <name>:<port>", "a <name>/<port>", ""},
		{"a <name> *", "a <name> b c", "a x7 b c"},
		{"a * c", "a b <name>", "a b c"},
		{"a * c", "a b c <name>", ""},
		{"(a|b) <name>", "b <name> [c]", "b x7"},
		{"a <name>+,", "a <name>", "a x7"},
	} {
		text := "layout: {sections: indent}\ntables: {uses: {who: login}, method: {own: local, ask <g>: group <g>}}\n" +
			"territory: [a]\nphrases:\n- {about: list, where: {name: x, purpose: login}, say: %q}\n" +
			"- {about: list, where: {name: x, purpose: login}, say: %q}\n"
		rename := strings.NewReplacer("<name>+,", "<only>+,", "<name2>", "<when>", "<address>", "<levels as at>",
			"<port>",
			"<mark>", "<level>", "<levels>")
		text = fmt.Sprintf(strings.Replace(text, "territory", "types: {at: {unit: 1s}}\nterritory", 1),
			rename.Replace(c.one), rename.Replace(c.two))
		_, err := Load("b.yaml", []byte("phrasebook: 1\nmake: m\n"+text))
		if c.line == "" {
			require.NoError(t, err, "%s and %s", c.one, c.two)
			continue
		}
		require.ErrorContains(t, err, fmt.Sprintf("two phrases read the line %q", c.line), "%s and %s", c.one, c.two)
	}
}

func FuzzLoad(f *testing.F) {
	f.Add([]byte("phrasebook: 1\nmake: x" + tiny))
	f.Add([]byte("phrasebook: 1\nmake: x" + endWords))
	f.Add([]byte("phrasebook: 1\nmake: x\n" + tagged))
	f.Add([]byte("phrasebook: 1\nmake: x\n" + versioned))
	for _, file := range texts {
		text, err := os.ReadFile(file)
		require.NoError(f, err)
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		b, err := Load("b.yaml", text)
		if err == nil {
			_, _ = b.Read(strings.NewReader("gate a 192.0.2.1\n word x\nput a b c\n"), func(Line) {})
		}
	})
}

func FuzzRead(f *testing.F) {
	var books []*Book
	for file, from := range texts {
		text, err := os.ReadFile(file)
		require.NoError(f, err)
		books = append(books, book(f, from))
		f.Add(len(books)-1, text)
	}
	books = append(books, small(f, tagged), small(f, versioned))
	f.Add(len(books)-2, []byte(
		"<device name='x'><logins><server proto='tacacs' name='t'><address>a</address></server>"))
	f.Add(len(books)-1, []byte("# release 6\nhelper in 192.0.2.1\nhelper x at y\n"))
	f.Fuzz(func(t *testing.T, which int, text []byte) {
		if which < 0 || which >= len(books) {
			return
		}
		lines := 0
		got, err := books[which].Read(strings.NewReader(string(text)), func(Line) { lines++ })
		if err != nil {
			return
		}
		n := 0
		for _, count := range got.Counts {
			n += count
		}
		require.Equal(t, lines, n, "every statement is counted")
		for _, r := range got.Records {
			for _, fact := range r.Facts() {
				require.NotEmpty(t, fact.Values, "%s %s", r, fact.Field)
			}
		}
	})
}

// A line that stands twice, or elsewhere, does not go away: every statement of a text is one of
// the four things that become of them.
func TestNoLineGoesAwayWhereverItStands(t *testing.T) {
	t.Parallel()
	for file, from := range texts {
		random := rand.New(rand.NewPCG(3, 3))
		b := book(t, from)
		whole, err := os.ReadFile(file)
		require.NoError(t, err)
		lines := strings.SplitAfter(string(whole), "\n")
		sum := func(text string) (n int) {
			got, _ := read(t, b, text)
			for _, count := range got.Counts {
				n += count
			}
			return n
		}
		before := sum(string(whole))
		if b.layout.sections == byBraces || strings.Contains(string(whole), "greeting") {
			continue // where a line stands says what is a statement
		}
		for range *mutations / 3 {
			from, to := random.IntN(len(lines)), random.IntN(len(lines))
			if !strings.HasSuffix(lines[from], "\n") || !strings.HasSuffix(lines[to], "\n") {
				continue
			}
			alone := sum(lines[from])
			twice := slices.Insert(slices.Clone(lines), to, lines[from])
			require.Equal(t, before+alone, sum(strings.Join(twice, "")), "%s: line %d once more before line %d", file,
				from+1, to+1)
			if to > from {
				to--
			}
			moved := slices.Delete(slices.Clone(lines), from, from+1)
			moved = slices.Insert(moved, to, lines[from])
			require.Equal(t, before, sum(strings.Join(moved, "")), "%s: line %d before line %d", file, from+1, to+1)
		}
	}
}
