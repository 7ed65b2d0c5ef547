package cliplan

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/lab/standin"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/rollout"
)

const demo = "../../../demo/phrasebooks/"

// designs are three designs of one device of a make: two that work, and one with which nobody
// gets in from the servers.
func designs(t *testing.T, make string) (all []Design, keys site.Keys) {
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	book := variant(t, make)
	text := `site: Typed
keys: {k: file k.key, aboard: file aboard.key}
servers:
  - {name: tern, protocol: tacacs, address: TERN, key: k, run: true, timeout: 1s}
  - {name: plover, protocol: tacacs, address: PLOVER, key: k, run: true, timeout: WAIT}
groups: [{name: shore, servers: [ORDER]}]
lists:
  - {name: crew, authenticate: login, methods: [METHODS]}
  - {name: crew-session, authorize: session, methods: [METHODS]}
  - {name: crew-record, account: sessions, when: start and stop, methods: [group shore]}
accounts: [{name: keeper, level: 15, password: key aboard}]
platforms: [{name: make, phrasebook: ` + book + `}]
devices:
  - name: sw
    platform: make
    addresses: [198.51.100.7]
    accounts: [keeper]
    access: {console: {LISTS}, ssh: {LISTS}, telnet: {LISTS}}
people: [{name: ines, teams: [net], password: '` + hash + `'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
`
	keys = site.Keys{"k": site.NewSecret("a-key-of-this-test-only"), "aboard": site.NewSecret("Aboard-1")}
	for i, with := range [][]string{
		{"TERN", "192.0.2.21", "PLOVER", "192.0.2.22", "ORDER", "tern, plover", "METHODS", "group shore, local", "WAIT",
			"1s",
			"LISTS", "login: crew, session: crew-session"},
		{"TERN", "192.0.2.21", "PLOVER", "192.0.2.22", "ORDER", "plover, tern", "METHODS", "group shore", "WAIT", "2s",
			"LISTS", "login: crew, session: crew-session, record-sessions: crew-record"},
		{"TERN", "192.0.2.98", "PLOVER", "192.0.2.99", "ORDER", "tern, plover", "METHODS", "group shore", "WAIT", "1s",
			"LISTS", "login: crew, session: crew-session"},
	} {
		if make == "hull-router" { // it waits for all servers as long
			with[9] = "1s"
		}
		dir := filepath.Join(t.TempDir(), fmt.Sprint(i))
		require.NoError(t, os.MkdirAll(dir, 0o700))
		path := filepath.Join(dir, "site.yaml")
		require.NoError(t, os.WriteFile(path, []byte(strings.NewReplacer(with...).Replace(text)), 0o600))
		all = append(all, design(t, path, keys))
	}
	return all, keys
}

// variant writes the phrasebook of a make, or of one that differs from it in when lines take
// effect and how it goes back.
func variant(t *testing.T, make string) string {
	name, _, _ := strings.Cut(make, " ")
	text, err := os.ReadFile(demo + name + ".yaml")
	require.NoError(t, err)
	for change, to := range map[string][]string{
		"with a commit": {"takes-effect: at-once", "takes-effect: {at: commit, say: make good}", "way-back: none",
			"way-back: {set: good for <minutes>, call-off: make good, restores: before, also-on: lost-session}"},
		"with a restart": {"takes-effect: at-once", "takes-effect: save"},
	} {
		if strings.HasSuffix(make, change) {
			for i := 0; i < len(to); i += 2 {
				require.Contains(t, string(text), to[i])
			}
			text = []byte(strings.NewReplacer(to...).Replace(string(text)))
		}
	}
	path := filepath.Join(t.TempDir(), "book.yaml")
	require.NoError(t, os.WriteFile(path, text, 0o600))
	return path
}

