package phrase

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// facts are what a text says by a small phrasebook, a line for each record.
func facts(t *testing.T, b *Book, text string) (all string, got *Text) {
	t.Helper()
	got, err := b.Read(strings.NewReader(text), nil)
	require.NoError(t, err)
	var out []string
	for _, r := range got.Records {
		line := r.String()
		for _, f := range r.Facts() {
			if r.Identifies(f.Field) {
				continue
			}
			value := f.String()
			if f.State != Said {
				value += " (" + string(f.State) + ")"
			}
			line += "; " + f.Field + " " + value
		}
		out = append(out, line)
	}
	for _, n := range got.Notes {
		out = append(out, "note "+n.What)
	}
	for _, l := range got.Unread {
		out = append(out, "unread "+l.Text+": "+l.Means)
	}
	return strings.Join(out, "\n"), got
}

const tagged = `layout: {sections: tags, around: ["device *"]}
tables: {door: {shell: ssh, panel: console}}
unsaid: {server.port: "49"}
territory: [logins, "logins *"]
phrases:
- {about: device, say: "device name=<name>"}
- about: device
  say: logins
  below:
  - about: server
    say: server name=<name> proto=<protocol>
    below:
    - {say: address <address>}
    - {say: word <key>}
  - {about: group, say: "ring name=<name>", below: [{say: "use <servers>"}]}
  - {about: list, say: "plan for=<purpose> name=<name>", below: [{say: "step <methods>"}]}
  - {about: way, say: "door at=<access as door>", below: [{say: "follow <purpose> <list>"}]}
`

func TestElementsWithTags(t *testing.T) {
	t.Parallel()
	b := small(t, tagged)
	all, got := facts(t, b, `<?xml version="1.0"?>
<!-- of a pier -->
<device name="sw-1">
  <ports><port number="1"><colour>green</colour></port></ports>
  <logins>
    <server proto="tacacs" name="tern">
      <address>192.0.2.1</address><word>Tag-word-1</word></server>
    <ring name="shore"><use>tern</use></ring>
    <plan name="crew" for="login"><step>local</step></plan>
    <door at="shell"><follow>login crew</follow></door>
  </logins>
</device>
`)
	require.Equal(t, `the device; name sw-1
server tern; protocol tacacs; address 192.0.2.1; key (not shown here); port 49 (implied)
group shore; servers tern; protocol tacacs (implied)
login list crew; methods local
way ssh; login crew`, all)
	require.True(t, got.Whole)
	require.Equal(t, 12, got.Lines)

	for text, want := range map[string]string{
		"<device name='x'>\n<logins>\n<server name='t' proto='tacacs'>": "the element server has no end: the text " +
			"is cut off",
		"<device name='x'><logins></server></device>": "the elements are not well formed here",
		"<device name='x'><logins><serve name='t'>Secret-1</serve></logins></device>": "unread … Secret-1" +
			"",
	} {
		all, got := facts(t, b, text)
		if strings.HasPrefix(want, "unread") {
			require.NotContains(t, all, "Secret-1")
			want = "unread …: no phrase below \"logins\" reads it; did you mean \"server\"?"
		}
		require.Contains(t, all, want)
		require.False(t, got.Whole)
	}
	_, err := b.Read(strings.NewReader("<device>"+strings.Repeat("x", 3<<20)), nil)
	require.ErrorContains(t, err, "line 1 has more than a million octets")
}

