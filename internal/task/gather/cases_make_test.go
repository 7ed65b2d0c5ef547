package gather_test

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/live/store/state"
)

// The cases of testdata/cases are made by: go test ./internal/task/gather -run
// MakeCases -make-cases. Each is a folder with the evidence that a lab left
// after a fault was put in on purpose, or that was written by hand, and case.json.
var makeCases = flag.Bool("make-cases", false, "make testdata/cases anew")

const casesDir = "testdata/cases"

// aCase is case.json: what was put in, and what why is to say of it.
type aCase struct {
	Causes []string `json:"causes"` // in their order; empty: healthy
	How    string   `json:"how"`    // how the evidence was made
	Device string   `json:"device"`
	Person string   `json:"person"`
	Way    string   `json:"way"`
	Saw    string   `json:"saw,omitempty"`
	At     string   `json:"at"` // when the login was
	Held   bool     `json:"held"`
	// Parts are those of the site that are not as usual.
	Parts map[string]string `json:"parts,omitempty"`
}

// casesSite is the site of the cases; parts of it are replaced.
const casesSite = `site: Cases
keys: {kt: clear lab-only-key-of-t-12345, kr: clear lab-only-key-of-r-67890, kx: clear lab-only-key-of-r-68790, kd: clear lab-only-reader-of-d, otp: clear JBSWY3DPEHPK3PXPJBSWY3DPEHPK3PXP}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: kt, timeout: 300ms, dead-time: @REST@, run: true}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: kt, timeout: 300ms, dead-time: @REST@, run: true}
  - {name: r1, protocol: radius, address: 192.0.2.3, key: kr, timeout: 200ms, attempts: 2, dead-time: @REST@, run: true}
  - {name: d1, protocol: ldap, address: 192.0.2.4, base: "ou=people,dc=example", bind: {dn: "cn=gate,dc=example", key: kd}, filter: (uid=%u), team-attribute: memberOf, tls: none, timeout: 250ms}
groups: [{name: tac, servers: [t1, t2]}, {name: rad, servers: [r1]}]
lists:
  - {name: tl, authenticate: login, methods: @TL@}
  - {name: ts, authorize: session, methods: @TS@}
  - {name: tc, authorize: commands, levels: 0-15, methods: @TC@}
  - {name: tr, account: sessions, when: start and stop, methods: [group tac]}
  - {name: rl, authenticate: login, methods: @RL@}
  - {name: rs, authorize: session, methods: [group rad, local]}
  - {name: rr, account: sessions, when: start and stop, methods: [group rad]}
  - {name: own, authenticate: login, methods: [local]}
platforms:
  - {name: a-switch, behaviour: {refusal: ends-list, local-level-needs-session: true, web-needs-level: 1, all-dead: passes @TRAITS@}}
devices:
  - {name: sw, platform: a-switch, addresses: [192.0.2.11], accounts: [keeper], labels: {place: pier}, defaults: {login: tl, @SWSESSION@ commands: tc, record-sessions: tr}, access: {console: {}, ssh: {}, telnet: {}, web: {}} @SWHOLDS@}
  - {name: ap, platform: a-switch, addresses: [192.0.2.12], accounts: [keeper], labels: {place: ship}, defaults: {login: rl, session: rs, record-sessions: rr}, access: {console: {}, ssh: {}, telnet: {}, web: {}} @APHOLDS@}
  - {name: sw-2, platform: a-switch, addresses: [192.0.2.13], accounts: [keeper], defaults: {login: tl, session: ts}, access: {ssh: {}}}
  - {name: ap-2, platform: a-switch, addresses: [192.0.2.14], accounts: [keeper], defaults: {login: rl, session: rs}, access: {ssh: {}}}
accounts: [{name: keeper, level: 15, password: '@HASH@'}]
people:
  - {name: ines, teams: [net], password: '@HASH@'}
  - {name: tobin, teams: [watch], password: '@HASH@'}
  - {name: odd, teams: [net], password: '@HASH@', disabled: true}
  - {name: late, teams: [net], password: '@HASH@', until: 2020-01-01}
  - {name: coded, teams: [net], password: '@HASH@', one-time-code: key otp}
  - {name: alone, teams: [nobody], password: '@HASH@'}
directories: @DIRECTORIES@
roles:
  - {name: all, level: 15, commands: [allow **] @ROLE@}
  - {name: lookout, level: 1, commands: [refuse look counters, allow look **]}
grants:
  - {who: [team net, team book], role: all}
  - {who: team watch, @GRANT@ role: lookout}
lab: {network: 127.92.0.0/16, only: true, people: [{name: ebba, teams: [book], password: '@HASH@'}]}
`

// standard are the parts of the site as they usually are.
var standard = map[string]string{"TL": "[group tac, local]", "TS": "[group tac, local]", "TC": "[group tac, local]",
	"RL": "[group rad, local]", "REST": "0s", "TRAITS": "",
	"SWSESSION": "session: ts,", "SWHOLDS": "", "APHOLDS": "", "DIRECTORIES": "[]", "ROLE": "", "GRANT": ""}

// studio is a lab in which one case is made.
type studio struct {
	*lab.Lab
	t      *testing.T
	site   *site.Site
	keys   site.Keys
	folder *state.Folder
	text   string
}

const rightPassword = "right of all"

// hash is that of rightPassword: $argon2id of little cost, for tests.
const hash = "$argon2id$v=19$m=64,t=1,p=1$SBMlHQ06foH3B2kceCebgA$G8owWyNYJvFJpafyT9q7fcCQdxap8uIVErRV8sr4ZXg"

