package rollout

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/beevik/etree"
	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/live/client/device"
	"mellowgate/internal/wire/netconf"
)

// fake is a device that does what a device of RFC 6241 does, and fails where it
// is told to.
type fake struct {
	running, candidate, before string // configurations
	fails                      string // the step that fails
	calls                      []string
	capabilities               []string
	opens                      int
	locked                     map[string]bool
	onProof                    func()
	// Habits that real devices have.
	heedsLocks bool // a lock of what runs keeps it from taking a change back
	forgets    bool // a validation makes it forget what is in the candidate
	validated  bool
	warns      []string
}

const oldConfig = `<data><system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><authentication>` +
	`<user-authentication-order xmlns:x="urn:ietf:params:xml:ns:yang:ietf-system">x:local-users</user-authentication-order>` +
	`<user><name>other</name><password>$6$some$hash</password></user></authentication></system></data>`

type session struct {
	*fake
	ended bool
}

func (f *fake) open(context.Context) (Device, error) {
	f.opens++
	if f.fails == fmt.Sprintf("open %d", f.opens) {
		return nil, errors.New("open fails")
	}
	return &session{fake: f}, nil
}

func (s *session) step(name string) error {
	s.calls = append(s.calls, name)
	if s.fails == name {
		return &netconf.Error{Tag: "operation-failed", Message: name + " fails"}
	}
	return nil
}

func (s *session) Has(c string) bool { return slices.Contains(s.capabilities, c) }
func (s *session) Models() device.Models {
	return device.ModelsOf(map[string]netconf.Module{yang.SystemNS: {}, yang.TACACSNS: {}})
}
func (s *session) Warned() []string { return s.warns }
func (s *session) Discard() error   { s.candidate = s.running; return s.step("discard") }
func (s *session) Validate() error  { s.validated = true; return s.step("validate") }

func (s *session) Lock(store string) error {
	if s.locked == nil {
		s.locked = map[string]bool{}
	}
	s.locked[store] = true
	return s.step("lock " + store)
}

func (s *session) Unlock(store string) error {
	delete(s.locked, store)
	return s.step("unlock " + store)
}

func (s *session) Read(store string) (device.Held, error) {
	text := s.running
	if store == "candidate" {
		text = s.candidate
	}
	if err := s.step("read"); err != nil {
		return device.Held{}, err
	}
	return device.Held{Models: s.Models(), Facts: device.FactsOf([]byte(text)), Data: []byte(text)}, nil
}

// shape is that of ietf-system, as far as the tests go.
type shape struct{}

func (shape) Keys(path []string) ([]string, bool) {
	switch path[len(path)-1] {
	case "user-authentication-order":
		return nil, true
	case "server", "user":
		return []string{"name"}, false
	}
	return nil, false
}

func (s *session) Edit(store string, config *etree.Element) error {
	if err := s.step("edit " + store); err != nil {
		return err
	}
	s.validated = false
	text := &s.candidate
	if store == "running" {
		text = &s.running
	}
	doc := etree.NewDocument()
	if err := doc.ReadFromBytes([]byte(*text)); err != nil {
		return err
	}
	if err := netconf.Edit(doc.Root(), config, "merge", shape{}); err != nil {
		return err
	}
	*text = string(netconf.Bytes(doc.Root().Copy()))
	return nil
}

func (s *session) commit() {
	if !s.forgets || !s.validated {
		s.running = s.candidate
	}
}

func (s *session) CommitConfirmed(time.Duration, string) error {
	s.before = s.running
	s.commit()
	return s.step("commit")
}

func (s *session) Commit(string) error {
	name := "confirm"
	if s.before == "" {
		name = "commit for good"
		s.commit()
	}
	err := s.step(name)
	if err == nil {
		s.before = ""
	}
	return err
}

func (s *session) restore() {
	if s.before != "" && !(s.heedsLocks && s.locked["running"]) {
		s.running, s.before = s.before, ""
	}
}

func (s *session) Cancel(string) error {
	err := s.step("cancel")
	if err == nil {
		s.restore()
	}
	return err
}

// End takes a change back that waits, as RFC 6241 section 8.4.1 has it.
func (s *session) End() {
	if s.ended {
		return
	}
	s.ended = true
	s.calls = append(s.calls, "end")
	if s.opens == 1 {
		s.restore()
	}
}