func TestElementsThatNameTheOneAroundThem(t *testing.T) {
	t.Parallel()
	b := small(t, `layout: {sections: tags, keyed-by: [name, id], around: [all]}
territory: [server, "server *", keeper, "keeper *"]
phrases:
- about: server
  say: server name=<name>
  where: {protocol: radius}
  below: [{say: "udp", below: [{say: "address <address>"}, {say: "port <authentication-port>"}]}]
- {about: account, say: "keeper id=<name>", below: [{say: "level <level>"}]}
`)
	all, got := facts(t, b, "<all><server><name> "+
		"r1\n</name><udp><address>192.0.2.1</address><port>1812</port></udp></server>\n"+
		"<keeper><id>x</id><level>7</level></keeper><keeper><id>y</id></keeper></all>\n")
	require.Equal(t, "server r1; protocol radius; address 192.0.2.1; authentication-port 1812\naccount x; level "+
		"7\naccount y", all)
	require.True(t, got.Whole)
	// one that comes too late, or has elements of its own, is an element as any other
	for _, text := range []string{"<server><udp/><name>r1</name></server>", "<server><name><b/>r1</name></server>",
		"<server/>"} {
		all, _ = facts(t, b, text)
		require.Contains(t, all, "unread server", text)
	}
}

func TestASectionMayOnlySurround(t *testing.T) {
	t.Parallel()
	b := small(t, `layout: {sections: braces, around: [settings, "part *"]}
territory: [gate]
phrases:
- {about: server, say: "gate <name>", below: [{say: "at <address>"}]}
`)
	text, _ := facts(t, b, `settings {
  part logins { gate tern { at 192.0.2.1; } }
  part ports { one { gate no; } }
  gate gull { at 192.0.2.2; }
}
other { gate no; }
`)
	require.Equal(t, "server tern; address 192.0.2.1\nserver gull; address 192.0.2.2", text)
}

func TestALineGoesOnInTheNext(t *testing.T) {
	t.Parallel()
	const phrases = `territory: [gate]
phrases:
- {about: server, say: "gate <name> at <address> for <protocol>"}
`
	marked := small(t, "layout: {sections: paths, goes-on: '\\'}\n"+phrases)
	text, got := facts(t, marked, "gate tern at \\\n   192.0.2.1 \\\r\n for tacacs\ngate gull at 192.0.2.2 for "+
		"radius \\\n")
	require.Equal(t, "server tern; address 192.0.2.1; protocol tacacs\nserver gull; address 192.0.2.2; protocol radius",
		text)
	require.Equal(t, 1, got.Records[0].Line)
	require.Equal(t, 4, got.Records[1].Line)
	wrapped := small(t, "layout: {sections: paths, wrapped: 20}\n"+phrases)
	text, got = facts(t, wrapped, "gate tern at 192.0.2\n.1 for tacacs\ngate g at x for y\n")
	require.Equal(t, "server tern; address 192.0.2.1; protocol tacacs\nserver g; address x; protocol y", text)
	require.Equal(t, 3, got.Records[1].Line)
	require.Equal(t, 3, got.Lines)
}

const versioned = `layout: {sections: paths, comment: "#"}
version: release <version>
unsaid:
  server.authentication-port: {"5": "1645", "6.1": "1812"}
territory: [helper]
phrases:
- {about: server, say: "helper <name> at <address>"}
- {about: device, say: "helper in <network>", until: "5"}
- {about: device, say: "helper in <source>", since: "6"}
`

func TestWhatIsSaidDependsOnTheVersion(t *testing.T) {
	t.Parallel()
	b := small(t, versioned)
	for text, want := range map[string]string{
		"# release 5.9, of the pier\nhelper a at 192.0.2.1\nhelper in admin\n": "the device; network admin\nserver " +
			"a; address 192.0.2.1; authentication-port 1645 (implied)",
		"# release 6.1\nhelper a at 192.0.2.1\nhelper in 192.0.2.9\n": "the device; source 192.0.2.9\nserver a; " +
			"address 192.0.2.1; authentication-port 1812 (implied)",
		"# (release 12)\nhelper a at 192.0.2.1\n": "server a; address 192.0.2.1; authentication-port 1812 (implied)",
		"# release 6\nhelper a at 192.0.2.1\n":    "server a; address 192.0.2.1; authentication-port 1645 (implied)",
		"helper a at 192.0.2.1\n": "server a; address 192.0.2.1\nnote what holds of server.authentication-port " +
			"where no line says it depends on the version, and no line says that: give it with -version",
	} {
		all, _ := facts(t, b, text)
		require.Equal(t, want, all, text)
	}
	all, _ := facts(t, b, "helper in admin\n# release 5\n")
	require.Contains(t, all, "and no line before says the version: give it with -version")
	only := small(t, strings.Replace(versioned, "- {about: device, say: \"helper in <source>\", since: \"6\"}\n", "",
		1))
	all, _ = facts(t, only, "# release 6\nhelper in admin\n")
	require.Contains(t, all, "the phrase that reads it is until version 5, and the text is of another version")
	require.NoError(t, only.SetVersion("5.1"))
	all, _ = facts(t, only, "# release 6\nhelper in admin\n")
	require.Equal(t, "the device; network admin", all, "what is given goes before what the text says")
	require.ErrorContains(t, only.SetVersion("new"), `"new" is no version`)
}

