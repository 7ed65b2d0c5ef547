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
  - {name: tern, protocol: tacacs, address: 192.0.2.21, key: k, wait: 2s, rest: 1m}
  - {name: plover, protocol: tacacs, address: 192.0.2.22, key: k}
  - {name: sanderling, protocol: radius, address: 192.0.2.23, key: k}
groups:
  - {name: shore, servers: [tern, plover]}
lists:
  - {name: crew, authenticate: login, methods: [group shore, local]}
  - {name: other, authenticate: login, methods: [local]}
  - {name: rights, authorize: session, methods: [group shore, local]}
kinds:
  - {name: switch, traits: {refusal: tries-next, login-window: 45s}}
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
  - {name: sw-1, kind: switch, profile: pier, addresses: [192.0.2.101], labels: {place: north}}
  - name: sw-2
    profile: pier
    addresses: [192.0.2.102, "2001:db8::2"]
    source: 2001:db8::2
    access: {ssh: {login: crew}, web: {}}
    accounts: []
    holds: {keys: {tern: k}}
accounts:
  - {name: harbourmaster, level: 15, password: $6$salt$hash}
people:
  - {name: ines.marsh, teams: [network], password: $6$salt$hash, until: 2027-03-31}
roles:
  - {name: all, level: 15, commands: [refuse set banner *, allow **]}
grants:
  - {who: [team network, person ines.marsh], where: {place: [north, south]}, through: [ssh], role: all}
