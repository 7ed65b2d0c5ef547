package main

import (
	"crypto/ed25519"
	"crypto/rand"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/client/reach"
	"mellowgate/internal/live/lab/standin"
	"mellowgate/internal/live/store/secrets"
)

// servedWithSessions is a site of one server, and of one switch that takes a
// Disconnect-Request.
const servedWithSessions = `site: Served
keys: {k: clear a-key-of-this-test-only}
servers: [{name: r, protocol: radius, address: SERVER, ports: {authentication: 4812, accounting: 4813},
    key: k, run: true}]
groups: [{name: g, servers: [r]}]
lists:
  - {name: l, authenticate: login, methods: [group g]}
  - {name: s, authorize: session, methods: [group g]}
  - {name: a, account: sessions, when: start and stop, methods: [group g]}
platforms: [{name: k, behaviour: {disconnect-port: 4799}}]
devices:
  - {name: sw, platform: k, addresses: [DEVICE], access: {ssh: {login: l, session: s, record-sessions: a}}}
people:
  - {name: ines, teams: [net], password: 'HASH'}
  - {name: otto, teams: [net], password: 'HASH'}
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
lab: {only: true}
`

// Who is disabled is out: of the sessions that are open too, where the device
// takes a Disconnect-Request.
func TestOpenSessionsOfADisabledPersonAreEnded(t *testing.T) {
	t.Parallel()
	c := call{dir: t.TempDir()}
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	server, device := netip.MustParseAddr(prefixOf(t)+"0.1"), netip.MustParseAddr(prefixOf(t)+"0.11")
	text := strings.NewReplacer("SERVER", server.String(), "DEVICE", device.String(), "HASH", hash).
		Replace(servedWithSessions)
	path := filepath.Join(c.dir, "site.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	b := c.start(t, "serve", "-state", "st", "site.yaml")

	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	authentication, accounting := reach.At(s.Server("r"), server)
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	sw := standin.New(standin.Config{Device: s.Device("sw"), HostKey: signer, Targets: map[*site.Server]aaa.Target{
		s.Server("r"): {Server: s.Server("r"), Authentication: authentication, Accounting: accounting, From: device,
			Key: site.NewSecret("a-key-of-this-test-only")}}})
	t.Cleanup(sw.Shutdown)
	listener, err := net.Listen("tcp", device.String()+":0")
	require.NoError(t, err)
	sw.ServeSSH(listener)
	packets, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(device, 4799)))
	require.NoError(t, err)
	sw.ServeDisconnect(packets)

	enter := func(person string) (closed chan error, err error) {
		client, err := ssh.Dial("tcp", listener.Addr().String(), &ssh.ClientConfig{User: person,
			HostKeyCallback: ssh.FixedHostKey(signer.PublicKey()), Auth: []ssh.AuthMethod{ssh.Password("right")},
			Timeout: 10 * time.Second})
		if err != nil {
			return nil, err
		}
		t.Cleanup(func() { _ = client.Close() })
		closed = make(chan error, 1)
		go func() { closed <- client.Wait() }()
		return closed, nil
	}
	first, err := enter("ines")
	require.NoError(t, err)
	second, err := enter("ines")
	require.NoError(t, err)
	_, err = enter("otto")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		return strings.Count(c.run(t, "ledger", "sessions", "-open", "-state", "st", "-csv").out, "ines") == 2
	}, 20*time.Second, 50*time.Millisecond)

	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(
		text, "{name: ines,", "{name: ines, disabled: true,", 1)),
		0o600))
	for _, closed := range []chan error{first, second} {
		select {
		case <-closed:
		case <-time.After(20 * time.Second):
			require.Fail(t, "the session is still open", b.said())
		}
	}
	_, err = enter("ines")
	require.Error(t, err)
	require.Eventually(t, func() bool {
		open := c.run(t, "ledger", "sessions", "-open", "-state", "st", "-csv").out
		return !strings.Contains(open, "ines") && strings.Contains(open, "otto")
	}, 20*time.Second, 50*time.Millisecond, "the records say that the sessions have ended, and otto's has not")
	require.Contains(t, c.run(t, "ledger", "-person", "ines", "-state", "st", "-csv").out, "Admin-Reset")
	require.Contains(t, b.said(), "ines is kept out from now on: sw has ended the open sessions")
}
