package standin

import (
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
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
		targets[v] = aaa.Target{Server: v, Authentication: at, Accounting: at, Key: site.NewSecret("a-key-of-these-tests"),
			Dialer: aaa.Net{}}
	}
	d := New(Config{Device: s.Device("sw"), Keys: site.Keys{}, Targets: targets, HostKey: signer})
	t.Cleanup(d.Shutdown)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.True(t, d.Serve(site.NETCONF, listener))
	return d, listener.Addr().String()
}

// peer is a NETCONF client.
type peer struct {
	*testing.T
	conn *netconf.Conn
	ssh  *ssh.Client
	n    int
}

func peerOf(t *testing.T, address, person string, capabilities ...string) *peer {
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
	p := &peer{T: t, ssh: c, conn: netconf.NewConn(struct {
		io.Reader
		io.Writer
	}{out, in})}
	hello, err := p.conn.Read()
	require.NoError(t, err)
	theirs, id, err := netconf.ReadHello(hello)
	require.NoError(t, err)
	require.NotEmpty(t, id)
	require.Contains(t, theirs, netconf.ConfirmedCommit)
	require.NoError(t, p.conn.Write(netconf.Hello(capabilities, 0)))
	for _, c := range capabilities {
		if c == netconf.Base11 {
			p.conn.Chunked()
		}
	}
	return p
}

// rpc asks one operation and gives the reply.
func (p *peer) rpc(operation string) *etree.Element {
	p.Helper()
	p.n++
	require.NoError(p, p.conn.Write(fmt.Appendf(nil, `<rpc xmlns="%s" message-id="%d" extra="kept">%s</rpc>`, netconf.Base,
		p.n, operation)))
	message, err := p.conn.Read()
	require.NoError(p, err)
	reply, err := netconf.Parse(message, "rpc-reply")
	require.NoError(p, err, string(message))
	require.Equal(p, fmt.Sprint(p.n), reply.SelectAttrValue("message-id", ""))
	require.Equal(p, "kept", reply.SelectAttrValue("extra", ""))
	return reply
}

func (p *peer) ok(operation string) {
	p.Helper()
	reply := p.rpc(operation)
	require.NotNil(p, reply.SelectElement("ok"), string(netconf.Bytes(reply.Copy())))
}

func (p *peer) fails(operation, tag string) *netconf.Error {
	p.Helper()
	errors := netconf.Errors(p.rpc(operation))
	require.Len(p, errors, 1, operation)
	require.Equal(p, tag, errors[0].Tag, errors[0].Message)
	return errors[0]
}

func (p *peer) config(which, filter string) string {
	reply := p.rpc(`<get-config><source><` + which + `/></source>` + filter + `</get-config>`)
	return string(netconf.Bytes(reply.Copy()))
}

// What comes over SSH is the store of the device: the level of the account counts,
// and what is committed is what the device does.
func TestNETCONFOverSSHConfiguresTheDeviceItself(t *testing.T) {
	t.Parallel()
	d, address := configured(t)
	const system = `<system xmlns="` + yang.SystemNS + `"><tacacs-plus xmlns="` + yang.TACACSNS +
		`"><server><name>t2</name><port>4949</port></server></tacacs-plus></system>`
	port := func() uint16 { return d.design().Way(site.NETCONF).Lists[site.Login].Methods[0].Group.Servers[1].Port }
	const edit = `<edit-config><target><candidate/></target><config>` + system + `</config></edit-config>`
	p := peerOf(t, address, "keeper", netconf.Base11)
	reader := peerOf(t, address, "guest", netconf.Base10)
	require.Contains(t, reader.config("running", ""), "keeper")
	require.Contains(t, reader.fails(edit, "access-denied").Message, "level 15")
	p.ok(edit)
	require.EqualValues(t, 49, port())
	d.SetTroubles([]config.Trouble{{What: config.Warns, With: "commit"}})
	warned := netconf.Errors(p.rpc(`<commit/>`))
	require.Empty(t, warned, "a warning is no error")
	require.EqualValues(t, 4949, port())
	p.ok(`<close-session/>`)
}
