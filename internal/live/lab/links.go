package lab

import (
	"context"
	"errors"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"time"

	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/wire/capture"
)

// links is the lab's network between devices and servers. A link that is cut
// loses every packet, as a link at sea does: nothing refuses, nothing answers.
type links struct {
	capture *capture.Writer // for what is sent and never arrives
	mu      sync.Mutex
	state   map[link]condition
}

// link is one direction of asking. An invalid address stands for every one.
type link struct{ device, server netip.Addr }

// condition is what is wrong with a link.
type condition struct {
	cut    bool
	closed bool // the server's ports refuse
	noWay  bool // a router on the way says by ICMP that there is none
	loses  int  // percent of the packets, or of the connections
}

// directory returns how the servers of the lab reach a directory.
func (l *links) directory(at func() netip.AddrPort) func(context.Context) (net.Conn, error) {
	return func(ctx context.Context) (net.Conn, error) { return l.Dial(ctx, "tcp", netip.Addr{}, at()) }
}

// nobodyThere is a port at which nobody listens: what is sent to a closed
// server goes there, so that the refusal is a real one.
const nobodyThere = 1

func (l *links) set(k link, change func(*condition)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.state == nil {
		l.state = map[link]condition{}
	}
	c := l.state[k]
	if change(&c); c == (condition{}) {
		delete(l.state, k)
	} else {
		l.state[k] = c
	}
}

// of returns what is wrong on the way from a device to a server.
func (l *links) of(device, server netip.Addr) condition {
	l.mu.Lock()
	defer l.mu.Unlock()
	var all condition
	for _, k := range []link{{device: device, server: server}, {server: server}, {device: device}} {
		c := l.state[k]
		all = condition{cut: all.cut || c.cut, closed: all.closed || c.closed, noWay: all.noWay || c.noWay,
			loses: max(all.loses, c.loses)}
	}
	return all
}

// lost reports whether a packet, or the opening of a connection, gets lost.
func (c condition) lost() bool { return c.cut || c.loses > 0 && rand.IntN(100) < c.loses }

// noSource is the network of a device that has no address from which it could ask.
type noSource struct{}

func (noSource) Dial(_ context.Context, network string, _ netip.Addr, _ netip.AddrPort) (net.Conn, error) {
	return nil, &net.OpError{Op: "dial", Net: network, Err: syscall.EADDRNOTAVAIL}
}

// Dial opens a connection over the lab's network.
func (l *links) Dial(ctx context.Context, network string, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	made := netip.AddrPortFrom(from, 40000) // the port of a packet that never leaves the host
	on := l.of(from, to.Addr())
	endpoint := to
	if on.closed {
		endpoint = netip.AddrPortFrom(to.Addr(), nobodyThere)
	}
	if network == "udp" {
		conn, err := aaa.Net{}.Dial(ctx, network, from, endpoint)
		if err != nil {
			return nil, err
		}
		return &datagrams{Conn: conn, links: l, from: conn.LocalAddr().(*net.UDPAddr).AddrPort(), to: to}, nil
	}
	if on.lost() {
		l.capture.Syn(time.Now(), made, to)
		<-ctx.Done()
		return nil, os.ErrDeadlineExceeded
	}
	if on.noWay {
		return nil, &net.OpError{Op: "dial", Net: network, Err: syscall.EHOSTUNREACH}
	}
	conn, err := aaa.Net{}.Dial(ctx, network, from, endpoint)
	if errors.Is(err, syscall.ECONNREFUSED) {
		l.capture.Refused(time.Now(), made, to)
	}
	return conn, err
}

// datagrams is a UDP connection over the lab's network.
type datagrams struct {
	net.Conn
	links    *links
	from, to netip.AddrPort
	last     []byte
	told     bool // that there is no way, of the last datagram
}

// Write sends a datagram, or loses it.
func (d *datagrams) Write(b []byte) (int, error) {
	d.last = append(d.last[:0], b...)
	on := d.links.of(d.from.Addr(), d.to.Addr())
	if d.told = false; on.noWay || on.lost() {
		d.links.capture.UDP(time.Now(), d.from, d.to, b)
		return len(b), nil
	}
	return d.Conn.Write(b)
}

// Read says once that there is no way, where that is so. It notes a datagram that a
// closed port refused: no server saw it.
func (d *datagrams) Read(b []byte) (int, error) {
	if !d.told && d.links.of(d.from.Addr(), d.to.Addr()).noWay {
		d.told = true
		return 0, &net.OpError{Op: "read", Net: "udp", Err: syscall.EHOSTUNREACH}
	}
	n, err := d.Conn.Read(b)
	if errors.Is(err, syscall.ECONNREFUSED) {
		d.links.capture.UDP(time.Now(), d.from, d.to, d.last)
		d.links.capture.PortClosed(time.Now(), d.from, d.to, d.last)
	}
	return n, err
}
