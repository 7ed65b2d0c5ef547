package learn

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/exchange"
	"mellowgate/internal/core/foresee"
	core "mellowgate/internal/core/learn"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/testscale"
)

const text = `site: Learned
keys: {k: clear a-key-for-this-test}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 400ms, dead-time: 1s}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k, timeout: 400ms, dead-time: 1s}
  - {name: r1, protocol: radius, address: 192.0.2.3, key: k, timeout: 400ms, attempts: 2, dead-time: 1s}
groups: [{name: t, servers: [t1, t2]}, {name: r, servers: [r1]}]
lists:
  - {name: l, authenticate: login, methods: [group t, local]}
  - {name: lr, authenticate: login, methods: [group r, local]}
  - {name: first, authenticate: login, methods: [local, group t]}
  - {name: s, authorize: session, methods: [group t, local]}
  - {name: sr, authorize: session, methods: [group r, local]}
  - {name: v, account: sessions, when: start and stop, methods: [group t]}
platforms: [{name: make}]
accounts: [{name: keeper, level: 15, password: 'HASH'}]
devices:
  - {name: sw, platform: make, addresses: [192.0.2.11], accounts: [keeper], access: {
      ssh: {login: l, session: s, record-sessions: v}, telnet: {login: first}, web: {login: l, session: s},
      console: {login: l, session: s}}}
  - {name: ap, platform: make, addresses: [192.0.2.12], accounts: [keeper], access: {
      ssh: {login: lr, session: sr}, telnet: {login: lr}, console: {login: lr, session: sr}}}
`

func read(t *testing.T) (*site.Site, site.Keys) {
	t.Helper()
	hash, err := secrets.Hash("the way back", 64, 1)
	require.NoError(t, err)
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(strings.ReplaceAll(text, "HASH", hash))})
	require.NoError(t, err)
	return s, site.Keys{"k": site.NewSecret("a-key-for-this-test")}
}

// stand is a lab of stand-ins that behave in some way, whose servers nobody runs.
type stand struct {
	places evidence.Places
	lab    *lab.Lab
}

func start(t *testing.T, behave ...string) stand {
	t.Helper()
	s, keys := read(t)
	s.Lab.Network = labtest.Network(t)
	folder, err := state.Create(t.TempDir() + "/state")
	require.NoError(t, err)
	config := lab.Config{Site: s, Keys: keys, State: folder, Devices: true}
	for _, text := range behave {
		b, err := s.Supposition("make " + text)
		require.NoError(t, err)
		config.Behaves = append(config.Behaves, b)
	}
	l, err := lab.Start(config)
	require.NoError(t, err)
	t.Cleanup(func() { l.Shutdown(); _ = folder.Close() })
	return stand{places: l.Places, lab: l}
}

// config is how a device of the lab is learned.
func (st stand) config(t *testing.T, device string) Config {
	s, keys := read(t)
	d := s.Device(device)
	place, found := st.places.Device(device)
	require.True(t, found)
	clients := map[netip.Addr]*site.Device{}
	for _, p := range st.places.Devices {
		clients[netip.MustParseAddr(p.Source)] = s.Device(p.Name)
	}
	return Config{Site: s, Keys: keys, Device: d, Account: "keeper", Password: site.NewSecret("the way back"),
		Clients:   clients,
		Directory: func() exchange.Directory { return exchange.InPlaces(s, keys, st.places) },
		Where: func(v *site.Server) gate.Place {
			for _, p := range st.places.Servers {
				if p.Name == v.Name {
					at := netip.MustParseAddr(p.Address)
					if v.Protocol == site.RADIUS {
						return gate.Place{Server: v, Authentication: netip.AddrPortFrom(at, v.AuthenticationPort),
							Accounting: netip.AddrPortFrom(at, v.AccountingPort)}
					}
					return gate.Place{Server: v, Authentication: netip.AddrPortFrom(at, p.Port)}
				}
			}
			return gate.Place{}
		},
		Attempt: func(w *site.Way) (login.Attempt, error) {
			key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(place.HostKey))
			require.NoError(t, err)
			for _, at := range place.Ways {
				if at.Access == w.Access {
					return login.Attempt{Access: w.Access, Address: at.Address, HostKey: key, Trusted: st.lab.Trusted(),
						ServerName: device, Patience: 20 * time.Second}, nil
				}
			}
			t.Fatal("no way in by " + w.Access)
			return login.Attempt{}, nil
		}, Say: func(text string) { t.Log(text) }}
}

// devices is how many stand-ins with behaviour of chance are learned.
var devices = flag.Int("devices", testscale.Of(1, 2), "how many stand-ins that behave at random")

