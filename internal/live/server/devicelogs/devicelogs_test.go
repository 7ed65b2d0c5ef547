package devicelogs

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/pki"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// kept is what a receiver kept and said.
type kept struct {
	mu    sync.Mutex
	lines []evidence.LogLine
	said  []string
}

func (k *kept) texts() []string {
	k.mu.Lock()
	defer k.mu.Unlock()
	var all []string
	for _, l := range k.lines {
		all = append(all, l.Device+": "+l.Text)
	}
	return all
}

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// receiver receives at free ports; 127.0.0.1 is the device sw-1.
func receiver(t *testing.T, where ...site.LogSource) (*Receiver, *kept) {
	t.Helper()
	k := &kept{}
	r, err := Listen(Config{Where: where, Now: func() time.Time { return noon },
		Device: func(at netip.Addr) string { return map[string]string{"127.0.0.1": "sw-1"}[at.String()] },
		Keep:   func(l evidence.LogLine) { k.mu.Lock(); defer k.mu.Unlock(); k.lines = append(k.lines, l) },
		Say:    func(text string) { k.mu.Lock(); defer k.mu.Unlock(); k.said = append(k.said, text) },
		TLS: func(server string) (*tls.Config, error) {
			if server != "gate-1" {
				return nil, errors.New("no such server")
			}
			i, err := authority.Issue(server, netip.MustParseAddr("127.0.0.1"), time.Now())
			return i.Server(site.RADIUS), err
		}})
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r, k
}

var authority = func() *pki.Authority {
	a, err := pki.NewAuthority("the authority of a test", time.Now())
	if err != nil {
		panic(err)
	}
	return a
}()

func at(network string) site.LogSource {
	return site.LogSource{Network: network, Address: "127.0.0.1:0"}
}

// dial opens a connection from an address to the nth place of a receiver.
func dial(t *testing.T, r *Receiver, n int, from string) net.Conn {
	t.Helper()
	network, address, _ := strings.Cut(r.Places()[n], " ")
	var local net.Addr = &net.TCPAddr{IP: net.ParseIP(from)}
	if network == "udp" {
		local = &net.UDPAddr{IP: net.ParseIP(from)}
	} else {
		network = "tcp"
	}
	conn, err := (&net.Dialer{LocalAddr: local}).Dial(network, address)
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	return conn
}

func (k *kept) comesTo(t *testing.T, want ...string) {
	t.Helper()
	require.Eventually(t, func() bool { return len(k.texts()) >= len(want) }, 30*time.Second, time.Millisecond)
	require.Equal(t, want, k.texts())
}

func TestADatagramIsALineOfTheDeviceThatSentIt(t *testing.T) {
	t.Parallel()
	r, k := receiver(t, at("udp"))
	_, err := dial(t, r, 0, "127.0.0.2").Write([]byte("<13>from a stranger"))
	require.NoError(t, err)
	conn := dial(t, r, 0, "127.0.0.1")
	for _, text := range []string{"<189>Nov 23 03:09:01 sw-1 gate tern silent\n", "<13>", "\x00\r\n",
		"<5>two\nlines\x1b[31m and \xff", "<1234>no priority"} {
		_, err := conn.Write([]byte(text))
		require.NoError(t, err)
	}
	k.comesTo(t, "sw-1: Nov 23 03:09:01 sw-1 gate tern silent", "sw-1: two lines [31m and \uFFFD",
		"sw-1: <1234>no priority")
	require.Equal(t, evidence.LogLine{Time: noon, Device: "sw-1", Text: "two lines [31m and \uFFFD", Raw: true},
		k.lines[1])
}

func TestAStreamHasMessagesWithLengthsOrLines(t *testing.T) {
	t.Parallel()
	r, k := receiver(t, at("tcp"))
	conn := dial(t, r, 0, "127.0.0.1")
	long := strings.Repeat("x", longest+100)
	_, err := fmt.Fprintf(conn, "9 <13>alpha<14>beta\n<15>%s\n%d <13>%s<16>gamma\n", long, len(long)+4, long)
	require.NoError(t, err)
	cut := strings.Repeat("x", longest-4)
	k.comesTo(t, "sw-1: alpha", "sw-1: beta", "sw-1: "+cut, "sw-1: "+cut, "sw-1: gamma")

	broken := dial(t, r, 0, "127.0.0.1")
	_, err = broken.Write([]byte("12345678 what is this"))
	require.NoError(t, err)
	_, err = broken.Read(make([]byte, 1))
	require.Error(t, err, "what is no syslog is not listened to")

	stranger := dial(t, r, 0, "127.0.0.2")
	_, err = stranger.Read(make([]byte, 1))
	require.Error(t, err, "who is no device is not listened to")
}

func TestOverTLSADeviceShowsItsCertificate(t *testing.T) {
	t.Parallel()
	where := at("tls")
	where.Server.Name = "gate-1"
	r, k := receiver(t, where)
	device, err := authority.Issue("sw-1", netip.MustParseAddr("127.0.0.1"), time.Now())
	require.NoError(t, err)
	conn := tls.Client(dial(t, r, 0, "127.0.0.1"), device.Client(site.RADIUS, "127.0.0.1"))
	_, err = conn.Write([]byte("<13>in secret\n"))
	require.NoError(t, err)
	k.comesTo(t, "sw-1: in secret")
	bare := tls.Client(dial(t, r, 0, "127.0.0.1"), &tls.Config{InsecureSkipVerify: true}) // without a certificate
	_, _ = bare.Write([]byte("<13>not kept\n"))
	_, err = bare.Read(make([]byte, 1))
	require.Error(t, err)
	require.Len(t, k.texts(), 1)

	where.Server.Name = "nobody"
	_, err = Listen(Config{Where: []site.LogSource{at("udp"), where}, TLS: r.config.TLS})
	require.EqualError(t, err, "logs of devices by tls at 127.0.0.1:0: no such server")
	_, address, _ := strings.Cut(r.Places()[0], " ")
	_, err = Listen(Config{Where: []site.LogSource{{Network: "tcp", Address: address}}})
	require.ErrorContains(t, err, "address already in use")
}

func TestADeviceThatSendsTooMuchIsCutShortAndThatIsSaidOnce(t *testing.T) {
	t.Parallel()
	r, k := receiver(t, at("tcp"))
	_, err := dial(t, r, 0, "127.0.0.1").Write([]byte(strings.Repeat("<13>again\n", lineRate+50)))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(k.texts()) == lineRate }, 30*time.Second, time.Millisecond)
	require.Eventually(t, func() bool {
		k.mu.Lock()
		defer k.mu.Unlock()
		return len(k.said) == 1
	}, 30*time.Second, time.Millisecond)
	require.Equal(t, fmt.Sprintf("sw-1 sends more than %d lines of its log in a second: 1 were dropped", lineRate),
		k.said[0])
}