`

func parse(t testing.TB, text string) *Site {
	s, err := Parse(Source{"site.yaml", []byte(text)})
	require.NoError(t, err)
	return s
}

func TestASiteIsReadWithItsDefaultsProfilesAndPlaces(t *testing.T) {
	s := parse(t, small)
	require.Equal(t, "Test", s.Name)
	tern, sanderling := s.Server("tern"), s.Server("sanderling")
	require.Equal(t, []any{uint16(49), 2 * time.Second, 1, time.Minute}, []any{tern.Port, tern.Wait, tern.Tries, tern.Rest})
	require.Equal(t, []any{uint16(1812), uint16(1813), 2, true},
		[]any{sanderling.AuthenticationPort, sanderling.AccountingPort, sanderling.Tries, sanderling.RequireMessageAuthenticator})
	require.Equal(t, "site.yaml:4:12", s.Where(tern.Place))

	sw1, sw2 := s.Device("sw-1"), s.Device("sw-2")
	require.Equal(t, []string{"console", "ssh 0-15", "ssh 16-97"}, wayNames(sw1), "a console is always there, off is off")
	require.Equal(t, []string{"console", "ssh", "web"}, wayNames(sw2), "a device's own way in replaces its profile's")
	require.Equal(t, "other", sw1.WayOfLine(SSH, 3).Lists[Login].Name)
	require.Equal(t, "crew", sw1.WayOfLine(SSH, 16).Lists[Login].Name)
	require.Equal(t, Default, sw1.WayOfLine(SSH, 16).Origins[Login])
	require.Nil(t, sw1.Way(Console).Lists[Session], "the console does not obey authorization unless the kind does")
	require.Equal(t, Unobeyed, sw1.Way(Console).Origins[Session])
	require.Len(t, sw1.Accounts, 1)
	require.Empty(t, sw2.Accounts, "an empty list of its own wins")
	require.Equal(t, "2001:db8::2", sw2.Source.String())
	require.Equal(t, "192.0.2.101", sw1.Source.String())
	require.True(t, sw1.Kind.Traits.RefusalTriesNext)
	require.Equal(t, 45*time.Second, sw1.Kind.Traits.LoginWindow)
	require.Equal(t, DefaultTraits(), sw2.Kind.Traits)
	require.Equal(t, "k", sw2.HeldKeys[tern].Key.Name)
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
	one, two, _ := strings.Cut(small, "lists:\n")
	s, err := Parse(Source{"a.yaml", []byte(one)}, Source{"b.yaml", []byte("lists:\n" + two)})
	require.NoError(t, err)
	require.Equal(t, "b.yaml:2:12", s.Where(s.Lists[0].Place))

	_, err = Parse(Source{"a.yaml", []byte(small)}, Source{"b.yaml", []byte("people:\n  - {name: ines.marsh, password: $6$a$b}\n")})
	require.ErrorContains(t, err, `b.yaml:2:12: the person "ines.marsh" stands already in a.yaml:36:12`)
}

// Each mistake is one change to the small site, and gives exactly one message.
func TestEveryMistakeIsSaidWithItsPlaceAndTheRepair(t *testing.T) {
	for _, m := range []struct{ from, to, want string }{
		{"wait: 2s", "wiat: 2s", `site.yaml:4:65: unknown key "wiat" in a server; did you mean "wait"?`},
		{"wait: 2s", "wait: soon", `wait is "soon"; a duration from 1ms to 5m0s is wanted`},
		{"wait: 2s", "wait: 2s, wait: 3s", `the key "wait" stands twice in a server, first in line 4`},
		{"wait: 2s", "for: [accounting]", `"for" in a server is not supported yet by this version`},
		{"address: 192.0.2.23, key: k", "address: 192.0.2.23, transport: tls, key: k", "needs no key: over TLS certificates take its place"},
		{"rest: 1m", "transport: udp", "tacacs does not run over udp"},
		{"rest: 1m", "tls: {certificate: c, key: k, authorities: a}", "has tls and not transport: tls"},
		{"rest: 1m", "transport: quic", `transport is "quic"; udp or tcp or tls is wanted`},
		{"rest: 1m", "tries: 3", "is asked once: TCP repeats what is lost"},
		{"rest: 1m", "port: 99999", `port is "99999"; a whole number from 1 to 65535`},
		{"address: 192.0.2.23", "port: 1812, address: 192.0.2.23", "has two ports: write ports:"},
		{"protocol: radius", "protocol: raduis", `protocol is "raduis"; radius or tacacs is wanted; did you mean "radius"?`},
		{"protocol: radius", "protocol: ldap", "protocol ldap is not supported yet"},
		{"address: 192.0.2.23", "address: 192.0.2.300", `address is "192.0.2.300"`},
		{"address: 192.0.2.23, key: k", "address: 192.0.2.23", `the server sanderling needs the key "key"`},
		{"address: 192.0.2.23, key: k", "address: 192.0.2.23, key: kk", `there is no key "kk"; did you mean "k"?`},
		{"[tern, plover]", "[tern, plvoer]", `site.yaml:8:35: there is no server "plvoer"; did you mean "plover"?`},
		{"[tern, plover]", "[tern, sanderling]", "mixes tacacs and radius"},
		{"[tern, plover]", "[tern, tern]", "stands twice in the group"},
		{"[tern, plover]", "[]", "the group shore has no server"},
		{"[group shore, local]}\n  - {name: other", "[gruop shore, local]}\n  - {name: other", `"gruop shore" is no method; group NAME, local, signed-in or none is wanted; did you mean "group"?`},
		{"methods: [local]", "methods: [signed-in]", "the method signed-in makes no sense in the list other, which is for login"},
		{"methods: [local]", "methods: [secret bridge]", "the method secret (for elevation) is not supported yet"},
		{"{name: other, authenticate: login", "{name: other", "does not say what it is for"},
		{"{name: other, authenticate: login", "{name: other, authenticate: elevation", "authenticate: elevation is not supported yet"},
		{"refusal: tries-next", "refusal: maybe", `refusal is "maybe"; ends-list or tries-next is wanted`},
		{"refusal: tries-next", "level-from: vendor", `"level-from" in traits is not supported yet`},
		{"session: rights", "session: crew", `the list "crew" is for login and is used here for session`},
		{"lines: 16-97", "lines: 9-97", "lines 9-97 of ssh overlap lines 0-15"},
		{"telnet: off", "console: off", "the console cannot be off"},
		{"telnet: off", "telnet: maybe", `telnet is "maybe"; off, {login: LIST, ...}`},
		{"telnet: off", "netconf: off", `"netconf" in access is not supported yet`},
		{"telnet: off", "telnte: off", `unknown key "telnte" in access; did you mean "telnet"?`},
		{"profile: pier, addresses", "profile: peir, addresses", `there is no profile "peir"; did you mean "pier"?`},
		{"addresses: [192.0.2.101]", "addresses: [here]", `an address is "here"; an IPv4 or IPv6 address is wanted`},
		{"source: 2001:db8::2", "source: 192.0.2.101", "a server could not tell them apart"},
		{"name: sw-2", "name: sw-1", `the device "sw-1" stands already in site.yaml:25:12`},
		{"level: 15, password: $6$salt$hash", "level: 16, password: $6$salt$hash", `level is "16"; a whole number from 0 to 15`},
		{"until: 2027-03-31", "until: soon", `until is "soon"; the last day is wanted`},
		{"until: 2027-03-31", "one-time-code: key k", `"one-time-code" in a person is not supported yet`},
		{"allow **]", "permit **]", `"permit **" is no command rule`},
		{"refuse set banner *", "refuse ** banner", "** is the rest of the line and so stands last"},
		{"team network,", "network,", `"network" is nobody; "team NAME" or "person NAME"`},
		{"person ines.marsh", "person ines.mash", `there is no person "ines.mash"; did you mean "ines.marsh"?`},
		{"through: [ssh]", "through: [shh]", `did you mean "ssh"?`},
		{"role: all", "role: al", `there is no role "al"; did you mean "all"?`},
		{"site: Test", "site: Test\ndevices-from: a.csv", `"devices-from" in the site file is not supported yet`},
		{"site: Test", "site: &a Test\nabout: *a", "aliases (*name) are not used in a site file"},
		{"site: Test", "site: Test\nlab: {network: 10.0.0.0/8}", "a loopback network such as 127.77.0.0/16 is wanted"},
		{"site: Test", "site: Test\nservers: none", `the key "servers" stands twice`},
		{"clear a-key-for-this-test", "sealed", "sealed keys are not supported yet"},
		{"roles:", "vendors: [{name: example, number: 32473, attributes: [{name: Level, number: 1, type: int}]}]\nroles:", `type is "int"; text or integer or octets or address or address6 is wanted`},
		{"roles:", "vendors: [{name: example, number: 0, attributes: []}]\nroles:", `number is "0"; a whole number from 1 to 16777215`},
		{"roles:", "rolse:", `unknown key "rolse" in the site file; did you mean "roles"?`},
	} {
		t.Run(m.to, func(t *testing.T) {
			require.Contains(t, small, m.from)
			_, err := Parse(Source{"site.yaml", []byte(strings.Replace(small, m.from, m.to, 1))})
			require.Error(t, err)
			require.Contains(t, err.Error(), m.want)
			problems := err.(Problems)
			require.True(t, len(problems) == 1 || strings.Contains(m.to, "servers: none") || m.from == "roles:", "one message, not %d: %v", len(problems), err)
			require.Regexp(t, `^site\.yaml:\d+:\d+: `, err.Error())
		})
	}
}

func TestManyMistakesAreAllSaidInTheOrderOfTheirPlaces(t *testing.T) {
	text := strings.NewReplacer("wait: 2s", "wait: x", "level: 15, password: $6", "level: x, password: $6").Replace(small)
	_, err := Parse(Source{"site.yaml", []byte(text)})
	require.Len(t, err, 2)
	require.Regexp(t, `(?s)^site\.yaml:4:.*\nsite\.yaml:34:`, err.Error())
}

func TestTextThatIsNoSiteGivesOneMessage(t *testing.T) {
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
		_, err := Parse(Source{"x.yaml", []byte(text)})
		require.ErrorContains(t, err, want, "%q", text)
		require.Len(t, err, 1, "%q", text)
	}
}

func TestSecretsNeverReachMessages(t *testing.T) {
	const secret = "hunter-two-and-more"
	for _, bad := range []string{
		"keys: {k: claer " + secret + "}", "keys:\n  k: claer " + secret, "keys:\n  k: " + secret,
		"accounts:\n  - {name: a, level: 1, password: " + secret + "}",
		"accounts:\n  - {name: a, password: " + secret + ", level: 99}",
		"accounts:\n  - name: a\n    level: 1\n    password: " + secret,
	} {
		_, err := Parse(Source{"site.yaml", []byte("site: x\n" + bad)})
		require.Error(t, err)
		require.NotContains(t, err.Error(), secret, bad)
	}
	s := NewSecret(secret)
	text, err := json.Marshal(map[string]any{"a": s, "b": &s})
	require.NoError(t, err)
	for _, shown := range []string{string(text), fmt.Sprint(s), fmt.Sprintf("%v %+v %#v %s %q %x", s, s, s, s, s, s), fmt.Sprintf("%+v", Keys{"k": s})} {
		require.NotContains(t, shown, secret)
		require.NotContains(t, shown, fmt.Sprintf("%x", secret))
	}
}

func TestKeysAreComparedWithoutShowingThem(t *testing.T) {
	for _, c := range []struct{ a, b, want string }{
		{"abcdef", "abcdef", ""},
		{"abcdef", "abdcef", "the same but for two characters swapped"},
		{"abcdef", "ABCdef", "they differ in upper and lower case only"},
		{"abcdef", "abcdef ", "the same but for blanks at an end"},
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
		s, err := Parse(Source{"site.yaml", text})
		require.True(t, (s == nil) == (err != nil))
		if err != nil {
			require.NotEmpty(t, err.Error())
		}
	})
}
