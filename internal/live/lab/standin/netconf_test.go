package standin

import (
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/beevik/etree"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/aaa"
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

const (
	editOpen  = `<edit-config><target><candidate/></target><config xmlns:nc="` + netconf.Base + `">`
	editClose = `</config></edit-config>`
	inSystem  = `<system xmlns="` + systemNS + `">`
	inOpen    = `<system xmlns="` + openNS + `"><aaa>`
)

// secondServer changes the port and the secret of t2, in ietf-system-tacacs-plus.
const secondServer = inSystem + `<tacacs-plus xmlns="` + tacacsNS +
	`"><server><name>t2</name><port>4949</port><shared-secret>another-key-of-these-tests</shared-secret></server></tacacs-plus></system>`

func TestWhatIsWrittenOverNETCONFIsWhatTheDeviceDoes(t *testing.T) {
	t.Parallel()
	d, address := configured(t)
	p := peerOf(t, address, "keeper", netconf.Base10, netconf.Base11)
	running := p.config("running", "")
	for _, want := range []string{"<name>t1</name>", "a-key-of-these-tests", "openconfig", "keeper", "server-group"} {
		require.Contains(t, running, want)
	}
	require.NotContains(t,
		p.config("running", `<filter type="subtree">`+inSystem+`<tacacs-plus xmlns="`+tacacsNS+`"><server><name>t1</name></server></tacacs-plus></system></filter>`), "t2")

	p.ok(editOpen + secondServer + editClose)
	require.Contains(t, p.config("candidate", ""), "4949")
	require.NotContains(t, p.config("running", ""), "4949")
	p.ok(`<validate><source><candidate/></source></validate>`)
	p.ok(`<commit/>`)
	require.Contains(t, p.config("running", ""), "4949")
	server := d.design().Way(site.NETCONF).Lists[site.Login].Methods[0].Group.Servers[1]
	require.Equal(t, []any{"t2", uint16(4949)}, []any{server.Name, server.Port})
	d.mu.Lock()
	require.Equal(t, "another-key-of-these-tests", d.config.Targets[server].Key.Reveal())
	require.EqualValues(t, 4949, d.config.Targets[server].Authentication.Port())
	d.mu.Unlock()
	require.Contains(t, p.config("running", `<filter>`+inOpen+`</aaa></system></filter>`), "another-key-of-these-tests",
		"the other model says the same")

	// A whole login list, an account and a server gone.
	p.ok(editOpen + inSystem + `<authentication><user-authentication-order nc:operation="delete" xmlns:y="` + tacacsNS + `">y:tacacs-plus</user-authentication-order>
		<user nc:operation="remove"><name>guest</name></user><user nc:operation="create"><name>extra</name><password>$0$made-up</password></user></authentication></system>` + editClose)
	p.ok(`<commit/>`)
	require.Len(t, d.design().Way(site.NETCONF).Lists[site.Login].Methods, 1)
	require.Nil(t, d.design().Account("guest"))
	require.Equal(t, 15, d.design().Account("extra").Level)
	p.ok(editOpen + inOpen + `<server-groups><server-group><name>fresh</name><config><name>fresh</name><type xmlns:a="http://openconfig.net/yang/aaa">a:TACACS</type></config><servers><server><address>192.0.2.1</address>
		<config><name>t3</name><address>192.0.2.1</address><timeout>5</timeout></config><tacacs><config><port>49</port><secret-key>fresh-key</secret-key></config></tacacs></server></servers></server-group></server-groups>
		<authentication><config><authentication-method nc:operation="replace">fresh</authentication-method></config></authentication></aaa></system>` + editClose)
	p.ok(`<commit/>`)
	methods := d.design().Way(site.NETCONF).Lists[site.Login].Methods
	require.Len(t, methods, 2)
	require.Equal(t, "fresh", methods[1].Group.Name)
	require.Equal(t, "t3", methods[1].Group.Servers[0].Name)
	p.ok(`<close-session/>`)
}

func TestAConfirmedCommitComesBackByItself(t *testing.T) {
	t.Parallel()
	d, address := configured(t)
	port := func() uint16 { return d.design().Way(site.NETCONF).Lists[site.Login].Methods[0].Group.Servers[1].Port }
	p := peerOf(t, address, "keeper", netconf.Base10)
	change := func(p *peer, how string) {
		p.ok(editOpen + secondServer + editClose)
		p.ok(`<commit><confirmed/>` + how + `</commit>`)
		require.EqualValues(t, 4949, port())
	}
	back := func(why string) {
		t.Helper()
		require.Eventually(t, func() bool { return port() == 49 }, 10*time.Second, 5*time.Millisecond)
		require.Eventually(t, func() bool {
			return slices.ContainsFunc(d.Log(), func(l evidence.LogLine) bool { return strings.Contains(l.Text, why) })
		}, 10*time.Second, 5*time.Millisecond, why)
	}
	change(p, `<confirm-timeout>1</confirm-timeout>`)
	back("nobody confirmed it in time")
	change(p, "")
	p.ok(`<cancel-commit/>`)
	back("keeper has cancelled it")
	p.fails(`<cancel-commit/>`, "operation-failed")

	change(p, "")
	other := peerOf(t, address, "keeper", netconf.Base11)
	other.fails(`<commit/>`, "in-use")
	other.fails(`<lock><target><running/></target></lock>`, "lock-denied")
	require.NoError(t, p.ssh.Close()) // the session drops
	back("the session that made the change has ended")

	change(other, `<persist>my-change</persist>`)
	require.NoError(t, other.ssh.Close())
	third := peerOf(t, address, "keeper", netconf.Base11)
	require.EqualValues(t, 4949, port(), "with a persist id it outlives its session")
	third.fails(`<cancel-commit><persist-id>another</persist-id></cancel-commit>`, "invalid-value")
	third.fails(`<commit/>`, "in-use")
	third.ok(`<commit><persist-id>my-change</persist-id></commit>`)
	third.fails(`<commit><persist-id>my-change</persist-id></commit>`, "invalid-value")
	require.EqualValues(t, 4949, port())
}

func TestNETCONFRefusesWhatIsWrongAndChangesNothing(t *testing.T) {
	t.Parallel()
	_, address := configured(t)
	p := peerOf(t, address, "keeper", netconf.Base11)
	before := p.config("running", "")
	server := func(inner string) string {
		return editOpen + inSystem + `<tacacs-plus xmlns="` + tacacsNS + `"><server>` + inner +
			`</server></tacacs-plus></system>` + editClose
	}
	for operation, tag := range map[string]string{
		`<no-such-operation/>`: "operation-not-supported",
		`<get-config/>`:        "missing-element",
		`<get-config><source><startup/></source></get-config>`:                          "invalid-value",
		`<get-config><source><running/></source><filter type="xpath"/></get-config>`:    "operation-not-supported",
		strings.Replace(editOpen, "candidate", "running", 1) + secondServer + editClose: "operation-not-supported",
		editOpen + `<interfaces xmlns="urn:other"/>` + editClose:                        "unknown-namespace",
		server(`<port>4949</port>`):                                                     "missing-element",
		server(`<name>t2</name><port>70000</port>`):                                     "invalid-value",
		server(`<name>t2</name><port>many</port>`):                                      "invalid-value",
		server(`<name>t2</name><timeout>0</timeout>`):                                   "invalid-value",
		server(`<name>t9</name><address>192.0.2.9</address><port>49</port><timeout>2</timeout><server-type>authentication</server-type>`): "missing-element",
		editOpen + inSystem + `<tacacs-plus xmlns="` + tacacsNS +
			`"><server nc:operation="create"><name>t2</name></server></tacacs-plus></system>` + editClose: "data-exists",
		editOpen + inSystem + `<tacacs-plus xmlns="` + tacacsNS +
			`"><server nc:operation="delete"><name>t9</name></server></tacacs-plus></system>` + editClose: "data-missing",
		editOpen + inSystem + `<tacacs-plus nc:operation="explode" xmlns="` + tacacsNS + `"/></system>` +
			editClose: "bad-attribute",
		editOpen + inOpen + `<authentication><config><authentication-method>nobody</authentication-method></config></authentication></aaa></system>` + editClose: "invalid-value",
		`<commit><confirmed/><confirm-timeout>soon</confirm-timeout></commit>`:                                                                                   "invalid-value",
		`<unlock><target><running/></target></unlock>`:                                                                                                           "operation-failed",
		`<kill-session><session-id>99</session-id></kill-session>`:                                                                                               "invalid-value",
		`<copy-config><target><running/></target><source><candidate/></source></copy-config>`:                                                                    "operation-not-supported",
	} {
		p.fails(operation, tag)
	}
	require.Equal(t, strings.Replace(before, `message-id="1"`, "", 1),
		strings.Replace(p.config("candidate", ""), fmt.Sprintf(`message-id="%d"`, p.n), "", 1),
		"the candidate is as what runs")

	reader := peerOf(t, address, "guest", netconf.Base10)
	require.Contains(t, reader.fails(`<lock><target><candidate/></target></lock>`, "access-denied").Message, "level 15")
	require.Contains(t, reader.config("running", ""), "t1")

	second := peerOf(t, address, "keeper", netconf.Base11)
	p.ok(`<lock><target><candidate/></target></lock>`)
	second.fails(`<lock><target><candidate/></target></lock>`, "lock-denied")
	second.fails(editOpen+secondServer+editClose, "in-use")
	second.fails(`<commit/>`, "in-use")
	p.ok(editOpen + secondServer + editClose)
	p.ok(`<discard-changes/>`)
	require.NotContains(t, p.config("candidate", ""), "4949")
	p.ok(`<copy-config><target><candidate/></target><source><running/></source></copy-config>`)
	p.ok(`<unlock><target><candidate/></target></unlock>`)
	p.ok(`<discard-changes/>`)

	require.NoError(t, p.conn.Write([]byte("this is no XML")))
	message, err := p.conn.Read()
	require.NoError(t, err)
	require.Contains(t, string(message), "malformed-message")
	require.NoError(t, p.conn.Write([]byte(strings.Repeat("<x>", 100)+strings.Repeat("</x>", 100))))
	message, err = p.conn.Read()
	require.NoError(t, err)
	require.Contains(t, string(message), "more than 64 deep")
	p.ok(`<close-session/>`)
	_, err = p.conn.Read()
	require.Error(t, err)
}