func design(t *testing.T, path string, keys site.Keys) Design {
	s, base, err := sitefile.LoadWith(path)
	require.NoError(t, err)
	book, err := os.ReadFile(filepath.Join(base, s.Device("sw").Platform.Phrasebook.Name))
	if err != nil {
		book, err = os.ReadFile(s.Device("sw").Platform.Phrasebook.Name)
	}
	require.NoError(t, err)
	b, err := phrase.Load("book", book)
	require.NoError(t, err)
	return Design{Path: path, Site: s, Keys: keys, Device: s.Device("sw"), Book: b}
}

// mishap happens to what is written to devices, at one of the writes.
type mishap struct {
	mu    sync.Mutex
	at    int
	how   string
	dead  bool
	open  []net.Conn
	end   func()
	count int
}

// shaky is a connection to which a mishap happens.
type shaky struct {
	net.Conn
	m *mishap
}

func (s shaky) Write(b []byte) (int, error) {
	m := s.m
	m.mu.Lock()
	m.count++
	now, dead := m.count == m.at, m.dead
	m.mu.Unlock()
	if dead {
		return 0, net.ErrClosed
	}
	if now {
		switch m.how {
		case "dropped":
			_ = s.Close()
		case "lost": // it arrives, and its answer does not
			_, _ = s.Conn.Write(b)
			_ = s.Close()
			return len(b), nil
		case "killed":
			m.kill()
			return 0, net.ErrClosed
		case "ended":
			m.end()
		case "garbled": // a letter of the line is another
			b = append([]byte(nil), b...)
			for i := len(b) * 2 / 3; i < len(b); i++ {
				if b[i] >= 'a' && b[i] < 'z' || b[i] >= '1' && b[i] < '9' {
					b[i]++
					break
				}
			}
		case "slow":
			time.Sleep(20 * time.Millisecond)
		}
	}
	return s.Conn.Write(b)
}

// kill ends everything, as when the program is killed.
func (m *mishap) kill() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.dead = true
	for _, c := range m.open {
		_ = c.Close()
	}
}

func (m *mishap) dial(ctx context.Context, address string) (net.Conn, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.dead {
		return nil, net.ErrClosed
	}
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	m.open = append(m.open, c)
	return shaky{c, m}, nil
}

// bench is one device of a make in a lab.
type bench struct {
	t       *testing.T
	make    string
	designs []Design
	keys    site.Keys
	ways    map[string]string
	hostKey ssh.PublicKey
}

