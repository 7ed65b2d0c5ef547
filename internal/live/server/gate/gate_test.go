package gate_test

import (
	"context"
	"errors"
	"io"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

const key = "a-key-for-these-tests"

// book is a ledger in memory, which can be told to fail.
type book struct {
	mu      sync.Mutex
	records []ledger.Record
	broken  bool
	held    chan struct{} // while it is there and open, nothing is kept
}

// hold keeps no start of a session until release.
func (b *book) hold() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.held = make(chan struct{})
}

func (b *book) release() { close(b.held) }

func (b *book) wait() {
	b.mu.Lock()
	held := b.held
	b.mu.Unlock()
	if held != nil {
		<-held
	}
}

func (b *book) keep(r ledger.Record) error {
	if r.Kind == ledger.SessionStart || r.Person == "ines" {
		b.wait()
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.broken {
		return errors.New("the disk is full")
	}
	b.records = append(b.records, r)
	return nil
}

func (b *book) Begin(r ledger.Record) (ledger.Written, error) { return ledger.Written{}, b.keep(r) }
func (b *book) Note(r ledger.Record) (ledger.Written, error)  { return ledger.Written{}, b.keep(r) }

func (b *book) kept() []ledger.Record {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]ledger.Record(nil), b.records...)
}

func (b *book) fail() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.broken = true
}

// rig is a gate with one server of each protocol on loopback, and a device
// whose requests come from 127.0.0.1.
type rig struct {
	*testing.T
	gate           *gate.Gate
	site           *site.Site
	book           *book
	tacacs, radius gate.Place
	other          gate.Place // r2, where the site has it
	mu             sync.Mutex
	events         []evidence.Event
	waited         int // how many of the events were waited for
}

func start(t *testing.T) *rig {
	return startWith(t, site.Keys{}, time.Now, `
keys: {k: file k, kept: file kept}
servers:
  - {name: t, protocol: tacacs, address: 127.0.0.1, key: k, timeout: 5s}
  - {name: r, protocol: radius, address: 127.0.0.1, key: k, timeout: 300ms, attempts: 2}
devices: [{name: sw, addresses: [127.0.0.1], labels: {place: north}}]
people:
  - {name: ines, teams: [net], password: 'HASH'}
  - {name: tobin, teams: [watch], password: 'HASH'}
  - {name: kept, teams: [net], password: key kept}
roles:
  - {name: all, level: 15, commands: [allow **]}
  - {name: lookout, level: 1, commands: [refuse look secrets **, allow look **]}
grants:
  - {who: [team net], role: all}
  - {who: [team watch], access: [ssh], role: lookout}
`)
}

// startWith is start for another site, in which HASH stands for the hash of the
// password "right". It needs servers t and r, and a device sw.
func startWith(t *testing.T, keys site.Keys, now func() time.Time, text string) *rig {
	return startConfigured(t, gate.Config{Now: now}, keys, text)
}

// startConfigured is startWith with more of the configuration given.
func startConfigured(t *testing.T, config gate.Config, keys site.Keys, text string) *rig {
	hash, err := secrets.Hash("right", 64, 1)
	require.NoError(t, err)
	if !strings.Contains(text, "\nservice:") {
		text += "\nservice: {limits: {failure-delay: 0s}}\n"
	}
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(strings.ReplaceAll(text, "HASH", hash))})
	require.NoError(t, err)
	keys["k"], keys["kept"] = site.NewSecret(key), site.NewSecret("right")
	r := &rig{T: t, site: s, book: &book{}}
	config.Ledger, config.Design = r.book, designOf(s, keys)
	config.Events = func(e evidence.Event) {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.events = append(r.events, e)
	}
	g := gate.New(config)
	r.gate = g
	t.Cleanup(g.Shutdown)
	any := netip.MustParseAddrPort("127.0.0.1:0")
	r.tacacs, err = g.Listen(gate.Place{Server: s.Server("t"), Authentication: any})
	require.NoError(t, err)
	r.radius, err = g.Listen(gate.Place{Server: s.Server("r"), Authentication: any, Accounting: any})
	require.NoError(t, err)
	if r2 := s.Server("r2"); r2 != nil {
		r.other, err = g.Listen(gate.Place{Server: r2, Authentication: any, Accounting: any})
		require.NoError(t, err)
	}
	return r
}

