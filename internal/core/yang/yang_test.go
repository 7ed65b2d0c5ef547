package yang_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
)

// hash is a SHA-512 crypt hash of a made-up password.
const hash = "$6$rounds=5000$saltsalt$" +
	"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789./abcdefghijklmnopqrstuv"

const text = `site: Test
keys: {k: file k, k2: file k2}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 2s, dead-time: 1m}
  - {name: t2, protocol: tacacs, address: "2001:db8::2", port: 4949, key: k2, for: [authentication, accounting]}
  - {name: r1, protocol: radius, address: 192.0.2.3, key: k, timeout: 1500ms, attempts: 3}
  - {name: r2, protocol: radius, address: r2.example.net, key: k2, ports: {authentication: 1645, accounting: 1646}, timeout: 2s, attempts: 3}
groups: [{name: t, servers: [t1, t2]}, {name: r, servers: [r1, r2]}]
lists:
  - {name: login, authenticate: login, methods: [group t, group r, local]}
  - {name: overair, authenticate: login, methods: [group r, local]}
  - {name: session, authorize: session, methods: [group t, local]}
  - {name: commands, authorize: commands, levels: 1-15, methods: [group t, local]}
  - {name: visits, account: sessions, when: start and stop, methods: [group t]}
  - {name: typed, account: commands, methods: [group t]}
profiles:
  - name: p
    defaults: {login: login, session: session, commands: commands, record-sessions: visits, record-commands: typed}
    access: {console: {login: overair}, ssh: {}}
    accounts: [keeper, looker]
  - {name: air, defaults: {login: overair}, access: {ssh: {}}, accounts: [keeper]}
devices:
  - {name: sw, profile: p, addresses: [192.0.2.11]}
  - {name: ap, profile: air, addresses: [192.0.2.12]}
accounts: [{name: keeper, level: 15, password: ` + hash + `}, {name: looker, level: 1, password: '$argon2id$v=19$m=64,t=1,p=1$AAAA$BBBB'}]
`

func plan(t testing.TB, device string) blueprint.Blueprint {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	return blueprint.Of(s.Device(device))
}

func TestDataOfEitherModelReadsBackAsTheSameDesign(t *testing.T) {
	t.Parallel()
	for _, model := range yang.InOrder {
		for _, device := range []string{"sw", "ap"} {
			data, _ := model.Of(plan(t, device), yang.Placeholders)
			for _, encode := range []func() ([]byte, error){data.JSON, data.XML} {
				text, err := encode()
				require.NoError(t, err)
				got, err := model.Read(text)
				require.NoError(t, err)
				require.Equal(t, data, got, string(text))
			}
		}
		for _, bad := range []string{"", "{}", "[1]", "<a/>", "<system", `{"ietf-system:system": 3}`} {
			_, err := model.Read([]byte(bad))
			require.ErrorIs(t, err, yang.ErrForm, bad)
		}
	}
}

// A password is sent as the platform says, where the model can say so.
func TestThePasswordIsSentAsTheKindDoes(t *testing.T) {
	t.Parallel()
	for form, want := range map[string]string{"pap": "radius-pap", "chap": "radius-chap", "mschapv2": "radius-pap"} {
		s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(strings.Replace(text, "profiles:",
			"platforms: [{name: k, behaviour: {password-form: {radius: "+form+"}}}]\nprofiles:", 1) + "\n")})
		require.NoError(t, err)
		d := s.Device("sw")
		d.Platform = s.Platforms[0]
		system, left := yang.SystemOf(blueprint.Of(d), yang.Placeholders)
		require.Equal(t, yang.Identity{Module: "ietf-system", Name: want}, system.RADIUS.Servers[0].Type)
		require.Equal(t, form == "mschapv2", strings.Contains(
			strings.Join(left, "\n"), "r1: the model has no MS-CHAPv2"))
	}
}

func TestWhatAModelCarriesIsThereAndTheRestIsNamed(t *testing.T) {
	t.Parallel()
	system, left := yang.SystemOf(plan(t, "sw"), func(key string) string { return "value of " + key })
	require.Equal(t, []yang.Identity{{Module: "ietf-system-tacacs-plus", Name: "tacacs-plus"},
		{Module: "ietf-system", Name: "radius"}, {Module: "ietf-system", Name: "local-users"}},
		system.Authentication.Order)
	require.Equal(t, yang.TACACSServer{Name: "t2", Type: "authentication accounting", Address: "2001:db8::2",
		Port:   4949,
		Secret: "value of k2", Timeout: 3}, system.TACACS.Servers[1])
	require.Equal(t, yang.RADIUSOptions{Timeout: 2, Attempts: 3}, system.RADIUS.Options)
	require.Equal(t, []yang.User{{Name: "keeper", Password: hash}}, system.Authentication.Users)
	all := strings.Join(left, "\n")
	for _, want := range []string{"t1: the model has no dead-time (1m0s)",
		"r1: the model counts whole seconds; the timeout of 1.5s is written as 2",
		"r2: the model has no accounting port (1646)",
		"other login lists: console (overair)", "session: the model has no session list",
		"commands: the model has no commands list", "visits: the model has no record-sessions list",
		"keeper: the model has no level of a local account (15)",
		"looker: the model takes MD5, SHA-256 and SHA-512 crypt hashes only",
		"r1: the model has no source address for RADIUS"} {
		require.Contains(t, all, want)
	}
	open, left := yang.OpenSystemOf(plan(t, "sw"), yang.Placeholders)
	require.Equal(t, []yang.Identity{{Name: "t"}, {Name: "r"}, {Module: "openconfig-aaa-types", Name: "LOCAL"}},
		open.AAA.Authentication.Config.Methods)
	require.Len(t, open.AAA.Groups.Group, 2)
	require.Equal(t, []any{1645, 1646, 3}, []any{open.AAA.Groups.Group[0].Servers.Server[1].RADIUS.Config.AuthPort,
		open.AAA.Groups.Group[0].Servers.Server[1].RADIUS.Config.AcctPort,
		open.AAA.Groups.Group[0].Servers.Server[1].RADIUS.Config.Attempts})
	require.Len(t, open.AAA.Accounting.Events.Event, 2)
	all = strings.Join(left, "\n")
	for _, want := range []string{"commands: the model has no command levels (1-15)",
		"session: the model has no session list", "t2: the model does not say what a server is for",
		"looker: the model has no level 1"} {
		require.Contains(t, all, want)
	}
	require.NotContains(t, all, "visits")
}

