package findings

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var makeFound = flag.Bool("make-found", false, "write testdata/found.txt anew; read what has changed in it")

// variants are changes to Smallest beside those of the pages: old, new, old, new.
var variants = map[string][]string{
	"a local account first that the servers know": {"[group t, local]}\n  - {name: session",
		"[local, group t]}\n  - {name: session", "name: ines", "name: keeper"},
	"lines of a second access": {"ssh: {}", "ssh: [{lines: 0-4, login: login}, {lines: 5-9}], telnet: [{lines: " +
		"0-4}, {lines: 5-9, login: other}]", "  - {name: session",
		"  - {name: other, authenticate: login, methods: [local]}\n" +
			"  - {name: session"},
	"the same list by default": {"ssh: {}", "ssh: [{lines: 0-4, login: login}, {lines: 5-9}]"},
	"a device-wide local list on the console": {"console: {login: login}", "console: {}",
		"[group t, local]}\n  - {name: session",
		"[local]}\n  - {name: session"},
	"a session that only local answers": {"session, methods: [group t, local]", "session, methods: [local]"},
	"no session list":                   {", session: session", ""},
	"two who arrive low": {"session, methods: [group t, local]", "session, methods: [local]", "grants: [",
		"grants: [{who: person odd, role: see}, ", "people: [", "people: [{name: odd, password: $6$a$b}, ", "roles: [",
		"roles: [{name: see, level: 3, commands: [allow look]}, "},
	"low by one way, full rights by another": {", session: session", "", "console: {login: login}",
		"console: {login: login, session: session}"},
	"pages that need full rights, and no session list": {"refusal: ends-list",
		"web-needs-level: 15, refusal: ends-list",
		", session: session", "", "ssh: {}", "ssh: {session: session}, web: {}"},
	"pages that refuse, and nobody with full rights elsewhere": {"refusal: ends-list",
		"web-needs-level: 15, refusal: ends-list", "session, methods: [group t, local]", "session, methods: [local]",
		"ssh: {}", "ssh: {session: servers}, web: {}", "  - {name: session",
		"  - {name: servers, authorize: session, methods: [group t]}\n  - {name: session",
		"roles: [{name: all, level: 15", "roles: [{name: all, level: 14"},
	"pages that need full rights, and a role of a lower level": {"refusal: ends-list",
		"web-needs-level: 15, refusal: ends-list", "ssh: {}", "ssh: {}, web: {}", "grants: [",
		"grants: [{who: person odd, role: see}, ", "people: [", "people: [{name: odd, password: $6$a$b}, ", "roles: [",
		"roles: [{name: see, level: 14, commands: [allow look]}, "},
	"pages that need the level of a role": {"refusal: ends-list", "web-needs-level: 14, refusal: ends-list", "ssh: {}",
		"ssh: {}, web: {}", "grants: [", "grants: [{who: person odd, role: see}, ", "people: [",
		"people: [{name: odd, password: $6$a$b}, ", "roles: [",
		"roles: [{name: see, level: 14, commands: [allow look]}, "},
	"pages that need full rights, and a session list for whoever is in": {"refusal: ends-list",
		"web-needs-level: 15, refusal: ends-list", "ssh: {}", "ssh: {}, web: {session: in}", "  - {name: session",
		"  - {name: in, authorize: session, methods: [signed-in]}\n  - {name: session"},
	"one server, and nobody who needs it": {"[group t, local]}\n  - {name: session",
		"[local, group u]}\n  - {name: session",
		"name: ines", "name: keeper", "groups: [", "groups: [{name: u, servers: [t1]}, "},
	"a hash sent as CHAP": {"refusal: ends-list", "password-form: {tacacs: chap}, refusal: ends-list"},
	"no account":          {"    accounts: [keeper]\n", ""},
	"no account and no local method": {"    accounts: [keeper]\n", "", "[group t, local]}\n  - {name: session",
		"[group t]}\n  - {name: session"},
	"an account of level 5":             {"name: keeper, level: 15", "name: keeper, level: 5"},
	"servers of long waits":             {"timeout: 1s", "timeout: 6s"},
	"servers of longer ones":            {"timeout: 1s", "timeout: 20s"},
	"servers that are never left alone": {", dead-time: 1m", ""},
	"records of some levels":            {"account: commands", "account: commands, levels: 2-14"},
	"records of one level":              {"account: commands", "account: commands, levels: 15"},
	"an elevation secret with a key of its own": {"  - {name: session, authorize: session, methods: [group t, " +
		"local]}\n",
		"  - {name: raise, authenticate: elevation, methods: [group t, secret bridge]}\n", "session: session",
		"elevation: raise", "people:", "elevation-secrets: [{name: bridge, password: key k3}]\npeople:",
		"k2: file k2", "k2: file k2, k3: file k3"},
	"two ways that give up, one later than the other": {"timeout: 1s, dead-time: 1m}\n  - {name: t2",
		"timeout: 17s, dead-time: 1m}\n  - {name: t2", "timeout: 1s, dead-time: 1m}\ngroups: [",
		"timeout: 16s, dead-time: 1m}\ngroups: [{name: u, servers: [t2]}, ",
		"console: {login: login}, ssh: {}", "console: {login: other}, ssh: {}", "  - {name: session",
		"  - {name: other, authenticate: login, methods: [group u, group t, local]}\n  - {name: session"},
	"servers that are not for logins":   {"dead-time: 1m}\n", "dead-time: 1m, for: authorization}\n"},
	"servers that are not for records":  {"dead-time: 1m}\n", "dead-time: 1m, for: [authentication, authorization]}\n"},
	"servers that are not for sessions": {"dead-time: 1m}\n", "dead-time: 1m, for: [authentication, accounting]}\n"},
	"an elevation by servers that are for none": {"  - {name: session",
		"  - {name: raise, authenticate: elevation, methods: [group u]}\n  - {name: session", "session: session",
		"session: session, elevation: raise",
		"roles: [{name: all, level: 15", "roles: [{name: all, level: 7", "groups: [",
		"  - {name: t3, protocol: tacacs, address: 192.0.2.3, key: k, for: accounting}\ngroups: [{name: u, " +
			"servers: [t3]}, "},
	"a person with keys": {"people: [{name: ines, teams: [net], password: $6$c$d}",
		"people: [{name: ines, teams: [net], password: key k3, one-time-code: key k4}", "k2: file k2",
		"k2: file k2, k3: file k3, k4: file k4"},
	"a grant by one way in before one by all": {"grants: [", "grants: [{who: [team net], access: [ssh], role: all}, "},
	"a grant by two ways in before one by one of them": {"grants: [{who: [team net], role: all}]",
		"grants: [{who: [team net], access: [ssh, web], role: all}, {who: [team net], access: [ssh], role: all}]"},
	"a role of level 0 and no records": {"roles: [{name: all, level: 15", "roles: [{name: all, level: 0",
		", record-commands: record", ""},
	"a password form that the second group alone does not take": {"groups: [", "  - {name: r1, protocol: radius, " +
		"address: 192.0.2.3, key: k, timeout: 1s, dead-time: 1m}\ngroups: [{name: r, servers: [r1]}, ",
		"login, methods: [group t, local]", "login, methods: [group t, group r, local]",
		"refusal: ends-list", "refusal: ends-list, password-form: {radius: chap}"},
	"a directory's people, and a form that none can check": {"refusal: ends-list",
		"password-form: {tacacs: chap}, refusal: ends-list", "groups: [", "  - {name: book, protocol: ldap, address: " +
			"192.0.2.9, base: o=x, team-attribute: memberOf, tls: start}\ndirectories: [book]\ngroups: [",
		"people: [{name: ines, teams: [net], password: $6$c$d}]",
		"people: []"},
	"an account and a person with one name and one password": {"name: ines, teams: [net], password: $6$c$d",
		"name: keeper, teams: [net], password: $6$a$b"},
	"RADIUS alone, and no records of commands": {"protocol: tacacs", "protocol: radius", ", record-commands: record",
		"",
		"commands: commands", "record-sessions: visits", "lists:\n",
		"lists:\n  - {name: visits, account: sessions, when: start and stop, methods: [group t]}\n"},
	"a console that obeys no session list": {"refusal: ends-list",
		"console-obeys-authorization: false, refusal: ends-list"},
	"none behind local": {"login, methods: [group t, local]", "login, methods: [group t, local, none]"},
	"roles of an account that is not there, and no other account": {"level: 15, commands",
		"level: 15, account: watch, commands", "behaviour: {", "behaviour: {account-attribute: local-user, ",
		"accounts: [{",
		"accounts: [{name: watch, level: 15, password: $6$e$f}, {", "    accounts: [keeper]\n", ""},
	"records from level 1 on":                     {"account: commands", "account: commands, levels: 1-15"},
	"two servers at one address with a port each": {"192.0.2.2, key: k2", "192.0.2.1, port: 4949, key: k2"},
	"servers of two protocols at one address and port": {"groups: [", "  - {name: r1, protocol: radius, address: " +
		"192.0.2.1, ports: {authentication: 49, accounting: 1813}, key: k, timeout: 1s, dead-time: 1m}\n" +
		"groups: [{name: r, servers: [r1]}, ", "login, methods: [group t, local]",
		"login, methods: [group t, group r, local]"},
	"a grant twice": {"grants: [", "grants: [{who: [team net], role: all}, "},
	"a grant of a narrower place": {"grants: [{who: [team net], role: all}]",
		"grants: [{who: [team net], where: {place: [north]}, role: all}, {who: [team net], role: all}]",
		"192.0.2.11]}", "192.0.2.11], labels: {place: north}}"},
	"rules that begin with what is allowed": {"[allow **]", "[allow look, allow **]"},
	"rules of everything after a refusal":   {"[allow **]", "[refuse save, allow **]", ", commands: commands", ""},
	"rules that refuse everything":          {"[allow **]", "[refuse **]", ", commands: commands", ""},
	"rules of one word":                     {"[allow **]", "[allow look]", ", commands: commands", ""},
	"open, whatever is silent":              {"[group t, local]}\n  - {name: session", "[none]}\n  - {name: session"},
	"open on one way": {"ssh: {}", "ssh: {login: other}", "  - {name: session",
		"  - {name: other, authenticate: login, methods: [group t, none]}\n  - {name: session"},
	"a server for one way alone": {"ssh: {}", "ssh: {login: other}", "  - {name: session",
		"  - {name: other, authenticate: login, methods: [group u, local]}\n  - {name: session", "groups: [",
		"groups: [{name: u, servers: [t1]}, "},
	"one that rests and one that does not": {"address: 192.0.2.1, key: k, timeout: 1s, dead-time: 1m",
		"address: 192.0.2.1, key: k, timeout: 1s"},
	"a method behind one that always decides": {"[group t, local]}\n  - {name: commands",
		"[group t, none, local]}\n  - {name: commands"},
	"nobody with a grant": {"grants: [{who: [team net], role: all}]", ""},
	"a person without a password that can be read, over RADIUS": {"protocol: tacacs", "protocol: radius"},
}

