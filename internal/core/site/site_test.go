package site

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const small = `site: Test
keys: {k: clear a-key-for-this-test}
servers:
  - {name: tern, protocol: tacacs, address: 192.0.2.21, key: k, timeout: 2s, dead-time: 1m}
  - {name: plover, protocol: tacacs, address: 192.0.2.22, key: k}
  - {name: sanderling, protocol: radius, address: 192.0.2.23, key: k}
groups:
  - {name: shore, servers: [tern, plover]}
lists:
  - {name: crew, authenticate: login, methods: [group shore, local]}
  - {name: other, authenticate: login, methods: [local]}
  - {name: rights, authorize: session, methods: [group shore, local]}
platforms:
  - {name: switch, behaviour: {refusal: tries-next, login-timeout: 45s, console-obeys-authorization: false}}
profiles:
  - name: pier
    defaults: {login: crew, session: rights}
    access:
      ssh:
        - {lines: 0-15, login: other}
        - {lines: 16-97}
      telnet: off
    accounts: [harbourmaster]
devices:
  - {name: sw-1, platform: switch, profile: pier, addresses: [192.0.2.101], labels: {place: north}}
  - name: sw-2
    profile: pier
    addresses: [192.0.2.102, "2001:db8::2"]
    source: 2001:db8::2
    access: {ssh: {login: crew}, web: {}}
    accounts: []
    found: {keys: {tern: k}}
accounts:
  - {name: harbourmaster, level: 15, password: $6$salt$hash}
people:
  - {name: ines.marsh, teams: [network], password: $6$salt$hash, until: 2027-03-31}
roles:
  - {name: all, level: 15, commands: [refuse set banner *, allow **]}
grants:
  - {who: [team network, person ines.marsh], where: {place: [north, south]}, access: [ssh], role: all}
`