// designOf is a design in which the device sw asks from 127.0.0.1.
func designOf(s *site.Site, keys site.Keys) gate.Design {
	return gate.Design{Site: s, Keys: keys,
		Clients: map[netip.Addr]*site.Device{netip.MustParseAddr("127.0.0.1"): s.Device("sw")}}
}

// ask puts one question as a device would.
func (r *rig) ask(server string, q walk.Question, password string, change ...func(*aaa.Target)) walk.Reply {
	return r.askIn("", server, q, password, change...)
}

// askIn puts a question with the password in a form.
func (r *rig) askIn(form, server string, q walk.Question, password string, change ...func(*aaa.Target)) walk.Reply {
	return r.askWith(server, q, aaa.Asker{Password: password, Form: form}, change...)
}

// askWith puts a question as an asker, from the usual place.
func (r *rig) askWith(server string, q walk.Question, a aaa.Asker, change ...func(*aaa.Target)) walk.Reply {
	place := map[string]gate.Place{"t": r.tacacs, "r": r.radius, "r2": r.other}[server]
	target := aaa.Target{Server: r.site.Server(server), Authentication: place.Authentication,
		Accounting: place.Accounting,
		Key:        site.NewSecret(key)}
	for _, c := range change {
		c(&target)
	}
	if q.Way == nil {
		q.Way = &site.Way{Access: site.SSH}
	}
	if q.Method == "" {
		q.Method = site.ByGroup
	}
	a.From = "198.51.100.7"
	return r.askFromAt(target, q, a)
}

// askFrom puts a question as an asker who says where the person comes from.
func (r *rig) askFrom(server string, q walk.Question, a aaa.Asker) walk.Reply {
	place := map[string]gate.Place{"t": r.tacacs, "r": r.radius}[server]
	q.Way = &site.Way{Access: site.SSH}
	return r.askFromAt(aaa.Target{Server: r.site.Server(server), Authentication: place.Authentication,
		Accounting: place.Accounting, Key: site.NewSecret(key)}, q, a)
}

func (r *rig) askFromAt(target aaa.Target, q walk.Question, a aaa.Asker) walk.Reply {
	a.Device = "sw"
	a.Port = "ssh0"
	a.Session = "s1"
	e := aaa.Begin(context.Background(), target, q, a)
	defer e.Close()
	return e.Try(1)
}

func withKey(k string) func(*aaa.Target) {
	return func(t *aaa.Target) { t.Key = site.NewSecret(k) }
}

func from(address string) func(*aaa.Target) {
	return func(t *aaa.Target) { t.From = netip.MustParseAddr(address) }
}

func (r *rig) last() evidence.Event {
	r.mu.Lock()
	defer r.mu.Unlock()
	require.NotEmpty(r, r.events)
	return r.events[len(r.events)-1]
}

// eventually waits for an event with a reason, after those waited for before.
func (r *rig) eventually(why reason.Reason) evidence.Event {
	r.Helper()
	var found evidence.Event
	require.Eventually(r, func() bool {
		r.mu.Lock()
		defer r.mu.Unlock()
		for i := r.waited; i < len(r.events); i++ {
			if r.events[i].Reason == why {
				found, r.waited = r.events[i], i+1
				return true
			}
		}
		return false
	}, 30*time.Second, 2*time.Millisecond, "no event with the reason %s", why)
	return found
}

func TestBothProtocolsGetTheSameDecision(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, server := range []string{"t", "r"} {
		for _, c := range []struct {
			person, password string
			reason           reason.Reason
			want             walk.Result
		}{
			{"ines", "right", "accepted", walk.Accepted},
			{"ines", "wrong", "wrong-password", walk.Refused},
			{"ines", "", "wrong-password", walk.Refused},
			{"nobody", "right", "unknown-person", walk.Refused},
			{"tobin", "right", "accepted", walk.Accepted},
		} {
			reply := r.ask(server, walk.Question{Purpose: site.Login, Person: c.person}, c.password)
			require.Equal(t, c.want, reply.Result, "%s %v", server, c)
			e := r.eventually(c.reason)
			require.Equal(t, []string{server, "sw", c.person, "ssh", "login"},
				[]string{e.Server, e.Device, e.Person, e.Access, string(e.Question)})
			require.Empty(t, reply.Message, "the person is told nothing about why")
		}
	}
	require.Len(t, r.book.kept(), 10, "each decision is kept")
}