func TestVersionsAreComparedByTheirNumbers(t *testing.T) {
	t.Parallel()
	for _, k := range []struct {
		version string
		of      span
		has     bool
	}{
		{"6", span{"6", ""}, true}, {"6.9", span{"", "6"}, true}, {"6.9", span{"", "6.8"}, false},
		{"10", span{"9", ""}, true}, {"5.10", span{"5.9", ""}, true}, {"5", span{"5.1", ""}, false},
		{"5.0-rc2", span{"5", "5.0"}, true}, {"7b", span{"7", "7"}, true}, {"4", span{"", ""}, true},
	} {
		require.Equal(t, k.has, k.of.has(versionOf(k.version)), k)
	}
	require.Nil(t, versionOf("beta"))
	require.True(t, span{"", "5"}.apart(span{"6", ""}))
	require.True(t, span{"6", ""}.apart(span{"", "5.9"}))
	require.False(t, span{"", "6"}.apart(span{"6.2", ""}), "6.2 is of 6")
	require.False(t, span{"5", ""}.apart(span{"6", ""}))
	require.Equal(t, "since version 5, until version 6, of versions 5 to 6",
		strings.Join([]string{span{"5", ""}.String(),
			span{"", "6"}.String(), span{"5", "6"}.String()}, ", "))
}

func TestWhatIsLikeATemplateInheritsWhatItDoesNotSay(t *testing.T) {
	t.Parallel()
	b := small(t, `layout: {sections: indent}
territory: [pattern, door, gate]
phrases:
- {about: template, say: "pattern <name>", below: [{say: "follow <purpose> <list>"}, {say: "wait <timeout>"},
   {say: "from <from>"}]}
- {about: way, say: "door <access>", below: [{say: "like <template>"}, {say: "follow <purpose> <list>"}]}
- {about: server, say: "gate <name> at <address>", below: [{say: "like <template>"}]}
- {about: list, say: "plan <name> <purpose> <methods>"}
`)
	text, _ := facts(t, b, `pattern base
 follow login crew
 follow session up
 wait 3s
 from 192.0.2.0/24
door ssh
 like base
 follow login other
door web
 like gone
gate tern at 192.0.2.1
 like base
plan crew login local
plan other login local
plan up session local
`)
	require.Equal(t, `server tern; address 192.0.2.1; template base; timeout 3s (inherited)
login list crew; methods local
login list other; methods local
session list up; methods local
way ssh; template base; login other; session up (inherited); from 192.0.2.0/24 (inherited)
way web; template gone
note way web is like the template gone, and the text has none`, text)
}

func TestAListSaysWhatItIsForAndWhereItHolds(t *testing.T) {
	t.Parallel()
	b := small(t, `layout: {sections: paths}
tables: {door: {shell: ssh, panel: console}}
territory: [plan]
phrases:
- {about: list, say: "plan <name> in-and-on <methods>+", lists: [login, session]}
- {about: list, say: "plan <name> raise <methods> for <ways as door>+", where: {purpose: elevation}}
`)
	text, _ := facts(t, b, "plan crew in-and-on local none\nplan up raise local for shell panel\n")
	require.Equal(t, `login list crew; methods local, then none
session list crew; methods local, then none
elevation list up; methods local; ways ssh, then console
way ssh; elevation up
way console; elevation up`, text)
}

