package lab_test

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/live/store/state"
)

// rig is a lab of the reviewed demo site with short waits.
type rig struct {
	*lab.Lab
	t       *testing.T
	site    *site.Site
	keys    site.Keys
	state   *state.Folder
	network netip.Prefix
	ins     int // logins that were let in
}

// start starts the lab; change may change the site before.
func start(t *testing.T, change ...func(*site.Site)) *rig {
	const path = "../../../demo/as-reviewed/site.yaml"
	s, _, err := sitefile.Load(path)
	require.NoError(t, err)
	keys, missing := secrets.Keys(s, "../../../demo", secrets.Unlock{})
	require.Empty(t, missing)
	for _, server := range s.Servers {
		server.Timeout /= 5
	}
	for _, c := range change {
		c(s)
	}
	folder, err := state.Create(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	network := labtest.Network(t)
	l, err := lab.Start(lab.Config{Site: s, SitePath: path, Keys: keys, State: folder, Network: network})
	require.NoError(t, err)
	t.Cleanup(func() {
		l.Shutdown()
		require.NoError(t, folder.Close())
	})
	return &rig{l, t, s, keys, folder, network, 0}
}

// patient gives every answer all the time that a busy machine needs: for tests in
// which none is missing.
func patient(s *site.Site) {
	for _, server := range s.Servers {
		server.Timeout = 20 * time.Second
	}
}

// login makes a real login; an empty password is the person's own.
func (r *rig) login(device, access, person, password string, commands ...string) login.Seen {
	r.t.Helper()
	place, ok := r.Places.Device(device)
	require.True(r.t, ok)
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(place.HostKey))
	require.NoError(r.t, err)
	i := slices.IndexFunc(place.Ways, func(w evidence.WayPlace) bool { return w.Access == access })
	require.GreaterOrEqual(r.t, i, 0)
	secret := site.NewSecret(password)
	if password == "" {
		secret, err = secrets.SecretFile(filepath.Join("../../../demo/passwords", person))
		require.NoError(r.t, err)
	}
	seen, err := login.Do(context.Background(),
		login.Attempt{Access: access, Address: place.Ways[i].Address, Person: person,
			Password: secret, Commands: commands, HostKey: key, Patience: 20 * time.Second})
	require.NoError(r.t, err)
	require.Empty(r.t, seen.Detail)
	if seen.Outcome == walk.OutcomeIn { // the record of the session's end may rest servers: it is waited for
		r.ins++
		require.Eventually(r.t, func() bool {
			e, _, err := r.state.Evidence()
			require.NoError(r.t, err)
			ends := 0
			for _, t := range e.Traces {
				if t.Kind == evidence.TraceGoodbye {
					ends++
				}
			}
			return ends >= r.ins
		}, 30*time.Second, 5*time.Millisecond)
	}
	return seen
}

// foreseen returns what foresee says of a login.
func (r *rig) foreseen(device, access, person string, silent ...string) foresee.Case {
	f := foresee.Forecaster{Site: r.site, Keys: r.keys, Now: time.Now()}
	d := r.site.Device(device)
	who, ok := f.Find(d, person)
	require.True(r.t, ok)
	dark := map[*site.Server]bool{}
	for _, name := range silent {
		dark[r.site.Server(name)] = true
	}
	for _, c := range f.Cases(d, d.Way(access), who) {
		if c.Holds(dark) {
			return c
		}
	}
	r.t.Fatal("no case")
	return foresee.Case{}
}

// triesForeseen returns what each method was to ask of whom during the login, and
// how it ends. A case goes on with a first command, which is not the login's.
func triesForeseen(steps []walk.Step) []string {
	all := []string{}
	for _, s := range steps {
		if s.Purpose == site.Commands || s.Purpose == site.RecordCommands {
			break
		}
		for _, t := range s.Tries {
			all = append(all, fmt.Sprint(s.Purpose, " ", s.Method, " ", t.Server.Name, " ", t.N, " ", t.Reply.Result))
		}
	}
	return all
}

// triesDone returns what the device did, in the form of triesForeseen.
func triesDone(steps []evidence.TraceStep) []string {
	all := []string{}
	for _, s := range steps {
		for _, t := range s.Tries {
			all = append(all, fmt.Sprint(s.Purpose, " ", s.Method, " ", t.Server, " ", t.Try, " ", t.Result))
		}
	}
	return all
}

