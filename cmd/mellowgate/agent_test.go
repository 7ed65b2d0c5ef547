package main

import (
	"context"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/beevik/etree"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	sshagent "golang.org/x/crypto/ssh/agent"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/live/client/device"
)

// agent is a NETCONF agent that we did not write, with the module ietf-system,
// behind OpenSSH's server. It holds nothing at first, and changes nothing of the
// host as long as nobody sets its name or its clock.
func agent(t *testing.T) (c call, address string, as []string) {
	netconfd, subsystem := peer(t, "/usr/sbin/netconfd"), peer(t, "/usr/sbin/netconf-subsystem")
	if _, err := os.Stat("/usr/share/yuma/modules/ietf/ietf-system@2014-08-06.yang"); err != nil {
		peer(t, "the module ietf-system")
	}
	o := opensshFolder(t, "ed25519", "PasswordAuthentication no\nSubsystem netconf \""+subsystem+
		" --ncxserver-sockname=%[1]s@%[2]s/socket\"\n")
	o.start(t, func() bool {
		log, _ := os.ReadFile(o.log)
		return strings.Contains(string(log), "Running netconfd server")
	}, []string{netconfd, "--module=ietf-system", "--no-startup", "--port=" + o.port,
		"--ncxserver-sockname=" + o.dir + "/socket", "--superuser=" + o.person, "--access-control=off",
		"--datapath=" + o.dir})
	c = call{dir: t.TempDir()}
	as = []string{"-state", "none", "-person", o.person, "-ssh-key", o.key, "-known-hosts",
		"hosts", "-accept-host-key", "-address", o.address}
	c.site(t, "first", o.person, "r1, r2", "[group g, local]")
	c.site(t, "other", o.person, "r2, r1", "[local, group g]")
	return c, o.address, as
}