func TestValuesStandWithMarksOrWordsBetweenThem(t *testing.T) {
	t.Parallel()
	b := small(t, `layout: {sections: paths, words: any-case}
tables: {method: {"ask <group>": "group <group>", own: local, free: none}}
territory: [plan, ring]
phrases:
- {about: list, say: "plan <name> for <methods as method>+(else)", where: {purpose: login}}
- {about: list, say: "plan <name> of <methods as method>+, end", where: {purpose: session}}
- {about: group, say: "ring <name> <servers>+,"}
`)
	for _, text := range []string{"plan in for ask g else own else free\nplan up of ask g,own end\nring g a,b,c",
		"plan in for ask g ELSE own else free\nplan up of ask g, own end\nring g a, b, c",
		"plan in for ask g else own else free\nplan up of ask g , own end\nring g a ,b , c"} {
		all, _ := facts(t, b, text)
		require.Contains(t, all, "group g; servers a, then b, then c", text)
		require.Contains(t, all, "login list in; methods group g, then local, then none", text)
		require.Contains(t, all, "session list up; methods group g, then local", text)
	}
	for _, text := range []string{"plan in for own else", "plan in for else own", "plan in for own own", "ring g a,,b",
		"ring g ,",
		"ring g a b", "plan up of own, end", "plan up of own"} {
		all, _ := facts(t, b, text)
		require.Contains(t, all, "unread", text)
	}
	_, err := Load("b.yaml", []byte("phrasebook: 1\nmake: x\nlayout: {sections: paths}\nphrases:\n"+
		"- {about: group, say: \"ring <name> <servers>+(a b)\"}\n"))
	require.ErrorContains(t, err, "the word between values stands in brackets: <servers>+(then)")
}

func TestPartsOfALineStandInAnyOrder(t *testing.T) {
	t.Parallel()
	b := small(t, `layout: {sections: paths}
territory: [gate]
phrases:
- {about: server, say: "gate <name> [at <address>] [wait <timeout>] [key <key>]", any-order: yes}
`)
	for _, text := range []string{"gate t at 192.0.2.1 wait 3s key k", "gate t key k at 192.0.2.1 wait 3s",
		"gate t wait 3s key k at 192.0.2.1"} {
		all, _ := facts(t, b, text)
		for _, want := range []string{"address 192.0.2.1", "timeout 3s", "key (not shown here)"} {
			require.Contains(t, all, want, text)
		}
	}
	all, _ := facts(t, b, "gate t wait 3s")
	require.Equal(t, "server t; timeout 3s", all)
	all, _ = facts(t, b, "gate t wait 3s wait 4s")
	require.Contains(t, all, "unread gate", "no part stands twice")
	_, err := Load("b.yaml", []byte("phrasebook: 1\nmake: x\nlayout: {sections: paths}\nphrases:\n"+
		"- {about: server, say: \"gate <name> [at <address>] [wait <timeout>]\", any-order: yes}\n"+
		"- {about: server, say: \"gate <name> wait <timeout> at <address>\"}\n"))
	require.ErrorContains(t, err, "two phrases read the line")
}

func TestWhatTheLanguageDoesNotTake(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"version: release\n": "the line with the version wants " +
			"<version>",
		"layout: {sections: paths, wrapped: 7}\n": "wrapped is the width at which " +
			"the device breaks lines",
		"layout: {sections: paths, wrapped: 80, goes-on: x}\n":     "keep one",
		"phrases: [{about: device, say: 'a <key>', since: new}]\n": "since is no version",
		"unsaid: {server.port: {old: '1'}}\n": "the version since which this " +
			"holds is no version",
		"phrases: [{about: device, say: 'a <key>', any-order: maybe}]\n":        `any-order is not "maybe"`,
		"phrases: [{about: list, say: 'a <name> <methods>', lists: [dance]}]\n": `a purpose is not "dance"`,
		"phrases: [{about: template, say: 'a <access>'}]\n": "does not tell one template from " +
			"another",
	} {
		if !strings.Contains(text, "layout") {
			text = "layout: {sections: paths}\n" + text
		}
		if !strings.Contains(text, "phrases") {
			text += "phrases: [{about: device, say: 'a <key>'}]\n"
		}
		_, err := Load("b.yaml", []byte("phrasebook: 1\nmake: x\n"+text))
		require.ErrorContains(t, err, want, text)
	}
}