func TestSessionAndCommandsAreAuthorized(t *testing.T) {
	t.Parallel()
	r := start(t)
	reply := r.ask("t", walk.Question{Purpose: site.Session, Person: "ines"}, "")
	require.Equal(t, "priv-lvl", reply.Attributes[0].Name)
	require.Equal(t, "15", reply.Attributes[0].Value)
	for line, want := range map[string]walk.Result{"look session": walk.Accepted, "look secrets": walk.Refused,
		"save": walk.Refused} {
		require.Equal(t, want, r.ask("t", walk.Question{Purpose: site.Commands, Person: "tobin", Line: line},
			"").Result,
			line)
		require.Equal(t, line, r.last().Command)
	}
	reply = r.ask("r", walk.Question{Purpose: site.Login, Person: "ines"}, "right")
	require.Len(t, reply.Attributes, 3, "Message-Authenticator, Service-Type and the level")
}

func TestARecordIsAnsweredOnlyWhenItIsKept(t *testing.T) {
	t.Parallel()
	r := start(t)
	q := walk.Question{Purpose: site.RecordSessions, Person: "ines", Start: true, Level: 15}
	require.Equal(t, walk.Accepted, r.ask("t", q, "").Result)
	require.Equal(t, walk.Accepted, r.ask("r", q, "").Result)
	require.Equal(t, walk.Accepted, r.ask("t", walk.Question{Purpose: site.RecordCommands, Person: "ines",
		Line: "set port 3 off", Level: 15}, "").Result)
	require.Len(t, r.book.kept(), 3)
	require.Equal(t, ledger.Record{Time: r.book.kept()[2].Time, Node: "t", Kind: ledger.Command, Person: "ines",
		Device: "sw", Access: "ssh", From: "198.51.100.7",
		Level: 15, Result: "recorded", Command: "set port 3 off", Session: "s1", Protocol: "tacacs"}, r.book.kept()[2])
	r.book.fail()
	require.Equal(t, reason.ServerError, r.ask("t", q, "").Reason)
	require.Equal(t, reason.Silent, r.ask("r", q, "").Reason, "no answer: the device will send it again")
	require.EqualValues(t, "record-not-kept", r.eventually("record-not-kept").Reason)
}

func TestAnotherKeyIsNoticedOnBothSides(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, q := range []walk.Question{{Purpose: site.Login, Person: "ines"},
		{Purpose: site.RecordSessions, Person: "ines"}} {
		require.Equal(t, reason.Unreadable, r.ask("t", q, "right", withKey("another key")).Reason)
		r.eventually("key-differs")
		require.Equal(t, reason.Silent, r.ask("r", q, "right", withKey("another key")).Reason, "RADIUS drops it")
		require.Equal(t, evidence.Dropped, r.eventually("key-differs").Answer)
	}
	require.Equal(t, reason.Unreadable,
		r.ask("t", walk.Question{Purpose: site.Session, Person: "ines"}, "", withKey("x")).Reason)
}

func TestAnUnknownAskerGetsNoAnswer(t *testing.T) {
	t.Parallel()
	r := start(t)
	q := walk.Question{Purpose: site.Login, Person: "ines"}
	require.Equal(t, reason.Ended, r.ask("t", q, "right", from("127.0.0.2")).Reason)
	require.Equal(t, "127.0.0.2", r.eventually("client-unknown").Client)
	require.Equal(t, reason.Silent, r.ask("r", q, "right", from("127.0.0.2")).Reason)
	r.eventually("client-unknown")
	require.Empty(t, r.book.kept())
}

