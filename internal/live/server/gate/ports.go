package gate

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/guard"
)

// Listen starts a server and gives the place with the ports in use.
func (g *Gate) Listen(p Place) (Place, error) {
	s, err := g.design.Load().server(g, p.Server)
	if err != nil {
		return p, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.ports[p.Server.Name] != nil {
		return p, fmt.Errorf("the server %s listens already", p.Server.Name)
	}
	on, err := g.listen(p, s)
	if err != nil {
		return p, err
	}
	g.ports[p.Server.Name] = on
	return on.place, nil
}

// listen opens the ports of a server.
func (g *Gate) listen(p Place, s *server) (*port, error) {
	if p.Server.Secured() && p.TLS == nil {
		return nil, fmt.Errorf("the server %s runs over TLS and was given no certificate", p.Server.Name)
	}
	on := &port{gate: g, requested: p, place: p}
	on.ctx, on.stop = context.WithCancel(g.ctx)
	s.port = on
	on.current.Store(s)
	on.secured.Store(p.TLS)
	if err := on.open(); err != nil {
		on.stop()
		return nil, &ListenError{Place: p, Err: err}
	}
	return on, nil
}

// ListenError is a place at which a server could not listen.
type ListenError struct {
	Place Place
	Err   error
}

func (e *ListenError) Error() string {
	return fmt.Sprintf("the server %s cannot listen on %s: %v", e.Place.Server.Name, e.Place.Authentication, e.Err)
}

func (e *ListenError) Unwrap() error { return e.Err }

// Reload puts another design in place of the one in use: whole, at once, and
// for every server that listens, which stays where it is. Questions that are
// being answered keep the old one. It is an error, and nothing changes, when a
// server that listens is not in the new design.
func (g *Gate) Reload(d Design) error {
	var places []Place
	g.mu.Lock()
	for name, on := range g.ports {
		p := on.requested
		if p.Server = d.Site.Server(name); p.Server == nil {
			g.mu.Unlock()
			return fmt.Errorf("the server %s runs here and is not in the site any more", name)
		}
		p.TLS = on.secured.Load()
		places = append(places, p)
	}
	g.mu.Unlock()
	_, err := g.Reconfigure(d, places)
	return err
}

// Change is what Take did to a server.
type Change struct {
	Place Place
	Ended bool // it does not listen any more
}

// Reconfigure puts another design in place of the one in use, as Reload does, and lets
// just the servers of the given places listen: new ones begin, others end, and
// those that are to listen elsewhere move. The changes are given, the ends
// first. After an error nothing has changed.
func (g *Gate) Reconfigure(d Design, places []Place) ([]Change, error) {
	fresh := snapshotOf(d, g.verified)
	g.mu.Lock()
	defer g.mu.Unlock()
	next := make([]*server, len(places))
	for i, p := range places {
		var err error
		if next[i], err = fresh.server(g, p.Server); err != nil {
			fresh.directories.close()
			return nil, err
		}
	}
	ends, stays := g.partition(places)
	for _, on := range ends {
		on.close()
	}
	opened := map[int]*port{}
	for i, p := range places {
		if stays[i] != nil {
			continue
		}
		on, err := g.listen(p, next[i])
		if err != nil {
			fresh.directories.close()
			return nil, errors.Join(err, g.rollback(opened, ends))
		}
		opened[i] = on
	}
	var changes []Change
	for _, on := range ends {
		on.stop()
		delete(g.ports, on.place.Server.Name)
		changes = append(changes, Change{Place: on.place, Ended: true})
	}
	old := g.design.Swap(fresh)
	defer old.directories.close()
	for i, p := range places {
		on := stays[i]
		if on == nil {
			on = opened[i]
			g.ports[p.Server.Name] = on
			changes = append(changes, Change{Place: on.place, Ended: false})
			continue
		}
		next[i].port = on
		on.secured.Store(p.TLS)
		on.current.Store(next[i])
	}
	return changes, nil
}

// partition tells which of the servers that listen end, and for each place which
// goes on there, nil where one begins.
func (g *Gate) partition(places []Place) (ends []*port, stays []*port) {
	stays = make([]*port, len(places))
	kept := map[*port]bool{}
	for i, p := range places {
		if on := g.ports[p.Server.Name]; on != nil && on.requested.sameEndpoint(p) {
			stays[i], kept[on] = on, true
		}
	}
	for _, on := range g.ports {
		if !kept[on] {
			ends = append(ends, on)
		}
	}
	slices.SortFunc(ends, func(a, b *port) int { return strings.Compare(a.place.Server.Name, b.place.Server.Name) })
	return ends, stays
}

// sameEndpoint reports whether two places are the same to a listener.
func (p Place) sameEndpoint(q Place) bool {
	a, b := p.Server, q.Server
	return p.Authentication == q.Authentication && p.Accounting == q.Accounting && a.Protocol == b.Protocol &&
		a.Secured() == b.Secured() &&
		a.Serves(site.Login) == b.Serves(site.Login) && a.Serves(site.RecordSessions) == b.Serves(site.RecordSessions)
}

// rollback undoes what Take did to the ports. Its error names those that could not be
// opened again: they listen no more.
func (g *Gate) rollback(opened map[int]*port, ended []*port) (err error) {
	for _, on := range opened {
		on.close()
		on.stop()
	}
	for _, on := range ended {
		if failed := on.open(); failed != nil {
			err = errors.Join(err, fmt.Errorf("the server %s cannot go on where it was: %w", on.place.Server.Name,
				&ListenError{Place: on.place, Err: failed}))
		}
	}
	return err
}

// port is where one server listens. What is known of the server is taken again
// for each question.
type port struct {
	gate      *Gate
	ctx       context.Context // ends when the server ends
	stop      context.CancelFunc
	requested Place // as it was asked for
	place     Place // with the ports in use
	secured   atomic.Pointer[tls.Config]
	current   atomic.Pointer[server]
	seen      guard.Duplicates
	mu        sync.Mutex
	closer    []func() error
	quiet     []func() error // end reading, and leave what is open open
}

// server returns the server as the design in use has it.
func (o *port) server() *server { return o.current.Load() }

// roomForPackets is how many octets may wait at a RADIUS port.
const roomForPackets = 4 << 20

// listening makes listeners. A connection needs no sign of life of TCP: what is quiet for
// long is ended in any case.
var listening = net.ListenConfig{KeepAlive: -1}

// open opens the ports.
func (o *port) open() error {
	as := o.server().site
	if as.Streams() {
		listener, err := listening.Listen(o.ctx, "tcp", o.place.Authentication.String())
		if err != nil {
			return err
		}
		o.place.Authentication = listener.Addr().(*net.TCPAddr).AddrPort()
		if as.Secured() {
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