// A make with sections of two accesses, a word that takes back and is printed too, and keys of a
// protocol.
const usual = `layout: {sections: indent, take-back: without, comment: ";", quote: '"', escape: '\'}
tables:
  way: {ssh: ssh, telnet: telnet, all: all, none: none}
  span: {"<a> <b>": "<a>-<b>", "<a>": "<a>"}
types: {key: {forms: {"folded *": hidden, "mark <key>": mark, "<key>": clear}}}
unsaid:
  server[radius].key: device[radius].key
  server[tacacs].key: device[tacacs].key
  server.timeout: device.timeout
territory: [tower, word, lines, pages, ring, "without pages"]
phrases:
- {about: device, say: "word rad <key as key>", where: {protocol: radius}}
- {about: device, say: "word tac <key as key>", where: {protocol: tacacs}}
- {about: device, say: "wait <timeout>"}
- {about: server, say: "tower rad <name> <address>", where: {protocol: radius}, below: [{say: "key <key as key>"}]}
- {about: server, say: "tower tac <name> <address>", where: {protocol: tacacs}, below: [{say: "from <source>"}]}
- {about: group, say: "ring <name>", below: [{say: "of <servers>"}, {say: "network <network>"}, {say: "from <source>"}]}
- about: way
  say: lines <lines as span>
  where: {access: ssh telnet}
  below: [{say: "open <open as way>+"}, {say: "ask <methods>", lists: login}, {say: "follow <purpose> <list>"}]
- {about: way, say: pages, where: {access: web, state: "on"}}
- {about: way, say: "without pages", where: {access: web, state: "off"}}
- {about: list, say: "plan <name> <purpose> <methods>"}
`

func TestOneSectionIsOfSeveralWaysIn(t *testing.T) {
	t.Parallel()
	b := small(t, usual)
	text, _ := facts(t, b, "lines 0 4\n open ssh\n ask local\n follow session up\nlines 5\n follow login in\n"+
		"plan up session local\nplan in login local\n")
	require.Equal(t, `session list up; methods local
login list in; methods local
login list of ssh 0-4; methods local
login list of telnet 0-4; methods local
way ssh 0-4; login a list of its own; session up; state on
way telnet 0-4; login a list of its own; session up; state off
way ssh 5; login in
way telnet 5; login in`, text)
	for open, want := range map[string]string{"all": "on on", "none": "off off", "ssh telnet": "on on",
		"telnet": "off on"} {
		_, got := facts(t, b, "lines 0 4\n open "+open+"\n")
		var states []string
		for _, r := range got.Records {
			states = append(states, r.Get("state")[0].Text)
		}
		require.Equal(t, want, strings.Join(states, " "), open)
	}
}

func TestWhatTakesBackMayStandByItself(t *testing.T) {
	t.Parallel()
	b := small(t, usual)
	text, _ := facts(t, b, "without pages\n")
	require.Equal(t, "way web; state off", text)
	text, _ = facts(t, b, "pages\nwait 3s\nwithout wait 3s\n")
	require.Equal(t, "the device\nway web; state on", text)
	text, _ = facts(t, b, "without tower rad x y\nwithout colour\n")
	require.Contains(t, text, "it takes back server x, of which no line before it speaks")
	_, lines := read(t, b, "without pages\nwithout word rad folded 0abc\n")
	require.Equal(t, "without pages", lines[0].Text)
	require.Equal(t, "without word rad folded …", lines[1].Text)

	flat := small(t, "layout: {sections: paths, take-back: {lift: put}}\nterritory: [put]\nphrases:\n"+
		"- {about: device, say: \"put wait <timeout>\"}\n- {about: device, say: \"put from <source>\"}\n")
	text, _ = facts(t, flat, "put wait 3s\nput from 192.0.2.1\nlift wait 3s\n")
	require.Equal(t, "the device; source 192.0.2.1", text)
}

