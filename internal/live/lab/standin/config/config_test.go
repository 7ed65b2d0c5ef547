package config_test

import (
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/beevik/etree"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/lab/standin/config"
	"mellowgate/internal/wire/netconf"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// device is one that is nothing but its configuration.
type device struct {
	mu      sync.Mutex
	design  *site.Device
	targets map[*site.Server]aaa.Target
	around  config.Surroundings
	said    []string
}

func (d *device) Draft() *config.Draft {
	d.mu.Lock()
	defer d.mu.Unlock()
	return config.Copy(d.design, d.targets, d.around)
}

func (d *device) Use(w *config.Draft) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.design, d.targets = w.Device, w.Targets
}

func (d *device) Say(format string, args ...any) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.said = append(d.said, fmt.Sprintf(format, args...))
}

func (d *device) now() *site.Device {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.design
}

func (d *device) has(text string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.ContainsFunc(d.said, func(l string) bool { return strings.Contains(l, text) })
}

const hash = "$argon2id$v=19$m=64,t=1,p=1$SBMlHQ06foH3B2kceCebgA$G8owWyNYJvFJpafyT9q7fcCQdxap8uIVErRV8sr4ZXg"

// configured is a device with two servers, and its store.
func configured(t *testing.T) (*device, *config.Store) {
	return storeOf(t, `
keys: {k: file k}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 2s}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k, timeout: 2s}
groups: [{name: t, servers: [t1, t2]}]
lists:
  - {name: l, authenticate: login, methods: [group t, local]}
  - {name: s, authorize: session, methods: [local]}
accounts:
  - {name: keeper, level: 15, password: '`+hash+`'}
  - {name: guest, level: 1, password: '`+hash+`'}
devices: [{name: sw, addresses: [127.0.0.1], accounts: [keeper, guest], access: {netconf: {login: l, session: s}, ssh: {login: l, session: s}}}]
`)
}

// visitor is a person, and the commands that are refused.
type visitor struct {
	name    string
	level   int
	refused string
}

func (v visitor) Name() string { return v.name }
func (v visitor) Level() int   { return v.level }
func (v visitor) Command(line string, _ int) (bool, string) {
	return line != v.refused, "this command is not allowed"
}

// peer is a NETCONF client.
type peer struct {
	*testing.T
	conn *netconf.Conn
	line io.Closer
	n    int
}

var keeper, guest = visitor{name: "keeper", level: 15}, visitor{name: "guest", level: 1}

// peerOf begins a session, which the end of the test waits for.
func peerOf(t *testing.T, store *config.Store, v visitor, capabilities ...string) *peer {
	here, there := net.Pipe()
	var running sync.WaitGroup
	running.Go(func() { store.Serve(v, there); _ = there.Close() })
	t.Cleanup(func() { _ = here.Close(); running.Wait() })
	p := &peer{T: t, line: here, conn: netconf.NewConn(here)}
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
	inSystem  = `<system xmlns="` + yang.SystemNS + `">`
	inOpen    = `<system xmlns="` + yang.OpenNS + `"><aaa>`
)

// secondServer changes the port and the secret of t2, in ietf-system-tacacs-plus.
const secondServer = inSystem + `<tacacs-plus xmlns="` + yang.TACACSNS +
	`"><server><name>t2</name><port>4949</port><shared-secret>another-key-of-these-tests</shared-secret></server></tacacs-plus></system>`