func parse(t testing.TB, text string) *Site {
	s, err := Parse(Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	return s
}

func TestASiteIsReadWithItsDefaultsProfilesAndPlaces(t *testing.T) {
	t.Parallel()
	s := parse(t, small)
	require.Equal(t, "Test", s.Name)
	tern, sanderling := s.Server("tern"), s.Server("sanderling")
	require.Equal(t, []any{uint16(49), 2 * time.Second, 1, time.Minute},
		[]any{tern.Port, tern.Timeout, tern.Attempts, tern.DeadTime})
	require.Equal(t, []any{uint16(1812), uint16(1813), 2, true},
		[]any{sanderling.AuthenticationPort, sanderling.AccountingPort, sanderling.Attempts,
			sanderling.RequireMessageAuthenticator})
	require.Equal(t, "site.yaml:4:12", s.Where(tern.Place))

	sw1, sw2 := s.Device("sw-1"), s.Device("sw-2")
	require.Equal(t, []string{"console", "ssh 0-15", "ssh 16-97"}, wayNames(sw1),
		"a console is always there, off is off")
	require.Equal(t, []string{"console", "ssh", "web"}, wayNames(sw2), "a device's own way in replaces its profile's")
	require.Equal(t, "other", sw1.WayOfLine(SSH, 3).Lists[Login].Name)
	require.Equal(t, "crew", sw1.WayOfLine(SSH, 16).Lists[Login].Name)
	require.Equal(t, Default, sw1.WayOfLine(SSH, 16).Origins[Login])
	require.Nil(t, sw1.Way(Console).Lists[Session], "the console does not obey authorization where the platform "+
		"does not")
	require.Equal(t, Unobeyed, sw1.Way(Console).Origins[Session])
	require.Len(t, sw1.Accounts, 1)
	require.Empty(t, sw2.Accounts, "an empty list of its own wins")
	require.Equal(t, "2001:db8::2", sw2.Source.String())
	require.Equal(t, "192.0.2.101", sw1.Source.String())
	require.True(t, sw1.Platform.Behaviour.RefusalTriesNext)
	require.Equal(t, 45*time.Second, sw1.Platform.Behaviour.LoginWindow)
	require.Equal(t, DefaultBehaviour(), sw2.Platform.Behaviour)
	require.Equal(t, "k", sw2.Found.Keys[tern].Key.Name)
	require.True(t, s.Person("ines.marsh").Expired(time.Date(2027, 4, 1, 0, 0, 0, 0, time.UTC)))
	require.False(t, s.Person("ines.marsh").Expired(time.Date(2027, 3, 31, 23, 0, 0, 0, time.UTC)))
}

func wayNames(d *Device) []string {
	var names []string
	for _, w := range d.Ways {
		names = append(names, w.Name())
	}
	return names
}

func TestFilesOfAFolderAreJoined(t *testing.T) {
	t.Parallel()
	one, two, _ := strings.Cut(small, "lists:\n")
	s, err := Parse(Source{Name: "a.yaml", Text: []byte(one)}, Source{Name: "b.yaml", Text: []byte("lists:\n" + two)})
	require.NoError(t, err)
	require.Equal(t, "b.yaml:2:12", s.Where(s.Lists[0].Place))

	_, err = Parse(Source{Name: "a.yaml", Text: []byte(small)},
		Source{Name: "b.yaml", Text: []byte("people:\n  - {name: ines.marsh, password: $6$a$b}\n")})
	require.ErrorContains(t, err, `b.yaml:2:12: the person "ines.marsh" stands already in a.yaml:36:12`)
}

// Each mistake is one change to the small site, and returns exactly one message.
func TestEveryMistakeIsSaidWithItsPlaceAndTheRepair(t *testing.T) {
	t.Parallel()
	for _, m := range []struct{ from, to, want string }{
		{"timeout: 2s", "timeuot: 2s", `site.yaml:4:65: unknown key "timeuot" in a server; did you mean "timeout"?`},
		{"timeout: 2s", "timeout: soon", `timeout is "soon"; a duration from 1ms to 5m0s is wanted`},
		{"timeout: 2s", "timeout: 2s, timeout: 3s", `the key "timeout" stands twice in a server, first in line 4`},
		{"timeout: 2s", "for: [counting]",
			`for is "counting"; authentication, authorization or accounting is wanted; did you mean "accounting"?`},
		{"timeout: 2s", "base: dc=example", "are for protocol: ldap; tern is tacacs"},
		{"timeout: 2s", "password-forms: [clear]", `password-forms is "clear"; ascii, pap, chap or mschapv2 is wanted`},
		{"address: 192.0.2.23, key: k", "address: 192.0.2.23, key: {now: k}", `key needs the key "next"`},
		{"address: 192.0.2.23, key: k", "address: 192.0.2.23, key: {now: k, next: m}", `there is no key "m"`},
		{"address: 192.0.2.23, key: k", "address: 192.0.2.23, transport: tls, key: k",
			"needs no key: over TLS certificates take its place"},
		{"dead-time: 1m", "transport: udp", "tacacs does not run over udp"},
		{"dead-time: 1m", "tls: {certificate: c, key: k, authorities: a}", "has tls and not transport: tls"},
		{"dead-time: 1m", "transport: quic", `transport is "quic"; udp, tcp or tls is wanted`},
		{"dead-time: 1m", "attempts: 3", "is asked once: TCP repeats what is lost"},
		{"dead-time: 1m", "port: 99999", `port is "99999"; a whole number from 1 to 65535`},
		{"address: 192.0.2.23", "port: 1812, address: 192.0.2.23", "has two ports: write ports:"},
		{"protocol: radius", "protocol: raduis",
			`protocol is "raduis"; radius, tacacs or ldap is wanted; did you mean "radius"?`},
		{"protocol: radius, address: 192.0.2.23, key: k", "protocol: ldap, address: 192.0.2.23",
			"the directory sanderling needs the key \"base\""},
		{"protocol: radius, address: 192.0.2.23, key: k", "protocol: ldap, base: o=x, address: 192.0.2.23, key: k",
			"the directory sanderling has no shared secret"},
		{"protocol: radius, address: 192.0.2.23, key: k", "protocol: ldap, base: o=x, filter: (uid=me), address: " +
			"192.0.2.23",
			"filter of the directory sanderling must hold %u"},
		{"protocol: radius, address: 192.0.2.23, key: k", "protocol: ldap, base: o=x, run: true, address: 192.0.2.23",
			"the directory sanderling cannot have run: true"},
		{"address: 192.0.2.23", "address: 192.0.2.300", `address is "192.0.2.300"`},
		{"address: 192.0.2.23, key: k", "address: 192.0.2.23", `the server sanderling needs the key "key"`},
		{"address: 192.0.2.23, key: k", "address: 192.0.2.23, key: kk", `there is no key "kk"; did you mean "k"?`},
		{"[tern, plover]", "[tern, plvoer]", `site.yaml:8:35: there is no server "plvoer"; did you mean "plover"?`},
		{"[tern, plover]", "[tern, sanderling]", "mixes tacacs and radius"},
		{"[tern, plover]", "[tern, tern]", "stands twice in the group"},
		{"[tern, plover]", "[]", "the group shore has no server"},
		{"[group shore, local]}\n  - {name: other", "[gruop shore, local]}\n  - {name: other",
			`"gruop shore" is no method; group NAME, local, signed-in, none or, for an elevation, secret NAME is wanted; did you mean "group"?`},
		{"methods: [local]", "methods: [signed-in]",
			"the method signed-in makes no sense in the list other, which is for login"},
		{"roles:", "elevation-secrets: [{name: bridge, password: $6$a$b}]\nroles:", ""},
		{"{name: other, authenticate: login", "{name: other", "does not say what it is for"},
		{"{name: other, authenticate: login", "{name: other, authenticate: elevation",
			`the list "other" is for elevation and is used here for login`},
		{"refusal: tries-next", "refusal: maybe", `refusal is "maybe"; ends-list or tries-next is wanted`},
		{"refusal: tries-next", "level-attribute: a b",
			`level-attribute is "a b"; radius-standard, or the name of an attribute and, after a blank, the form of its value`},
		{"refusal: tries-next", "speaks: [radios]",
			`speaks is "radios"; radius, tacacs or ldap is wanted; did you mean "radius"?`},
		{"refusal: tries-next", "password-form: {radius: ascii}", `radius is "ascii"; pap, chap or mschapv2 is wanted`},
		{"refusal: tries-next", "lines: 5", ""},
		{"refusal: tries-next", "lines: 9-5", `lines is "9-5"; a range such as 0-9 is wanted`},
		{"session: rights", "session: crew", `the list "crew" is for login and is used here for session`},
		{"lines: 16-97", "lines: 9-97", "lines 9-97 of ssh overlap lines 0-15"},
		{"telnet: off", "console: off", "the console cannot be off"},
		{"telnet: off", "telnet: maybe", `telnet is "maybe"; off, {login: LIST, ...}`},
		{"telnet: off", "telnte: off", `unknown key "telnte" in access; did you mean "telnet"?`},
		{"profile: pier, addresses", "profile: peir, addresses", `there is no profile "peir"; did you mean "pier"?`},
		{"addresses: [192.0.2.101]", "addresses: [here]", `an address is "here"; an IPv4 or IPv6 address is wanted`},
		{"source: 2001:db8::2", "source: 192.0.2.101", "a server could not tell them apart"},
		{"name: sw-2", "name: sw-1", `the device "sw-1" stands already in site.yaml:25:12`},
		{"level: 15, password: $6$salt$hash", "level: 16, password: $6$salt$hash",
			`level is "16"; a whole number from 0 to 15`},
		{"until: 2027-03-31", "until: soon", `until is "soon"; the last day is wanted`},
		{"until: 2027-03-31", "one-time-code: 123456", `one-time-code must be "key NAME"`},
		{"allow **]", "permit **]", `"permit **" is no command rule`},
		{"refuse set banner *", "refuse ** banner", "** is the rest of the line and so stands last"},
		{"team network,", "network,", `"network" is nobody; "team NAME" or "person NAME"`},
		{"person ines.marsh", "person ines.mash", `there is no person "ines.mash"; did you mean "ines.marsh"?`},
		{"access: [ssh]", "access: [shh]", `did you mean "ssh"?`},
		{"role: all", "role: al", `there is no role "al"; did you mean "all"?`},
		{"site: Test", "site: Test\ndevices-from: a.csv", "the file of devices cannot be read here"},
		{"site: Test", "site: Test\ndirectories: [tern]",
			"the server tern speaks TACACS+; a directory is a server with protocol: ldap"},
		{"site: Test", "site: Test\nclients: [{from: 192.0.2.1/24, servers: tern, key: k}]",
			"from is 192.0.2.1/24, which is an address within 192.0.2.0/24; write the network"},
		{"site: Test", "site: Test\nclients: [{from: here, servers: tern, key: k}]",
			`from is "here"; a network such as 192.0.2.0/24, or an address, is wanted`},
		{"site: Test", "site: Test\naccept: [{code: one-server}]", `an accepted finding needs the key "why"`},
		{"site: Test", "site: Test\naccept: [{code: one-server, why: x, device: sw-9}]",
			`there is no device "sw-9"; did you mean "sw-1"?`},
		{"site: Test", "site: Test\nservice: {ledger: here}", `ledger is "here"; "folder PATH" or "postgres URL" is wanted`},
		{"site: Test", "site: Test\nservice: {ledger: sqlite book.db}",
			`ledger is "sqlite book.db", of an earlier version; records are in a folder now`},
		{"site: Test", "site: Test\nservice: {keep: {for: 400h}}", `for is "400h"; days are wanted, such as 400d`},
		{"site: Test", "site: Test\nservice: {keep: {at-most: 1MiB}}",
			`at-most is "1MiB"; a size of 65536KiB or more is wanted, such as 256MiB, or 0 for as much as comes`},
		{"site: Test", "site: Test\nservice: {ledger: postgres db.example}",
			`the ledger's database is no URL; one such as postgres://gate@192.0.2.60/ledger is wanted`},
		{"site: Test", "site: Test\nservice: {ledger: 'postgres postgres://gate:word@db/ledger'}",
			`has its password in the site file; keep it with the keys, and name it: ledger-key: NAME`},
		{"site: Test", "site: Test\nservice: {ledger-key: nope}", `there is no key "nope"`},
		{"site: Test", "site: Test\nservice: {syslog: udp here}",
			`syslog is "udp here"; an address and a port are wanted, such as "udp 192.0.2.61:514"`},
		{"site: Test", "site: Test\nservice: {syslog: /dev/log}",
			`"udp ADDRESS:PORT", "tcp ADDRESS:PORT", "tls ADDRESS:PORT FILE" or "unix PATH" is wanted`},
		{"site: Test", "site: Test\nservice: {traffic: 12}",
			`traffic is "12"; a size of 64KiB or more is wanted, such as 256MiB, or 0 for none`},
		{"site: Test", "site: Test\nservice: {limits: {failure-delay: 1h}}",
			`failure-delay is "1h"; a duration from 0s to 10s is wanted`},
		{"site: Test", "site: Test\nservice: {metrics: here}", `metrics is "here"; an address and a port are wanted`},
		{"role: all", "role: all, hours: Mon-Fry 06:00-20:00", `"Mon-Fry" are no days`},
		{"role: all", "role: all, hours: Mon-Fri 6-20", `"6-20" are no times; 06:00-20:00 is wanted`},
		{"role: all", "role: all, hours: 06:00-20:00 Europe/Dubln", `"Europe/Dubln" is no time zone`},
		{"{name: all, level: 15", "{name: all, send: {radius: {a: b}}, level: 15",
			"this is keys and values; a list of attributes wanted"},
		{"site: Test", "site: &a Test\nabout: *a", "aliases (*name) are not used in a site file"},
		{"site: Test", "site: Test\nlab: {network: 10.0.0.0/8}", "a loopback network such as 127.77.0.0/16 is wanted"},
		{"site: Test", "site: Test\nservers: none", `the key "servers" stands twice`},
		{"clear a-key-for-this-test", "sealed up", "must be written as \"sealed\", \"env VARIABLE\""},
		{"roles:", "vendors: [{name: example, number: 32473, attributes: [{name: Level, number: 1, type: " +
			"int}]}]\nroles:",
			`type is "int"; text, integer, octets, address or address6 is wanted`},
		{"roles:", "vendors: [{name: example, number: 0, attributes: []}]\nroles:",
			`number is "0"; a whole number from 1 to 16777215`},
		{"site: Test", "site: Test\nservice: {syslog: 'udp 192.0.2.61:0'}", `syslog is "udp 192.0.2.61:0"`},
		{"site: Test", "site: Test\nservice: {syslog: 'udp 192.0.2.61:65535'}", ""},
		{"site: Test", "site: Test\nservice: {syslog: 'udp 192.0.2.61:65536'}", `syslog is "udp 192.0.2.61:65536"`},
		{"site: Test", "site: Test\nservice: {syslog: 'udp 192.0.2.61:syslog'}", `an address and a port are wanted`},
		{"site: Test", "site: Test\nservice: {syslog: 'tcp :514'}", `an address and a port are wanted`},
		{"site: Test", "site: Test\nservice: {syslog: 'unix '}", `a path is wanted, such as "unix /dev/log"`},
		{"refusal: tries-next", "login-tries: 0", `login-tries is "0"; a whole number from 1 to 10 is wanted`},
		{"refusal: tries-next", "login-tries: 1", ""}, {"refusal: tries-next", "login-tries: 10", ""},
		{"refusal: tries-next", "login-tries: 11", `a whole number from 1 to 10 is wanted`},
		{"refusal: tries-next", "web-needs-level: 16", `a whole number from 0 to 15 is wanted`},
		{"refusal: tries-next", "networks: none",
			`networks is "none"; any, default-only or default-and-management is wanted`},
		{"login-timeout: 45s", "login-timeout: 10m", ""},
		{"login-timeout: 45s", "login-timeout: 601s", "login-timeout is \"601s\"; a duration such as 30s, up to 10m, " +
			"or at-least and a duration is wanted"},
		{"login-timeout: 45s", "login-timeout: 0s", `login-timeout is "0s"`},
		{"login-timeout: 45s", "login-timeout: later", `login-timeout is "later"`},
		{"roles:", "elevation-secrets: [{name: Zulu-1, password: $6$a$b}]\nroles:", ""},
		{"telnet: off", "api: {commands: crew}", `the list "crew" is for login and is used here for commands`},
		{"roles:", "rolse:", `unknown key "rolse" in the site file; did you mean "roles"?`},
	} {
		t.Run(m.to, func(t *testing.T) {
			require.Contains(t, small, m.from)
			_, err := Parse(Source{Name: "site.yaml", Text: []byte(strings.Replace(small, m.from, m.to, 1))})
			if m.want == "" {
				require.NoError(t, err)
				return
			}
			require.Error(t, err)
			require.Contains(t, err.Error(), m.want)
			problems := err.(Problems)
			require.True(t, len(problems) == 1 || strings.Contains(m.to, "servers: none") || m.from == "roles:",
				"one message, not %d: %v", len(problems), err)
			require.Regexp(t, `^site\.yaml:\d+:\d+: `, err.Error())
		})
	}
}

func TestManyMistakesAreAllSaidInTheOrderOfTheirPlaces(t *testing.T) {
	t.Parallel()
	text := strings.NewReplacer("timeout: 2s", "timeout: x", "level: 15, password: $6",
		"level: x, password: $6").Replace(small)
	_, err := Parse(Source{Name: "site.yaml", Text: []byte(text)})
	require.Len(t, err, 2)
	require.Regexp(t, `(?s)^site\.yaml:4:.*\nsite\.yaml:34:`, err.Error())
}

func TestTextThatIsNoSiteGivesOneMessage(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"":                      "there is no site in this file",
		"# only a comment\n":    "there is no site in this file",
		"just words":            "the site file is a single value; keys and values wanted",
		"- a\n- b":              "the site file is a list; keys and values wanted",
		"a: [1\nb: 2\n":         "this is not YAML: ",
		"a: 'x\n":               "this is not YAML: ",
		"\x00\x01\x02":          "this is not YAML: it holds binary data",
		"site: a\n---\nsite: b": "a site file is one document",
	} {
		_, err := Parse(Source{Name: "x.yaml", Text: []byte(text)})
		require.ErrorContains(t, err, want, "%q", text)
		require.Len(t, err, 1, "%q", text)
	}
}