// newest returns the newest trace of a login on a device.
func (r *rig) newest(device string) evidence.Trace {
	e, notes, err := r.state.Evidence()
	require.NoError(r.t, err)
	require.Empty(r.t, notes)
	var found evidence.Trace
	for _, t := range e.Traces {
		if t.Device == device && t.Kind == evidence.TraceLogin && !t.Time.Before(found.Time) {
			found = t
		}
	}
	return found
}

func (r *rig) records(f ledger.Filter) []ledger.Record {
	var all []ledger.Record
	require.NoError(r.t, ledger.Folder(r.state.Records()).Read(context.Background(), f, func(rec ledger.Record) error {
		all = append(all, rec)
		return nil
	}))
	return all
}

func (r *rig) why(device, person string) []string {
	e, _, err := r.state.Evidence()
	require.NoError(r.t, err)
	e.Site = r.site
	v := diagnose.Explain(e, diagnose.Symptom{Device: device, Person: person})
	require.True(r.t, v.Found)
	names := []string{}
	for _, c := range v.Causes {
		names = append(names, c.Cause)
	}
	return names
}

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// Every login of every person, at both simulated ways of every device, in
// several outages, comes out as foresee says: outcome, level, who answered,
// and the wait.
func TestEveryLoginComesOutAsForeseen(t *testing.T) {
	t.Parallel()
	for _, silent := range [][]string{nil, {"tern"}, {"sanderling"}, {"sanderling", "tern", "plover"}} {
		t.Run(fmt.Sprint(silent), func(t *testing.T) {
			t.Parallel()
			everyLogin(t, silent)
		})
	}
}

func everyLogin(t *testing.T, silent []string) {
	change := []func(*site.Site){}
	if silent == nil {
		change = append(change, patient)
	}
	r := start(t, change...)
	people := []string{"ines.marsh", "tobin.reed", "wren.auditor", "odd.larsen", "harbourmaster", "master"}
	for _, s := range r.site.Servers {
		r.Silence(s, slices.Contains(silent, s.Name))
	}
	for _, device := range []string{"north-sw-1", "mv-avocet-rtr"} {
		for _, access := range []string{site.SSH, site.Console} {
			for _, person := range people {
				d := r.site.Device(device)
				if slices.Contains([]string{"harbourmaster", "master"}, person) && d.Account(person) == nil {
					continue
				}
				if len(silent) == 3 && access == site.Console && person != people[0] {
					continue // the same wait again: one is enough
				}
				name := fmt.Sprint(silent, " ", device, " ", access, " ", person)
				want := r.foreseen(device, access, person, silent...)
				var seen login.Seen
				var trace evidence.Trace
				for range 4 { // a late answer of a busy machine comes once, a mismatch each time
					r.Wake(d)
					seen = r.login(device, access, person, "")
					if trace = r.newest(device); slices.Equal(triesForeseen(want.Steps), triesDone(trace.Steps)) {
						break
					}
				}
				require.Equal(t, want.Outcome == walk.OutcomeIn, seen.Outcome == walk.OutcomeIn, name)
				require.Equal(t, want.Level, seen.Level, name)
				require.Equal(t, want.By, trace.By, name)
				require.Equal(t, triesForeseen(want.Steps), triesDone(trace.Steps), name)
				// The tries say that nothing waits longer than foreseen: a busy machine may be slow.
				require.GreaterOrEqual(t, trace.Seconds, want.Wait.Seconds()-0.05, name)
				require.GreaterOrEqual(t, seen.Took.Seconds(), trace.Seconds-0.05, name)
			}
		}
	}
}

func TestADeviceCountsWhatCameOfAskingItsServers(t *testing.T) {
	t.Parallel()
	r := start(t)
	f, err := lab.ParseFault(r.site, "tern silent")
	require.NoError(t, err)
	r.login("north-sw-1", site.SSH, "ines.marsh", "")
	r.Set(f)
	seen := r.login("north-sw-1", site.SSH, "ines.marsh", "", "look counters", "look servers", "look log")
	require.Regexp(t, `tern +login +sent 2, accepted 1, refused 0, silent 1; connections 1; answers in`,
		seen.Commands[0].Output)
	require.Regexp(t, `plover +login +sent 1, accepted 1, refused 0; connections 1; answers in`,
		seen.Commands[0].Output)
	require.Regexp(t, `tern +asked \d+, answered \d+ \(refused 0\), no answer 1, rests for \S+ more`,
		seen.Commands[1].Output)
	require.Contains(t, seen.Commands[2].Output, "ines.marsh is in by ssh")
}