// What is claimed of a device, with real packets, is how it was set, and it takes no more
// logins and no more time than is promised.
func TestWhatIsLearnedOfADeviceIsHowItBehaves(t *testing.T) {
	t.Parallel()
	for n := range *devices {
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			t.Parallel()
			random := rand.New(rand.NewPCG(uint64(n), 28))
			s, _ := read(t)
			core.Cast(s, s.Platforms[0])
			device := []string{"sw", "ap"}[n%2]
			of, err := core.New(core.Options{Reckoner: foresee.Forecaster{Site: s}, Device: s.Device(device),
				Account: "keeper"})
			require.NoError(t, err)
			var behave []string
			want := s.Platforms[0].Behaviour
			for _, aspect := range of.Open() {
				values := of.Left(aspect)
				value := values[random.IntN(len(values))]
				want, _ = want.With(aspect, value)
				behave = append(behave, aspect.String()+": "+value)
			}
			c := start(t, behave...).config(t, device)
			var said []string
			c.Say = func(text string) { said = append(said, text) }
			r, err := Learn(context.Background(), c)
			require.NoError(t, err, "%s\n%s", behave, strings.Join(said, "\n"))
			require.Empty(t, r.Odd, "%s\n%s", behave, strings.Join(said, "\n"))
			for aspect, value := range r.Claimed {
				require.Equal(t, want.Value(aspect), value, "%s\n%s", aspect, strings.Join(said, "\n"))
				require.NotEmpty(t, r.Proof[aspect])
			}
			for aspect, values := range r.Left {
				require.Contains(t, values, want.Value(aspect))
			}
			form := map[string]site.Aspect{"sw": site.AspectPasswordTACACS, "ap": site.AspectPasswordRADIUS}[device]
			for _, aspect := range []site.Aspect{form, site.AspectRefusal} {
				require.Contains(t, r.Claimed, aspect, "%s\n%s", behave, strings.Join(said, "\n"))
			}
			require.LessOrEqual(t, r.Logins, 40)
			require.Less(t, r.Took, 72*time.Second)
			require.NotEmpty(t, r.Measured.Names["ssh"])
		})
	}
}

func TestTimersFormsAndNamesAreMeasured(t *testing.T) {
	t.Parallel()
	c := start(t, "password-form radius: chap").config(t, "ap")
	r, err := Learn(context.Background(), c)
	require.NoError(t, err)
	m := r.Measured
	require.InDelta(t, 0.4, m.Between["r1"].Low.Seconds(), 0.1, "jitter is a tenth")
	require.Equal(t, 2, m.Attempts["r1"])
	require.Empty(t, m.Alone, "it is the only one of its group")
	require.Equal(t, map[string][]string{"radius": {"chap"}}, m.Forms)
	require.Equal(t, []string{"ssh0"}, m.Names["ssh"])
	require.Len(t, m.Sources, 1)
	require.True(t, m.Ports)
	require.Contains(t, m.Carries["radius"], "NAS-Identifier")
	require.NotContains(t, strings.Join(m.Carries["radius"], " "), "the way back")
}

func TestForHowLongAServerIsLeftAloneIsMeasured(t *testing.T) {
	t.Parallel()
	r, err := Learn(context.Background(), start(t).config(t, "sw"))
	require.NoError(t, err)
	alone := r.Measured.Alone["t1"]
	require.NotNil(t, alone)
	require.InDelta(t, 0.9, alone.Low.Seconds(), 0.2, "a dead-time of 1 s")
	require.InDelta(t, 1.2, alone.High.Seconds(), 0.3)
	require.InDelta(t, 0.4, r.Measured.Gives["t1"].Low.Seconds(), 0.1)
}

func TestNothingIsTriedBeforeTheWayBackIsProven(t *testing.T) {
	t.Parallel()
	c := start(t).config(t, "sw")
	c.Password = site.NewSecret("not the password")
	c.Kept = func(d Done) error {
		t.Errorf("%s is kept: with the right password it would not be tried again", d.Experiment)
		return nil
	}
	tried := 0
	attempt := c.Attempt
	c.Attempt = func(w *site.Way) (login.Attempt, error) { tried++; return attempt(w) }
	r, err := Learn(context.Background(), c)
	require.ErrorIs(t, err, ErrNoWayBack)
	require.ErrorContains(t, err, "keeper by ssh while t1 and t2 are silent: refused")
	require.ErrorContains(t, err, "Nothing else was tried. Is the password that of the account? If it is: a device "+
		"with all-dead: passes and accounting-failure: blocks does the same.")
	require.LessOrEqual(t, tried, mostWaysBack)
	require.Empty(t, r.Claimed)
}

