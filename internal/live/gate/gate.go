// Package gate is the AAA service: RADIUS and TACACS+ listeners in front of
// one decision. The listeners translate; rights.Decide decides. Every decision
// is an event with its reason, and an accounting record is answered only once
// the ledger has it on disk.
package gate

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"mellowgate/internal/core/cause"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/ledger"
	"mellowgate/internal/live/pki"
	"mellowgate/internal/live/vault"
	"mellowgate/internal/live/words"
	"mellowgate/internal/wire/capture"
	"mellowgate/internal/wire/radius"
)

// Keeper keeps records: Keep returns once a record is safe, Note soon writes it.
type Keeper interface {
	Keep(ctx context.Context, r ledger.Record) error
	Note(r ledger.Record) error
}

// Config is what a gate works from. Site, Keys, Clients and Ledger are needed.
type Config struct {
	Site    *site.Site
	Keys    site.Keys
	Clients map[netip.Addr]*site.Device // the devices, by the address their requests come from
	Ledger  Keeper
	Events  func(cause.Event) // default: nowhere
	Capture *capture.Writer   // default: none
	Now     func() time.Time  // default: time.Now
}

// Place is where one server of the site listens. A port of 0 takes any free one.
type Place struct {
	Server         *site.Server
	Authentication netip.AddrPort // for TACACS+, where everything is asked
	Accounting     netip.AddrPort // RADIUS only
	TLS            *tls.Config    // for a server over TLS
}

// Gate is a running service.
type Gate struct {
	config  Config
	mu      sync.Mutex
	servers map[*site.Server]*server
	dummy   site.Password // checked for unknown names, so that they take as long
	warm    *warm
	codes   codes
	granted map[granted][]radius.Attribute // what RADIUS returns
	ctx     context.Context
	stop    context.CancelFunc
	running sync.WaitGroup
}

// server is one server of the site while it runs.
type server struct {
	gate  *Gate
	site  *site.Server
	place Place
	// keys are those that devices may use: the one in use now and, while it is
	// being changed, the next. One nil key where TACACS+ runs over TLS.
	keys   atomic.Pointer[[][]byte]
	mu     sync.Mutex
	closer []func() error
	seen   duplicates
}

// New makes a gate that listens nowhere yet.
func New(c Config) *Gate {
	if c.Events == nil {
		c.Events = func(cause.Event) {}
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	g := &Gate{config: c, servers: map[*site.Server]*server{}, warm: newWarm()}
	for _, p := range c.Site.People {
		if p.Password.Hash != "" {
			g.dummy = p.Password
			break
		}
	}
	g.granted = grants(c.Site)
	g.ctx, g.stop = context.WithCancel(context.Background())
	return g
}

// Listen starts a server and gives the place with the ports in use.
func (g *Gate) Listen(p Place) (Place, error) {
	key, err := g.key(p)
	if err != nil {
		return p, err
	}
	s := &server{gate: g, site: p.Server, place: p}
	s.setKeys(key, g.config.Keys)
	if err := s.open(); err != nil {
		return p, err
	}
	g.mu.Lock()
	g.servers[p.Server] = s
	g.mu.Unlock()
	return s.place, nil
}

// key gives the key that a server begins with; over TLS it is the fixed one.
func (g *Gate) key(p Place) (site.Secret, error) {
	if p.Server.TLS {
		if p.TLS == nil {
			return site.Secret{}, fmt.Errorf("the server %s runs over TLS and was given no certificate", p.Server.Name)
		}
		return site.NewSecret(pki.RADIUSKey), nil
	}
	key, known := g.config.Keys[p.Server.Key.Name]
	if !known {
		return key, fmt.Errorf("the server %s cannot run: its key %s has no value here", p.Server.Name, p.Server.Key.Name)
	}
	return key, nil
}

// open opens the server's ports.
func (s *server) open() error {
	if s.site.Protocol == site.TACACS || s.site.TLS {
		listener, err := net.Listen("tcp", s.place.Authentication.String())
		if err != nil {
			return err
		}
		s.place.Authentication = listener.Addr().(*net.TCPAddr).AddrPort()
		if s.site.TLS {
			s.place.Accounting = s.place.Authentication
		}
		s.closing(listener.Close)
		s.gate.running.Go(func() { s.accept(listener) })
		return nil
	}
	for _, port := range []struct {
		at         *netip.AddrPort
		accounting bool
	}{{&s.place.Authentication, false}, {&s.place.Accounting, true}} {
		if port.accounting && !s.site.Serves(site.RecordSessions) || !port.accounting && !s.site.Serves(site.Login) {
			continue // the site says that the server is not for this
		}
		conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(*port.at))
		if err != nil {
			s.close()
			return err
		}
		*port.at = conn.LocalAddr().(*net.UDPAddr).AddrPort()
		s.closing(conn.Close)
		s.gate.running.Go(func() { s.serveRADIUS(conn, port.accounting) })
	}
	return nil
}

