// Package fakeaaa plays the servers of a device for an experiment: each of them answers,
// keeps no records, is silent, or is closed. What the device asks is captured, in memory
// alone.
package fakeaaa

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"syscall"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/routine"
	"mellowgate/internal/wire/capture"
)

// Config is which servers are played. All of it is needed.
type Config struct {
	Site    *site.Site
	Keys    site.Keys
	Clients map[netip.Addr]*site.Device
	Servers []*site.Server
	Where   func(*site.Server) gate.Place // where one listens now
}

// Players are servers that are played. Open and Close are called in turn, by one goroutine.
type Players struct {
	config  Config
	gate    *gate.Gate
	packets bytes.Buffer
	capture *capture.Writer
	ctx     context.Context
	stop    context.CancelFunc
	mute    routine.Group
	closers []func() error
	mu      sync.Mutex // guards asked
	asked   []evidence.Event
	news    chan struct{}
}

// New makes players that listen nowhere yet.
func New(c Config) *Players { return &Players{config: c} }

// Open lets each server be in its state: up where none is given. After an error nothing
// listens.
func (p *Players) Open(states map[*site.Server]foresee.State) (err error) {
	p.packets.Reset()
	p.asked, p.news = nil, make(chan struct{}, 1)
	if p.capture, err = capture.NewWriter(&p.packets); err != nil {
		return err
	}
	p.ctx, p.stop = context.WithCancel(context.Background())
	p.gate = gate.New(gate.Config{Design: gate.Design{
		Site: p.config.Site, Keys: p.config.Keys, Clients: p.config.Clients},
		Ledger: forgets{}, Capture: p.capture, Credentials: true, Events: p.note,
		Front: keepsNone{of: func(server string) bool {
			return states[p.config.Site.Server(server)] == foresee.NoRecords
		}}})
	for _, s := range p.config.Servers {
		switch states[s] {
		case foresee.Closed:
		case foresee.Down:
			err = p.silent(p.config.Where(s))
		default:
			_, err = p.gate.Listen(p.config.Where(s))
		}
		if err != nil {
			p.Close()
			return fmt.Errorf("the server %s cannot be played at %s: %w", s.Name, p.config.Where(s).Authentication,
				plain(err))
		}
	}
	return nil
}

// keepsNone is in front of servers of which some keep no records.
type keepsNone struct{ of func(server string) bool }

// Meets reports true: every client is met.
func (keepsNone) Meets(string, netip.Addr) bool { return true }

// Waits reports false: nothing is made late.
func (keepsNone) Waits(string, netip.Addr) bool { return false }

// Admit stops what is a record.
func (k keepsNone) Admit(_ context.Context, server string, _ netip.Addr, p site.Purpose) (reason.Reason, string, bool) {
	return reason.NotForThis, server + " is played as a server that keeps no records", p.Records() && k.of(server)
}

// plain says why a port cannot be opened, and what helps.
func plain(err error) error {
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return errors.New("the port is in use; a server runs there, or another learn: end it for the time being")
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return errors.New("this host does not have that address; give it the address for the time being, or play " +
			"the server at another one with -listen")
	case errors.Is(err, syscall.EACCES):
		return errors.New("this user may not open the port")
	}
	return err
}

func (p *Players) note(e evidence.Event) {
	p.mu.Lock()
	p.asked = append(p.asked, e)
	p.mu.Unlock()
	select {
	case p.news <- struct{}{}:
	default:
	}
}

// Await waits until a server that answers has noted something that fits, for so long at
// most.
func (p *Players) Await(ctx context.Context, most time.Duration, fits func(evidence.Event) bool) {
	late := time.NewTimer(most)
	defer late.Stop()
	for seen := 0; ; {
		p.mu.Lock()
		fresh := p.asked[seen:]
		seen = len(p.asked)
		p.mu.Unlock()
		for _, e := range fresh {
			if fits(e) {
				return
			}
		}
		select {
		case <-p.news:
		case <-late.C:
			return
		case <-ctx.Done():
			return
		}
	}
}

// silent opens the ports of a server that takes what comes and answers nothing.
func (p *Players) silent(at gate.Place) error {
	if at.Server.Protocol == site.TACACS {
		l, err := net.Listen("tcp", at.Authentication.String())
		if err != nil {
			return err
		}
		p.closers = append(p.closers, l.Close)
		p.mute.Go(func() { p.takeConnections(l) })
		return nil
	}
	for _, port := range []netip.AddrPort{at.Authentication, at.Accounting} {
		conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(port))
		if err != nil {
			return err
		}
		p.closers = append(p.closers, conn.Close)
		p.mute.Go(func() { p.takeDatagrams(conn, port) })
	}
	if at.Server.PortsSaid {
		return nil
	}
	// A host that is silent refuses nothing: not at the other ports either, at which a device
	// may ask that has its own idea of them (RFC 2865, section 3). Nothing there is kept.
	for _, other := range []uint16{1645, 1646, 1812, 1813} {
		port := netip.AddrPortFrom(at.Authentication.Addr(), other)
		if port == at.Authentication || port == at.Accounting {
			continue
		}
		if conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(port)); err == nil {
			p.closers = append(p.closers, conn.Close)
			p.mute.Go(func() { _, _ = io.Copy(io.Discard, conn) })
		}
	}
	return nil
}

func (p *Players) takeDatagrams(conn *net.UDPConn, to netip.AddrPort) {
	b := make([]byte, 1<<16)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(b)
		if err != nil {
			return // it was closed
		}
		p.capture.UDP(time.Now(), netip.AddrPortFrom(from.Addr().Unmap(), from.Port()), to, b[:n])
	}
}

func (p *Players) takeConnections(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		p.mute.Go(func() { p.takeConnection(conn) })
	}
}

// takeConnection reads a connection to its end.
func (p *Players) takeConnection(conn net.Conn) {
	stop := routine.OnDone(p.ctx, func() { _ = conn.Close() })
	defer stop()
	defer func() { _ = conn.Close() }()
	from := conn.RemoteAddr().(*net.TCPAddr).AddrPort()
	t := p.capture.Connect(time.Now(), netip.AddrPortFrom(from.Addr().Unmap(), from.Port()),
		conn.LocalAddr().(*net.TCPAddr).AddrPort())
	b := make([]byte, 1<<16)
	for {
		n, err := conn.Read(b)
		if n > 0 {
			t.Data(time.Now(), true, b[:n])
		}
		if err != nil {
			t.Close(time.Now(), p.ctx.Err() == nil)
			return
		}
	}
}

// Close ends every server, and returns what devices asked, as a capture. It may be called
// though nothing is open.
func (p *Players) Close() []byte {
	if p.gate == nil {
		return nil
	}
	p.stop()
	for _, end := range p.closers {
		_ = end()
	}
	p.closers = nil
	p.gate.Shutdown()
	p.mute.Wait()
	p.gate = nil
	_ = p.capture.Close()
	return bytes.Clone(p.packets.Bytes())
}

// forgets is the ledger of servers that are played: what an experiment does is no record.
type forgets struct{}

func (forgets) Begin(ledger.Record) (ledger.Written, error) { return ledger.Written{}, nil }
func (forgets) Note(ledger.Record) (ledger.Written, error)  { return ledger.Written{}, nil }
