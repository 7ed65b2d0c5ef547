package rollout_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/beevik/etree"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/device"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/rollout"
	"mellowgate/internal/testscale"
)

const labText = `site: Sent
keys: {k: file k, wrong: file w}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: KEY, timeout: 1s, run: true}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: KEY, timeout: 1s, run: true}
groups: [{name: g, servers: [ORDER]}]
lists:
  - {name: l, authenticate: login, methods: [group g, local]}
  - {name: s, authorize: session, methods: [group g, local]}
  - {name: c, authorize: commands, levels: 0-15, methods: [group g, local]}
accounts: [{name: keeper, level: 15, password: 'HASH'}, {name: mate, level: 15, password: 'OWN'}]
devices: [{name: sw, addresses: [192.0.2.11], accounts: [keeper, mate], defaults: {login: l, session: s, commands: c}, access: {console: {}, netconf: {}}}]
people: [{name: ines, teams: [net], password: 'HASH'}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: team net, role: all}]
service: {limits: {failure-delay: 0s}}
`

const password = "right of ines"

// designs are what is on the device at first, a good other one, and one with
// which nobody gets in by servers.
// With local, the first one has no servers yet, and whoever gets in changes.
func designs(t *testing.T, local bool) (first, other, broken *site.Site, keys site.Keys) {
	hash, err := secrets.Hash(password, 64, 1)
	require.NoError(t, err)
	text := labText
	if local {
		text = strings.NewReplacer(", session: s, commands: c", "", "name: sw,", "name: sw, platform: k,",
			"\naccounts:",
			"\nkinds: [{name: k, behaviour: {refusal: ends-list, level-without-session: 15}}]\naccounts:").Replace(text)
	}
	parse := func(text, key, order string) *site.Site {
		own, err := secrets.Hash(password, 64, 1) // of each design another: accounts go first, in a step of their own
		require.NoError(t, err)
		s, err := site.Parse(site.Source{Name: "site.yaml",
			Text: []byte(strings.NewReplacer("OWN", own, "HASH", hash, "KEY", key, "ORDER", order).Replace(text))})
		require.NoError(t, err)
		return s
	}
	keys = site.Keys{"k": site.NewSecret("the-key-of-these-servers-1"),
		"wrong": site.NewSecret("another-key-than-theirs-22")}
	first = parse(text, "k", "t1, t2")
	if local {
		first = parse(strings.ReplaceAll(text, "[group g, local]", "[local]"), "k", "t1, t2")
	}
	return first, parse(text, "k", "t2, t1"), parse(text, "wrong", "t1, t2"), keys
}

// mishap is what goes wrong in a run: from one call on.
type mishap struct {
	at    int    // the call
	how   string // error, lost reply, dropped, killed, ended, or "" for nothing
	calls int
	dead  bool
	open  []*device.Session
	end   context.CancelFunc
}

var errMishap = errors.New("a mishap of the test")

// step reports whether a call is made, and whether its answer is lost.
func (m *mishap) step() (made, answered bool) {
	if m.calls++; m.dead {
		return false, false
	}
	if m.calls != m.at {
		return true, true
	}
	switch m.how {
	case "error":
		return false, false
	case "lost reply":
		return true, false
	case "dropped":
		m.cut()
		return false, false
	case "killed":
		m.dead = true
		m.cut()
		return false, false
	case "ended":
		m.end()
	}
	return true, true
}

// cut ends every connection at once.
func (m *mishap) cut() {
	for _, s := range m.open {
		s.Cut()
	}
}

type shaky struct {
	*device.Session
	m *mishap
}

func (s shaky) do(call func() error) error {
	made, answered := s.m.step()
	if !made {
		return errMishap
	}
	if err := call(); err != nil {
		return err
	}
	if !answered {
		return errMishap
	}
	return nil
}

func (s shaky) Lock(store string) error { return s.do(func() error { return s.Session.Lock(store) }) }
func (s shaky) Discard() error          { return s.do(s.Session.Discard) }
func (s shaky) Validate() error         { return s.do(s.Session.Validate) }
func (s shaky) Commit(p string) error   { return s.do(func() error { return s.Session.Commit(p) }) }
func (s shaky) Cancel(p string) error   { return s.do(func() error { return s.Session.Cancel(p) }) }
func (s shaky) Unlock(store string) error {
	return s.do(func() error { return s.Session.Unlock(store) })
}
func (s shaky) Edit(store string, x *etree.Element) error {
	return s.do(func() error { return s.Session.Edit(store, x) })
}
func (s shaky) CommitConfirmed(d time.Duration, p string) error {
	return s.do(func() error { return s.Session.CommitConfirmed(d, p) })
}
func (s shaky) Read(store string) (h device.Held, err error) {
	err = s.do(func() error { h, err = s.Session.Read(store); return err })
	return h, err
}
func (s shaky) End() {
	if !s.m.dead {
		s.Session.End()
	}
}