func TestCommandsAreDecidedByRulesAndRecorded(t *testing.T) {
	t.Parallel()
	r := start(t, patient)
	seen := r.login("north-sw-1", site.SSH, "ines.marsh", "", "look session", "set port 3 off", "look settings", "save",
		"nonsense", "set port 9 off")
	require.Equal(t, []string{"allowed", "allowed", "allowed", "allowed", "allowed", "allowed"}, results(seen))
	require.Contains(t, seen.Commands[0].Output, "level    15")
	require.Contains(t, seen.Commands[2].Output, "port 3   off")
	require.Contains(t, seen.Commands[4].Output, "unknown command")
	seen = r.login("north-sw-1", site.SSH, "tobin.reed", "", "look settings", "look secrets", "set port 3 on", "help")
	require.Equal(t, []string{"allowed", "refused", "refused", "allowed"}, results(seen))
	require.Contains(t, seen.Commands[1].Output, "the server tern does not allow this command")
	require.Contains(t, seen.Commands[2].Output, "needs level 15, and you have level 1")
	require.Equal(t, []string{"command-refused"}, r.why("north-sw-1", "tobin.reed"))

	var commands []string
	for _, rec := range r.records(ledger.Filter{Kinds: []string{"command"}}) {
		commands = append(commands, rec.Person+": "+rec.Command)
	}
	require.Equal(t, []string{"ines.marsh: look session", "ines.marsh: set port 3 off", "ines.marsh: look settings",
		"ines.marsh: save",
		"ines.marsh: set port 9 off", "tobin.reed: look settings"}, commands)
	var refusals []ledger.Record
	require.Eventually(t, func() bool {
		refusals = r.records(ledger.Filter{Kinds: []string{"decision"}})
		return len(refusals) == 1
	}, 30*time.Second, 10*time.Millisecond)
	require.Contains(t, refusals[0].Reason, `command-refused: the rule "refuse look secrets **"`)
	starts := r.records(ledger.Filter{Kinds: []string{"session-start"}})
	require.Len(t, starts, 2)
	require.Equal(t, []any{15, "ssh", "tacacs", "tern"},
		[]any{starts[0].Level, starts[0].Access, starts[0].Protocol, starts[0].Node})
	require.Eventually(t, func() bool { return len(r.records(ledger.Filter{Kinds: []string{"session-stop"}})) == 2 },
		5*time.Second, 10*time.Millisecond)
}

func results(s login.Seen) []string {
	var all []string
	for _, c := range s.Commands {
		all = append(all, string(c.Result))
	}
	return all
}