func (s *server) closing(f func() error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closer = append(s.closer, f)
}

func (s *server) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range s.closer {
		_ = f()
	}
	s.closer = nil
}

// secrets gives the keys that a device of the site may use.
func (s *server) secrets() [][]byte { return *s.keys.Load() }

// setKeys notes the key in use and, where it is being changed, the next.
func (s *server) setKeys(key site.Secret, all site.Keys) {
	values := [][]byte{nil}
	if !s.site.TLS || s.site.Protocol != site.TACACS {
		values[0] = []byte(key.Reveal())
		if s.site.NextKey != nil {
			if next, known := all[s.site.NextKey.Name]; known {
				values = append(values, []byte(next.Reveal()))
			}
		}
	}
	s.keys.Store(&values)
}

// asker is who a question comes from: a device of the site, or another client
// with a key of its own.
type asker struct {
	device *site.Device // nil: another client
	keys   [][]byte
}

// asker gives who asks from an address. It is false for nobody known.
func (s *server) asker(a netip.Addr) (asker, bool) {
	a = a.Unmap()
	if d, ok := s.gate.config.Clients[a]; ok {
		return asker{d, s.secrets()}, true
	}
	for _, c := range s.gate.config.Site.Clients {
		if !c.Covers(a, s.site) {
			continue
		}
		if value, known := s.gate.config.Keys[c.Key.Name]; known {
			return asker{nil, [][]byte{[]byte(value.Reveal())}}, true
		}
	}
	return asker{}, false
}

// keyName names the key that was used, while it is being changed; else "".
func (s *server) keyName(used []byte) string {
	keys := s.secrets()
	switch {
	case len(keys) < 2:
		return ""
	case string(keys[1]) == string(used):
		return s.site.NextKey.Name
	}
	return s.site.Key.Name
}

func (s *server) nobody(a netip.Addr) string {
	return fmt.Sprintf("no device or client of the site has the address %s", a)
}

// Off closes a server's ports, as if it were not running.
func (g *Gate) Off(which *site.Server) {
	if s := g.server(which); s != nil {
		s.close()
	}
}

// On opens a server's ports again after Off.
func (g *Gate) On(which *site.Server) error {
	if s := g.server(which); s != nil {
		return s.open()
	}
	return nil
}

// Key gives a server another key than the site says, as a fault.
func (g *Gate) Key(which *site.Server, key site.Secret) {
	if s := g.server(which); s != nil {
		s.keys.Store(&[][]byte{[]byte(key.Reveal())})
	}
}

func (g *Gate) server(which *site.Server) *server {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.servers[which]
}

// Shutdown closes every port and waits until everything has ended.
func (g *Gate) Shutdown() {
	g.mu.Lock()
	for _, s := range g.servers {
		s.close()
	}
	g.mu.Unlock()
	g.stop()
	g.running.Wait()
}

