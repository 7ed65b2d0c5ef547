package inventory

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
)

const design = `site: Test
keys: {k: file k, kp: file kp}
servers:
  - {name: tern, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 2s, dead-time: 1m}
  - {name: gull, protocol: radius, address: 192.0.2.3, key: k, timeout: 2s, attempts: 2}
groups: [{name: shore, servers: [tern]}, {name: sea, servers: [gull]}]
lists:
  - {name: crew, authenticate: login, methods: [group shore, group sea, local]}
  - {name: cmd, authorize: commands, levels: 2-15, methods: [group shore]}
  - {name: rec, account: sessions, when: start and stop, methods: [group shore]}
  - {name: up, authenticate: elevation, methods: [secret top]}
elevation-secrets: [{name: top, password: key kp}]
accounts: [{name: keeper, level: 15, password: key kp}, {name: other, level: 1, password: $2b$09$hash}]
devices:
  - name: d
    addresses: [192.0.2.11]
    access:
      console: {login: crew}
      ssh: {login: crew, commands: cmd, record-sessions: rec, elevation: up, from: 192.0.2.0/24}
      web: {login: crew}
    accounts: [keeper, other]EXTRA
`

const held = `server tern tacacs 192.0.2.1 key one port 49 wait 2 rest 60
server gull radius 192.0.2.3 key one ports 1812 1813 wait 2 tries 2 rest 0
group shore tern
group sea gull
secret top 15 clear word
list in login group shore group sea local
list cmd commands group shore levels 2-15
list rec record-sessions group shore when start and stop
list up elevation secret top
way console takes login in
way ssh takes login in
way ssh takes commands cmd
way ssh takes record-sessions rec
way ssh takes elevation up
way ssh from 192.0.2.0/24
way web takes login in
account keeper 15 clear word
account other 1 $2b$09$hash
`

// differ compares a text with a design.
func differ(t *testing.T, design, text string, now bool) (all, left []string) {
	t.Helper()
	s, err := site.Parse(site.Source{Name: "s.yaml", Text: []byte(design)})
	require.NoError(t, err)
	base := Base{Site: s, Keys: site.Keys{"k": site.NewSecret("one"), "kp": site.NewSecret("word")}}
	d := said(t, "d", text)
	Make([]*Device{d}, Options{Base: base, Hash: hash})
	p := Passwords{Known: hash, Is: func(hash, clear string) bool { return hash == "$2b$09$of-"+clear }}
	want, have, left := Compared(d, base, s.Device("d"), book(t, "testdata/plain.yaml"), p, now)
	for _, x := range drift.Compare(want, have.Facts, func(drift.About, string) string { return "" }) {
		all = append(all, fmt.Sprintf("%d %s", have.Lines[drift.Key{About: x.About, Name: x.Name, What: x.What}], x))
	}
	return all, left
}

func TestATextThatHoldsTheDesignDiffersInNothing(t *testing.T) {
	t.Parallel()
	all, left := differ(t, strings.Replace(design, "EXTRA", "", 1), held, false)
	require.Empty(t, all)
	require.Equal(t, []string{"message-authenticator of servers"}, left)
}