func TestWhatIsWrittenOverNETCONFIsWhatTheDeviceDoes(t *testing.T) {
	t.Parallel()
	d, store := configured(t)
	p := peerOf(t, store, keeper, netconf.Base10, netconf.Base11)
	running := p.config("running", "")
	for _, want := range []string{"<name>t1</name>", "a-key-of-these-tests", "openconfig", "keeper", "server-group"} {
		require.Contains(t, running, want)
	}
	require.NotContains(t,
		p.config("running", `<filter type="subtree">`+inSystem+`<tacacs-plus xmlns="`+yang.TACACSNS+`"><server><name>t1</name></server></tacacs-plus></system></filter>`), "t2")

	p.ok(editOpen + secondServer + editClose)
	require.Contains(t, p.config("candidate", ""), "4949")
	require.NotContains(t, p.config("running", ""), "4949")
	p.ok(`<validate><source><candidate/></source></validate>`)
	p.ok(`<commit/>`)
	require.Contains(t, p.config("running", ""), "4949")
	server := d.now().Way(site.NETCONF).Lists[site.Login].Methods[0].Servers()[1]
	require.Equal(t, []any{"t2", uint16(4949)}, []any{server.Name, server.Port})
	d.mu.Lock()
	require.Equal(t, "another-key-of-these-tests", d.targets[server].Key.Reveal())
	require.EqualValues(t, 4949, d.targets[server].Authentication.Port())
	d.mu.Unlock()
	require.Contains(t, p.config("running", `<filter>`+inOpen+`</aaa></system></filter>`), "another-key-of-these-tests",
		"the other model says the same")

	// A whole login list, an account and a server gone.
	p.ok(editOpen + inSystem + `<authentication><user-authentication-order nc:operation="delete" xmlns:y="` + yang.TACACSNS + `">y:tacacs-plus</user-authentication-order>
		<user nc:operation="remove"><name>guest</name></user><user nc:operation="create"><name>extra</name><password>$0$made-up</password></user></authentication></system>` + editClose)
	p.ok(`<commit/>`)
	require.Len(t, d.now().Way(site.NETCONF).Lists[site.Login].Methods, 1)
	require.Nil(t, d.now().Account("guest"))
	require.Equal(t, 15, d.now().Account("extra").Level)
	p.ok(editOpen + inOpen + `<server-groups><server-group><name>fresh</name><config><name>fresh</name><type xmlns:a="http://openconfig.net/yang/aaa">a:TACACS</type></config><servers><server><address>192.0.2.1</address>
		<config><name>t3</name><address>192.0.2.1</address><timeout>5</timeout></config><tacacs><config><port>49</port><secret-key>fresh-key</secret-key></config></tacacs></server></servers></server-group></server-groups>
		<authentication><config><authentication-method nc:operation="replace">fresh</authentication-method></config></authentication></aaa></system>` + editClose)
	p.ok(`<commit/>`)
	methods := d.now().Way(site.NETCONF).Lists[site.Login].Methods
	require.Len(t, methods, 2)
	require.Equal(t, "fresh", methods[1].Ref.Name)
	require.Equal(t, "t3", methods[1].Servers()[0].Name)
	p.ok(`<close-session/>`)
}

func TestAConfirmedCommitComesBackByItself(t *testing.T) {
	t.Parallel()
	d, store := configured(t)
	port := func() uint16 { return d.now().Way(site.NETCONF).Lists[site.Login].Methods[0].Servers()[1].Port }
	p := peerOf(t, store, keeper, netconf.Base10)
	change := func(p *peer, how string) {
		p.ok(editOpen + secondServer + editClose)
		p.ok(`<commit><confirmed/>` + how + `</commit>`)
		require.EqualValues(t, 4949, port())
	}
	back := func(why string) {
		t.Helper()
		require.Eventually(t, func() bool { return port() == 49 }, 30*time.Second, 5*time.Millisecond)
		require.Eventually(t, func() bool { return d.has(why) }, 30*time.Second, 5*time.Millisecond, why)
	}
	change(p, `<confirm-timeout>1</confirm-timeout>`)
	back("nobody confirmed it in time")
	change(p, "")
	p.ok(`<cancel-commit/>`)
	back("keeper has cancelled it")
	p.fails(`<cancel-commit/>`, "operation-failed")

	change(p, "")
	other := peerOf(t, store, keeper, netconf.Base11)
	other.fails(`<commit/>`, "in-use")
	other.fails(`<lock><target><running/></target></lock>`, "lock-denied")
	require.NoError(t, p.line.Close()) // the session drops
	back("the session that made the change has ended")

	change(other, `<persist>my-change</persist>`)
	require.NoError(t, other.line.Close())
	third := peerOf(t, store, keeper, netconf.Base11)
	require.EqualValues(t, 4949, port(), "with a persist id it outlives its session")
	third.fails(`<cancel-commit><persist-id>another</persist-id></cancel-commit>`, "invalid-value")
	third.fails(`<commit/>`, "in-use")
	third.ok(`<commit><persist-id>my-change</persist-id></commit>`)
	third.fails(`<commit><persist-id>my-change</persist-id></commit>`, "invalid-value")
	require.EqualValues(t, 4949, port())
}