func TestARetransmissionGetsTheSameAnswerAndIsOneRecord(t *testing.T) {
	t.Parallel()
	r := start(t)
	p := &radius.Packet{Code: radius.AccountingRequest, ID: 9}
	p.AddInteger(radius.AcctStatusType, 1)
	p.AddText(radius.UserName, "ines")
	p.Add(radius.ProxyState, []byte("one"))
	p.Add(radius.ProxyState, []byte("two"))
	b, err := p.EncodeAccountingRequest([]byte(key))
	require.NoError(t, err)
	conn, err := net.Dial("udp", r.radius.Accounting.String())
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	var answers [2][]byte
	for i := range answers {
		_, err = conn.Write(b)
		require.NoError(t, err)
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(5*time.Second)))
		answers[i] = make([]byte, 4096)
		n, err := conn.Read(answers[i])
		require.NoError(t, err)
		answers[i] = answers[i][:n]
	}
	require.Equal(t, answers[0], answers[1])
	require.Len(t, r.book.kept(), 1)
	answer, err := radius.Decode(answers[0])
	require.NoError(t, err)
	require.Equal(t, []radius.Attribute{{Type: radius.ProxyState, Value: []byte("one")},
		{Type: radius.ProxyState, Value: []byte("two")}}, answer.Attributes)
}

func TestARequestWithoutMessageAuthenticatorIsDropped(t *testing.T) {
	t.Parallel()
	r := start(t)
	p := &radius.Packet{Code: radius.AccessRequest, ID: 1}
	p.AddText(radius.UserName, "ines")
	hidden, err := radius.HidePassword("right", p.Authenticator, []byte(key))
	require.NoError(t, err)
	p.Add(radius.UserPassword, hidden)
	b, err := p.Append(nil)
	require.NoError(t, err)
	r.send(r.radius.Authentication, b)
	require.Equal(t, evidence.Dropped, r.eventually("message-authenticator-missing").Answer)
}

func (r *rig) send(to netip.AddrPort, b []byte) {
	conn, err := net.Dial("udp", to.String())
	require.NoError(r, err)
	_, err = conn.Write(b)
	require.NoError(r, err)
	require.NoError(r, conn.Close())
}

func TestHostilePacketsAreDroppedAndTheNextGoodOneIsAnswered(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, b := range [][]byte{{}, {1}, make([]byte, 20), make([]byte, 4097), {1, 1, 0, 21, 19: 0, 20: 1},
		{1, 1, 0xff, 0xff, 19: 0}} {
		r.send(r.radius.Authentication, b)
		r.send(r.radius.Accounting, b)
	}
	wrongPort := &radius.Packet{Code: radius.AccountingRequest, ID: 1}
	b, err := wrongPort.EncodeAccountingRequest([]byte(key))
	require.NoError(t, err)
	r.send(r.radius.Authentication, b)
	r.eventually("wrong-port")

	header := func(change func([]byte)) []byte {
		b := []byte{0xc0, 1, 1, 0, 1, 2, 3, 4, 0, 0, 0, 0}
		change(b)
		return b
	}
	for name, b := range map[string][]byte{
		"another protocol": []byte("GET / HTTP/1.0\r\n\r\n"),
		"a TLS hello":      {0x16, 3, 1, 2, 0, 1, 0, 1, 0xfc, 3, 3, 0, 0},
		"sequence 0":       header(func(b []byte) { b[2] = 0 }),
		"sequence 3 first": header(func(b []byte) { b[2] = 3 }),
		"huge":             header(func(b []byte) { b[8] = 0xff }), "in clear": header(func(b []byte) { b[3] = 1 }),
		"half a header": {0xc0, 1, 1}, "half a body": header(func(b []byte) { b[11] = 50 }),
	} {
		conn, err := net.Dial("tcp", r.tacacs.Authentication.String())
		require.NoError(t, err)
		_, _ = conn.Write(b)
		_ = conn.(*net.TCPConn).CloseWrite()
		_ = conn.SetReadDeadline(time.Now().Add(5 * time.Second))
		_, err = io.ReadAll(conn)
		require.NotErrorIs(t, err, context.DeadlineExceeded, name)
		_ = conn.Close()
	}
	for _, server := range []string{"t", "r"} {
		require.Equal(t, walk.Accepted, r.ask(server, walk.Question{Purpose: site.Login, Person: "ines"},
			"right").Result)
	}
}