func newBench(t *testing.T, name string) *bench {
	b := &bench{t: t, make: name, ways: map[string]string{}}
	b.designs, b.keys = designs(t, name)
	folder, err := state.Create(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	first := design(t, b.designs[0].Path, b.keys) // a phrasebook is used by one at a time
	l, err := lab.Start(lab.Config{Site: first.Site, SitePath: first.Path, Keys: b.keys, State: folder,
		Network: labtest.Network(t), Speech: func(*site.Device) *standin.Speech {
			s, err := first.Speech("")
			require.NoError(t, err)
			return s
		}})
	require.NoError(t, err)
	t.Cleanup(func() { l.Shutdown(); require.NoError(t, folder.Close()) })
	place, _ := l.Places.Device("sw")
	b.hostKey, _, _, _, err = ssh.ParseAuthorizedKey([]byte(place.HostKey))
	require.NoError(t, err)
	for _, w := range place.Ways {
		b.ways[w.Access] = w.Address
	}
	return b
}

func (b *bench) attempt(access, person, password string) login.Attempt {
	return login.Attempt{Access: access, Address: b.ways[access], Person: person, Password: site.NewSecret(password),
		HostKey: b.hostKey, Patience: 3 * time.Second}
}

// now returns what the device holds: the administrator gets in for it, with full rights.
func (b *bench) now(story string) string {
	text := ""
	require.Eventually(b.t, func() bool {
		for _, access := range []string{site.SSH, site.Console, site.Telnet} {
			line, err := login.Open(b.t.Context(), b.attempt(access, "ines", "right"), b.designs[0].Book.Talk(), "sw")
			if err != nil {
				continue
			}
			says, err := line.Do(b.designs[0].Book.Talk().Show, "show")
			line.Close()
			if err == nil {
				text = strings.Join(append(says, ""), "\n")
				return true
			}
		}
		return false
	}, 20*time.Second, 5*time.Millisecond, "nobody gets in any more: "+story)
	return text
}

func (b *bench) holds(d Design, text string) bool {
	p, err := d.Plan(text)
	require.NoError(b.t, err, text)
	return len(p.Steps) == 0
}

// send puts a design on the device, with a mishap.
func (b *bench) send(ctx context.Context, d Design, access string, m *mishap) rollout.Report {
	a := b.attempt(access, "ines", "right")
	a.Dial = m.dial
	open := func(ctx context.Context) (*login.Line, error) { return login.Open(ctx, a, d.Book.Talk(), "sw") }
	report, err := Send(ctx, Session{Design: d, Open: open, Window: time.Minute, WithoutWayBack: true, Person: "ines",
		Access: access, Say: func(string) {}, Agree: func(*Plan) bool { return true },
		Ready: func(context.Context) error {
			if d.Path == b.designs[2].Path {
				return errors.New("nobody answers there")
			}
			return nil
		},
		Keep: func([]byte) (string, error) { return "kept", nil },
		Refused: func(ctx context.Context) (bool, error) {
			wrongly := a
			wrongly.Password = site.NewSecret("wrong")
			line, err := login.Open(ctx, wrongly, d.Book.Talk(), "sw")
			if err == nil {
				line.Close()
			}
			return errors.Is(err, login.ErrRefused), nil
		}})
	if err != nil {
		report.Why = err.Error()
	}
	return report
}

// In none of many runs with mishaps at any write, over every way in, is a device left that its
// administrators cannot enter, or that holds something else than what is said. MELLOWGATE_RUNS
// says how many.
func TestNoMishapAtTheCommandLineLocksAnybodyOut(t *testing.T) {
	t.Parallel()
	runs := 6
	if n, err := strconv.Atoi(os.Getenv("MELLOWGATE_RUNS")); err == nil {
		runs = n
	}
	for i, name := range []string{"quay-switch", "hull-router", "quay-switch with a commit",
		"quay-switch with a restart"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, name)
			r := rand.New(rand.NewPCG(20261128, uint64(i)))
			outcomes := map[string]int{}
			for n := range runs {
				was := b.now("before")
				d := b.designs[r.IntN(3)]
				access := []string{site.SSH, site.Telnet, site.Console}[r.IntN(3)]
				ctx, cancel := context.WithCancel(context.Background())
				m := &mishap{at: 1 + r.IntN(60), end: cancel,
					how: []string{"", "dropped", "lost", "killed", "ended", "slow", "garbled"}[r.IntN(7)]}
				noWay := d.Book.Talk().WayBack == nil
				if noWay && d.Path == b.designs[2].Path && m.how != "ended" { // it does not begin
					m.how = ""
				}
				report := b.send(ctx, d, access, m)
				cancel()
				m.kill()
				story := fmt.Sprintf("run %d over %s: %s at write %d of %d: %s %s", n, access, m.how, m.at, m.count,
					report.Outcome, report.Why)
				is := b.now(story)
				back := asBefore(d.Book, is, was)
				switch report.Outcome {
				case rollout.Kept, rollout.Same:
					require.True(t, b.holds(d, is), "%s\n%s", story, is)
				case rollout.TakenBack, rollout.Stopped, rollout.Declined:
					require.NoError(t, back, "%s\n%s\n%s", story, was, is)
				default:
					if !noWay { // the device goes back by itself, or what was proven stays
						require.True(t, back == nil || b.holds(d, is), "%s\n%s\n%s", story, was, is)
					}
				}
				require.False(t, b.holds(b.designs[2], is), story)
				outcomes[report.Outcome]++
				if testing.Verbose() {
					t.Log(story)
				}
			}
			t.Log(outcomes)
			if runs >= 25 {
				require.Subset(t, slices.Collect(maps.Keys(outcomes)), []string{rollout.Kept, rollout.TakenBack})
			}
		})
	}
}