// Everything that is found in each page's example, whole: a change of a word, a
// place or a repair shows here, to be read before it is taken.
func TestEverythingThatIsFoundIsAsWritten(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	tell := func(name, text string) {
		fmt.Fprintf(&b, "# %s\n", name)
		r, s := check(t, text)
		for _, f := range r.Findings {
			fmt.Fprintf(&b, "%s %s at %s", f.Severity, f.Code, s.Where(f.Place))
			for i, d := range f.Devices {
				fmt.Fprintf(&b, "%s%s", map[bool]string{true: " on ", false: ", "}[i == 0], d.Name)
			}
			if len(f.Access) > 0 {
				fmt.Fprintf(&b, " by %s", strings.Join(f.Access, ", "))
			}
			fmt.Fprintf(&b, "\n  %s\n  Do: %s\n", f.Text, f.Repair)
		}
		b.WriteByte('\n')
	}
	for _, p := range Pages() {
		if bad, good := p.Sites(); good != "" {
			tell(p.Code, bad)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(variants)) {
		text := strings.NewReplacer(variants[name]...).Replace(Smallest)
		require.NotEqual(t, Smallest, text, name)
		tell(name, text)
	}
	for _, demo := range []string{"as-drafted", "as-reviewed"} {
		text, err := os.ReadFile(filepath.Join("../../../demo", demo, "site.yaml"))
		require.NoError(t, err)
		tell(demo, string(text))
	}
	file := filepath.Join("testdata", "found.txt")
	if *makeFound {
		require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, string(want), b.String())
}
