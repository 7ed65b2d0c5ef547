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
	"sync"
	"sync/atomic"
	"time"

	"mellowgate/internal/core/cause"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/ledger"
	"mellowgate/internal/wire/capture"
)

// Keeper keeps records: Keep returns once a record is safe, Note soon writes it.
type Keeper interface {
	Keep(ctx context.Context, r ledger.Record) error
	Note(r ledger.Record) error
}

// Config is what a gate works from. Design and Ledger are needed.
type Config struct {
	Design
	Ledger  Keeper
	Events  func(cause.Event) // default: nowhere
	Capture *capture.Writer   // default: none
	// Explain is given how each decision came about. Default: nobody asks.
	Explain func(*site.Site, cause.Event, []rights.Step)
	Now     func() time.Time // default: time.Now
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
	config   Config
	design   atomic.Pointer[snapshot]
	codes    codes
	asked    challenges
	hushed   hushed
	rates    rates
	failures failures
	turns    *turns
	mu       sync.Mutex
	ports    map[string]*port // by the name of the server
	ctx      context.Context
	stop     context.CancelFunc
	running  sync.WaitGroup
}

// New makes a gate that listens nowhere yet.
func New(c Config) *Gate {
	if c.Events == nil {
		c.Events = func(cause.Event) {}
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	g := &Gate{config: c, ports: map[string]*port{}, turns: newTurns()}
	g.failures.start()
	g.design.Store(snapshotOf(c.Design))
	g.ctx, g.stop = context.WithCancel(context.Background())
	return g
}

// Listen starts a server and gives the place with the ports in use.
func (g *Gate) Listen(p Place) (Place, error) {
	if p.Server.TLS && p.TLS == nil {
		return p, fmt.Errorf("the server %s runs over TLS and was given no certificate", p.Server.Name)
	}
	s, err := g.design.Load().server(g, p.Server)
	if err != nil {
		return p, err
	}
	on := &port{gate: g, place: p}
	s.port = on
	on.current.Store(s)
	if err := on.open(); err != nil {
		return p, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.ports[p.Server.Name] != nil {
		on.close()
		return p, fmt.Errorf("the server %s listens already", p.Server.Name)
	}
	g.ports[p.Server.Name] = on
	return on.place, nil
}

// Reload puts another design in place of the one in use: whole, at once, and
// for every server that listens. Questions that are being answered keep the
// old one. It is an error, and nothing changes, when a server that listens is
// not in the new design or is to listen otherwise.
func (g *Gate) Reload(d Design) error {
	fresh := snapshotOf(d)
	g.mu.Lock()
	defer g.mu.Unlock()
	next := map[*port]*server{}
	for name, on := range g.ports {
		old, server := on.current.Load().site, d.Site.Server(name)
		switch {
		case server == nil:
			return fmt.Errorf("the server %s runs here and is not in the site any more; end serve and start it again for that", name)
		case server.Protocol != old.Protocol || server.TLS != old.TLS || server.Address != old.Address || server.Port != old.Port ||
			server.AuthenticationPort != old.AuthenticationPort || server.AccountingPort != old.AccountingPort:
			return fmt.Errorf("the server %s is to listen elsewhere or otherwise than it does; end serve and start it again for that", name)
		}
		s, err := fresh.server(g, server)
		if err != nil {
			return err
		}
		s.port = on
		next[on] = s
	}
	old := g.design.Swap(fresh)
	defer old.books.close()
	for on, s := range next {
		on.current.Store(s)
	}
	return nil
}

// port is where one server listens. What is known of the server is taken anew
// for each question.
type port struct {
	gate    *Gate
	place   Place
	current atomic.Pointer[server]
	seen    duplicates
	mu      sync.Mutex
	closer  []func() error
	quiet   []func() error // end reading, and leave what is open open
}

// server gives the server as the design in use has it.
func (o *port) server() *server { return o.current.Load() }

// roomForPackets is how many octets may wait at a RADIUS port.
const roomForPackets = 4 << 20

// open opens the ports.
func (o *port) open() error {
	as := o.server().site
	if as.Protocol == site.TACACS || as.TLS {
		listener, err := net.Listen("tcp", o.place.Authentication.String())
		if err != nil {
			return err
		}
		o.place.Authentication = listener.Addr().(*net.TCPAddr).AddrPort()
		if as.TLS {
			o.place.Accounting = o.place.Authentication
		}
		o.closing(listener.Close)
		o.gate.running.Go(func() { o.accept(listener) })
		return nil
	}
	for _, port := range []struct {
		at         *netip.AddrPort
		accounting bool
	}{{&o.place.Authentication, false}, {&o.place.Accounting, true}} {
		if port.accounting && !as.Serves(site.RecordSessions) || !port.accounting && !as.Serves(site.Login) {
			continue // the site says that the server is not for this
		}
		conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(*port.at))
		if err != nil {
			o.close()
			return err
		}
		_ = conn.SetReadBuffer(roomForPackets) // as much of it as the system gives
		*port.at = conn.LocalAddr().(*net.UDPAddr).AddrPort()
		o.closing(conn.Close)
		o.mu.Lock()
		o.quiet = append(o.quiet, func() error { return conn.SetReadDeadline(time.Now()) })
		o.mu.Unlock()
		o.gate.running.Go(func() {
			o.serveRADIUS(conn, port.accounting)
			_ = conn.Close()
		})
	}
	return nil
}

func (o *port) closing(f func() error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.closer = append(o.closer, f)
}

func (o *port) close() {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, f := range o.closer {
		_ = f()
	}
	o.closer, o.quiet = nil, nil
}

// Off closes a server's ports, as if it were not running.
func (g *Gate) Off(which *site.Server) {
	if o := g.port(which); o != nil {
		o.close()
	}
}

// On opens a server's ports again after Off.
func (g *Gate) On(which *site.Server) error {
	if o := g.port(which); o != nil {
		return o.open()
	}
	return nil
}

// Key gives a server another key than the site says, as a fault.
func (g *Gate) Key(which *site.Server, key site.Secret) {
	if o := g.port(which); o != nil {
		s := *o.server()
		s.keys = [][]byte{[]byte(key.Reveal())}
		o.current.Store(&s)
	}
}

func (g *Gate) port(which *site.Server) *port {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.ports[which.Name]
}

// Shutdown takes no more questions, answers those that it has, closes every
// port and waits until everything has ended.
func (g *Gate) Shutdown() {
	g.stop()
	g.mu.Lock()
	for _, o := range g.ports {
		o.drain()
	}
	g.mu.Unlock()
	g.running.Wait()
	g.design.Load().books.close()
}

// drain ends the reading of a port.
func (o *port) drain() {
	o.mu.Lock()
	some := o.quiet
	if len(some) == 0 { // a listener: its connections end by themselves
		some = o.closer
	}
	o.mu.Unlock()
	for _, f := range some {
		_ = f()
	}
}
