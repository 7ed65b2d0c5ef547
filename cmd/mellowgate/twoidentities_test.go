package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/store/secrets"
)

const firstCentral = `site: First
lab: {only: true, network: NETWORK}
service: {limits: {failure-delay: 0s}}
keys: {shore: file shore.key}
servers: [{name: tern, protocol: tacacs, address: 192.0.2.21, key: shore, timeout: 1s, run: true}
  ,{name: dunlin, protocol: ldap, address: 192.0.2.23, base: "o=x", bind: {dn: "cn=g,o=x", key: shore}, timeout: 1s}]
groups: [{name: g, servers: [tern]}, {name: books, servers: [dunlin]}]
platforms: [{name: switch, behaviour: {refusal: ends-list, level-without-session: 15, models: [openconfig-system]}}]
lists: [{name: crew, authenticate: login, methods: [group g, local]}]
accounts: [{name: keeper, level: 15, password: 'HASH'}]
devices:
  - name: sw
    platform: switch
    addresses: [192.0.2.101]
    accounts: [keeper]
    defaults: {login: crew}
    access: {console: {login: crew}, ssh: {}, netconf: {}}
    FOUND
people: [{name: ines, teams: [net], password: 'HASH'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: team net, role: all}]
`

// The two changes at which nobody gets in both before and after: the first central login,
// and the repair of a wrong key. Who gets in now makes the change, the person proves it.
func TestTwoIdentitiesMakeAChangeAtWhichNobodyGetsInBeforeAndAfter(t *testing.T) {
	t.Parallel()
	for story, found := range map[string]string{
		"the first central login": "found: {lists: {crew: [local]}}",
		"a wrong key":             "found: {keys: {tern: wrong}}"} {
		t.Run(story, func(t *testing.T) {
			t.Parallel()
			c := call{dir: t.TempDir()}
			hash, err := secrets.Hash("right", 64, 1)
			require.NoError(t, err)
			other, err := secrets.Hash("other", 64, 1)
			require.NoError(t, err)
			text := strings.NewReplacer("HASH'}]\ndevices", hash+"'}]\ndevices", "HASH", other, "NETWORK",
				labtest.Network(t).String(), "FOUND",
				found, "keys: {", "keys: {wrong: file wrong.key, ").Replace(firstCentral)
			for name, value := range map[string]string{"site.yaml": text, "shore.key": "a-key-of-this-test-only",
				"wrong.key": "a-kye-of-this-test-only", "ines": "other", "keeper": "right"} {
				require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), []byte(value), 0o600))
			}
			lab := c.start(t, "lab", "-state", "st", "site.yaml")
			send := func(args ...string) result {
				return c.run(t, append(append([]string{
					"send", "-state", "st", "-yes", "-person", "ines", "-password-file", "ines"},
					args...), "sw", "site.yaml")...)
			}
			r := send()
			require.Equal(t, 3, r.status, r.out+r.err)
			require.Contains(t, unwrapped(r.out),
				"where somebody else gets in now, such as the local account, name who that is: -now NAME")
			r = send("-now", "keeper", "-now-password-file", "keeper")
			require.Zero(t, r.status, r.out+r.err)
			require.Contains(t, r.out, "keeper makes the change, ines proves it")
			require.Contains(t, r.err, "proven: ines gets in by netconf from a new connection, and may change the "+
				"configuration")
			require.Contains(t, r.err, "(tern accepted it)")
			require.Contains(t, r.err, "confirmed: the design stays")
			require.Zero(t, c.run(t, "compare", "-state", "st", "-person", "ines", "-password-file", "ines", "sw",
				"site.yaml").status)

			// A design that lets nobody in any more is taken back, and who could see that is the person.
			require.NoError(t, os.WriteFile(filepath.Join(c.dir, "shore.key"), []byte("a-key-that-nobody-has"), 0o600))
			r = send("-now", "ines", "-now-password-file", "ines", "-servers-may-be-down")
			require.Equal(t, 1, r.status, r.out+r.err)
			require.Contains(t, r.err, "taken back: a new connection finds the device as it was")
			require.Regexp(t, "key-differs: (sw and server tern|server tern, for sw)", unwrapped(r.out))
			require.NotContains(t, unwrapped(r.out), "end the list with local")
			require.Equal(t, 130, lab.end(t))
		})
	}
}