func TestTheCausesOfFailedLoginsAreNamed(t *testing.T) {
	t.Parallel()
	r := start(t)
	sw := "north-sw-1"
	require.EqualValues(t, "in", r.login(sw, site.SSH, "ines.marsh", "").Outcome)
	require.Empty(t, r.why(sw, "ines.marsh"), "healthy")
	r.login(sw, site.SSH, "ines.marsh", "wrong")
	require.Equal(t, []string{"wrong-password"}, r.why(sw, "ines.marsh"))
	r.login(sw, site.SSH, "ines.mrash", "whatever")
	require.Equal(t, []string{"unknown-person"}, r.why(sw, "ines.mrash"))
	r.login(sw, site.SSH, "harbourmaster", "")
	require.Equal(t, []string{"local-while-server-answers"}, r.why(sw, "harbourmaster"))
	r.login("mv-godwit-rtr", site.SSH, "wren.auditor", "")
	require.Equal(t, []string{"no-grant"}, r.why("mv-godwit-rtr", "wren.auditor"))

	south := r.site.Device("south-sw-1")
	for _, name := range []string{"tern", "plover"} {
		r.DeviceKey(south, r.site.Server(name), site.NewSecret("not the key of this server"))
	}
	require.EqualValues(t, "refused", r.login("south-sw-1", site.SSH, "ines.marsh", "").Outcome)
	require.Equal(t, []string{"key-differs", "key-differs"}, r.why("south-sw-1", "ines.marsh"))

	r.Set(lab.Fault{What: "key-differs", Server: r.site.Server("sanderling")})
	require.EqualValues(t, "in", r.login("mv-curlew-rtr", site.SSH, "ines.marsh", "").Outcome,
		"by tern, after the wait for sanderling")
	require.Equal(t, []string{"key-differs"}, r.why("mv-curlew-rtr", "ines.marsh"))

	avocet := r.site.Device("mv-avocet-rtr")
	r.Cut(avocet, true)
	r.login("mv-avocet-rtr", site.SSH, "master", "")
	require.Equal(t, []string{"fallback-used", "unreachable", "unreachable", "unreachable"},
		r.why("mv-avocet-rtr", "master"))
	r.Cut(avocet, false)
	r.Wake(avocet)

	for _, name := range []string{"tern", "plover"} {
		r.Set(lab.Fault{What: "closed", Server: r.site.Server(name)})
	}
	north := r.site.Device(sw)
	r.Wake(north)
	require.EqualValues(t, "refused", r.login(sw, site.SSH, "tobin.reed", "").Outcome)
	require.Equal(t, []string{"server-off", "server-off"}, r.why(sw, "tobin.reed"))
	for _, name := range []string{"tern", "plover"} {
		require.True(t, r.Lift(lab.Fault{What: "closed", Server: r.site.Server(name)}))
	}
	r.Wake(north)
	require.EqualValues(t, "in", r.login(sw, site.SSH, "tobin.reed", "").Outcome, "and they are back")
}

func TestAWayInThatLosesItsPatienceHangsUp(t *testing.T) {
	t.Parallel()
	r := start(t, func(s *site.Site) {
		// the servers' waits are 0.8 s in all
		s.Device("mv-curlew-rtr").Platform.Behaviour.LoginWindow = 500 * time.Millisecond
	})
	curlew := r.site.Device("mv-curlew-rtr")
	r.Cut(curlew, true)
	want := r.foreseen("mv-curlew-rtr", site.SSH, "master", "sanderling", "tern", "plover")
	require.Equal(t, []any{walk.OutcomeRefused, reason.GivesUpFirst}, []any{want.Outcome, want.Reason})
	place, _ := r.Places.Device("mv-curlew-rtr")
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(place.HostKey))
	require.NoError(t, err)
	password, err := secrets.SecretFile("../../../demo/passwords/master")
	require.NoError(t, err)
	seen, err := login.Do(context.Background(),
		login.Attempt{Access: site.SSH, Address: place.Ways[1].Address, Person: "master", Password: password,
			HostKey: key})
	require.NoError(t, err)
	require.Equal(t, walk.OutcomeRefused, seen.Outcome)
	require.Equal(t, "the device hung up while the password was checked", seen.Detail)
	require.Eventually(t, func() bool { return r.newest("mv-curlew-rtr").Reason == reason.GivesUpFirst },
		30*time.Second,
		10*time.Millisecond)
	require.Contains(t, r.why("mv-curlew-rtr", "master"), "too-slow")
}

func TestServersOverTLS(t *testing.T) {
	t.Parallel()
	r := start(t, patient, func(s *site.Site) {
		for _, name := range []string{"tern", "sanderling"} {
			server := s.Server(name)
			server.Transport = site.TLS
			server.Key = nil
			server.Attempts = 1
			server.Port = map[string]uint16{"tern": 300, "sanderling": 2083}[name]
			server.AuthenticationPort, server.AccountingPort = 0, 0
		}
	})
	seen := r.login("mv-avocet-rtr", site.SSH, "ines.marsh", "", "save")
	require.Equal(t, []any{walk.OutcomeIn, 15, walk.OutcomeAllowed},
		[]any{seen.Outcome, seen.Level, seen.Commands[0].Result})
	require.Equal(t, "sanderling", r.newest("mv-avocet-rtr").By)
	seen = r.login("north-sw-1", site.SSH, "tobin.reed", "", "look secrets")
	require.Equal(t, []any{walk.OutcomeIn, 1, walk.OutcomeRefused},
		[]any{seen.Outcome, seen.Level, seen.Commands[0].Result})
	require.Equal(t, "tern", r.newest("north-sw-1").By)
	require.EqualValues(t, "refused", r.login("north-sw-1", site.SSH, "ines.marsh", "wrong").Outcome)
	require.Equal(t, []string{"wrong-password"}, r.why("north-sw-1", "ines.marsh"))
	r.Set(lab.Fault{What: "closed", Server: r.site.Server("tern")})
	require.EqualValues(t, "in", r.login("north-sw-1", site.SSH, "ines.marsh", "").Outcome,
		"by plover, which speaks without TLS")
	require.Equal(t, []string{"server-off"}, r.why("north-sw-1", "ines.marsh"))

	traffic, err := os.ReadFile(r.state.Traffic())
	require.NoError(t, err)
	require.NotContains(t, string(traffic), "tobin.reed", "what TLS hides is not in the capture")
}

