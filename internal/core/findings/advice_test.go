package findings

import (
	"fmt"
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

const base = Smallest

var keys = site.Keys{"k": site.NewSecret("a-key-for-this-test"), "k2": site.NewSecret("another-key-for-it")}

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// keysOf returns the keys of the test, and those that stand in the site.
func keysOf(s *site.Site) site.Keys {
	all := site.Keys{}
	for _, k := range s.Keys {
		if v, known := keys[k.Name]; known {
			all[k.Name] = v
		}
		if k.Source == site.KeyClear {
			all[k.Name] = k.Clear
		}
	}
	return all
}

func check(t testing.TB, text string) (Report, *site.Site) {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	return Check(foresee.Forecaster{Site: s, Keys: keysOf(s), Now: now, Assume: true}, Facts{}), s
}

// checkUnassumed is check where aspects that are not said are not known.
func checkUnassumed(t testing.TB, text string) (Report, *site.Site) {
	_, s := check(t, text)
	return Check(foresee.Forecaster{Site: s, Keys: keysOf(s), Now: now}, Facts{}), s
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

// Local accounts that come first get in whatever the servers do: the end of the
// list is then no dead end.
func TestAListThatBeginsWithLocalHasAWayBack(t *testing.T) {
	t.Parallel()
	for methods, found := range map[string]bool{"[local, group g]": false, "[group g]": true} {
		s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k}
servers: [{name: t, protocol: tacacs, address: 192.0.2.1, key: k}]
groups: [{name: g, servers: [t]}]
lists: [{name: l, authenticate: login, methods: ` + methods + `}]
platforms: [{name: h, behaviour: {level-without-session: 15, refusal: tries-next}}]
accounts: [{name: keeper, level: 15, password: key k}]
devices: [{name: d, platform: h, addresses: [192.0.2.9], accounts: [keeper], defaults: {login: l}, access: {console: {}}}]
people: [{name: ines, teams: [net], password: key k}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: team net, role: all}]
`)})
		require.NoError(t, err)
		r := Check(foresee.Forecaster{Site: s, Keys: site.Keys{}, Assume: true}, Facts{})
		require.Equal(t, found, slices.ContainsFunc(r.Findings,
			func(f Finding) bool { return f.Code == "no-way-back" }),
			methods)
	}
}

func TestNothingIsFoundInAGoodSite(t *testing.T) {
	t.Parallel()
	r, _ := check(t, base)
	require.Empty(t, r.Findings)
	require.Equal(t, Proof{Devices: 2, Ways: 4, States: 3, Cases: 48}, r.Proven)
}

func TestEachFindingIsShownByASmallestSiteAndNotByTheSameSiteRepaired(t *testing.T) {
	t.Parallel()
	for _, p := range Pages() {
		t.Run(p.Code, func(t *testing.T) {
			bad, good := p.Sites()
			if good == "" {
				require.NotEmpty(t, p.Outside, "shown by a test of its own")
				return
			}
			require.Contains(t, good, p.Good)
			check := check
			if p.unassumed {
				check = checkUnassumed
			}
			r, _ := check(t, good)
			require.Empty(t, r.Findings, "%+v", r.Findings)
			r, s := check(t, bad)
			i := slices.IndexFunc(r.Findings, func(f Finding) bool { return f.Code == p.Code })
			require.GreaterOrEqual(t, i, 0, "found %v", codesOf(r))
			f := r.Findings[i]
			require.True(t, f.Place.Known(), "%+v", f)
			require.NotEmpty(t, s.Where(f.Place))
			require.NotEmpty(t, f.Repair)
			require.Regexp(t, `^[A-Z0-9a-z].*\.$`, f.Text)
			// a note in a lab; an error when nobody has full rights
			if p.Code != "clear-in-file" && p.Code != "lands-low" {
				require.Equal(t, p.Severity, f.Severity)
			}
		})
	}
}

func TestFindingsSayWhatWouldHappenWhereAndWhen(t *testing.T) {
	t.Parallel()
	for code, says := range map[string]string{
		"no-way-back": "When t1 and t2 are silent nobody gets in: the list login ends with servers. Then nobody " +
			"with full rights gets in by any way.",
		"locked-out":          "Even when every server is up nobody with full rights gets in by any way: ",
		"locked-out-remotely": "Even when every server is up full rights are left on the console only",
		"session-stuck": "a local account passes the login, and then its session is refused: the list session " +
			"needs a server",
		"commands-stuck": "people get in (the account keeper for one) and no command works: the list commands " +
			"needs a server",
		"elevation-stuck": "people get in at level 1 (the account keeper for one) and cannot reach a higher one: " +
			"the list raise needs a server",
		"gives-up-first": "the login waits 2 s, and the way in gives up after 1 s: the fallback is never reached " +
			"(t1 1 x 1 s + t2 1 x 1 s)",
		"account-too-low": "the account keeper gets in, and reaches level 1 at most",
		"template-missing": "people take on the rights of the local account watch, and these devices have no such " +
			"account: ines is refused",
		"open-when-silent": "When t1 and t2 are silent anyone gets in with any name and password: the list login " +
			"reaches none.",
		"key-differs": "The device holds the key k2 for t1, and the server has k: different lengths, 18 against 19 " +
			"characters.",
		"client-unknown": "The device asks from 192.0.2.99, and t1 knows it as 192.0.2.11",
		"ports-differ": "The device asks r1 at the ports 1812 and 1646, and the server listens at 1812 and 1813: " +
			"accounting is never answered.",
		"not-for-this": "The list record asks t1, which is not for accounting",
		"lands-low":    "ines is granted level 15 and arrives at level 1: the way in has no session list",
		"no-grant":     "No grant names the team watch: tobin is refused everywhere.",
		"lines-left-out": "Lines 4-9 of ssh name no login list and take the device-wide login, while lines 0-3 use " +
			"other",
		"not-recorded":        "the list record records only commands of levels 2-15",
		"never-rests":         "When t1 is silent every login waits 2 s for it first",
		"slow-fallback":       "When t1 and t2 are silent a login waits 20 s (t1 1 x 9 s + t2 1 x 1 s + ",
		"readable-on-the-way": "t1 is asked over tacacs without TLS from beyond place far",
		"key-weak":            "The key k has 6 characters, and 16 are the least",
	} {
		p, known := PageOf(code)
		require.True(t, known)
		bad, _ := p.Sites()
		r, _ := check(t, bad)
		i := slices.IndexFunc(r.Findings, func(f Finding) bool { return f.Code == code })
		require.GreaterOrEqual(t, i, 0, code)
		require.Contains(t, r.Findings[i].Text, says)
	}
}

func TestWhatIsNoPartOfTheFileIsFoundByItsFacts(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml",
		Text: []byte(strings.Replace(base, "lab: {only: true}\n", "", 1))})
	require.NoError(t, err)
	one := site.NewSecret("one-key-for-every-server")
	r := Check(foresee.Forecaster{Site: s, Keys: site.Keys{"k": one, "k2": one}, Now: now, Assume: true},
		Facts{Guessed: map[*site.Account]string{s.Accounts[0]: "its own name"},
			Exposed: []Exposed{{Path: "keys/k", Mode: "-rw-r--r--", Place: s.Keys[0].Place}}})
	require.Equal(t, []string{"readable-by-others", "weak-account"}, codesOf(r))
	require.Contains(t, r.Findings[1].Text, "The password of the account keeper is its own name")

	bad := strings.Replace(base, "devices:\n", "devices:\n"+strings.Join(manyDevices(), ""), 1)
	r, _ = check(t, bad)
	require.Equal(t, []string{"shared-fallback"}, codesOf(r))
	third := strings.NewReplacer("groups: [{name: t, servers: [t1, t2]}]",
		"  - {name: t3, protocol: tacacs, address: 192.0.2.3, key: k, timeout: 1s, dead-time: 1m}\ngroups: [{name: "+
			"t, servers: [t1, t2, t3]}]").Replace(base)
	s, err = site.Parse(site.Source{Name: "site.yaml", Text: []byte(third)})
	require.NoError(t, err)
	r = Check(foresee.Forecaster{Site: s, Keys: site.Keys{"k": one, "k2": one}, Now: now, Assume: true}, Facts{})
	require.Equal(t, []string{"key-everywhere"}, codesOf(r))
}

func manyDevices() []string {
	var devices []string
	for i := range 26 {
		devices = append(devices, fmt.Sprintf("  - {name: m-%d, platform: switch, profile: p, addresses: "+
			"[198.51.100.%d]}\n", i,
			i+1))
	}
	return devices
}

func TestAnAcceptedFindingIsSilentUntilItsTimeIsOver(t *testing.T) {
	t.Parallel()
	p, _ := PageOf("commands-stuck")
	bad, _ := p.Sites()
	accept := func(rest string) Report {
		r, _ := check(t, bad+"accept: [{code: commands-stuck, why: so meant"+rest+"}]\n")
		return r
	}
	r := accept("")
	require.Empty(t, r.Findings)
	require.Equal(t, 1, r.Accepted)
	require.Empty(t, accept(", until: 2026-11-23").Findings)
	r = accept(", until: 2026-11-22")
	require.Len(t, r.Findings, 1)
	require.Contains(t, r.Findings[0].Text, "It was accepted until 2026-11-22 (so meant), and that is over.")
	r = accept(", device: sw-1")
	require.Len(t, r.Findings, 1)
	require.Equal(t, "sw-2", r.Findings[0].Devices[0].Name)
	r, _ = check(t, base+"accept: [{code: one-sever, why: x}]\n")
	require.Equal(t, []string{"unused"}, codesOf(r))
}

func TestARuleCoversAnotherWordByWord(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"**", "look x", true}, {"look **", "look", true}, {"look **", "look * y", true}, {"look *", "look x", true},
		{"look *", "look **", false},
		{"look x", "look *", false}, {"look *", "look", false}, {"look", "look", true}, {"set", "look", false},
		{"look **", "**", false},
	} {
		require.Equal(t, c.want, covers(strings.Fields(c.a), strings.Fields(c.b)), "%v", c)
	}
}

func TestWeakKeysAreToldFromStrongOnes(t *testing.T) {
	t.Parallel()
	s := &site.Site{Name: "Saltmarsh Ferries"}
	for value, weak := range map[string]bool{
		"short": true, "aaaaaaaaaaaaaaaaaaaa": true, "passwordsecret2026!": true, "Saltmarshferries2026": true,
		"XKQJZHWPVBNMRTYUABCD": false, "correct-horse-battery-staple": false, "a-key-for-this-test": false,
		"qzjxkvwhpassword2026": false,
	} {
		require.Equal(t, weak, weakness(site.NewSecret(value), s) != "", value)
	}
	for _, word := range commonWords {
		require.NotEmpty(t, weakness(site.NewSecret(strings.Repeat(word, 16/len(word)+1)+"2026"), s), "%s and digits",
			word)
	}
	require.Contains(t, weakness(site.NewSecret("abcdeabcdeabcdeabcde"), s), "has only 5 different characters")
	require.Empty(t, weakness(site.NewSecret("qzjxkvqzjxkvqzjxkv"), s), "six different characters are enough")
	require.Contains(t, weakness(site.NewSecret("qzjxkvwqzjxkvw2"), s), "has 15 characters")
}

func TestAClearKeyIsAnErrorOutsideALab(t *testing.T) {
	t.Parallel()
	r, _ := check(t, strings.NewReplacer("{k: file k,", "{k: clear a-key-for-this-test,", "lab: {only: true}\n",
		"").Replace(base))
	require.Equal(t, 1, r.Count(Error))
	require.Equal(t, "clear-in-file", r.Findings[0].Code)
}

func TestTwoNamesOfOneValueAreOneKey(t *testing.T) {
	t.Parallel()
	text := strings.Replace(base, "192.0.2.12]}", "192.0.2.12], found: {keys: {t2: k}}}", 1)
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	same := site.Keys{"k": site.NewSecret("the-same-for-both"), "k2": site.NewSecret("the-same-for-both")}
	require.Empty(t, Check(foresee.Forecaster{Site: s, Keys: same, Assume: true}, Facts{}).Findings)
}

func TestAFindingThatHoldsForManyDevicesIsOne(t *testing.T) {
	t.Parallel()
	r, _ := check(t, strings.Replace(base, "authorize: commands, methods: [group t, local]",
		"authorize: commands, methods: [group t]", 1))
	require.Len(t, r.Findings, 1)
	require.Len(t, r.Findings[0].Devices, 2)
	require.Equal(t, []string{"console", "ssh"}, r.Findings[0].Access)
}

func TestADeviceWithManyServersIsCheckedWithoutCombiningThemAll(t *testing.T) {
	t.Parallel()
	var servers, names []string
	for i := range 40 {
		name := "s" + string(rune('a'+i%26)) + string(rune('a'+i/26))
		servers = append(servers,
			"  - {name: "+name+", protocol: tacacs, address: 192.0.2."+fmt.Sprint(20+i)+", key: k, timeout: 1ms}")
		names = append(names, name)
	}
	text := strings.Replace(base, "groups: [{name: t, servers: [t1, t2]}]",
		strings.Join(servers, "\n")+"\ngroups: [{name: t, servers: [t1, t2, "+strings.Join(names, ", ")+"]}]", 1)
	r, _ := check(t, text)
	require.Empty(t, r.Findings)
	r, _ = check(t, strings.Replace(text, "authenticate: login, methods: [group t, local]",
		"authenticate: login, methods: [group t]", 1))
	require.Equal(t, []string{"no-way-back"}, codesOf(r))
}

func TestTheDemoDraftHasItsMistakesAndTheReviewedSiteHasNone(t *testing.T) {
	t.Parallel()
	demo := func(state string) Report {
		text, err := os.ReadFile(filepath.Join("../../../demo", state, "site.yaml"))
		require.NoError(t, err)
		r, _ := check(t, string(text))
		return r
	}
	require.Empty(t, demo("as-reviewed").Findings)
	require.Equal(t, []string{"clear-text-way", "commands-stuck", "gives-up-first", "key-differs",
		"no-way-back", "not-recorded", "one-server", "open-when-silent", "slow-fallback", "unused"},
		codesOf(demo("as-drafted")))
}

func TestCommandsRecordedByRADIUSServersOnlyAreNotRecorded(t *testing.T) {
	t.Parallel()
	text := strings.NewReplacer("groups: [",
		"  - {name: r1, protocol: radius, address: 192.0.2.3, key: k}\ngroups: [{name: r, servers: [r1]}, ",
		"account: commands, methods: [group t]", "account: commands, methods: [group r]").Replace(base)
	r, _ := check(t, text)
	require.Equal(t, []string{"not-recorded", "records-lost"}, codesOf(r))
	require.Contains(t, r.Findings[1].Text+r.Findings[0].Text, "RADIUS has no records of commands")
}

// Every combination of servers is looked at where there are few; where there are
// many, each alone, all but each, none and all: the outage of all is never left
// out.
func TestTheOutageOfAllServersIsAlwaysLookedAt(t *testing.T) {
	t.Parallel()
	for _, n := range []int{0, 1, 2, mostStates - 1, mostStates, mostStates + 1, 30} {
		servers := make([]*site.Server, n)
		for i := range servers {
			servers[i] = &site.Server{}
		}
		all := outages(servers)
		want := 1 << n
		if n > mostStates {
			want = 2 + 2*n
		}
		require.Len(t, all, want, "%d servers", n)
		require.Zero(t, silentIn(all[0]), "all up comes first")
		require.Equal(t, n, silentIn(all[len(all)-1]), "none up comes last")
		alone, only := 0, 0
		for i, o := range all {
			if i > 0 {
				require.GreaterOrEqual(t, silentIn(o), silentIn(all[i-1]))
			}
			if silentIn(o) == 1 {
				alone++
			}
			if n > 2 && silentIn(o) == n-1 {
				only++
			}
		}
		require.Equal(t, n, alone)
		if n > 2 {
			require.Equal(t, n, only)
		}
	}
}