func TestEachWayInWhichATextDiffersIsSaid(t *testing.T) {
	t.Parallel()
	whole := strings.Replace(design, "EXTRA", "", 1)
	for _, k := range []struct{ was, is, want string }{
		{"wait 2 rest", "wait 3 rest", "1 server tern: timeout is 3s, and should be 2s"},
		{"rest 60", "rest 0", "0 server tern: dead-time should be 1m, and none is set"},
		{"rest 0", "rest 30", "2 server gull: dead-time is 30s, and the site sets none"},
		{"server gull radius 192.0.2.3 key one", "server gull radius 192.0.2.3 sealed one",
			"2 server gull: the device does not show its key, which may be another"},
		{"port 49", "port 50", "1 server tern: port is 50, and should be 49"},
		{"tacacs 192.0.2.1", "tacacs 192.0.2.9", "1 server tern: address is 192.0.2.9, and should be 192.0.2.1"},
		{"1812 1813", "1812 1646", "2 server gull: accounting port is 1646, and should be 1813"},
		{"tries 2", "tries 4", "2 server gull: attempts is 4, and should be 2"},
		{"key one port", "key two port", "1 server tern: key is another: the same length, otherwise different"},
		{"key one port", "kept port", "1 server tern: the device does not show its key, which may be another"},
		{"group shore tern", "server new tacacs 192.0.2.7 key one\ngroup shore tern new",
			"3 server new is on the device, and not in the site\n" +
				"4 group shore: servers in order is tern, new, and should be tern"},
		{"group shore group sea local", "group sea group shore local",
			"6 way console: login is group sea, group shore, local, and should be group shore, group sea, local\n6 " +
				"way ssh: login is group sea, group shore, local, and should be group shore, group sea, local\n6 " +
				"way web: login is group sea, group shore, local, and should be group shore, group sea, local"},
		{"levels 2-15", "levels 1-15",
			"7 way ssh: commands is levels 1-15: group shore, and should be levels 2-15: group shore"},
		{"when start and stop", "when stop",
			"8 way ssh: record-sessions is stop: group shore, and should be start and stop: group shore"},
		{"way ssh takes commands cmd\n", "", "0 way ssh: commands should be levels 2-15: group shore, and none is set"},
		{"list up elevation secret top", "list up elevation local",
			"9 way ssh: elevation is local, and should be secret for level 15"},
		{"way ssh from 192.0.2.0/24", "way ssh from 192.0.2.0/25",
			"11 way ssh: from is 192.0.2.0/25, and should be 192.0.2.0/24"},
		{"way web takes login in", "way web off", "0 way web is open in the site, and not on the device"},
		{"way web takes login in", "way web takes login in\nway telnet",
			"17 way telnet is open on the device, and not in the site"},
		{"way web takes login in", "way web takes login in\nway ssh lines 4 takes login in",
			"17 way ssh 4: commands should be levels 2-15: group shore, and none is set\n17 way ssh 4: elevation " +
				"should be secret for level 15, and none is set\n" +
				"17 way ssh 4: from should be 192.0.2.0/24, and none is set\n17 way ssh 4: record-sessions should " +
				"be start and stop: group shore, and none is set"},
		{"keeper 15", "keeper 14", "17 account keeper: level is 14, and should be 15"},
		{"keeper 15 clear word", "keeper 15 clear else", "17 account keeper: password is another: the same length, " +
			"otherwise different"},
		{"keeper 15 clear word", "keeper 15 $2b$09$of-word", ""},
		{"keeper 15 clear word", "keeper 15 $2b$09$of-else",
			"17 account keeper: password is another: it is not the one of the site's hash"},
		{"keeper 15 clear word", "keeper 15 own", "17 account keeper: the device does not show its password, which " +
			"may be another"},
		{"other 1 $2b$09$hash", "other 1 clear x",
			"18 account other: password is another: it is not the one of the site's hash"},
		{"other 1 $2b$09$hash", "third 1 $2b$09$hash", "0 account other is missing\n18 account third is on the " +
			"device, and not in the site"},
	} {
		text := strings.Replace(held, k.was, k.is, 1)
		require.NotEqual(t, held, text, k.was)
		all, _ := differ(t, whole, text, false)
		kept := all[:0]
		for _, line := range all { // lines of one range that follow from another
			if !strings.Contains(k.is, "ssh lines") || strings.Contains(line, "way ssh 4:") {
				kept = append(kept, line)
			}
		}
		numbers := strings.Join(kept, "\n")
		if strings.Contains(k.is, "ssh lines") {
			numbers = strings.ReplaceAll(numbers, "0 way", "17 way")
		}
		require.Equal(t, k.want, numbers, k.is)
	}
}

func TestWhereQuestionsComeFromIsComparedWhereItIsSaid(t *testing.T) {
	t.Parallel()
	whole := strings.Replace(design, "EXTRA", "\n    source: 192.0.2.11", 1)
	all, _ := differ(t, whole, held, false)
	require.Equal(t, []string{"0 server gull: source should be 192.0.2.11, and none is set",
		"0 server tern: source should be 192.0.2.11, and none is set"}, all)
	all, _ = differ(t, whole, held+"source 192.0.2.12\n", false)
	require.Equal(t, []string{"2 server gull: source is 192.0.2.12, and should be 192.0.2.11",
		"1 server tern: source is 192.0.2.12, and should be 192.0.2.11"}, all)
	all, _ = differ(t, whole, "interface up 192.0.2.11\n"+strings.NewReplacer("rest 60", "rest 60 through up",
		"rest 0", "rest 0 through up").Replace(held), false)
	require.Empty(t, strings.Join(all, "\n"))
}

