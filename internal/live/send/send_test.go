package send

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/beevik/etree"
	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/manage"
	"mellowgate/internal/wire/netconf"
)

// fake is a device that does what a device of RFC 6241 does, and fails where it
// is told to.
type fake struct {
	running, candidate, before string // which configuration: old or new
	fails                      string // the step that fails
	calls                      []string
	capabilities               []string
	opens                      int
	onProof                    func()
}

const oldConfig = `<data><system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><authentication>` +
	`<user-authentication-order xmlns:x="urn:ietf:params:xml:ns:yang:ietf-system">x:local-users</user-authentication-order></authentication></system></data>`

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

func (s *session) Has(c string) bool       { return slices.Contains(s.capabilities, c) }
func (s *session) Models() manage.Models   { return manage.Models{System: true, TACACS: true} }
func (s *session) Lock(store string) error { return s.step("lock " + store) }
func (s *session) Discard() error          { s.candidate = s.running; return s.step("discard") }
func (s *session) Validate() error         { return s.step("validate") }

func (s *session) Read() (manage.Held, error) {
	if err := s.step("read " + s.running); err != nil {
		return manage.Held{}, err
	}
	return manage.Held{Models: s.Models(), Facts: manage.FactsOf([]byte(s.running)), Data: []byte(s.running)}, nil
}

func (s *session) EditCandidate(config *etree.Element) error {
	if err := s.step("edit"); err != nil {
		return err
	}
	if x := config.FindElement("//tacacs-plus"); x != nil {
		made := etree.NewElement("data")
		for _, c := range config.ChildElements() {
			made.AddChild(c.Copy())
		}
		s.candidate = string(netconf.Bytes(made))
	}
	return nil
}

func (s *session) CommitConfirmed(time.Duration, string) error {
	s.before, s.running = s.running, s.candidate
	return s.step("commit")
}

func (s *session) Commit(string) error {
	err := s.step("confirm")
	if err == nil {
		s.before = ""
	}
	return err
}

func (s *session) Cancel(string) error {
	err := s.step("cancel")
	if err == nil && s.before != "" {
		s.running, s.before = s.before, ""
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
	if s.opens == 1 && s.before != "" {
		s.running, s.before = s.before, ""
	}
}

const designText = `
keys: {k: file k}
servers: [{name: tern, protocol: tacacs, address: 192.0.2.9, key: k}]
groups: [{name: g, servers: [tern]}]
lists: [{name: l, authenticate: login, methods: [group g, local]}]
devices: [{name: sw-1, addresses: [192.0.2.1], access: {netconf: {login: l}}}]
`

func run(t *testing.T, f *fake, change func(*Config)) (Report, error) {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(designText)})
	require.NoError(t, err)
	f.running, f.candidate = oldConfig, oldConfig
	if f.capabilities == nil {
		f.capabilities = []string{netconf.Candidate, netconf.ConfirmedCommit, netconf.Validate}
	}
	c := Config{Site: s, Device: s.Device("sw-1"), Keys: site.Keys{"k": site.NewSecret("a-key-for-these-tests")}, Open: f.open, Window: time.Minute, Say: func(string) {},
		Keep: func(manage.Held) (string, error) { return "kept.xml", nil }, Agree: func(Plan) bool { return true },
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
	f := &fake{}
	r, err := run(t, f, nil)
	require.NoError(t, err)
	require.Equal(t, Kept, r.Outcome, r.Why)
	require.Equal(t, "kept.xml", r.Kept)
	require.NotEqual(t, oldConfig, f.running)
	require.Len(t, r.Proofs, 2)
	require.NotEmpty(t, r.Plan.Differences)
	confirmed, committed := slices.Index(f.calls, "confirm"), slices.Index(f.calls, "commit")
	require.Greater(t, confirmed, committed)
	require.Less(t, slices.Index(f.calls, "validate"), committed)
	require.Less(t, slices.Index(f.calls, "lock candidate"), slices.Index(f.calls, "edit"))
	require.NotContains(t, f.calls, "cancel")

	again := *f
	f2 := &again
	f2.calls, f2.opens = nil, 0
	r, err = run(t, f2, func(c *Config) { f2.running = f.running })
	require.NoError(t, err)
	require.Equal(t, Same, r.Outcome, "what is there already is left alone")
	require.NotContains(t, f2.calls, "commit")
}

// Whatever fails, at whatever step: the device ends as it was.
func TestWhateverFailsTheDeviceIsAsItWas(t *testing.T) {
	for step, want := range map[string]string{"open 1": Stopped, "lock running": Stopped, "lock candidate": Stopped, "edit": Stopped, "validate": Stopped, "commit": TakenBack, "proof": TakenBack, "confirm": TakenBack} {
		f := &fake{fails: step}
		r, err := run(t, f, nil)
		require.Equal(t, want, r.Outcome, step)
		require.Equal(t, want == Stopped, err != nil, step)
		require.NotEmpty(t, r.Why, step)
		require.Equal(t, oldConfig, f.running, step)
		if step != "confirm" {
			require.NotContains(t, f.calls, "confirm", step)
		}
	}
	f := &fake{fails: "proof", capabilities: []string{netconf.Candidate, confirmedCommit10}}
	r, err := run(t, f, nil)
	require.NoError(t, err)
	require.Equal(t, TakenBack, r.Outcome, "a device without cancel: the end of the session does it")
	require.NotContains(t, f.calls, "cancel")
	f = &fake{fails: "cancel"}
	_, _ = run(t, f, func(c *Config) { c.Prove = func(context.Context) []Proof { return []Proof{{What: "in", Saw: "no"}} } })
	require.Equal(t, oldConfig, f.running, "a cancel that fails")
}

func TestNothingIsSentWithoutAWayBackOrAgreement(t *testing.T) {
	for _, capabilities := range [][]string{{}, {netconf.Candidate}, {netconf.ConfirmedCommit}} {
		f := &fake{capabilities: append([]string{"x"}, capabilities...)}
		_, err := run(t, f, nil)
		require.ErrorIs(t, err, ErrNoWayBack)
		require.NotContains(t, f.calls, "edit")
	}
	f := &fake{}
	r, err := run(t, f, func(c *Config) { c.Agree = func(Plan) bool { return false } })
	require.NoError(t, err)
	require.Equal(t, Declined, r.Outcome)
	require.NotContains(t, f.calls, "lock candidate")
	f = &fake{}
	_, err = run(t, f, func(c *Config) { c.Keep = func(manage.Held) (string, error) { return "", errors.New("no room") } })
	require.ErrorContains(t, err, "could not be kept: no room")
	require.NotContains(t, f.calls, "edit")
}

func TestEndingItTakesAChangeBack(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	f := &fake{}
	f.onProof = cancel
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(designText)})
	require.NoError(t, err)
	f.running, f.candidate, f.capabilities = oldConfig, oldConfig, []string{netconf.Candidate, netconf.ConfirmedCommit}
	r, err := Run(ctx, Config{Site: s, Device: s.Device("sw-1"), Keys: site.Keys{"k": site.NewSecret("a-key-for-these-tests")}, Open: f.open, Window: time.Minute, Say: func(string) {},
		Keep: func(manage.Held) (string, error) { return "", nil }, Agree: func(Plan) bool { return true }, Prove: func(context.Context) []Proof { cancel(); return nil }})
	require.NoError(t, err)
	require.Equal(t, []string{TakenBack, "it was ended"}, []string{r.Outcome, r.Why})
	require.Equal(t, oldConfig, f.running)
}