func TestNETCONFRefusesWhatIsWrongAndChangesNothing(t *testing.T) {
	t.Parallel()
	_, store := configured(t)
	p := peerOf(t, store, keeper, netconf.Base11)
	before := p.config("running", "")
	server := func(inner string) string {
		return editOpen + inSystem + `<tacacs-plus xmlns="` + yang.TACACSNS + `"><server>` + inner +
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
		editOpen + inSystem + `<tacacs-plus xmlns="` + yang.TACACSNS +
			`"><server nc:operation="create"><name>t2</name></server></tacacs-plus></system>` + editClose: "data-exists",
		editOpen + inSystem + `<tacacs-plus xmlns="` + yang.TACACSNS +
			`"><server nc:operation="delete"><name>t9</name></server></tacacs-plus></system>` + editClose: "data-missing",
		editOpen + inSystem + `<tacacs-plus nc:operation="explode" xmlns="` + yang.TACACSNS + `"/></system>` +
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

	reader := peerOf(t, store, guest, netconf.Base10)
	require.Contains(t, reader.fails(`<lock><target><candidate/></target></lock>`, "access-denied").Message, "level 15")
	require.Contains(t, reader.config("running", ""), "t1")

	second := peerOf(t, store, keeper, netconf.Base11)
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

// Each trouble does what it says to what it is with, and to nothing else.
func TestWhatGoesWrongOnPurposeDoesAndNothingElse(t *testing.T) {
	t.Parallel()
	d, store := configured(t)
	set := func(what, with string) { store.SetTroubles([]config.Trouble{{What: what, With: with}}) }
	p := peerOf(t, store, keeper, netconf.Base11)
	edit := editOpen + secondServer + editClose

	set(config.Warns, "validate")
	reply := p.rpc(`<validate><source><candidate/></source></validate>`)
	require.Equal(t, "warning", reply.FindElement("rpc-error/error-severity").Text())
	require.Nil(t, p.rpc(`<discard-changes/>`).SelectElement("rpc-error"), "another operation")

	set(config.Refuses, "port")
	require.Contains(t, p.fails(edit, "invalid-value").Message, "does not take port")
	set(config.Refuses, "timeout")
	p.ok(edit)
	p.ok(`<discard-changes/>`)

	set(config.Lacks, "ietf-system-tacacs-plus")
	p.fails(edit, "unknown-namespace")
	set(config.Lacks, "openconfig-system")
	p.ok(edit)

	set(config.Drops, "commit")
	require.NoError(t, p.conn.Write([]byte(`<rpc xmlns="`+netconf.Base+`" message-id="99"><commit/></rpc>`)))
	_, err := p.conn.Read()
	require.Error(t, err, "the connection ends before the answer")
	require.EqualValues(t, 4949, d.now().Way(site.NETCONF).Lists[site.Login].Methods[0].Servers()[1].Port,
		"and it is done all the same")

	store.SetTroubles(nil)
	p = peerOf(t, store, keeper, netconf.Base10)
	p.ok(editOpen + strings.Replace(secondServer, "4949", "4950", 1) + editClose)
	set(config.Hangs, "commit")
	require.NoError(t, p.conn.Write([]byte(`<rpc xmlns="`+netconf.Base+`" message-id="99"><commit/></rpc>`)))
	other := peerOf(t, store, keeper, netconf.Base11)
	require.Contains(t, other.config("running", ""), "4949", "nothing is done, and others are answered")

	require.Equal(t, site.Models, config.TroubleTakes(config.Lacks))
	require.Nil(t, config.TroubleTakes(config.Refuses))
	require.Contains(t, config.TroubleTakes(config.Hangs), "commit")
}

func TestACommandThatIsRefusedIsAnOperationThatIsDenied(t *testing.T) {
	t.Parallel()
	d, store := configured(t)
	p := peerOf(t, store, visitor{name: "keeper", level: 15, refused: "netconf commit"}, netconf.Base11)
	p.ok(editOpen + secondServer + editClose)
	require.Equal(t, "this command is not allowed", p.fails(`<commit/>`, "access-denied").Message)
	require.EqualValues(t, 49, d.now().Way(site.NETCONF).Lists[site.Login].Methods[0].Servers()[1].Port)
	p.ok(`<close-session/>`)
}

// rich is a design with all that the models carry, and poor one with little of it;
// both have a way in by NETCONF.
const (
	rich = `
keys: {k: file k}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 2s, for: [authentication, authorization]}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k, port: 4949, timeout: 7s}
  - {name: r1, protocol: radius, address: 192.0.2.3, key: k, timeout: 3s, attempts: 3,
	ports: {authentication: 1645, accounting: 1646}}
  - {name: r2, protocol: radius, address: 192.0.2.4, key: k, timeout: 3s, attempts: 3}
groups: [{name: t, servers: [t1, t2]}, {name: r, servers: [r1, r2]}]
lists:
  - {name: l, authenticate: login, methods: [group t, group r, local]}
  - {name: s, authorize: session, methods: [group t, local]}
  - {name: c, authorize: commands, methods: [group t, local]}
  - {name: v, account: sessions, when: start and stop, methods: [group t]}
  - {name: n, account: commands, when: stop, methods: [group t]}
accounts: [{name: keeper, level: 15, password: HASH}, {name: guest, level: 1, password: HASH}]
devices: [{name: sw, addresses: [192.0.2.9], accounts: [keeper, guest],
	access: {netconf: {login: l, session: s, commands: c, record-sessions: v, record-commands: n}}}]
`
	poor = `
keys: {k: file k}
servers:
  - {name: r2, protocol: radius, address: 192.0.2.40, key: k, timeout: 1s, attempts: 1}
  - {name: t9, protocol: tacacs, address: 192.0.2.50, key: k, timeout: 1s}
groups: [{name: r, servers: [r2]}, {name: t, servers: [t9]}]
lists:
  - {name: l, authenticate: login, methods: [group r, group t, local]}
  - {name: c, authorize: commands, methods: [group t]}
accounts: [{name: keeper, level: 5, password: HASH}, {name: old, level: 15, password: HASH}]
devices: [{name: sw, addresses: [192.0.2.9], accounts: [keeper, old], access: {netconf: {login: l, commands: c}}}]
`
)

// storeOf is a store whose device has the design of a site.
func storeOf(t *testing.T, text string) (*device, *config.Store) {
	crypt := "$6$abcdefgh$" + strings.Repeat("a", 86)
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(strings.ReplaceAll(text, "HASH", crypt))})
	require.NoError(t, err)
	d := &device{design: s.Device("sw"), targets: map[*site.Server]aaa.Target{}}
	for _, v := range s.Servers {
		at := netip.MustParseAddrPort("127.0.0.1:1")
		d.targets[v] = aaa.Target{Server: v, Authentication: at, Accounting: at,
			Key: site.NewSecret("a-key-of-these-tests")}
		d.around.Known = append(d.around.Known, d.targets[v])
	}
	store := config.New(d, site.Keys{}, d.design.Platform.Behaviour)
	t.Cleanup(store.Close)
	return d, store
}

