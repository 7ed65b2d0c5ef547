package learn

import (
	"net/netip"
	"slices"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/capture"
)

// Spread is a measured time: the shortest and the longest that was seen, and how often.
type Spread struct {
	Low, High time.Duration
	Count     int
}

func (s *Spread) add(d time.Duration) {
	if s.Count == 0 || d < s.Low {
		s.Low = d
	}
	s.High = max(s.High, d)
	s.Count++
}

// Measured is what shows of a device in the packets that it sends.
type Measured struct {
	// Between is the time between two transmissions of one RADIUS question that had no
	// answer, and Attempts how often it was sent at most, by server.
	Between  map[string]*Spread
	Attempts map[string]int
	// Gives is after what time a TACACS+ connection without an answer was ended by the device.
	Gives map[string]*Spread
	// Alone is for how long a server that gave no answer was left alone: at least, and at
	// most; High is 0 where it was not asked again while that was measured.
	Alone   map[string]*Spread
	Sources []string            // the addresses that it asks from
	Ports   bool                // questions come from ever other ports
	Names   map[string][]string // how it names its ports, by way in
	Forms   map[string][]string // in which forms passwords go, by protocol
	Carries map[string][]string // the attributes of a question of a login, by protocol
}

// Meter measures what a capture has. It is a capture.Handler.
type Meter struct {
	sent  map[sentKey]*sentTimes
	conns map[capture.Conn]*connTimes
	ports map[uint16]bool
	m     Measured
}

type sentKey struct {
	from, to netip.AddrPort
	head     [20]byte // code, identifier, length and authenticator (RFC 2865, section 3)
}

type sentTimes struct {
	last  time.Time
	count int
	times []time.Duration
}

type connTimes struct {
	first    time.Time
	answered bool
	gave     time.Duration // when the device ended it, unanswered; 0: it did not
}

// NewMeter makes one that has measured nothing.
func NewMeter() *Meter {
	m := &Meter{ports: map[uint16]bool{}, m: Measured{Between: map[string]*Spread{}, Attempts: map[string]int{},
		Gives: map[string]*Spread{}, Alone: map[string]*Spread{}, Names: map[string][]string{},
		Forms:   map[string][]string{},
		Carries: map[string][]string{}}}
	m.begin()
	return m
}

func (m *Meter) begin() {
	m.sent, m.conns = map[sentKey]*sentTimes{}, map[capture.Conn]*connTimes{}
}

// Datagram takes one transmission.
func (m *Meter) Datagram(moment time.Time, from, to netip.AddrPort, b []byte, cut bool) {
	if cut || len(b) < 20 || b[0] != 1 && b[0] != 4 {
		return
	}
	key := sentKey{from: from, to: to, head: [20]byte(b[:20])}
	s := m.sent[key]
	if s == nil {
		s = &sentTimes{}
		m.sent[key] = s
	} else {
		s.times = append(s.times, moment.Sub(s.last))
	}
	s.last = moment
	s.count++
}

// Data takes octets of a connection.
func (m *Meter) Data(moment time.Time, c *capture.Conn, fromClient bool, _ []byte, _ bool) {
	t := m.conns[*c]
	if t == nil {
		t = &connTimes{first: moment}
		m.conns[*c] = t
	}
	t.answered = t.answered || !fromClient
}

// Ended takes the end of a connection.
func (m *Meter) Ended(moment time.Time, c *capture.Conn, e capture.Ending) {
	if t := m.conns[*c]; t != nil && !t.answered && e.By == capture.TheClient {
		t.gave = moment.Sub(t.first)
	}
}

// Unreachable and Neighbour say nothing of a device's behaviour.
func (m *Meter) Unreachable(time.Time, netip.Addr, netip.AddrPort, netip.AddrPort, bool, capture.Refusal) {
}

// Neighbour says nothing either.
func (m *Meter) Neighbour(time.Time, netip.Addr, netip.Addr, bool) {}

func spread(of map[string]*Spread, name string) *Spread {
	if of[name] == nil {
		of[name] = &Spread{}
	}
	return of[name]
}

// Login takes the exchanges of the same capture: of a login by one way in, "" where that is
// not known.
func (m *Meter) Login(access string, exchanges []evidence.Exchange) {
	defer m.begin()
	servers, clients := map[string]string{}, map[netip.Addr]bool{}
	for _, x := range exchanges {
		servers[x.ServerAddress] = x.Server
		if from, err := netip.ParseAddrPort(x.Client); err == nil {
			clients[from.Addr()] = true
		}
		if x.Question == site.AskLogin {
			m.login(access, x)
		}
	}
	for key, s := range m.sent {
		if server := servers[key.to.String()]; server != "" && clients[key.from.Addr()] {
			for _, d := range s.times {
				spread(m.m.Between, server).add(d)
			}
			m.m.Attempts[server] = max(m.m.Attempts[server], s.count)
		}
	}
	for c, t := range m.conns {
		if server := servers[c.Server.String()]; server != "" && clients[c.Client.Addr()] && t.gave > 0 {
			spread(m.m.Gives, server).add(t.gave)
		}
	}
}

// login takes a question of a login.
func (m *Meter) login(access string, x evidence.Exchange) {
	note := func(to *[]string, value string) {
		if value != "" && !slices.Contains(*to, value) {
			*to = append(*to, value)
			slices.Sort(*to)
		}
	}
	noteIn := func(of map[string][]string, name, value string) {
		all := of[name]
		if note(&all, value); name != "" && len(all) > 0 {
			of[name] = all
		}
	}
	noteIn(m.m.Forms, x.Protocol, x.Form)
	if from, err := netip.ParseAddrPort(x.Client); err == nil {
		note(&m.m.Sources, from.Addr().String())
		m.ports[from.Port()] = true
		m.m.Ports = len(m.ports) > 1
	}
	for _, a := range x.Request {
		switch a.Name {
		case "NAS-Port-Id", "port": // RFC 2869, section 5.17; RFC 8907, section 5.1
			noteIn(m.m.Names, access, a.Value)
		}
		if x.Protocol == string(site.RADIUS) {
			noteIn(m.m.Carries, x.Protocol, a.Name)
		}
	}
}

// LeftAlone notes for how long a server was left alone.
func (m *Meter) LeftAlone(server string, least, most time.Duration) {
	m.m.Alone[server] = &Spread{Low: least, High: most, Count: 1}
}

// Measured returns what was measured so far.
func (m *Meter) Measured() Measured { return m.m }
