package standin

import (
	"bufio"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"io"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/live/store/secrets"
)

// A connection of the web that was closed in the middle of a request is kept for
// half a second by net/http, which nothing can wait for.
func TestMain(m *testing.M) {
	goleak.VerifyTestMain(m, goleak.IgnoreAnyFunction("net/http.(*conn).closeWriteAndWait"))
}

// rig is a stand-in without servers: its local accounts keeper (15) and guest
// (1) log in on two ranges of ssh lines and on the console.
type rig struct {
	*testing.T
	device       *Device
	key          ssh.PublicKey
	ssh, console string
	telnet       string
	web, api     string
	trusted      *x509.CertPool
	mu           sync.Mutex
	traces       []evidence.Trace
	clients      map[string]*ssh.Client
}

func start(t *testing.T) *rig {
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
lists:
  - {name: l, authenticate: login, methods: [local]}
  - {name: s, authorize: session, methods: [local]}
  - {name: e, authenticate: elevation, methods: [secret bridge]}
platforms: [{name: k, behaviour: {refusal: ends-list, local-level-needs-session: true, web-needs-level: 15, api-needs-level: 15, login-tries: 2, below-level: reads}}]
elevation-secrets: [{name: bridge, password: '` + hash + `'}]
accounts:
  - {name: keeper, level: 15, password: '` + hash + `'}
  - {name: guest, level: 1, password: '` + hash + `'}
devices:
  - name: sw
    platform: k
    addresses: [127.0.0.1]
    accounts: [keeper, guest]
    access:
      console: {login: l, session: s, elevation: e}
      telnet: {login: l, session: s}
      web: {login: l, session: s}
      api: {login: l, session: s}
      ssh: [{lines: 0-1, login: l, session: s}, {lines: 2-3, login: l}]
`)})
	require.NoError(t, err)
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	r := &rig{T: t, key: signer.PublicKey(), clients: map[string]*ssh.Client{}}
	authority, err := pki.NewAuthority("tests", time.Now())
	require.NoError(t, err)
	identity, err := authority.Issue("sw", netip.MustParseAddr("127.0.0.1"), time.Now())
	require.NoError(t, err)
	r.trusted = identity.Trusted
	r.device = New(Config{Device: s.Device("sw"), HostKey: signer, Certificate: identity.Certificate,
		Trace: func(trace evidence.Trace) {
			r.mu.Lock()
			defer r.mu.Unlock()
			r.traces = append(r.traces, trace)
		}})
	t.Cleanup(r.device.Shutdown)
	for _, way := range []struct {
		at     *string
		access string
	}{{&r.ssh, site.SSH}, {&r.console, site.Console}, {&r.telnet, site.Telnet}, {&r.web, site.Web},
		{&r.api, site.API}} {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		require.True(t, r.device.Serve(way.access, listener))
		*way.at = listener.Addr().String()
	}
	return r
}

func (r *rig) dial(person, password string) (*ssh.Client, error) {
	return ssh.Dial("tcp", r.ssh, &ssh.ClientConfig{User: person, HostKeyCallback: ssh.FixedHostKey(r.key),
		Auth: []ssh.AuthMethod{ssh.Password(password)}, Timeout: 10 * time.Second})
}

// exec runs one command over the person's connection, which holds its line.
func (r *rig) exec(person, command string) (string, error) {
	c := r.clients[person]
	if c == nil {
		var err error
		c, err = r.dial(person, "right")
		require.NoError(r, err)
		r.Cleanup(func() { _ = c.Close() })
		r.clients[person] = c
	}
	session, err := c.NewSession()
	require.NoError(r, err)
	out, err := session.CombinedOutput(command)
	return string(out), err
}

func (r *rig) last() evidence.Trace {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.traces[len(r.traces)-1]
}

func TestOneCommandOverSSH(t *testing.T) {
	t.Parallel()
	r := start(t)
	out, err := r.exec("keeper", "look session")
	require.NoError(t, err)
	require.Contains(t, out, "level    15")
	require.Contains(t, out, "ssh 0-1, line ssh0")
	for command, want := range map[string]string{
		"nonsense":                "unknown command; help lists the commands",
		"set port 3 off":          "done",
		"set port 9 off":          "write: set port 1|2|3|4 on|off",
		"set banner":              "write: set banner TEXT",
		`set banner "keep   out"`: "done",
		"look secrets":            "",
		"look servers":            "this device asks no server",
		"look settings " + strings.Repeat("x", 300): "at most 240 characters",
		"look\x1b[31m settings":                     "all of them printable",
	} {
		out, _ := r.exec("keeper", command)
		require.Contains(t, out, want, command)
		require.NotContains(t, out, "\x1b")
	}
	out, err = r.exec("guest", "set port 1 off")
	require.Error(t, err)
	require.Contains(t, out, "refused: this command needs level 15, and you have level 1")
	out, err = r.exec("guest", "look settings")
	require.NoError(t, err)
	require.Contains(t, out, "port 3   off")
	require.Contains(t, out, "banner   keep   out")
	require.Contains(t, out, "not saved")
}

func TestEachConnectionHoldsTheLowestFreeLine(t *testing.T) {
	t.Parallel()
	r := start(t)
	var open []*ssh.Client
	for _, want := range []struct {
		line, way string
		level     int
	}{{"ssh0", "ssh 0-1", 15}, {"ssh1", "ssh 0-1", 15}, {"ssh2", "ssh 2-3", 1}, {"ssh3", "ssh 2-3", 1}} {
		c, err := r.dial("keeper", "right")
		require.NoError(t, err)
		open = append(open, c)
		require.Equal(t, []any{want.line, want.way, want.level}, []any{r.last().Line, r.last().Access, r.last().Level})
	}
	_, err := r.dial("keeper", "right")
	require.Error(t, err, "all lines are taken")
	require.NoError(t, open[1].Close())
	require.Eventually(t, func() bool {
		c, err := r.dial("keeper", "right")
		if err == nil {
			open[1] = c
		}
		return err == nil
	}, 30*time.Second, 10*time.Millisecond)
	require.Equal(t, "ssh1", r.last().Line)
	for _, c := range open {
		_ = c.Close()
	}
}

func TestAWrongPasswordIsRefusedAndTraced(t *testing.T) {
	t.Parallel()
	r := start(t)
	_, err := r.dial("keeper", "wrong")
	require.ErrorContains(t, err, "unable to authenticate")
	require.Equal(t, []string{"refused", "wrong-password", "local"},
		[]string{string(r.last().Outcome), string(r.last().Reason), r.last().By})
	_, err = r.dial("nobody", "right")
	require.Error(t, err)
	require.EqualValues(t, "list-ended", r.last().Reason)
	require.EqualValues(t, "no-such-account", r.last().Steps[0].Reason)
}

func TestTheConsoleAsksAgainAndThenHangsUp(t *testing.T) {
	t.Parallel()
	r := start(t)
	conn, err := net.Dial("tcp", r.console)
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Second)))
	_, err = io.WriteString(conn, "keeper\nwrong\nkeeper\nwrong again\n")
	require.NoError(t, err)
	text, err := io.ReadAll(conn)
	require.NoError(t, err)
	require.Equal(t, "name: password: refused\nname: password: refused\n", string(text))

	conn, err = net.Dial("tcp", r.console)
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Second)))
	_, err = io.WriteString(conn, "keeper\r\nright\r\nlook session\nleave\n")
	require.NoError(t, err)
	text, err = io.ReadAll(bufio.NewReader(conn))
	require.NoError(t, err)
	require.Contains(t, string(text), "[sw level 15] name     keeper")
}

func TestAShellAtATerminalEditsLines(t *testing.T) {
	t.Parallel()
	r := start(t)
	c, err := r.dial("keeper", "right")
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	session, err := c.NewSession()
	require.NoError(t, err)
	require.NoError(t, session.RequestPty("xterm", 24, 80, ssh.TerminalModes{}))
	session.Stdin = strings.NewReader("look settinx\x7fgs\rleave\r")
	out, err := session.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, session.Shell())
	text, err := io.ReadAll(out)
	require.NoError(t, err)
	require.Contains(t, string(text), "port 1   on")
	require.NoError(t, session.Wait())
}

func TestTheEndOfADeviceEndsItsSessions(t *testing.T) {
	t.Parallel()
	r := start(t)
	c, err := r.dial("keeper", "right")
	require.NoError(t, err)
	session, err := c.NewSession()
	require.NoError(t, err)
	require.NoError(t, session.Shell())
	r.device.Shutdown()
	_ = session.Wait() // it ends, with a word or without
	_ = c.Close()
	_, err = net.Dial("tcp", r.ssh)
	require.Error(t, err)
}