// dial returns a TACACS+ client on a connection of its own.
func (r *rig) dial() (*tacacs.Client, net.Conn) {
	conn, err := net.Dial("tcp", r.tacacs.Authentication.String())
	require.NoError(r, err)
	r.Cleanup(func() { _ = conn.Close() })
	require.NoError(r, conn.SetDeadline(time.Now().Add(5*time.Second)))
	return &tacacs.Client{Conn: conn, Key: []byte(key)}, conn
}

func TestTACACSFormsOfLogin(t *testing.T) {
	t.Parallel()
	r := start(t)
	c, _ := r.dial()
	reply, err := c.Authenticate(tacacs.AuthenStart{Service: tacacs.ServiceLogin, User: "ines", Port: "ssh0"},
		tacacs.PAP,
		"right")
	require.NoError(t, err)
	require.Equal(t, tacacs.AuthenPass, reply.Status)

	c, _ = r.dial()
	reply, err = c.AuthenticateASCII(tacacs.AuthenStart{Service: tacacs.ServiceLogin, User: "ines", Port: "ssh0"},
		"right",
		nil)
	require.NoError(t, err)
	require.Equal(t, tacacs.AuthenPass, reply.Status)

}

func TestElevationGoesUpToTheLevelOfTheRole(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, c := range []struct {
		person string
		level  byte
		want   tacacs.AuthenStatus
		reason reason.Reason
	}{{"ines", 15, tacacs.AuthenPass, "accepted"}, {"ines", 7, tacacs.AuthenPass, "accepted"},
		{"tobin", 15, tacacs.AuthenFail, "no-grant"},
		{"tobin", 1, tacacs.AuthenPass, "accepted"}, {"ines", 16, tacacs.AuthenFail, "password-form"}} {
		client, _ := r.dial()
		reply, err := client.AuthenticateASCII(tacacs.AuthenStart{Service: tacacs.ServiceEnable, PrivLvl: c.level,
			User: c.person, Port: "ssh0"}, "right", nil)
		require.NoError(t, err)
		require.Equal(t, c.want, reply.Status, "%v", c)
		r.eventually(c.reason)
	}
}

func TestANameAskedForByThePromptIsTheOneThatCounts(t *testing.T) {
	t.Parallel()
	r := start(t)
	_, conn := r.dial()
	h := tacacs.Header{Version: 0xc0, Type: tacacs.Authentication, Sequence: 1, SessionID: 77}
	say := func(body []byte) tacacs.AuthenReply {
		_, err := conn.Write(tacacs.AppendPacket(nil, h, body, []byte(key)))
		require.NoError(t, err)
		got, answer, err := tacacs.ReadPacket(conn, []byte(key))
		require.NoError(t, err)
		require.Equal(t, h.Sequence+1, got.Sequence)
		h.Sequence += 2
		reply, err := tacacs.DecodeAuthenReply(answer)
		require.NoError(t, err)
		return reply
	}
	reply := say(tacacs.AuthenStart{Action: tacacs.ActionLogin, Type: tacacs.ASCII, Service: tacacs.ServiceLogin,
		Port: "ssh0"}.Append(nil))
	require.Equal(t, tacacs.AuthenGetUser, reply.Status)
	reply = say(tacacs.AuthenContinue{Message: "ines"}.Append(nil))
	require.Equal(t, tacacs.AuthenGetPass, reply.Status)
	require.EqualValues(t, tacacs.FlagNoEcho, reply.Flags)
	reply = say(tacacs.AuthenContinue{Message: "right"}.Append(nil))
	require.Equal(t, tacacs.AuthenPass, reply.Status)
	require.Equal(t, "ines", r.last().Person)
}