func factsOf(t *testing.T, text string) drift.Facts {
	doc, facts := etree.NewDocument(), drift.Facts{}
	require.NoError(t, doc.ReadFromString("<data>"+text+"</data>"))
	for i, m := range yang.InOrder {
		data, err := m.Read(netconf.Bytes(doc.Root().ChildElements()[i].Copy()))
		require.NoError(t, err)
		for k, v := range data.Facts() {
			k.What += " (" + m.Module().Name + ")"
			facts[k] = v
		}
	}
	return facts
}

// Whatever the device held, once all that the models say of a design is written
// into it, it says the same of itself, in both models and both directions.
func TestADesignThatIsWrittenWholeIsTheDesign(t *testing.T) {
	t.Parallel()
	data := func(store *config.Store) string {
		text := peerOf(t, store, keeper, netconf.Base11).config("running", "")
		text = text[strings.Index(text, "<data>")+len("<data>"):]
		return text[:strings.Index(text, "</data>")]
	}
	other := strings.NewReplacer("when: start and stop", "when: stop", "when: stop", "when: start and stop",
		"servers: [r1, r2]", "servers: [r2, r1]", "port: 4949", "port: 4950").Replace(rich)
	for _, k := range []struct{ from, to string }{{rich, poor}, {poor, rich}, {rich, other}, {other, rich}} {
		_, held := storeOf(t, k.from)
		_, wanted := storeOf(t, k.to)
		want := data(wanted)
		p := peerOf(t, held, keeper, netconf.Base11)
		p.ok(`<edit-config><target><candidate/></target><default-operation>replace</default-operation><config>` + want +
			`</config></edit-config>`)
		p.ok(`<commit/>`)
		differ := drift.Compare(factsOf(t, want), factsOf(t, data(held)),
			func(drift.About, string) string { return "" })
		require.Empty(t, differ)
	}
}