func TestAListIsTakenBackWhereverItHolds(t *testing.T) {
	t.Parallel()
	b := small(t, usual)
	section := "plan in login local\nplan up session local\nlines 0 4\n follow login in\n follow session up\n"
	text, _ := facts(t, b, section+" without follow login in\n")
	require.Equal(t, "login list in; methods local\nsession list up; methods local\nway ssh 0-4; session up\n"+
		"way telnet 0-4; session up", text)
	text, _ = facts(t, b, "lines 5\n ask local\n without ask local\n open ssh\n")
	require.Equal(t, "way ssh 5; state on\nway telnet 5; state off", text)
	text, _ = facts(t, b, "lines 5\n ask local\n ask none\n without ask local\n")
	require.Equal(t, "login list of ssh 5; methods none\nlogin list of telnet 5; methods none\n"+
		"way ssh 5; login a list of its own\nway telnet 5; login a list of its own", text)
}

func TestAGroupNamesItsServersByWhateverTellsThem(t *testing.T) {
	t.Parallel()
	b := small(t, usual)
	text, got := facts(t, b, "tower rad r1 192.0.2.1\ntower rad r2 192.0.2.2\ntower rad r3 192.0.2.2\nring g\n of "+
		"r2\n of 192.0.2.1\n of 192.0.2.2\n")
	require.Contains(t, text, "group g; servers r2, then r1, then 192.0.2.2")
	require.Equal(t, []Note{{Line: 7, What: "group g names the server 192.0.2.2, and the text has none",
		nowhere: true}},
		got.Notes, "two servers are there")
}