// In none of many runs with mishaps at random steps is a device left that its
// administrators cannot enter, or that holds something else than what is said.
// MELLOWGATE_RUNS says how many.
func TestNoMishapAtAnyStepLocksAnybodyOut(t *testing.T) {
	t.Parallel()
	for name, local := range map[string]bool{"one identity": false, "two identities": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			mishaps(t, local)
		})
	}
}

func mishaps(t *testing.T, local bool) {
	runs := testscale.Of(10, 60)
	if n, err := strconv.Atoi(os.Getenv("MELLOWGATE_RUNS")); err == nil {
		runs = n
	}
	first, other, broken, keys := designs(t, local)
	folder, err := state.Create(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	l, err := lab.Start(lab.Config{Site: first, SitePath: "site.yaml", Keys: keys, State: folder,
		Network: labtest.Network(t)})
	require.NoError(t, err)
	defer func() { l.Shutdown(); require.NoError(t, folder.Close()) }()
	place, _ := l.Places.Device("sw")
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(place.HostKey))
	require.NoError(t, err)
	target := device.Target{Person: "ines", Auth: []ssh.AuthMethod{ssh.Password(password)}, HostKey: key,
		Timeout: 5 * time.Second}
	for _, w := range place.Ways {
		if w.Access == site.NETCONF {
			target.Address = w.Address
		}
	}
	// enters logs in as who changes: the person or, with two identities, also the account.
	enters := func(ctx context.Context) (*device.Session, error) {
		s, err := device.Open(ctx, target)
		if local && errors.Is(err, device.ErrRefused) {
			keeper := target
			keeper.Person = "keeper"
			return device.Open(ctx, keeper)
		}
		return s, err
	}
	// now gives which design is on the device; the administrator gets in for it.
	now := func(story string) *site.Site {
		var found *site.Site
		require.Eventually(t, func() bool {
			s, err := enters(context.Background())
			if err != nil {
				return false
			}
			defer s.End()
			held, err := s.Read("running")
			if err != nil {
				return false
			}
			for _, d := range []*site.Site{first, other, broken} {
				if !slices.ContainsFunc(device.Differences(d, d.Device("sw"), keys, held),
					func(x drift.Difference) bool { return x.About != drift.Account }) {
					found = d
				}
			}
			return found != nil
		}, 20*time.Second, 5*time.Millisecond, story)
		return found
	}
	r := rand.New(rand.NewPCG(20261123, 8))
	outcomes := map[string]int{}
	for n := range runs {
		was := now("before")
		want := []*site.Site{first, other, broken}[r.IntN(3)]
		ctx, cancel := context.WithCancel(context.Background())
		m := &mishap{at: 1 + r.IntN(34), how: []string{
			"", "error", "lost reply", "dropped", "killed", "ended"}[r.IntN(6)],
			end: cancel}
		as := func(enter func(context.Context) (*device.Session, error)) func(context.Context) (rollout.Device, error) {
			return func(ctx context.Context) (rollout.Device, error) {
				if m.dead {
					return nil, errMishap
				}
				s, err := enter(ctx)
				if err != nil {
					return nil, err
				}
				m.open = append(m.open, s)
				return shaky{s, m}, nil
			}
		}
		open := as(enters)
		proves := as(func(ctx context.Context) (*device.Session, error) { return device.Open(ctx, target) })
		if local && want == first { // without servers only the account gets in
			proves = open
		}
		report, _ := rollout.Run(ctx, rollout.Config{Site: want, Device: want.Device("sw"), Keys: keys, Open: open,
			Window: time.Minute, Say: func(string) {}, Unseen: 300 * time.Millisecond,
			Keep: func(device.Held) (string, error) { return "", nil }, Agree: func(rollout.Plan) bool { return true },
			Prove: func(ctx context.Context) []rollout.Proof {
				s, err := proves(ctx)
				if err == nil {
					s.End()
				}
				return []rollout.Proof{{What: "ines gets in", OK: err == nil, Saw: fmt.Sprint(err)}}
			}})
		cancel()
		m.dead = true
		m.cut()
		story := fmt.Sprintf("run %d: %s at call %d: %+v", n, m.how, m.at, report)
		is := now(story)
		require.NotSame(t, broken, is, story)
		switch report.Outcome {
		case rollout.Kept, rollout.Same:
			require.Same(t, want, is, story)
		case rollout.TakenBack, rollout.Stopped, rollout.Declined:
			require.Same(t, was, is, story)
			if report.Accounts {
				outcomes["accounts stay"]++
			}
		}
		outcomes[report.Outcome]++
	}
	t.Log(outcomes)
	require.Greater(t, outcomes[rollout.Kept], 0)
	require.Greater(t, outcomes[rollout.TakenBack], 0)
	require.Greater(t, outcomes[rollout.Stopped], 0)
}