const designText = `
keys: {k: file k}
servers: [{name: tern, protocol: tacacs, address: 192.0.2.9, key: k}]
groups: [{name: g, servers: [tern]}]
lists: [{name: l, authenticate: login, methods: [group g, local]}]
devices: [{name: sw-1, addresses: [192.0.2.1], access: {netconf: {login: l}}}]
`

func sendIt(t *testing.T, f *fake, change func(*Config)) (Report, error) {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(designText)})
	require.NoError(t, err)
	f.running, f.candidate = oldConfig, oldConfig
	if f.capabilities == nil {
		f.capabilities = []string{netconf.Candidate, netconf.ConfirmedCommit, netconf.Validate}
	}
	c := Config{Site: s, Device: s.Device("sw-1"), Keys: site.Keys{"k": site.NewSecret("a-key-for-these-tests")},
		Open: f.open, Window: time.Minute, Say: func(string) {},
		Keep: func(device.Held) (string, error) { return "kept.xml", nil }, Agree: func(Plan) bool { return true },
		Prove: func(context.Context) []Proof {
			if f.onProof != nil {
				f.onProof()
			}
			return []Proof{{What: "somebody gets in", OK: f.fails != "proof", Saw: "seen"}}
		}}
	if change != nil {
		change(&c)
	}
	return Run(context.Background(), c)
}

func TestADesignIsSentProvenAndConfirmed(t *testing.T) {
	t.Parallel()
	f := &fake{}
	r, err := sendIt(t, f, nil)
	require.NoError(t, err)
	require.Equal(t, Kept, r.Outcome, r.Why)
	require.Equal(t, "kept.xml", r.Kept)
	require.NotEqual(t, oldConfig, f.running)
	require.Len(t, r.Proofs, 2)
	require.NotEmpty(t, r.Plan.Differences)
	confirmed, committed := slices.Index(f.calls, "confirm"), slices.Index(f.calls, "commit")
	require.Greater(t, confirmed, committed)
	require.Less(t, slices.Index(f.calls, "validate"), committed)
	require.Less(t, slices.Index(f.calls, "lock candidate"), slices.Index(f.calls, "edit candidate"))
	require.NotContains(t, f.calls, "cancel")

	again := *f
	f2 := &again
	f2.calls, f2.opens = nil, 0
	r, err = sendIt(t, f2, func(c *Config) { f2.running = f.running })
	require.NoError(t, err)
	require.Equal(t, Same, r.Outcome, "what is there already is left alone")
	require.NotContains(t, f2.calls, "commit")
}

// Whatever fails, at whatever step: the device ends as it was.
func TestWhateverFailsTheDeviceIsAsItWas(t *testing.T) {
	t.Parallel()
	for step, want := range map[string]string{"open 1": Stopped, "lock running": Stopped, "lock candidate": Stopped,
		"edit candidate": Stopped, "unlock running": Stopped, "validate": Stopped, "commit": TakenBack,
		"proof":   TakenBack,
		"confirm": TakenBack} {
		f := &fake{fails: step}
		r, err := sendIt(t, f, nil)
		require.Equal(t, want, r.Outcome, step)
		require.Equal(t, want == Stopped, err != nil, step)
		require.NotEmpty(t, r.Why, step)
		require.Equal(t, oldConfig, f.running, step)
		if step != "confirm" {
			require.NotContains(t, f.calls, "confirm", step)
		}
	}
	f := &fake{fails: "proof", capabilities: []string{netconf.Candidate, netconf.ConfirmedCommit10}}
	r, err := sendIt(t, f, nil)
	require.NoError(t, err)
	require.Equal(t, TakenBack, r.Outcome, "a device without cancel: the end of the session does it")
	require.NotContains(t, f.calls, "cancel")
	f = &fake{fails: "cancel"}
	_, _ = sendIt(t, f, func(c *Config) {
		c.Prove = func(context.Context) []Proof {
			return []Proof{{What: "in",
				Saw: "no"}}
		}
	})
	require.Equal(t, oldConfig, f.running, "a cancel that fails")
}

