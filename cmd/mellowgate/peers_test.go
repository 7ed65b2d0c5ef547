package main

import (
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/store/childproc"
	"mellowgate/internal/live/store/secrets"
)

// peer finds a program that we did not write, or skips the test without it.
func peer(t *testing.T, names ...string) string {
	for _, name := range names {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	if os.Getenv("MELLOWGATE_PEERS") == "require" {
		t.Fatalf("%v is required", names)
	}
	t.Skipf("no %v here", names)
	return ""
}

// enterable is a lab with one device that has every way in.
func enterable(t *testing.T) (c call, at map[string]string) {
	c = call{dir: t.TempDir()}
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "k.key"), []byte("a-key-of-this-test-only\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "site.yaml"), []byte(here(t, `site: Peers
keys: {k: file k.key}
servers: [{name: t, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 5s, run: true}]
groups: [{name: g, servers: [t]}]
lists:
  - {name: l, authenticate: login, methods: [group g, local]}
  - {name: s, authorize: session, methods: [group g, local]}
  - {name: c, authorize: commands, levels: 0-15, methods: [group g, local]}
profiles: [{name: p, defaults: {login: l, session: s, commands: c}, access: {ssh: {}, telnet: {}, web: {}, api: {}, netconf: {}}}]
accounts: [{name: keeper, level: 15, password: '`+hash+`'}]
devices: [{name: sw, profile: p, addresses: [192.0.2.9], accounts: [keeper]}]
people: [{name: ines, teams: [net], password: '`+hash+`'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: team net, role: all}]
lab: {network: 127.87.0.0/16}
`)), 0o600))
	c.start(t, "lab")
	text, err := os.ReadFile(filepath.Join(c.dir, "mellowgate-state", "places.json"))
	require.NoError(t, err)
	var places struct {
		Devices []struct {
			Ways []struct{ Access, Address string }
		}
	}
	require.NoError(t, json.Unmarshal(text, &places))
	at = map[string]string{}
	for _, w := range places.Devices[0].Ways {
		at[w.Access] = w.Address
	}
	return c, at
}

func TestAnOrdinaryTelnetClientLogsIn(t *testing.T) {
	t.Parallel()
	telnet := peer(t, "telnet")
	_, at := enterable(t)
	host, port, _ := strings.Cut(at["telnet"], ":")
	cmd := childproc.Child(exec.Command(telnet, host, port))
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	heard := make(chan string, 1000)
	go func() {
		defer close(heard)
		for b := make([]byte, 1024); ; {
			n, err := out.Read(b)
			if err != nil {
				return
			}
			heard <- string(b[:n])
		}
	}()
	all := ""
	until := func(text string) {
		for deadline := time.After(20 * time.Second); !strings.Contains(all, text); {
			select {
			case more, open := <-heard:
				require.True(t, open || more != "", "waiting for %q after %q", text, all)
				all += more
			case <-deadline:
				t.Fatalf("no %q in %q", text, all)
			}
		}
	}
	for _, step := range []struct{ until, say string }{{"name: ", "ines"}, {"password: ", "right"},
		{"[sw level 15] ", "look session"}, {"let in   by t", "leave"}} {
		until(step.until)
		_, err := io.WriteString(in, step.say+"\n")
		require.NoError(t, err)
	}
	for more := range heard {
		all += more
	}
	require.Contains(t, all, "[sw level 15] leave", "the device closes the connection, and the client ends")
}

func TestCurlUsesTheAPI(t *testing.T) {
	t.Parallel()
	curl := peer(t, "curl")
	c, at := enterable(t)
	run := func(args ...string) map[string]any {
		cmd := exec.Command(curl, append([]string{"--silent", "--show-error", "--max-time", "20", "--cacert",
			"mellowgate-state/certificates/authority.pem", "-H", "Content-Type: application/json"}, args...)...)
		cmd.Dir = c.dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		var got map[string]any
		require.NoError(t, json.Unmarshal(out, &got), string(out))
		return got
	}
	api := "https://" + at["api"] + "/api/"
	token, _ := run("-d", `{"name": "ines", "password": "right"}`, api+"login")["token"].(string)
	require.NotEmpty(t, token)
	require.Equal(t, 15.0, run("-H", "Authorization: Bearer "+token, api+"session")["level"])
	require.Equal(t, false, run("-X", "PUT", "-H", "Authorization: Bearer "+token, "-d", `{"on": false}`,
		api+"ports/2")["ports"].(map[string]any)["2"])
	require.Equal(t, "refused", run("-d", `{"name": "ines", "password": "wrong"}`, api+"login")["error"])
	require.Contains(t, run("-b", "standin-session="+token, api+"session")["person"], "ines", "the cookie works too")
}

// aNETCONFClient is what a client library of somebody else does: reads, changes
// the candidate, commits with a way back, and lets it come back.
const aNETCONFClient = `
import sys, time
from ncclient import manager
host, port = sys.argv[1].rsplit(":", 1)
m = manager.connect(host=host, port=int(port), username="ines", password="right", hostkey_verify=False, allow_agent=False, look_for_keys=False, timeout=20)
assert any("confirmed-commit" in c for c in m.server_capabilities)
def waits():
    return "<timeout>9</timeout>" in m.get_config("running").data_xml
assert "192.0.2.1" in m.get_config("running").data_xml and not waits()
edit = """<config xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><system xmlns="urn:ietf:params:xml:ns:yang:ietf-system">
<tacacs-plus xmlns="urn:ietf:params:xml:ns:yang:ietf-system-tacacs-plus"><server><name>t</name><timeout>9</timeout></server></tacacs-plus></system></config>"""
with m.locked("candidate"):
    m.edit_config(target="candidate", config=edit)
    m.validate("candidate")
    m.commit(confirmed=True, timeout="1")
    assert waits()
    for _ in range(200):
        if not waits():
            break
        time.sleep(0.05)
    assert not waits(), "the change did not come back"
    m.edit_config(target="candidate", config=edit)
    m.commit()
assert waits()
try:
    m.edit_config(target="candidate", config=edit.replace("<timeout>9", "<timeout>999"))
    sys.exit("a wrong value was taken")
except Exception as e:
    assert "timeout is from 1 to 255" in str(e), e
m.close_session()
print("done")
`

// withNETCONFClient returns a Python that has a NETCONF client library.
func withNETCONFClient(t *testing.T) string {
	t.Helper()
	python := peer(t, "/usr/bin/python3")
	if exec.Command(python, "-c", "import ncclient").Run() != nil {
		peer(t, "python3-ncclient")
	}
	return python
}

func TestANETCONFClientThatWeDidNotWriteConfiguresAStandIn(t *testing.T) {
	t.Parallel()
	python := withNETCONFClient(t)
	var c call
	var at map[string]string
	for again := false; ; again = true {
		c, at = enterable(t)
		out, err := exec.Command(python, "-W", "ignore", "-c", aNETCONFClient, at["netconf"]).CombinedOutput()
		// on a machine that is too busy for its 20 s
		if !again && strings.Contains(string(out), "TimeoutExpiredError") {
			t.Log("the client gave up waiting; once more, with another device")
			continue
		}
		require.NoError(t, err, string(out))
		require.Contains(t, string(out), "done")
		break
	}
	r := c.run(t, "login", "-device", "sw", "-access", "netconf", "-person", "ines", "-password-file", "-", "-expect",
		"in")
	require.NotZero(t, r.status, "no password on standard input")
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "right"), []byte("right\n"), 0o600))
	r = c.run(t, "login", "-device", "sw", "-access", "netconf", "-person", "ines", "-password-file", "right")
	require.Zero(t, r.status, r.out+r.err)
	require.Contains(t, r.out, "ines at sw by netconf: in after ")
}
