package advice

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

// base is a site with nothing to find. Each case below is one change to it.
const base = `site: Test
lab: {only: true}
keys: {k: file k, k2: file k2}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, wait: 2s}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k2, wait: 2s}
groups: [{name: t, servers: [t1, t2]}]
kinds: [{name: switch, traits: {console-obeys-authorization: true}}]
lists:
  - {name: login, authenticate: login, methods: [group t, local]}
  - {name: session, authorize: session, methods: [group t, local]}
  - {name: commands, authorize: commands, methods: [group t, local]}
  - {name: record, account: commands, methods: [group t]}
profiles:
  - name: p
    defaults: {login: login, session: session, commands: commands, record-commands: record}
    access: {ssh: {}}
    accounts: [keeper]
devices:
  - {name: sw-1, kind: switch, profile: p, addresses: [192.0.2.11]}
  - {name: sw-2, kind: switch, profile: p, addresses: [192.0.2.12]}
accounts: [{name: keeper, level: 15, password: $6$a$b}]
people: [{name: ines, teams: [net], password: $6$c$d}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
`

var keys = site.Keys{"k": site.NewSecret("a-key-for-this-test"), "k2": site.NewSecret("another-key-for-it")}

func check(t testing.TB, text string) (Report, *site.Site) {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	return Check(foresee.Reckoner{Site: s, Keys: keys, Now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}), s
}

func codesOf(r Report) []string {
	var found []string
	for _, f := range r.Findings {
		if !slices.Contains(found, f.Code) {
			found = append(found, f.Code)
		}
	}
	slices.Sort(found)
	return found
}

func TestNothingIsFoundInAGoodSite(t *testing.T) {
	r, _ := check(t, base)
	require.Empty(t, r.Findings)
	require.Equal(t, Proof{Devices: 2, Ways: 4, Cases: 48}, r.Proven)
}

// Every finding is shown by one change to a site that has none: so the change
// back is the repair.
func TestEachFindingIsShownByASmallestSite(t *testing.T) {
	for _, c := range []struct {
		code     string
		from, to string
		also     []string // other findings that the same change gives
		at, says string
	}{
		{"no-way-back", "authenticate: login, methods: [group t, local]", "authenticate: login, methods: [group t]",
			[]string{"locked-out"}, "site.yaml:10:50", "When t1 and t2 are silent nobody gets in: the list login ends with servers."},
		{"locked-out", "authenticate: login, methods: [group t, local]", "authenticate: login, methods: [group t]",
			[]string{"no-way-back"}, "site.yaml:20:12", "When t1 and t2 are silent nobody with full rights gets in by any way: by console and ssh a list ends with servers."},
		{"locked-out-remotely", "access: {ssh: {}}", "access: {ssh: {login: l2}}\nlists2", []string{"no-way-back"}, "site.yaml:20:12", "full rights are left on the console only"},
		{"no-account", "    accounts: [keeper]\n", "    accounts: []\n", []string{"locked-out", "unused"}, "site.yaml:20:12", "the login falls back to local, and the device has no local account"},
		{"session-stuck", "authorize: session, methods: [group t, local]", "authorize: session, methods: [group t]",
			[]string{"locked-out"}, "site.yaml:11:51", "a local account passes the login, and then its session is refused: the list session needs a server"},
		{"commands-stuck", "authorize: commands, methods: [group t, local]", "authorize: commands, methods: [group t]",
			nil, "site.yaml:12:53", "people get in (the account keeper for one) and no command works: the list commands needs a server"},
		{"gives-up-first", "key: k2, wait: 2s", "key: k2, wait: 29s", []string{"locked-out"}, "site.yaml:10:12", "the login waits 31 s, and the way in gives up after 30 s: the fallback is never reached (t1 1 x 2 s + t2 1 x 29 s)"},
		{"open-when-silent", "authenticate: login, methods: [group t, local]", "authenticate: login, methods: [group t, none]",
			nil, "site.yaml:10:59", "When t1 and t2 are silent anyone gets in with any name and password: the list login comes to none."},
		{"open-always", "authenticate: login, methods: [group t, local]", "authenticate: login, methods: [none]",
			nil, "site.yaml:10:50", "Anyone gets in, with every server up: the list login comes to none."},
		{"open-built-in", "{console-obeys-authorization: true}}]", "{console-obeys-authorization: true, built-in-login: none}}]", nil, "", "devices of this kind then ask for nothing"},
		{"key-differs", "192.0.2.12]}", "192.0.2.12], holds: {keys: {t2: k}}}", nil, "site.yaml:21:88", "The device holds the key k for t2, and the server has k2: different lengths, 19 against 18 characters."},
		{"clear-in-file", "{k: file k,", "{k: clear a-key-for-this-test,", nil, "site.yaml:3:8", "The key k stands in clear in the site file"},
		{"same-name", "{name: keeper, level: 15", "{name: ines, level: 15", nil, "site.yaml:22:19", "ines is a local account and a person (site.yaml:23:17): when t1 and t2 are silent the local password works"},
		{"not-recorded", ", record-commands: record}", "}", []string{"unused"}, "", "no command typed by this way in is recorded"},
		{"not-recorded", "{name: record, account: commands,", "{name: record, account: commands, levels: 15,", nil, "site.yaml:13:12", "the list record records only commands of level 15"},
		{"one-server", "servers: [t1, t2]}]", "servers: [t1]}]", []string{"unused"}, "site.yaml:10:12", "The list login has one server: when t1 is silent, nobody but local accounts gets in."},
		{"unused", "groups: [", "groups: [{name: g2, servers: [t1]}, ", nil, "site.yaml:7:17", "Nothing uses the group g2."},
		{"clear-text-way", "access: {ssh: {}}", "access: {ssh: {}, telnet: {}}", nil, "", "Telnet is open"},
	} {
		t.Run(c.code+" "+c.to, func(t *testing.T) {
			require.Contains(t, base, c.from)
			text := strings.Replace(base, c.from, c.to, 1)
			switch c.code {
			case "locked-out-remotely":
				text = strings.Replace(text, "\nlists2", "", 1)
				text = strings.Replace(text, "lists:\n", "lists:\n  - {name: l2, authenticate: login, methods: [group t]}\n", 1)
				c.at = "site.yaml:21:12"
			case "open-built-in":
				text = strings.Replace(text, "defaults: {login: login, ", "defaults: {", 1)
				c.also = []string{"unused"}
			case "open-always":
				text = strings.NewReplacer("session: session, ", "", "{console-obeys-authorization: true}", "{console-obeys-authorization: true, level-without-session: 15}").Replace(text)
				c.also = []string{"commands-stuck", "unused"}
			case "same-name":
				text = strings.Replace(text, "accounts: [keeper]", "accounts: [ines]", 1)
			}
			r, s := check(t, text)
			want := append([]string{c.code}, c.also...)
			slices.Sort(want)
			require.Equal(t, want, codesOf(r), "%+v", r.Findings)
			i := slices.IndexFunc(r.Findings, func(f Finding) bool { return f.Code == c.code })
			f := r.Findings[i]
			require.Contains(t, f.Text, c.says)
			require.NotEmpty(t, f.Repair)
			require.True(t, f.Place.Known())
			if c.at != "" {
				require.Equal(t, c.at, s.Where(f.Place))
			}
			severity := Codes()[c.code]
			if c.code == "clear-in-file" {
				severity = Note // in a site that is for a lab only
			}
			require.Equal(t, severity, f.Severity)
		})
	}
}