// question is what a listener understood of a packet.
type question struct {
	rights.Question
	at     time.Time
	client netip.AddrPort
	typed  string // the password, for a login by PAP or prompts
	warm   bool   // the password is known to be right
	// proves, for CHAP and MS-CHAPv2, tells whether a password is the one
	// that the asker proves to know.
	proves  func(password string) bool
	key     string // the name of the key that was used, while it is being changed
	form    string // of the password: ascii, pap, chap or mschapv2
	from    string // where the person comes from
	level   int
	session string
	start   bool
}

// decide answers a login, a session or a command, and notes it.
func (s *server) decide(q question) rights.Decision {
	g := s.gate
	if len(s.site.Forms) > 0 && q.form != "" && !slices.Contains(s.site.Forms, q.form) {
		return s.refuseForm(q)
	}
	if q.Purpose == site.Login {
		q.Credential = g.credential(q)
	}
	q.at = g.config.Now() // a password hash takes its time
	d := rights.Decide(g.config.Site, q.Question, q.at)
	if d.Reason == rights.UnknownPerson {
		d.Text += rights.LikeName(g.config.Site, q.Person)
	}
	e := s.event(q)
	e.Answer, e.Reason, e.Text, e.Place, e.Rule = cause.Refuse, string(d.Reason), d.Text, g.config.Site.Where(d.Place), d.Rule
	if d.Allow {
		e.Answer = cause.Accept
		e.Level = &d.Role.Level
	}
	g.config.Events(e)
	s.keepDecision(q, d)
	return d
}

// refuseForm refuses a password in a form that the server does not take.
func (s *server) refuseForm(q question) rights.Decision {
	d := rights.Decision{Reason: rights.PasswordForm, Place: s.site.Place,
		Text: fmt.Sprintf("%s takes passwords as %s, and this one came as %s", s.site.Name, strings.Join(s.site.Forms, ", "), q.form)}
	e := s.event(q)
	e.Answer, e.Reason, e.Text, e.Place = cause.Refuse, string(d.Reason), d.Text, s.gate.config.Site.Where(d.Place)
	s.gate.config.Events(e)
	s.keepDecision(q, d)
	return d
}

// credential checks a password, or the proof of one. An unknown name costs as
// much time as a wrong password.
func (g *Gate) credential(q question) rights.Credential {
	person := g.config.Site.Person(q.Person)
	password := g.dummy
	if person != nil {
		password = person.Password
	}
	if q.proves != nil {
		return g.proven(q, person)
	}
	if person != nil && person.OneTime != nil {
		return g.withCode(q, person)
	}
	if q.warm || person != nil && g.warm.knows(person, q.typed, q.at) {
		return rights.Right
	}
	ok, err := vault.PasswordIs(password, q.typed, g.config.Keys)
	if err != nil || !ok || person == nil {
		return rights.Wrong
	}
	g.warm.remember(person, q.typed, q.at)
	return rights.Right
}

// quick tells whether a login is decided without a slow hash: by a password
// that was right not long ago, or by a proof. It notes what it found.
func (g *Gate) quick(q *question) bool {
	if q.proves != nil {
		return true
	}
	person := g.config.Site.Person(q.Person)
	q.warm = person != nil && person.OneTime == nil && g.warm.knows(person, q.typed, q.at)
	return q.warm
}

// proven checks a proof, for which the password itself must be known.
func (g *Gate) proven(q question, person *site.Person) rights.Credential {
	if person == nil {
		q.proves("no password at all")
		return rights.Wrong
	}
	if person.Password.Key == nil || person.OneTime != nil {
		return rights.Uncheckable
	}
	value, known := g.config.Keys[person.Password.Key.Name]
	if known && q.proves(value.Reveal()) {
		return rights.Right
	}
	return rights.Wrong
}