// What is no NETCONF, or not as RFC 6241 has it, is refused by its name.
func TestAMessageThatIsNotAsTheRFCHasItIsRefusedByItsName(t *testing.T) {
	t.Parallel()
	_, store := configured(t)
	p := peerOf(t, store, keeper, netconf.Base11)
	raw := func(rpc string) string {
		require.NoError(t, p.conn.Write([]byte(rpc)))
		message, err := p.conn.Read()
		require.NoError(t, err)
		return string(message)
	}
	require.Contains(t, raw(`<rpc xmlns="`+netconf.Base+`"><commit/></rpc>`), "missing-attribute")
	require.Contains(t, raw(`<rpc xmlns="`+netconf.Base+`" message-id="1"><commit/><commit/></rpc>`),
		"an rpc holds one operation")
	require.Contains(t, raw(`<rpc xmlns="`+netconf.Base+`" message-id="1"><commit xmlns="urn:other"/></rpc>`),
		"operation-not-supported")
	whole := editOpen + secondServer + editClose
	p.fails(strings.Replace(whole, "<config", "<default-operation>explode</default-operation><config", 1),
		"missing-element")
	p.fails(`<edit-config><target><candidate/></target></edit-config>`, "missing-element")
	p.fails(`<copy-config><target><running/></target><source><running/></source></copy-config>`, "operation-not-supported")
	p.fails(`<copy-config><target><candidate/></target><source><other/></source></copy-config>`, "invalid-value")
	p.fails(`<copy-config><target><other/></target><source><running/></source></copy-config>`, "invalid-value")
	p.fails(`<lock><target><other/></target></lock>`, "invalid-value")
	p.fails(`<unlock><target><other/></target></unlock>`, "invalid-value")
	p.fails(`<validate><source><other/></source></validate>`, "invalid-value")
	p.fails(`<commit><confirmed/><confirm-timeout>0</confirm-timeout></commit>`, "invalid-value")

	second := peerOf(t, store, keeper, netconf.Base11)
	second.ok(`<lock><target><candidate/></target></lock>`)
	p.fails(`<discard-changes/>`, "in-use")
	p.fails(`<copy-config><target><candidate/></target><source><running/></source></copy-config>`, "in-use")
	id := p.fails(`<lock><target><candidate/></target></lock>`, "lock-denied")
	require.Equal(t, "protocol", id.Type)
	second.ok(`<unlock><target><candidate/></target></unlock>`)
	p.ok(`<lock><target><candidate/></target></lock>`)
	p.ok(`<unlock><target><candidate/></target></unlock>`)
	p.ok(`<kill-session><session-id>2</session-id></kill-session>`)
	_, err := second.conn.Read()
	require.Error(t, err)

	p.ok(whole)
	p.ok(`<commit><confirmed/><persist>mine</persist></commit>`)
	p.fails(`<cancel-commit><persist-id>other</persist-id></cancel-commit>`, "invalid-value")
	p.ok(`<cancel-commit><persist-id>mine</persist-id></cancel-commit>`)
	require.NotContains(t, p.config("running", ""), "4949")
}