func TestWhatTheSiteKnowsToBeFoundIsNoDifference(t *testing.T) {
	t.Parallel()
	whole := strings.Replace(design, "EXTRA", "\n    found: {lists: {cmd: [local]}, ports: {gull: {authentication: "+
		"1645}}}", 1)
	text := strings.NewReplacer("commands group shore", "commands local", "ports 1812", "ports 1645").Replace(held)
	all, _ := differ(t, whole, text, true)
	require.Empty(t, all)
	all, _ = differ(t, whole, held, true)
	require.Equal(t, []string{"2 server gull: authentication port is 1812, and should be 1645",
		"7 way ssh: commands is levels 2-15: group shore, and should be levels 2-15: local"}, all)
}

func TestADesignThatAMakeHasNoRoomForIsNamed(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "s.yaml", Text: []byte(strings.Replace(design, "EXTRA", "", 1))})
	require.NoError(t, err)
	d := s.Device("d")
	require.Empty(t, NotCarried(d, phrase.Limits{}))
	require.Empty(t, NotCarried(d, phrase.Limits{Servers: map[string]int{"radius": 1, "tacacs": 1},
		Groups:     map[string]int{"radius": 1, "tacacs": 1},
		SameForAll: []string{"timeout", "attempts", "key", "network", "port"},
		Names:      map[phrase.About]phrase.NameLimit{phrase.Server: {Longest: 4}}}))
	more := strings.NewReplacer("EXTRA", "", "servers: [tern]", "servers: [tern, plover]", "servers:\n",
		"servers:\n  - {name: plover, protocol: tacacs, address: 192.0.2.2, key: k, timeout: 3s}\n",
		"{name: sea, servers: [gull]}",
		"{name: sea, servers: [gull]}, {name: far, servers: [tern]}", "methods: [group shore]}\n  - {name: rec",
		"methods: [group far]}\n  - {name: rec").Replace(design)
	s, err = site.Parse(site.Source{Name: "s.yaml", Text: []byte(more)})
	require.NoError(t, err)
	require.Equal(t, []string{
		"it asks 2 servers by TACACS+, and the make has room for 1",
		"it has 2 groups of servers of TACACS+, and the make has room for 1",
		"the timeout of its servers differs (2s, 3s), and the make says it once for all",
		"the dead-time of its servers differs (1m, 0s), and the make says it once for all",
		"the server plover cannot have its name there: it is longer than the make takes",
		"the group far cannot have its name there: the make takes no f in it",
		"the list crew cannot have its name there: it is longer than the make takes",
		"the account keeper cannot have its name there: it is longer than the make takes",
	}, NotCarried(s.Device("d"), phrase.Limits{Servers: map[string]int{"radius": 1, "tacacs": 1},
		Groups: map[string]int{"radius": 1, "tacacs": 1}, SameForAll: []string{"timeout", "attempts", "dead-time"},
		Names: map[phrase.About]phrase.NameLimit{phrase.Server: {Longest: 4}, phrase.List: {Longest: 3},
			phrase.Group: {Characters: "s h o r e a"}, phrase.Account: {Longest: 5}}}))
}

func TestAGroupOfAnotherNameAndOrderIsTheOneWithItsServers(t *testing.T) {
	t.Parallel()
	wanted := strings.NewReplacer("EXTRA", "", "{name: sea, servers: [gull]}", "{name: sea, servers: [gull, skua]}",
		"\ngroups:", "\n  - {name: skua, protocol: radius, address: 192.0.2.4, key: k, timeout: 2s, attempts: "+
			"2}\ngroups:").
		Replace(design)
	for _, k := range []struct{ groups, want string }{
		{"group water gull skua", ""},
		{"group water skua gull", "5 group sea: servers in order is skua, gull, and should be gull, skua"},
		{"group sea skua gull", "5 group sea: servers in order is skua, gull, and should be gull, skua"},
	} {
		name := strings.Fields(k.groups)[1]
		text := strings.NewReplacer("group sea gull\n", k.groups+"\n", "group sea local", "group "+name+" local",
			"group shore tern", "server skua radius 192.0.2.4 key one ports 1812 1813 wait 2 tries 2 rest 0\n"+
				"group shore tern").Replace(held)
		all, _ := differ(t, wanted, text, false)
		require.Equal(t, k.want, strings.Join(all, "\n"), k.groups)
	}
}