func TestWhatDevicesSayOfSessionsAndOfThemselvesIsKept(t *testing.T) {
	t.Parallel()
	for _, server := range []string{"t", "r"} {
		r := start(t)
		for _, q := range []walk.Question{
			{Purpose: site.RecordSystem, Start: true}, {Purpose: site.RecordSessions, Person: "ines", Start: true},
			{Purpose: site.RecordSessions, Person: "ines", Update: true, Elapsed: time.Minute},
			{Purpose: site.RecordSessions, Person: "ines", Elapsed: 90 * time.Second}, {Purpose: site.RecordSystem},
		} {
			require.Equal(t, walk.Accepted, r.ask(server, q, "").Result, "%s %v", server, q)
		}
		var kept []string
		for _, k := range r.book.kept() {
			kept = append(kept, strings.Join([]string{string(k.Kind), k.Person, k.Session, k.Command, k.Reason}, "|"))
		}
		want := []string{"system||s1|accounting on|", "session-start|ines|s1||", "session-update|ines|s1||after 1m0s",
			"session-stop|ines|s1||after 1m30s: User-Request", "system||s1|accounting off|"}
		if server == "t" {
			want[0] = "system||s1|sys_acct: start|"
			want[3] = "session-stop|ines|s1||after 1m30s"
			want[4] = "system||s1|sys_acct: stop|"
		}
		require.Equal(t, want, kept)
	}
}

func TestARecordThatWasDelayedIsDatedBack(t *testing.T) {
	t.Parallel()
	r := start(t)
	p := &radius.Packet{Code: radius.AccountingRequest, ID: 9}
	p.AddInteger(radius.AcctStatusType, 1)
	p.AddInteger(radius.AcctDelayTime, 3600)
	b, err := p.EncodeAccountingRequest([]byte(key))
	require.NoError(t, err)
	before := time.Now()
	r.send(r.radius.Accounting, b)
	r.eventually("recorded")
	require.WithinRange(t, r.book.kept()[0].Time, before.Add(-time.Hour), time.Now().Add(-time.Hour))
}

func TestAnAbortEndsTheSessionQuietly(t *testing.T) {
	t.Parallel()
	r := start(t)
	_, conn := r.dial()
	h := tacacs.Header{Version: 0xc0, Type: tacacs.Authentication, Sequence: 1, SessionID: 78}
	start := tacacs.AuthenStart{Action: tacacs.ActionLogin, Type: tacacs.ASCII, Service: tacacs.ServiceLogin,
		User: "ines"}
	_, err := conn.Write(tacacs.AppendPacket(nil, h, start.Append(nil), []byte(key)))
	require.NoError(t, err)
	_, _, err = tacacs.ReadPacket(conn, []byte(key))
	require.NoError(t, err)
	h.Sequence = 3
	_, err = conn.Write(tacacs.AppendPacket(nil, h,
		tacacs.AuthenContinue{Flags: tacacs.FlagAbort, Data: "gone"}.Append(nil), []byte(key)))
	require.NoError(t, err)
	_, _, err = tacacs.ReadPacket(conn, []byte(key))
	require.ErrorIs(t, err, io.EOF)
	require.Empty(t, r.book.kept())
}

func TestEveryFormOfAPassword(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, server := range []string{"t", "r"} {
		for _, form := range site.FormsOf(r.site.Server(server).Protocol) {
			name := server + " " + form
			require.Equal(t, walk.Accepted,
				r.askIn(form, server, walk.Question{Purpose: site.Login, Person: "kept"}, "right").Result, name)
			require.Equal(t, walk.Refused,
				r.askIn(form, server, walk.Question{Purpose: site.Login, Person: "kept"}, "wrong").Result, name)
			r.eventually("wrong-password")
			require.Equal(t, walk.Refused,
				r.askIn(form, server, walk.Question{Purpose: site.Login, Person: "nobody"}, "right").Result, name)
			r.eventually("unknown-person")
			hashed := r.askIn(form, server, walk.Question{Purpose: site.Login, Person: "ines"}, "right")
			if form == "chap" || form == "mschapv2" {
				require.Equal(t, walk.Refused, hashed.Result, name)
				require.Contains(t, r.eventually("password-form").Text, "is a one-way hash")
			} else {
				require.Equal(t, walk.Accepted, hashed.Result, name)
			}
		}
	}
}

func TestStatusIsAnswered(t *testing.T) {
	t.Parallel()
	r := start(t)
	target := aaa.Target{Server: r.site.Server("r"), Authentication: r.radius.Authentication,
		Accounting: r.radius.Accounting, Key: site.NewSecret(key)}
	for _, accounting := range []bool{false, true} {
		e := aaa.Status(context.Background(), target, aaa.Asker{Device: "sw"}, accounting)
		reply := e.Try(1)
		e.Close()
		require.Equal(t, []any{walk.Accepted, walk.SaidAlive}, []any{reply.Result, reply.Answer})
	}
	require.Empty(t, r.book.kept())
}