func TestKeysOfAProtocolAndOfAGroup(t *testing.T) {
	t.Parallel()
	b := small(t, strings.Replace(usual, "unsaid:\n", "unsaid:\n  device.active: \"off\"\n  "+
		"device[tacacs].timeout: 7s\n", 1))
	text, got := facts(t, b, "word rad \"a \\\"b\\\\\"\nword tac folded 0011\nwait 5s\ntower rad r1 "+
		"192.0.2.1\ntower rad r2 192.0.2.2\n key mark 99ab\ntower tac t1 192.0.2.3\n from 192.0.2.9\ntower tac t2 "+
		"192.0.2.4\nring g\n of t1\n of t2\n"+
		" network admin\n from 192.0.2.8\n")
	require.Equal(t, `the device for radius; key (not shown here)
the device for tacacs; key (hidden by the device); timeout 7s (implied)
the device; timeout 5s; active off (implied)
server r1; address 192.0.2.1; protocol radius; key (not shown here) (implied); timeout 5s (implied)
server r2; address 192.0.2.2; protocol radius; key (a mark of it, not shown here); timeout 5s (implied)
server t1; address 192.0.2.3; protocol tacacs; source 192.0.2.9; network admin (inherited); key (hidden by the `+
		`device) (implied); timeout 5s (implied)
server t2; address 192.0.2.4; protocol tacacs; network admin (inherited); source 192.0.2.8 (inherited); key `+
		`(hidden by the device) (implied); timeout 5s (implied)
group g; servers t1, then t2; network admin; source 192.0.2.8; protocol tacacs (implied)`, text)
	require.Equal(t, `a "b\`, got.Records[0].Get("key")[0].Text)
}

func TestColumnsBeginWhereTheWordsAboveThemDo(t *testing.T) {
	t.Parallel()
	b := small(t, `layout: {sections: indent, table: name rank hash}
types: {hash: {forms: {"<hash>": hash}}}
territory: [row, keeper]
pass: ["row nobody"]
phrases:
- {about: account, say: "row <name> <level> <password as hash>"}
- {about: account, say: "keeper <name> level <level>"}
`)
	text, _ := facts(t, b, "keepers:\n  name        rank  hash\n  old hand    15    77 aa\n  nobody\n  watch       "+
		"1     99\n\n"+
		"keeper a level 3\n")
	require.Equal(t, "account old hand; level 15; password (a hash, not shown here)\naccount watch; level 1; "+
		"password (a hash, "+
		"not shown here)\naccount a; level 3", text)
}

func TestATextOfAnotherEncodingIsNamed(t *testing.T) {
	t.Parallel()
	b := small(t, "layout: {sections: paths}\nphrases: [{about: device, say: 'key <key>'}]\n")
	for _, text := range []string{"\xff\xfek\x00", "\xfe\xff\x00k"} {
		_, err := b.Read(strings.NewReader(text), nil)
		require.ErrorContains(t, err, "it is UTF-16 text: save it as UTF-8")
		_, err = b.ReadLog(strings.NewReader(text), saved)
		require.ErrorContains(t, err, "it is UTF-16 text: save it as UTF-8")
	}
}

func TestEndWordsOfTwoLevels(t *testing.T) {
	t.Parallel()
	b := small(t, `layout: {sections: end-word, end-word: [over, done], opens: ["part *", "item *"]}
territory: [part radius]
phrases:
- about: device
  say: part radius
  below: [{about: server, say: "item <name>", where: {protocol: radius}, below: [{say: "at <address>"}]}]
`)
	text, got := facts(t, b, "part ports\n item one\n at 1\n over\ndone\npart radius\n item r1\n at 192.0.2.1\n "+
		"over\n item r2\n at 192.0.2.2\n over\ndone\n")
	require.Equal(t, "the device\nserver r1; protocol radius; address 192.0.2.1\nserver r2; protocol radius; "+
		"address 192.0.2.2", text)
	require.True(t, got.Whole)
}

func TestLimitsOfAMake(t *testing.T) {
	t.Parallel()
	b := small(t, `layout: {sections: paths}
limits: {servers: {radius: 2}, groups: {tacacs: 1}, same-for-all: [timeout, key]}
names: {server: {longest: 6, characters: letters digits -}, list: {longest: 3}}
phrases: [{about: device, say: key <key>}]
`)
	require.Equal(t, Limits{Servers: map[string]int{"radius": 2}, Groups: map[string]int{"tacacs": 1},
		SameForAll: []string{"timeout", "key"}, Names: map[About]NameLimit{Server: {Longest: 6, Characters: "letters " +
			"digits -"},
			List: {Longest: 3}}}, b.Limits())
	for name, wrong := range map[string]string{"tern-1": "", "": "", "terns-1": "it is longer than the make takes",
		"te.rn": "the make takes no . in it", "tärn": "the make takes no ä in it"} {
		require.Equal(t, wrong, b.Limits().Names[Server].Takes(name), name)
	}
	require.Equal(t, "the make takes no 1 in it", NameLimit{Characters: "letters"}.Takes("a1"))
	require.Equal(t, "the make takes no a in it", NameLimit{Characters: "digits ."}.Takes("1.a"))
	for text, want := range map[string]string{
		"limits: {servers: {radius: 0}}":    "servers of a protocol are bounded by a number from 1 on",
		"limits: {servers: {ldap: 1}}":      `the protocol is not "ldap"`,
		"limits: {same-for-all: [tiemout]}": `a server has no field "tiemout"; did you mean "timeout"?`,
		"names: {way: {longest: 1}}":        `what has names is not "way"`,
		"names: {server: {longest: none}}":  "longest is a number of characters, from 1 on",
		"names: {server: {letters: a}}":     `the names of a server has no "letters"`,
	} {
		_, err := Load("b.yaml", []byte("phrasebook: 1\nmake: x\nlayout: {sections: paths}\n"+
			"phrases: [{about: device, say: key <key>}]\n"+text+"\n"))
		require.ErrorContains(t, err, want, text)
	}
}