// site writes a site whose device is the agent.
func (c call) site(t *testing.T, name, person, servers, methods string) {
	const hash = "$6$saltsaltsalt$kR8UpqWrzbIr2DmnMx3GhlhQOEPs3cE6yWiOoMbnFEX1IvxEf6Cee2ET" +
		"bvkvyEqQkSiH1H1rTHcLvDNyyvNQ8."
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, name), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, name, "k.key"), []byte("the-key-of-these-servers-1\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, name, "site.yaml"), []byte(strings.NewReplacer("PERSON", person, "SERVERS", servers, "METHODS", methods, "HASH", hash).Replace(`site: Agent
keys: {k: file k.key}
servers:
  - {name: r1, protocol: radius, address: 192.0.2.1, key: k, timeout: 1s, attempts: 2}
  - {name: r2, protocol: radius, address: 192.0.2.2, key: k, timeout: 1s, attempts: 2}
groups: [{name: g, servers: [SERVERS]}]
lists: [{name: l, authenticate: login, methods: METHODS}]
platforms: [{name: host, behaviour: {level-without-session: 15, refusal: tries-next}}]
accounts: [{name: PERSON, level: 15, password: 'HASH'}, {name: keeper, level: 15, password: 'HASH'}]
devices: [{name: agent, platform: host, addresses: [127.0.0.1], accounts: [PERSON, keeper], defaults: {login: l}, access: {console: {}, netconf: {}}}]
people: [{name: ines, teams: [net], password: 'HASH'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: team net, role: all}]
`)), 0o600))
}

func TestARealAgentTakesADesignAndTakesItBack(t *testing.T) {
	t.Parallel()
	c, address, as := agent(t)
	run := func(command string, args ...string) result {
		return c.run(t, append(append([]string{command}, as...), args...)...)
	}

	r := run("compare", "agent", "first")
	require.Equal(t, 1, r.status, r.out+r.err)
	require.Contains(t, r.out, "server r1 is missing")
	for i, name := range []string{"first", "other"} {
		r = run("send", "-yes", "agent", name)
		require.Zero(t, r.status, r.out+r.err)
		for _, step := range []string{"is kept in mellowgate-sent/agent-",
			"gets in by netconf from a new connection, and may change the configuration",
			"proven: a wrong password is refused",
			"confirmed: the design stays"} {
			require.Contains(t, r.err, step)
		}
		require.Equal(t, i == 0, strings.Contains(r.err, "confirmed: the part with the local accounts stays"))
		r = run("compare", "agent", name)
		require.Zero(t, r.status, r.out+r.err)
		require.Contains(t, r.out, "agent: as the site has it (ietf-system)")
	}
	require.Contains(t, run("compare", "agent", "first").out,
		"list login: methods is local-users, radius, and should be radius, local-users")

	// A part that is confirmed stays, and what comes after it is taken back.
	end := func(site string, signal syscall.Signal) string {
		return strings.Join(c.steps(t, append(append([]string{"send"}, as...), "-yes", "agent", site),
			func(step string, p *os.Process) {
				if strings.Contains(step, "the design runs from now on") {
					_ = p.Signal(signal)
				}
			}), "\n")
	}
	c.site(t, "third", as[3], "r2, r1", "[local, group g]")
	path := filepath.Join(c.dir, "third", "site.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path,
		[]byte(strings.NewReplacer("keeper", "warden", "192.0.2.2", "192.0.2.9").Replace(string(text))), 0o600))
	said := end("third", syscall.SIGINT)
	require.Contains(t, said, "confirmed: the part with the local accounts stays")
	require.Contains(t, said, "taken back: a new connection finds the device as it was")
	asOther := func() bool { // but for the account that stays
		r := run("compare", "agent", "other")
		return strings.Count(r.out, "\n  - ") == 1 && strings.Contains(r.out, "account warden is on the device")
	}
	require.True(t, asOther())

	// Killed while the change runs (a first proof may have come before the signal): the
	// agent takes it back by itself.
	said = end("third", syscall.SIGKILL)
	require.NotContains(t, said, "confirmed: the design stays")
	require.Eventually(t, asOther, 20*time.Second, 50*time.Millisecond, said)

	// This agent does not take back the order of servers: that is put back.
	said = end("first", syscall.SIGINT)
	require.Contains(t, said, "putting back what was kept")
	require.Contains(t, said, "taken back: a new connection finds the device as it was")
	require.True(t, asOther())

	// The key may come from an SSH agent.
	text, err = os.ReadFile(as[5])
	require.NoError(t, err)
	key, err := ssh.ParseRawPrivateKey(text)
	require.NoError(t, err)
	ring := sshagent.NewKeyring()
	require.NoError(t, ring.Add(sshagent.AddedKey{PrivateKey: key}))
	listener, err := net.Listen("unix", filepath.Join(filepath.Dir(as[5]), "ring"))
	require.NoError(t, err)
	defer func() { _ = listener.Close() }()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			_ = sshagent.ServeAgent(ring, conn)
		}
	}()
	with := c
	with.env = append(with.env, "SSH_AUTH_SOCK="+listener.Addr().String())
	r = with.run(t, append(append(append([]string{"compare"}, as[:4]...), as[6:]...), "-agent", "agent", "other")...)
	require.Equal(t, 1, r.status, r.err)
	require.Contains(t, r.out, "account warden is on the device")

	// Nobody confirms, and the session stays open: the agent takes it back in time.
	s := c.manages(t, address, as)
	defer s.End()
	before, err := s.Read("running")
	require.NoError(t, err)
	doc := etree.NewDocument()
	require.NoError(t, doc.ReadFromString(`<config><system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><radius><server><name>r1</name><udp><address>192.0.2.99</address></udp></server></radius></system></config>`))
	require.NoError(t, s.Lock("candidate"))
	require.NoError(t, s.Edit("candidate", doc.Root()))
	require.NoError(t, s.CommitConfirmed(2*time.Second, ""))
	changed, err := s.Read("running")
	require.NoError(t, err)
	address1 := drift.Key{About: drift.Server, Name: "r1", What: "address"}
	require.NotEqual(t, before.Facts[address1], changed.Facts[address1])
	require.Eventually(t, func() bool {
		now, err := s.Read("running")
		require.NoError(t, err)
		return now.Facts[address1] == before.Facts[address1]
	}, 30*time.Second, 3*time.Second, "this agent looks at its clock when nobody asks it anything")
}

// manages opens a session of the person of a call.
func (c call) manages(t *testing.T, address string, as []string) *device.Session {
	text, err := os.ReadFile(as[5])
	require.NoError(t, err)
	signer, err := ssh.ParsePrivateKey(text)
	require.NoError(t, err)
	host, err := os.ReadFile(filepath.Join(filepath.Dir(as[5]), "host.pub"))
	require.NoError(t, err)
	key, _, _, _, err := ssh.ParseAuthorizedKey(host)
	require.NoError(t, err)
	s, err := device.Open(context.Background(), device.Target{Address: address, Person: as[3],
		Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, HostKey: key, Timeout: 10 * time.Second})
	require.NoError(t, err)
	return s
}

// agentBook says what the XML of ietf-system (RFC 7317) says, as a phrasebook.
const agentBook = `phrasebook: 1
make: agent
layout: {sections: tags, keyed-by: [name], around: ["data *", data]}
types: {seconds: {unit: 1s}, hash: {forms: {"<hash>": hash}}}
tables: {method: {"sys:radius": group every, "sys:local-users": local}}
every-server: {radius: every}
unsaid: {server.timeout: device.timeout, server.attempts: device.attempts}
territory: [system]
phrases:
- about: device
  say: system
  below:
  - about: device
    say: radius
    below:
    - about: server
      say: server name=<name>
      where: {protocol: radius}
      below:
      - say: udp
        below: [say: address <address>, say: shared-secret <key>, say: authentication-port <authentication-port>]
      - {say: "authentication-type *"}
    - {say: "options", below: [{say: "timeout <timeout as seconds>"}, {say: "attempts <attempts>"}]}
  - about: list
    say: authentication
    where: {name: default, purpose: login}
    below:
    - {say: "user-authentication-order <methods as method>"}
    - {about: account, say: "user name=<name>", below: [{say: "password <password as hash>"}]}
`

// aReaderOfRunning prints the running configuration of an agent as a client
// library of somebody else writes it.
const aReaderOfRunning = `
import sys
from ncclient import manager
host, port = sys.argv[1].rsplit(":", 1)
m = manager.connect(host=host, port=int(port), username=sys.argv[2], key_filename=sys.argv[3], hostkey_verify=False,
                    allow_agent=False, look_for_keys=False, timeout=60)
print(m.get_config("running").data_xml)
`

// What an agent of somebody else prints of itself is read by a phrasebook, and is the design
// that was sent to it.
func TestTheTextOfARealAgentIsTheDesignThatWasSentToIt(t *testing.T) {
	t.Parallel()
	python := withNETCONFClient(t)
	c, address, as := agent(t)
	r := c.run(t, append(append([]string{"send"}, as...), "-yes", "agent", "first")...)
	require.Zero(t, r.status, r.out+r.err)
	said, err := exec.Command(python, "-W", "ignore", "-c", aReaderOfRunning, address, as[3], as[5]).CombinedOutput()
	require.NoError(t, err, string(said))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "agent.xml"), said, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "agent.yaml"), []byte(agentBook), 0o600))

	tried := c.run(t, "phrasebook", "try", "-facts", "agent.yaml", "agent.xml")
	require.NotContains(t, tried.out, "the-key-of-these-servers")
	r = c.run(t, "compare", "-book", "agent.yaml", "-read", "agent.xml", "agent", "first")
	require.Zero(t, r.status, tried.out+r.out+r.err)
	require.Contains(t, r.out, "levels of accounts", "what its words cannot say is not compared, and said so")
	r = c.run(t, "compare", "-book", "agent.yaml", "-read", "agent.xml", "agent", "other")
	require.Equal(t, 1, r.status, r.err)
	require.Contains(t, r.out, "group g: servers in order is r1, r2, and should be r2, r1", tried.out+r.out)
}