func TestManySessionsOnOneConnection(t *testing.T) {
	t.Parallel()
	r := start(t)
	conn, err := net.Dial("tcp", r.tacacs.Authentication.String())
	require.NoError(t, err)
	shared := tacacs.Share(conn, []byte(key))
	var wait sync.WaitGroup
	for i := range 30 {
		wait.Go(func() {
			c := shared.Client()
			want := tacacs.AuthenPass
			password := "right"
			if i%3 == 0 {
				want, password = tacacs.AuthenFail, "wrong"
			}
			reply, err := c.AuthenticateASCII(tacacs.AuthenStart{
				Service: tacacs.ServiceLogin, User: "ines", Port: "ssh0"},
				password, nil)
			require.NoError(t, err)
			require.Equal(t, want, reply.Status)
			response, err := c.Authorize(tacacs.AuthorRequest{Method: tacacs.MethodTACACS, User: "tobin", Port: "ssh0",
				Args: []string{"service=shell", "cmd=look", "cmd-arg=session"}})
			require.NoError(t, err)
			require.Equal(t, tacacs.AuthorPassAdd, response.Status)
		})
	}
	wait.Wait()
	require.True(t, shared.Agreed())
	require.NoError(t, shared.Close())
}

func TestSessionsThatBreakTheOrderEndTheConnection(t *testing.T) {
	t.Parallel()
	start1 := tacacs.AuthenStart{Action: tacacs.ActionLogin, Type: tacacs.ASCII, Service: tacacs.ServiceLogin,
		User: "ines"}.Append(nil)
	more := tacacs.AuthenContinue{Message: "right"}.Append(nil)
	for name, packets := range map[string][]tacacs.Header{
		"two sessions with one id": {{Sequence: 1}, {Sequence: 1}},
		"an answer nobody asked for": {{Sequence: 1}, {Sequence: 3}, {Sequence: 5}, {Sequence: 7}, {Sequence: 9},
			{Sequence: 11}},
		"a number left out":               {{Sequence: 1}, {Sequence: 9}},
		"another type in mid-session":     {{Sequence: 1}, {Sequence: 3, Type: tacacs.Accounting}},
		"a second session without asking": {{Sequence: 1}, {Sequence: 1, SessionID: 5}},
	} {
		t.Run(name, func(t *testing.T) {
			r := start(t)
			_, conn := r.dial()
			for i, h := range packets {
				h.Version = 0xc0
				if h.Type == 0 {
					h.Type = tacacs.Authentication
				}
				if h.SessionID == 0 {
					h.SessionID = 77
				}
				if name != "a second session without asking" {
					h.Flags = tacacs.FlagSingleConnect
				}
				body := more
				if i == 0 || h.Sequence == 1 {
					body = start1
				}
				_, _ = conn.Write(tacacs.AppendPacket(nil, h, body, []byte(key)))
			}
			_ = conn.(*net.TCPConn).CloseWrite()
			_, err := io.Copy(io.Discard, conn)
			require.NotErrorIs(t, err, os.ErrDeadlineExceeded, "the connection ends")
			require.Equal(t, walk.Accepted, r.ask("t", walk.Question{Purpose: site.Login, Person: "ines"},
				"right").Result)
		})
	}
}

