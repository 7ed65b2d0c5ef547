package standin

import (
	"crypto/ed25519"
	"crypto/rand"
	"io"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/beevik/etree"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/lab/standin/config"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/wire/netconf"
)

// configured is a device with two servers that nobody reaches, entered by
// NETCONF with its local account.
func configured(t *testing.T) (*Device, string) {
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 2s}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k, timeout: 2s}
groups: [{name: t, servers: [t1, t2]}]
lists:
  - {name: l, authenticate: login, methods: [group t, local]}
  - {name: s, authorize: session, methods: [local]}
accounts:
  - {name: keeper, level: 15, password: '` + hash + `'}
  - {name: guest, level: 1, password: '` + hash + `'}
devices: [{name: sw, addresses: [127.0.0.1], accounts: [keeper, guest], access: {netconf: {login: l, session: s}, ssh: {login: l, session: s}}}]
`)})
	require.NoError(t, err)
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	targets := map[*site.Server]aaa.Target{}
	for _, v := range s.Servers { // their ports refuse
		at := netip.MustParseAddrPort("127.0.0.1:1")
		targets[v] = aaa.Target{Server: v, Authentication: at, Accounting: at,
			Key:    site.NewSecret("a-key-of-these-tests"),
			Dialer: aaa.Net{}}
	}
	d := New(Config{Device: s.Device("sw"), Keys: site.Keys{}, Targets: targets, HostKey: signer})
	t.Cleanup(d.Shutdown)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.True(t, d.Serve(site.NETCONF, listener))
	return d, listener.Addr().String()
}

// managed opens a NETCONF session over SSH.
func managed(t *testing.T, address, person string) *netconf.Client {
	c, err := ssh.Dial("tcp", address, &ssh.ClientConfig{User: person, HostKeyCallback: ssh.InsecureIgnoreHostKey(),
		Auth: []ssh.AuthMethod{ssh.Password("right")}, Timeout: 10 * time.Second})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	session, err := c.NewSession()
	require.NoError(t, err)
	in, err := session.StdinPipe()
	require.NoError(t, err)
	out, err := session.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, session.RequestSubsystem("netconf"))
	client, err := netconf.Open(netconf.NewConn(struct {
		io.Reader
		io.Writer
	}{out, in}))
	require.NoError(t, err)
	return client
}

// What comes over SSH is the store of the device: the level of the account counts,
// and what is committed is what the device does.
func TestNETCONFOverSSHConfiguresTheDeviceItself(t *testing.T) {
	t.Parallel()
	d, address := configured(t)
	doc := etree.NewDocument()
	require.NoError(t, doc.ReadFromString(`<config><system xmlns="`+yang.SystemNS+`"><tacacs-plus xmlns="`+yang.TACACSNS+
		`"><server><name>t2</name><port>4949</port></server></tacacs-plus></system></config>`))
	port := func() uint16 { return d.design().Way(site.NETCONF).Lists[site.Login].Methods[0].Servers()[1].Port }
	writer, reader := managed(t, address, "keeper"), managed(t, address, "guest")
	held, err := reader.GetConfig("running", netconf.Root{Name: "system", Namespace: yang.OpenNS})
	require.NoError(t, err)
	require.Contains(t, string(netconf.Bytes(held.Copy())), "keeper")
	require.ErrorContains(t, reader.Edit("candidate", doc.Root().Copy()), "level 15")
	require.NoError(t, writer.Edit("candidate", doc.Root().Copy()))
	require.EqualValues(t, 49, port())
	d.SetTroubles([]config.Trouble{{What: config.Warns, With: "commit"}})
	require.NoError(t, writer.Commit(""), "a warning is no error")
	require.Len(t, writer.Warnings, 1)
	require.EqualValues(t, 4949, port())
	require.NoError(t, writer.Close())
}