func TestNothingIsSentWithoutAWayBackOrAgreement(t *testing.T) {
	t.Parallel()
	for _, capabilities := range [][]string{{}, {netconf.Candidate}, {netconf.ConfirmedCommit}} {
		f := &fake{capabilities: append([]string{"x"}, capabilities...)}
		_, err := sendIt(t, f, nil)
		require.ErrorIs(t, err, ErrNoWayBack)
		require.NotContains(t, f.calls, "edit candidate")
	}
	f := &fake{}
	r, err := sendIt(t, f, func(c *Config) { c.Agree = func(Plan) bool { return false } })
	require.NoError(t, err)
	require.Equal(t, Declined, r.Outcome)
	require.NotContains(t, f.calls, "lock candidate")
	f = &fake{}
	_, err = sendIt(t, f,
		func(c *Config) { c.Keep = func(device.Held) (string, error) { return "", errors.New("no room") } })
	require.ErrorContains(t, err, "could not be kept: no room")
	require.NotContains(t, f.calls, "edit candidate")
}

func TestEndingItTakesAChangeBack(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithCancel(context.Background())
	f := &fake{}
	f.onProof = cancel
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(designText)})
	require.NoError(t, err)
	f.running = oldConfig
	f.candidate = oldConfig
	f.capabilities = []string{netconf.Candidate, netconf.ConfirmedCommit}
	r, err := Run(ctx, Config{Site: s, Device: s.Device("sw-1"),
		Keys: site.Keys{"k": site.NewSecret("a-key-for-these-tests")}, Open: f.open, Window: time.Minute,
		Say:  func(string) {},
		Keep: func(device.Held) (string, error) { return "", nil }, Agree: func(Plan) bool { return true },
		Prove: func(context.Context) []Proof { cancel(); return nil }})
	require.NoError(t, err)
	require.Equal(t, []string{TakenBack, "it was ended"}, []string{r.Outcome, r.Why})
	require.Equal(t, oldConfig, f.running)
}

func failing(c *Config) {
	c.Prove = func(context.Context) []Proof { return []Proof{{What: "in", Saw: "no"}} }
}

// Habits of devices that a program must live with.
func TestADeviceThatHeedsItsLocksWhenItTakesBackIsAsItWas(t *testing.T) {
	t.Parallel()
	for _, change := range []func(*Config){failing, func(c *Config) {
		c.Prove = func(context.Context) []Proof { panic("it dies here") }
	}} {
		f := &fake{heedsLocks: true}
		func() {
			defer func() { _ = recover() }()
			r, err := sendIt(t, f, change)
			require.NoError(t, err)
			require.Equal(t, TakenBack, r.Outcome)
		}()
		require.Equal(t, oldConfig, f.running)
	}
}

func TestADeviceThatForgetsWhatItValidatedIsGivenItAnew(t *testing.T) {
	t.Parallel()
	f := &fake{forgets: true, warns: []string{"the port is unusual"}}
	said := ""
	r, err := sendIt(t, f, func(c *Config) { c.Say = func(step string) { said += step + "\n" } })
	require.NoError(t, err)
	require.Equal(t, Kept, r.Outcome, r.Why)
	require.Contains(t, f.running, "tern")
	require.Equal(t, 1, strings.Count(said, "the device warns: the port is unusual"))
}

func TestChangesThatNobodyCommittedStopIt(t *testing.T) {
	t.Parallel()
	f := &fake{}
	_, err := sendIt(t, f, func(c *Config) {
		c.Agree = func(Plan) bool { f.candidate = strings.Replace(f.candidate, "other", "another", 1); return true }
	})
	require.ErrorIs(t, err, ErrUncommitted)
	require.NotContains(t, f.calls, "edit candidate")
	require.NotContains(t, f.calls, "discard", "they are somebody's")
}

func TestADeviceThatSomebodyChangedSinceItWasReadIsLeftAlone(t *testing.T) {
	t.Parallel()
	for _, capabilities := range [][]string{{netconf.Candidate, netconf.ConfirmedCommit}, {netconf.WritableRunning}} {
		f := &fake{capabilities: capabilities}
		_, err := sendIt(t, f, func(c *Config) {
			c.WithoutWayBack = true
			c.Agree = func(Plan) bool {
				f.running = strings.Replace(f.running, "other", "another", 1)
				f.candidate = f.running
				return true
			}
		})
		require.ErrorIs(t, err, ErrChanged)
		require.NotContains(t, f.calls, "edit candidate")
		require.NotContains(t, f.calls, "edit running")
	}
}