// A device says what it has, and no more.
func TestADeviceAnnouncesTheModelsAndTheWayBackOfItsKind(t *testing.T) {
	t.Parallel()
	d, _ := configured(t)
	for back, want := range map[string][2]string{
		site.ConfirmedCommit:      {netconf.ConfirmedCommit, netconf.WritableRunning},
		site.FirstConfirmedCommit: {netconf.ConfirmedCommit10, netconf.ConfirmedCommit},
		site.TakesNothingBack:     {netconf.Candidate, netconf.ConfirmedCommit},
		site.NoCandidate:          {netconf.WritableRunning, netconf.Candidate},
	} {
		behaviour := d.design.Platform.Behaviour
		behaviour.TakesBack, behaviour.LacksModels = back, []string{"openconfig-system"}
		store := config.New(d, site.Keys{}, behaviour)
		here, there := net.Pipe()
		var running sync.WaitGroup
		running.Go(func() { store.Serve(keeper, there); _ = there.Close() })
		conn := netconf.NewConn(here)
		hello, err := conn.Read()
		require.NoError(t, err)
		announced, _, err := netconf.ReadHello(hello)
		require.NoError(t, err)
		require.Contains(t, announced, want[0], back)
		require.NotContains(t, announced, want[1], back)
		require.NotContains(t, string(hello), "openconfig")
		require.NotContains(t, string(hello), "tacacs-plus", "a module of YANG 1.1 stands in the library alone")
		require.Contains(t, string(hello), "module=ietf-system")
		require.NoError(t, conn.Write(netconf.Hello([]string{netconf.Base10}, 7))) // a client that gives a session id
		_, err = conn.Read()
		require.Error(t, err, "RFC 6241, section 8.1: the session ends")
		_ = here.Close()
		running.Wait()
		store.Close()
	}
	_, store := configured(t)
	library := peerOf(t, store, guest, netconf.Base10).rpc(`<get/>`)
	require.Contains(t, string(netconf.Bytes(library.Copy())), "<name>ietf-system-tacacs-plus</name>")
}

// Numbers that no port or timeout has are refused, at their edges.
func TestPortsAndTimeoutsHaveTheirRange(t *testing.T) {
	t.Parallel()
	for _, k := range []struct {
		leaf string
		ok   bool
	}{{"<port>1</port>", true}, {"<port>65535</port>", true}, {"<port>0</port>", false}, {"<port>65536</port>", false},
		{"<timeout>1</timeout>", true}, {"<timeout>255</timeout>", true}, {"<timeout>256</timeout>", false},
		{"<timeout>0</timeout>", false}, {"<address>192.0.2.1/32</address>", false},
		{"<address>t.example</address>", true}} {
		_, store := configured(t)
		p := peerOf(t, store, keeper, netconf.Base11)
		edit := editOpen + inSystem + `<tacacs-plus xmlns="` + yang.TACACSNS + `"><server><name>t2</name>` + k.leaf +
			`</server></tacacs-plus></system>` + editClose
		if !k.ok {
			p.fails(edit, "invalid-value")
			continue
		}
		p.ok(edit)
		p.ok(`<commit/>`)
		require.Contains(t, p.config("running", ""), k.leaf)
	}
}