func TestOverTLSOnlyACertificateOfTheAuthorityIsServed(t *testing.T) {
	t.Parallel()
	r := start(t)
	ours, err := pki.NewAuthority("ours", time.Now())
	require.NoError(t, err)
	theirs, err := pki.NewAuthority("theirs", time.Now())
	require.NoError(t, err)
	issue := func(a *pki.Authority) pki.Identity {
		i, err := a.Issue("name", netip.MustParseAddr("127.0.0.1"), time.Now())
		require.NoError(t, err)
		return i
	}
	any := netip.MustParseAddrPort("127.0.0.1:0")
	for _, p := range []site.Protocol{site.TACACS, site.RADIUS} {
		server := &site.Server{Ref: site.Ref{Name: "over-tls-" + string(p)}, Protocol: p, Transport: site.TLS,
			Timeout:  5 * time.Second,
			Attempts: 1, RequireMessageAuthenticator: true}
		_, err := r.gate.Listen(gate.Place{Server: server, Authentication: any})
		require.ErrorContains(t, err, "was given no certificate")
		place, err := r.gate.Listen(gate.Place{Server: server, Authentication: any, TLS: issue(ours).Server(p)})
		require.NoError(t, err)
		ask := func(i *pki.Identity, purpose site.Purpose) walk.Reply {
			target := aaa.Target{Server: server, Authentication: place.Authentication, Accounting: place.Accounting}
			if i != nil {
				target.TLS = i.Client(p, "127.0.0.1")
			}
			e := aaa.Begin(context.Background(), target, walk.Question{Purpose: purpose, Person: "ines",
				Way: &site.Way{Access: site.SSH}, Start: true}, aaa.Asker{Port: "ssh0", Password: "right"})
			defer e.Close()
			return e.Try(1)
		}
		good, stranger := issue(ours), issue(theirs)
		stranger.Trusted = good.Trusted
		require.Equal(t, walk.Accepted, ask(&good, site.Login).Result, p)
		require.Equal(t, walk.Accepted, ask(&good, site.RecordSessions).Result, p)
		for _, form := range site.FormsOf(p) {
			target := aaa.Target{Server: server, Authentication: place.Authentication, Accounting: place.Accounting,
				TLS: good.Client(p, "127.0.0.1")}
			e := aaa.Begin(context.Background(), target, walk.Question{Purpose: site.Login, Person: "kept"},
				aaa.Asker{Port: "ssh0", Password: "right", Form: form})
			require.Equal(t, walk.Accepted, e.Try(1).Result, "%s %s", p, form)
			e.Close()
		}
		require.Equal(t, walk.Unavailable, ask(&stranger, site.Login).Result, p)
		r.eventually("tls")
		require.Contains(t, ask(nil, site.Login).Message, "there is no certificate to show it")
		// clear text to the port of TLS
		e := aaa.Begin(context.Background(),
			aaa.Target{Server: r.site.Server("t"), Authentication: place.Authentication, Key: site.NewSecret(key)},
			walk.Question{Purpose: site.Login, Person: "ines"}, aaa.Asker{Password: "right"})
		require.Equal(t, walk.Unavailable, e.Try(1).Result)
		e.Close()
		r.eventually("tls")
	}
}

// A record that could not be kept has no yes, over TLS as elsewhere.
func TestARecordThatIsNotKeptIsNotAnsweredOverTLSEither(t *testing.T) {
	t.Parallel()
	for _, p := range []site.Protocol{site.TACACS, site.RADIUS} {
		r := start(t)
		ours, err := pki.NewAuthority("ours", time.Now())
		require.NoError(t, err)
		own, err := ours.Issue("name", netip.MustParseAddr("127.0.0.1"), time.Now())
		require.NoError(t, err)
		server := &site.Server{Ref: site.Ref{Name: "over-tls"}, Protocol: p, Transport: site.TLS, Timeout: time.Second,
			Attempts: 1}
		place, err := r.gate.Listen(gate.Place{Server: server, Authentication: netip.MustParseAddrPort("127.0.0.1:0"),
			TLS: own.Server(p)})
		require.NoError(t, err)
		ask := func(purpose site.Purpose) walk.Result {
			e := aaa.Begin(context.Background(), aaa.Target{Server: server, Authentication: place.Authentication,
				Accounting: place.Accounting, TLS: own.Client(p, "127.0.0.1")},
				walk.Question{Purpose: purpose, Person: "ines",
					Way: &site.Way{Access: site.SSH}, Start: true}, aaa.Asker{Port: "ssh0", Password: "right"})
			defer e.Close()
			return e.Try(1).Result
		}
		require.Equal(t, walk.Accepted, ask(site.RecordSessions), p)
		r.book.fail()
		require.Equal(t, walk.Unavailable, ask(site.RecordSessions), p)
		require.Equal(t, "the disk is full", r.eventually("record-not-kept").Text)
		require.Equal(t, walk.Accepted, ask(site.Login), "a login is let in all the same")
	}
}