func TestTheCaptureHoldsWholePacketsOfBothProtocols(t *testing.T) {
	t.Parallel()
	r := start(t)
	r.login("mv-avocet-rtr", site.SSH, "ines.marsh", "")
	r.Cut(r.site.Device("mv-godwit-rtr"), true)
	r.login("mv-godwit-rtr", site.SSH, "master", "")
	file, err := os.Open(r.state.Traffic())
	require.NoError(t, err)
	defer func() { _ = file.Close() }()
	reader, err := pcapgo.NewNgReader(file, pcapgo.DefaultNgReaderOptions)
	require.NoError(t, err)
	udp := 0
	tcp := 0
	lost := 0
	for data, _, err := reader.ReadPacketData(); err == nil; data, _, err = reader.ReadPacketData() {
		p := gopacket.NewPacket(data, layers.LinkTypeEthernet, gopacket.Default)
		require.Nil(t, p.ErrorLayer())
		if l, ok := p.TransportLayer().(*layers.UDP); ok {
			udp++
			if l.DstPort == 1812 && len(l.Payload) > 0 {
				require.EqualValues(t, 1, l.Payload[0])
			}
		}
		if l, ok := p.TransportLayer().(*layers.TCP); ok {
			tcp++
			if l.SYN && !l.ACK && l.SrcPort == 40000 {
				lost++
			}
		}
	}
	require.Greater(t, udp, 3, "request, answer, and two that were lost")
	require.Greater(t, tcp, 10)
	require.Equal(t, 2, lost, "tern and plover were asked and never heard it")
}

func TestASecondLabOnTheSameAddressesIsToldWhyNot(t *testing.T) {
	t.Parallel()
	r := start(t)
	dir := filepath.Join(t.TempDir(), "second")
	folder, err := state.Create(dir)
	require.NoError(t, err)
	_, err = lab.Start(lab.Config{Site: r.site, Keys: r.keys, State: folder, Network: r.network})
	require.True(t, errors.Is(err, lab.ErrListen))
	require.ErrorContains(t, err, "the port is in use; is another lab running?")
	folder.Abandon()
	require.NoDirExists(t, dir)
}

func TestALabWithTooManyDevicesForItsNetworkIsRefused(t *testing.T) {
	t.Parallel()
	s, _, err := sitefile.Load("../../../demo/as-reviewed/site.yaml")
	require.NoError(t, err)
	s.Devices = slices.Repeat(s.Devices, 40)
	_, err = lab.Start(lab.Config{Site: s, Network: netip.MustParsePrefix("127.91.0.0/24")})
	require.ErrorContains(t, err, "has room for 255 addresses and the site needs 334")
}

// A wait that a test does not need to see is not waited for: the patience of a
// way in is checked by the walker's own tests.
func TestALoginThatHangsUpHalfWayLeavesTheDeviceWell(t *testing.T) {
	t.Parallel()
	r := start(t)
	place, _ := r.Places.Device("north-sw-1")
	for _, w := range place.Ways {
		for _, half := range []string{"", "SSH-2.0-x\r\n", "ines.marsh\n", "ines.marsh\nwrong\n\n\n",
			string(make([]byte, 1<<20))} {
			hangUp(t, w.Address, half)
		}
	}
	require.EqualValues(t, "in", r.login("north-sw-1", site.SSH, "ines.marsh", "").Outcome)
	require.EqualValues(t, "in", r.login("north-sw-1", site.Console, "ines.marsh", "").Outcome)
}