func TestWhatAnEarlierRunSawIsNotTriedAgain(t *testing.T) {
	t.Parallel()
	st := start(t)
	c := st.config(t, "ap")
	var kept []Done
	ctx, stop := context.WithCancel(context.Background())
	c.Kept = func(d Done) error {
		kept = append(kept, d)
		if len(kept) == 3 {
			stop() // as Ctrl-C does
		}
		return nil
	}
	first, err := Learn(ctx, c)
	require.ErrorIs(t, err, context.Canceled)
	require.Equal(t, 3, first.Logins)

	again := st.config(t, "ap")
	again.Known = kept
	again.Kept = func(d Done) error {
		for _, before := range kept {
			require.NotEqual(t, before.Experiment, d.Experiment)
		}
		return nil
	}
	second, err := Learn(context.Background(), again)
	require.NoError(t, err)
	whole, err := Learn(context.Background(), st.config(t, "ap"))
	require.NoError(t, err)
	require.Equal(t, whole.Claimed, second.Claimed)
}

func TestADeviceThatOthersLogInToIsLeftAlone(t *testing.T) {
	t.Parallel()
	st := start(t)
	c := st.config(t, "sw")
	attempt := c.Attempt
	c.Attempt = func(w *site.Way) (login.Attempt, error) {
		a, err := attempt(w)
		if err == nil {
			other := a
			other.Person, other.Password = "somebody.else", site.NewSecret("whatever")
			_, _ = login.Do(context.Background(), other)
		}
		return a, err
	}
	_, err := Learn(context.Background(), c)
	require.ErrorIs(t, err, ErrInService)
	require.ErrorContains(t, err, "somebody.else logged in to sw meanwhile")
}

// A way in that the program cannot try is tried by a person, who says what came of it and
// not how long it took.
func TestAPersonTriesWhatTheProgramCannot(t *testing.T) {
	t.Parallel()
	st := start(t, "console-obeys-authorization: false", "level-without-session: 4")
	c := st.config(t, "sw")
	attempt, asked := c.Attempt, 0
	c.Ways = []string{site.SSH, site.Console}
	c.Attempt = func(w *site.Way) (login.Attempt, error) {
		if w.Access == site.Console {
			return login.Attempt{}, errors.New("tried by hand")
		}
		return attempt(w)
	}
	c.ByHand = func(ctx context.Context, l foresee.Login) (core.Seen, error) {
		asked++
		a, err := attempt(l.Way)
		require.NoError(t, err)
		a.Person, a.Password = l.Who.Typed(), site.NewSecret(PasswordOfExperiments)
		if l.Who.Kind == foresee.Local {
			a.Password = c.Password
		}
		seen, err := login.Do(ctx, a)
		return core.Seen{In: seen.Outcome == walk.OutcomeIn, Level: seen.Level, Wait: time.Hour, Unclocked: true}, err
	}
	r, err := Learn(context.Background(), c)
	require.NoError(t, err)
	require.Positive(t, asked)
	require.Equal(t, "false", r.Claimed[site.AspectConsoleObeys])
	require.Equal(t, "4", r.Claimed[site.AspectLevelWithoutSession])
	require.Less(t, r.Patience, time.Minute, "what was not measured shows no patience")
	c = st.config(t, "sw")
	c.Ways = []string{site.Console}
	c.Attempt = func(*site.Way) (login.Attempt, error) { return login.Attempt{}, errors.New("no") }
	_, err = Learn(context.Background(), c)
	require.ErrorContains(t, err, "no", "nobody is there to be asked")
}

func TestAPlanSaysHowLongItTakesAndTriesNothing(t *testing.T) {
	t.Parallel()
	s, keys := read(t)
	p, err := MakePlan(Config{Site: s, Keys: keys, Device: s.Device("sw"), Account: "keeper"})
	require.NoError(t, err)
	require.Equal(t, "keeper by ssh while t1 and t2 are silent", p.Back)
	require.Contains(t, p.Steps[0], p.Back)
	require.Contains(t, p.Open, site.AspectRefusal)
	require.Greater(t, p.Logins, 5)
	require.Greater(t, p.Took, time.Second)
	s, keys = read(t)
	_, err = MakePlan(Config{Site: s, Keys: keys, Device: &site.Device{Ref: site.Ref{Name: "none"},
		Profile: &site.Profile{}, Platform: s.Platforms[0]}})
	require.ErrorContains(t, err, "asks no server")
}
