package site

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What a server is that says nothing more, by protocol and transport.
func TestAServerThatSaysLittleHasTheDefaults(t *testing.T) {
	t.Parallel()
	s, err := Parse(Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k}
servers:
  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k}
  - {name: tt, protocol: tacacs, address: 192.0.2.2, transport: tls}
  - {name: r, protocol: radius, address: 192.0.2.3, key: k}
  - {name: rt, protocol: radius, address: 192.0.2.4, transport: tls}
  - {name: d, protocol: ldap, address: 192.0.2.5, base: o=x}
  - {name: ds, protocol: ldap, address: 192.0.2.6, base: o=x, tls: ldaps}
  - {name: f, protocol: tacacs, address: 192.0.2.7, key: k, password-forms: [chap, mschapv2]}
labels: [{label: place, value: far, trusted: false}, {label: place, value: near, trusted: true}]
`)})
	require.NoError(t, err)
	for name, want := range map[string][4]int{"t": {49, 0, 0, 1}, "tt": {300, 0, 0, 1}, "r": {0, 1812, 1813, 2},
		"rt": {2083, 2083, 2083, 1}, "d": {389, 0, 0, 1}, "ds": {636, 0, 0, 1}} {
		v := s.Server(name)
		require.Equal(t, want, [4]int{int(v.Port), int(v.AuthenticationPort), int(v.AccountingPort), v.Attempts}, name)
		require.Equal(t, 3*time.Second, v.Timeout, name)
		require.Empty(t, v.Forms, name)
	}
	require.Equal(t, []string{"chap", "mschapv2"}, s.Server("f").Forms)
	require.Equal(t, []bool{false, true}, []bool{s.LabelValues[0].Trusted, s.LabelValues[1].Trusted})
}

func TestWhatIsNoValueIsRefusedAtItsEdge(t *testing.T) {
	t.Parallel()
	for line, says := range map[string]string{
		"timeout: 0s":                  "timeout",
		"timeout: -1s":                 "timeout",
		"timeout: soon":                "timeout",
		"timeout: 100ms":               "",
		"port: 0":                      "port",
		"port: 65536":                  "port",
		"port: 65535":                  "",
		"password-forms: [pap, clear]": "password-forms",
		"attempts: 2":                  "attempts",
		"ports: {authentication: 1, accounting: 2}": "ports",
	} {
		_, err := Parse(Source{Name: "site.yaml",
			Text: []byte("keys: {k: file k}\nservers:\n  - {name: t, protocol: tacacs, address: 192.0.2.1, key: k, " +
				"" + line + "}\n")})
		if says == "" {
			require.NoError(t, err, line)
			continue
		}
		require.ErrorContains(t, err, says, line)
	}
	const book = "servers: [{name: d, protocol: ldap, address: 192.0.2.1, base: o=x, "
	for text, says := range map[string]string{
		"servers: 3\n":              "a list, each item starting with",
		book + "transport: tls}]\n": "transport",
		book + "ports: {authentication: 1, accounting: 2}}]\n": "ports",
		"people: [{name: a, from: somewhere}]\n":               "from",
		"keys: {k: }\n":                                        "k",
	} {
		_, err := Parse(Source{Name: "site.yaml", Text: []byte(text)})
		require.ErrorContains(t, err, says, text)
	}
}

func TestOnePlaceIsBeforeAnotherByLineAndThenByColumn(t *testing.T) {
	t.Parallel()
	at := Place{File: 1, Line: 5, Column: 7}
	for _, k := range []struct {
		other  Place
		before bool
	}{{at, false}, {Place{File: 1, Line: 5, Column: 8}, true}, {Place{File: 1, Line: 6, Column: 1}, true},
		{Place{File: 2, Line: 1, Column: 1}, true}, {Place{File: 1, Line: 4, Column: 9}, false},
		{Place{File: 0, Line: 9, Column: 9}, false}} {
		require.Equal(t, k.before, at.Before(k.other), k.other)
	}
}

// Members are one for each team of a grant, and one more; of a directory without
// teams one; without a directory none.
func TestMembersStandForThoseWhomADirectoryKnows(t *testing.T) {
	t.Parallel()
	site := func(directory, more string) *Site {
		s, err := Parse(Source{Name: "site.yaml", Text: []byte(`
` + directory + `
people: [{name: someone.of.net, teams: [net], password: $6$a$b}]
roles: [{name: all, level: 15}]
grants: [{who: [team net, team watch], role: all}, {who: [team net, person someone.of.net], role: all}]
` + more)})
		require.NoError(t, err)
		return s
	}
	names := func(s *Site) (all []string) {
		for _, m := range s.Members() {
			all = append(all, m.Title()+" "+m.Person.Name)
		}
		return all
	}
	const book = "servers: [{name: d, protocol: ldap, address: 192.0.2.1, base: o=x, team-attribute: memberOf}]\n"
	require.Empty(t, names(site("", "")))
	require.Empty(t, names(site(book, "")), "nobody asks it")
	require.Equal(t, []string{"anyone of team net someone.of.net.", "anyone of team watch someone.of.watch",
		"anyone else in a directory someone.of.no.team"}, names(site(book+"directories: [d]\n", "")))
	require.Len(t, names(site(book+"groups: [{name: g, servers: [d]}]\n", "")), 3, "a device asks it")
	require.Equal(t, []string{"anyone else in a directory someone.of.no.team"},
		names(site(strings.Replace(book, ", team-attribute: memberOf", "", 1)+"directories: [d]\n", "")))
	require.Equal(t, []string{"anyone of team net someone.of.net.", "anyone of team watch ebba",
		"anyone else in a directory per"},
		names(site(book+"directories: [d]\n", "lab: {people: [{name: ebba, teams: [watch], password: $6$a$b}, "+
			"{name: both, teams: [net, watch], password: $6$a$b}, {name: per, password: $6$a$b}, {name: off, "+
			"teams: [net], disabled: true, password: $6$a$b}]}\n")),
		"those whom a lab knows stand for their team")
}

func TestPasswordsAreOneWhereTheyAreWrittenAsOne(t *testing.T) {
	t.Parallel()
	k, l := &Key{}, &Key{}
	for _, c := range []struct {
		a, b Password
		same bool
	}{{Password{Hash: "$6$a$b"}, Password{Hash: "$6$a$b"}, true},
		{Password{Hash: "$6$a$b"}, Password{Hash: "$6$a$c"}, false},
		{Password{Key: k}, Password{Key: k}, true}, {Password{Key: k}, Password{Key: l}, false},
		{Password{Key: k}, Password{Hash: "$6$a$b"}, false}, {Password{None: true}, Password{None: true}, false},
		{Password{},
			Password{}, false}} {
		require.Equal(t, c.same, c.a.Same(c.b))
		require.Equal(t, c.same, c.b.Same(c.a))
	}
}