func TestWithoutAWayBackThisProgramPutsBackWhatWasThere(t *testing.T) {
	t.Parallel()
	for _, capabilities := range [][]string{{netconf.Candidate}, {netconf.WritableRunning}} {
		f := &fake{capabilities: capabilities}
		r, err := sendIt(t, f, func(c *Config) { c.WithoutWayBack = true })
		require.NoError(t, err)
		require.Equal(t, Kept, r.Outcome, r.Why)
		require.Contains(t, f.running, "tern")
		f = &fake{capabilities: capabilities}
		before := device.FactsOf([]byte(oldConfig))
		r, err = sendIt(t, f, func(c *Config) { c.WithoutWayBack = true; failing(c) })
		require.NoError(t, err)
		require.Equal(t, TakenBack, r.Outcome, r.Why)
		require.True(t, same(before, device.FactsOf([]byte(f.running))), f.running)
		require.NotContains(t, f.running, "tern")
	}
	f := &fake{capabilities: []string{"x"}}
	_, err := sendIt(t, f, func(c *Config) { c.WithoutWayBack = true })
	require.ErrorContains(t, err, "neither a candidate nor a running datastore that can be written")
}

const hash = "$6$saltsaltsalt$kR8UpqWrzbIr2DmnMx3GhlhQOEPs3cE6yWiOoMbnFEX1IvxEf6Cee2ETbvkvyEqQkSiH1H1rTHcLvDNyyvNQ8."

func TestTheLocalAccountsComeFirstAndStay(t *testing.T) {
	t.Parallel()
	withAccount := func(more func(*Config)) func(*Config) {
		return func(c *Config) {
			s, err := site.Parse(site.Source{Name: "site.yaml",
				Text: []byte(strings.Replace(designText, "{login: l}}", "{login: l}}, accounts: [keeper]", 1) +
					"accounts: [{name: keeper, level: 15, password: '" + hash + "'}]\n")})
			require.NoError(t, err)
			c.Site, c.Device = s, s.Device("sw-1")
			more(c)
		}
	}
	var f *fake
	proven := func(ok bool) func(context.Context, device.Held) []Proof {
		return func(_ context.Context, held device.Held) []Proof {
			require.Contains(t, f.running, "keeper")
			require.NotContains(t, f.running, "tern", "nothing else is there yet")
			return []Proof{{What: "keeper gets in", OK: ok, Saw: "seen"}}
		}
	}
	f = &fake{}
	r, err := sendIt(t, f, withAccount(func(c *Config) { c.ProveFallback = proven(true) }))
	require.NoError(t, err)
	require.Equal(t, Kept, r.Outcome, r.Why)
	require.Contains(t, f.running, "tern")
	require.Contains(t, f.running, "other", "an account that the site does not have stays")

	f = &fake{}
	r, err = sendIt(t, f, withAccount(func(c *Config) { c.ProveFallback = proven(false) }))
	require.NoError(t, err)
	require.Equal(t, TakenBack, r.Outcome)
	require.False(t, r.Accounts)
	require.Equal(t, oldConfig, f.running)

	f = &fake{}
	r, err = sendIt(t, f, withAccount(func(c *Config) { c.ProveFallback = proven(true); failing(c) }))
	require.NoError(t, err)
	require.Equal(t, TakenBack, r.Outcome)
	require.True(t, r.Accounts)
	require.Contains(t, f.running, "keeper")
	require.NotContains(t, f.running, "tern")
}

// A change that the device took back while it was proven is not committed anew.
func TestAChangeThatCameBackMeanwhileIsNotConfirmed(t *testing.T) {
	t.Parallel()
	f := &fake{}
	f.onProof = func() { f.running, f.before = f.before, "" }
	r, err := sendIt(t, f, nil)
	require.NoError(t, err)
	require.Equal(t, TakenBack, r.Outcome)
	require.Contains(t, r.Why, "server tern is missing")
	require.NotContains(t, f.calls, "commit for good")
	f = &fake{}
	r, err = sendIt(t, f, func(c *Config) { c.Window = 1 })
	require.NoError(t, err)
	require.Equal(t, []string{TakenBack, errTooLong.Error()}, []string{r.Outcome, r.Why})
}