// recoverable gives the password of a person where it is kept so that it can
// be read, "" otherwise.
func (g *Gate) recoverable(name string) string {
	if p := g.config.Site.Person(name); p != nil && p.Password.Key != nil {
		return g.config.Keys[p.Password.Key.Name].Reveal()
	}
	return ""
}

// keepDecision writes a login, or a refusal, to the ledger. Its loss does not
// change the answer, but it is an event.
func (s *server) keepDecision(q question, d rights.Decision) {
	r := s.record(q)
	switch {
	case q.Purpose == site.Login:
		r.Kind = ledger.Login
	case d.Allow:
		return // the record of what follows says it
	default:
		r.Kind = ledger.Decision
	}
	if d.Allow {
		r.Result, r.Level = cause.Accept, d.Role.Level
	} else {
		r.Result, r.Reason = cause.Refuse, string(d.Reason)+": "+d.Text
	}
	if err := s.gate.config.Ledger.Note(r); err != nil {
		s.drop(q, "not-recorded", "the decision could not be written to the ledger: "+err.Error())
	}
}

// keep writes an accounting record to the ledger. Only after a nil error may it
// be answered.
func (s *server) keep(q question) error {
	r := s.record(q)
	r.Result = cause.Recorded
	switch {
	case q.Purpose == site.RecordCommands:
		r.Kind = ledger.Command
	case q.start:
		r.Kind = ledger.SessionStart
	default:
		r.Kind = ledger.SessionStop
	}
	err := s.gate.config.Ledger.Keep(s.gate.ctx, r)
	q.at = s.gate.config.Now()
	e := s.event(q)
	e.Answer, e.Reason = cause.Recorded, "recorded"
	if err != nil {
		e.Answer, e.Reason, e.Text = cause.Failed, "record-not-kept", err.Error()
	}
	s.gate.config.Events(e)
	return err
}

func (s *server) record(q question) ledger.Record {
	return ledger.Record{Time: q.at, Node: s.site.Name, Person: q.Person, Device: deviceName(q.Device), Access: q.Access,
		From: q.from, Level: q.level, Command: q.Line, Session: q.session, Protocol: string(s.site.Protocol)}
}

func deviceName(d *site.Device) string {
	if d == nil {
		return ""
	}
	return d.Name
}

func (s *server) event(q question) cause.Event {
	return cause.Event{Time: q.at, Server: s.site.Name, Protocol: string(s.site.Protocol), Client: q.client.Addr().String(),
		Device: deviceName(q.Device), Access: q.Access, Person: q.Person, Question: q.Purpose.String(), Command: q.Line, Key: q.key}
}

// drop notes a packet that gets no answer.
func (s *server) drop(q question, reason, text string) {
	if q.at.IsZero() {
		q.at = s.gate.config.Now()
	}
	e := s.event(q)
	e.Answer, e.Reason, e.Text = cause.Dropped, reason, text
	s.gate.config.Events(e)
}

// granted is what the attributes of an answer depend on.
type granted struct {
	role *site.Role
	kind *site.Kind
}

// grants makes what RADIUS returns with each role to each kind of device.
func grants(s *site.Site) map[granted][]radius.Attribute {
	kinds := map[*site.Kind]bool{nil: true}
	for _, d := range s.Devices {
		kinds[d.Kind] = true
	}
	dictionary, all := words.Of(s), map[granted][]radius.Attribute{}
	for _, r := range s.Roles {
		for k := range kinds {
			for _, a := range rights.Attributes(site.RADIUS, site.Login, rights.Decision{Allow: true, Role: r}, k) {
				if made, err := dictionary.Make(a.Name, a.Value); err == nil {
					all[granted{r, k}] = append(all[granted{r, k}], made)
				}
			}
		}
	}
	return all
}

func kindOf(d *site.Device) *site.Kind {
	if d == nil {
		return nil
	}
	return d.Kind
}

// source reads where a person comes from, as a device says it.
func source(text string) netip.Addr {
	a, _ := netip.ParseAddr(text)
	return a
}
