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
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/ledger"
	"mellowgate/internal/live/pki"
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