func TestSecretsNeverReachMessages(t *testing.T) {
	t.Parallel()
	const secret = "hunter-two-and-more"
	for _, bad := range []string{
		"keys: {k: claer " + secret + "}", "keys:\n  k: claer " + secret, "keys:\n  k: " + secret,
		"accounts:\n  - {name: a, level: 1, password: " + secret + "}",
		"accounts:\n  - {name: a, password: " + secret + ", level: 99}",
		"accounts:\n  - name: a\n    level: 1\n    password: " + secret,
	} {
		_, err := Parse(Source{Name: "site.yaml", Text: []byte("site: x\n" + bad)})
		require.Error(t, err)
		require.NotContains(t, err.Error(), secret, bad)
	}
	s := NewSecret(secret)
	text, err := json.Marshal(map[string]any{"a": s, "b": &s})
	require.NoError(t, err)
	for _, shown := range []string{string(text), fmt.Sprint(s), fmt.Sprintf("%v %+v %#v %s %q %x", s, s, s, s, s, s),
		fmt.Sprintf("%+v", Keys{"k": s})} {
		require.NotContains(t, shown, secret)
		require.NotContains(t, shown, fmt.Sprintf("%x", secret))
	}
}

func TestKeysAreComparedWithoutShowingThem(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ a, b, want string }{
		{"abcdef", "abcdef", ""},
		{"abcdef", "abdcef", "the same except for two characters swapped"},
		{"abcdef", "ABCdef", "they differ in upper and lower case only"},
		{"abcdef", "abcdef ", "the same except for blanks at an end"},
		{"abcdef", "abcde", "different lengths, 6 against 5 characters"},
		{"abcdef", "abcdex", "the same length, and all but 1 of the characters agree"},
		{"abcdef", "uvwxyz", "the same length, otherwise different"},
	} {
		require.Equal(t, c.want, NewSecret(c.a).Difference(NewSecret(c.b)))
	}
	a, b := &Key{Ref: Ref{Name: "a"}}, &Key{Ref: Ref{Name: "b"}}
	require.True(t, Keys{}.Same(a, a))
	require.False(t, Keys{}.Same(a, b), "two names without values are two keys")
	require.True(t, Keys{"a": NewSecret("x"), "b": NewSecret("x")}.Same(a, b))
}

func TestTheDemoSitesAreValid(t *testing.T) {
	t.Parallel()
	for _, state := range []string{"as-drafted", "as-reviewed"} {
		text, err := os.ReadFile(filepath.Join("../../../demo", state, "site.yaml"))
		require.NoError(t, err)
		require.Len(t, parse(t, string(text)).Devices, 8)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(small))
	f.Add([]byte("site: x\nkeys: {a: clear b}\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := Parse(Source{Name: "site.yaml", Text: text})
		require.True(t, s != nil || err != nil)
		if err != nil {
			require.NotEmpty(t, err.Error())
		}
	})
}