// modules are where Debian keeps the real modules.
const modules = "/usr/share/yuma/modules/ietf"

func TestIetfSystemDataIsValidAgainstTheRealModule(t *testing.T) {
	t.Parallel()
	lint, err := exec.LookPath("yanglint")
	if _, missing := os.Stat(modules + "/ietf-system@2014-08-06.yang"); err != nil || missing != nil {
		if os.Getenv("MELLOWGATE_PEERS") == "require" {
			t.Fatal("yanglint (libyang2-tools) and the module (netconfd-module-ietf-system) are required")
		}
		t.Skip("no yanglint or no ietf-system module here")
	}
	system, _ := yang.SystemOf(plan(t, "ap"), yang.Placeholders)
	check := func(form, name string, data []byte) (string, error) {
		path := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(path, data, 0o600))
		out, err := exec.Command(lint, "-p", modules, "-F",
			"ietf-system:radius,authentication,local-users,radius-authentication", "-t", "config", "-f", form,
			modules+"/ietf-system@2014-08-06.yang", path).CombinedOutput()
		return string(out), err
	}
	json, err := system.JSON()
	require.NoError(t, err)
	out, err := check("json", "data.json", json)
	require.NoError(t, err, out)
	require.Contains(t, out, `"user-authentication-order"`)
	xml, err := system.XML()
	require.NoError(t, err)
	out, err = check("xml", "data.xml", xml)
	require.NoError(t, err, out)
	_, err = check("json", "bad.json", []byte(strings.Replace(string(json), `"attempts": 3`, `"attempts": 0`, 1)))
	require.Error(t, err, "the module refuses what is out of its range")
}

// What a model does not carry is named, and what it does is not: each by a site
// that has just that.
func TestEachThingThatIsNotCarriedIsNamedAndNothingElse(t *testing.T) {
	t.Parallel()
	const small = `
keys: {k: file k}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 2s}
groups: [{name: g, servers: [t1]}]
lists:
  - {name: l, authenticate: login, methods: [group g, local]}
  - {name: c, authorize: commands, methods: [group g, local]}
  - {name: v, account: sessions, when: start and stop, methods: [group g]}
  - {name: r, account: commands, when: stop, methods: [group g]}
accounts: [{name: keeper, level: 15, password: $6$abcdefgh$aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa}]
devices: [{name: sw, addresses: [192.0.2.9], accounts: [keeper], access: {ssh: {login: l, commands: c, record-sessions: v, record-commands: r}}}]
`
	for _, k := range []struct{ from, to, ietf, open string }{
		{"", "", "", ""},
		{"name: r, account: commands", "name: r, account: commands, levels: 1-15", "",
			"r: the model has no command levels (1-15)"},
		{"name: c, authorize: commands", "name: c, authorize: commands, levels: 1-15", "",
			"c: the model has no command levels (1-15)"},
		{"when: stop", "when: start", "", "r: the model has no records of starts alone; written as START_STOP"},
		{"timeout: 2s", "timeout: 1500ms", "t1: the model counts whole seconds; the timeout of 1.5s is written as 2",
			"same"},
		{"timeout: 2s", "timeout: 2s, dead-time: 1m", "t1: the model has no dead-time (1m0s)", "same"},
		{"protocol: tacacs, address: 192.0.2.1, key: k", "protocol: tacacs, address: 192.0.2.1, transport: tls",
			"t1: the model has no TLS for this server; it is left out", "same"},
		{"groups: [{name: g, servers: [t1]}]",
			"  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k}\ngroups: [{name: g, servers: [t1]}, " +
				"{name: h, servers: [t2]}]", "", ""},
	} {
		text := strings.Replace(small, k.from, k.to, 1)
		if strings.Contains(k.to, "name: h") { // records go to two groups
			text = strings.Replace(text, "when: stop, methods: [group g]", "when: stop, methods: [group h]", 1)
			k.open = "r: the model has one order of methods for all records"
		}
		s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
		require.NoError(t, err, text)
		if k.open == "same" {
			k.open = k.ietf
		}
		for name, want := range map[string]string{"ietf": k.ietf, "openconfig": k.open} {
			data, left := yang.Models[name].Of(blueprint.Of(s.Device("sw")), yang.Placeholders)
			left = slices.DeleteFunc(left, func(l string) bool { // ietf-system has a login list alone
				return name == "ietf" &&
					regexp.MustCompile(`^[a-z]: the model has no [a-z-]+ list|no level of a local account`).MatchString(l)
			})
			if want == "" {
				require.Empty(t, left, "%s: %s", name, k.to)
			} else {
				require.Contains(t, left, want, "%s: %s", name, k.to)
				require.LessOrEqual(t, len(left), 2, "%s: %s: %v", name, k.to, left)
			}
			text, err := data.XML()
			require.NoError(t, err)
			if name == "openconfig" {
				require.Equal(t, 2, strings.Count(string(text), "AAA_AUTHORIZATION_EVENT_COMMAND<"), string(text))
			}
		}
	}
}