func TestAClearKeyIsAnErrorOutsideALab(t *testing.T) {
	r, _ := check(t, strings.NewReplacer("{k: file k,", "{k: clear a-key-for-this-test,", "lab: {only: true}\n", "").Replace(base))
	require.Equal(t, 1, r.Count(Error))
	require.Equal(t, "clear-in-file", r.Findings[0].Code)
}

func TestTwoNamesOfOneValueAreOneKey(t *testing.T) {
	text := strings.Replace(base, "192.0.2.12]}", "192.0.2.12], holds: {keys: {t2: k}}}", 1)
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	same := site.Keys{"k": site.NewSecret("same"), "k2": site.NewSecret("same")}
	require.Empty(t, Check(foresee.Reckoner{Site: s, Keys: same}).Findings)
}

func TestAFindingThatHoldsForManyDevicesIsOne(t *testing.T) {
	r, _ := check(t, strings.Replace(base, "authorize: commands, methods: [group t, local]", "authorize: commands, methods: [group t]", 1))
	require.Len(t, r.Findings, 1)
	require.Len(t, r.Findings[0].Devices, 2)
	require.Equal(t, []string{"console", "ssh"}, r.Findings[0].Access)
}

func TestADeviceWithManyServersIsCheckedWithoutCombiningThemAll(t *testing.T) {
	var servers, names []string
	for i := range 40 {
		name := "s" + string(rune('a'+i%26)) + string(rune('a'+i/26))
		servers = append(servers, "  - {name: "+name+", protocol: tacacs, address: 192.0.2.3, key: k, wait: 1ms}")
		names = append(names, name)
	}
	text := strings.Replace(base, "groups: [{name: t, servers: [t1, t2]}]", strings.Join(servers, "\n")+"\ngroups: [{name: t, servers: [t1, t2, "+strings.Join(names, ", ")+"]}]", 1)
	r, _ := check(t, text)
	require.Empty(t, r.Findings)
	r, _ = check(t, strings.Replace(text, "authenticate: login, methods: [group t, local]", "authenticate: login, methods: [group t]", 1))
	require.Equal(t, []string{"locked-out", "no-way-back"}, codesOf(r))
}

func TestTheDemoDraftHasItsMistakesAndTheReviewedSiteHasNone(t *testing.T) {
	demo := func(state string) Report {
		text, err := os.ReadFile(filepath.Join("../../../demo", state, "site.yaml"))
		require.NoError(t, err)
		r, _ := check(t, string(text))
		return r
	}
	require.Empty(t, demo("as-reviewed").Findings)
	require.Equal(t, []string{"clear-text-way", "commands-stuck", "gives-up-first", "key-differs", "locked-out", "locked-out-remotely",
		"no-way-back", "not-recorded", "one-server", "open-when-silent", "unused"}, codesOf(demo("as-drafted")))
}

func TestCommandsRecordedByRADIUSServersOnlyAreNotRecorded(t *testing.T) {
	text := strings.NewReplacer("groups: [", "  - {name: r1, protocol: radius, address: 192.0.2.3, key: k}\ngroups: [{name: r, servers: [r1]}, ",
		"account: commands, methods: [group t]", "account: commands, methods: [group r]").Replace(base)
	r, _ := check(t, text)
	require.Equal(t, []string{"not-recorded"}, codesOf(r))
	require.Contains(t, r.Findings[0].Text, "RADIUS has no records of commands")
}