// siteText returns the site with some parts replaced.
func siteText(t *testing.T, parts map[string]string) string {
	pairs := []string{"@HASH@", hash}
	for name, usual := range standard {
		if other, ok := parts[name]; ok {
			usual = other
		}
		pairs = append(pairs, "@"+name+"@", usual)
	}
	return strings.NewReplacer(pairs...).Replace(casesSite)
}

func parse(t *testing.T, text string) (*site.Site, site.Keys) {
	path := filepath.Join(t.TempDir(), "site.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	s, base, err := sitefile.Load(path)
	require.NoError(t, err)
	keys, missing := secrets.Keys(s, base, secrets.Unlock{})
	require.Empty(t, missing)
	return s, keys
}

// record makes one case: a lab of the site with parts replaced, in which do puts
// something wrong in and logs in. The site that why is given later is that of
// believed, where it is another.
func record(t *testing.T, name string, c aCase, parts, believed map[string]string, do func(*studio)) {
	dir := filepath.Join(casesDir, name)
	v := &studio{t: t, text: siteText(t, parts)}
	v.site, v.keys = parse(t, v.text)
	var err error
	v.folder, err = state.Create(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	v.Lab, err = lab.Start(lab.Config{Site: v.site, SitePath: "site.yaml", Keys: v.keys, State: v.folder,
		Network: labtest.Network(t)})
	require.NoError(t, err, name)
	do(v)
	v.Shutdown()
	require.NoError(t, v.folder.Close())
	require.NoError(t, os.MkdirAll(dir, 0o755))
	for _, kind := range []string{"traces", "logs"} { // of all devices in one file
		names, err := filepath.Glob(filepath.Join(v.folder.Dir, kind, "*.jsonl"))
		require.NoError(t, err)
		var data []byte
		for _, name := range names {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			data = append(data, text...)
		}
		require.NoError(t, write(filepath.Join(dir, kind, "all.jsonl"), data))
	}
	for _, name := range []string{"places.json", "events.jsonl", "traffic.pcapng", "counters/" + c.Device + ".json"} {
		text, err := os.ReadFile(filepath.Join(v.folder.Dir, name))
		if err == nil {
			require.NoError(t, write(filepath.Join(dir, name), text))
		}
	}
	if c.Parts = parts; believed != nil {
		c.Parts = believed
	}
	c.keep(t, dir)
}

func write(path string, text []byte) error {
	text = temporary.ReplaceAll(text, nil) // where the site lay while the case was made
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, text, 0o600)
}

var temporary = regexp.MustCompile(`/[a-zA-Z0-9/]*/TestMakeCases[0-9]+/[0-9]+/`)

func (c aCase) keep(t *testing.T, dir string) {
	if c.At == "" {
		c.At = time.Now().UTC().Format(time.RFC3339)
	}
	text, err := json.MarshalIndent(c, "", "  ")
	require.NoError(t, err)
	require.NoError(t, write(filepath.Join(dir, "case.json"), append(text, '\n')))
}

// login makes a real login; an empty password is the right one.
func (v *studio) login(device, way, person, password string, commands ...string) login.Seen {
	place, ok := v.Places.Device(device)
	require.True(v.t, ok)
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(place.HostKey))
	require.NoError(v.t, err)
	if password == "" {
		password = rightPassword
	}
	for _, w := range place.Ways {
		if w.Access != way {
			continue
		}
		seen, err := login.Do(context.Background(), login.Attempt{Access: way, Address: w.Address, Person: person,
			Password: site.NewSecret(password), Commands: commands,
			HostKey: key, Trusted: v.Trusted(), ServerName: device, Patience: 20 * time.Second})
		require.NoError(v.t, err)
		if seen.Outcome == walk.OutcomeIn { // the goodbye is waited for
			require.Eventually(v.t, func() bool {
				e, _, err := v.folder.Evidence()
				require.NoError(v.t, err)
				for _, t := range e.Traces {
					if t.Kind == evidence.TraceGoodbye && t.Device == device && t.Person == person {
						return true
					}
				}
				return false
			}, 20*time.Second, 10*time.Millisecond)
		}
		return seen
	}
	v.t.Fatalf("%s has no way in by %s", device, way)
	return login.Seen{}
}

func (v *studio) set(faults ...string) {
	for _, text := range faults {
		f, err := lab.ParseFault(v.site, text)
		require.NoError(v.t, err)
		v.Set(f)
	}
}

func (v *studio) lift() {
	for _, f := range v.Faults() {
		require.True(v.t, v.Lift(f))
	}
}

// variant is one device and way in: protocols and ways in change from case to
// case.
type variant struct{ device, way string }

var (
	variants = []variant{{"sw", "ssh"}, {"ap", "telnet"}, {"sw", "console"}, {"ap", "web"}}
	overTCP  = []variant{{"sw", "ssh"}, {"sw", "telnet"}, {"sw", "console"}, {"sw", "web"}}
	radiuses = []variant{{"ap", "ssh"}, {"ap", "telnet"}, {"ap", "console"}, {"ap", "web"}}
)

// both puts a fault on every server that a device asks.
func both(v variant, fault string) []string {
	if v.device == "ap" {
		return []string{"r1 " + fault}
	}
	return []string{"t1 " + fault, "t2 " + fault}
}

func forDevice(v variant, faults []string) []string {
	var all []string
	for _, f := range faults {
		all = append(all, f+" for "+v.device)
	}
	return all
}

func named(cause string, n int, v variant) string {
	return fmt.Sprintf("%s-%d-%s-%s", cause, n+1, v.device, v.way)
}
