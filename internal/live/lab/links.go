package lab

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"time"

	"mellowgate/internal/live/asker"
	"mellowgate/internal/wire/capture"
)

// links is the lab's network between devices and servers. A link that is cut
// loses every packet, as a link at sea does: nothing refuses, nothing answers.
type links struct {
	capture *capture.Writer // for what is sent and never arrives
	mu      sync.Mutex
	cut     map[link]bool
}

// link is one direction of asking. An invalid device stands for every device.
type link struct{ device, server netip.Addr }

func (l *links) set(k link, cut bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.cut == nil {
		l.cut = map[link]bool{}
	}
	l.cut[k] = cut
}

func (l *links) isCut(device, server netip.Addr) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.cut[link{device, server}] || l.cut[link{server: server}] || l.cut[link{device: device}]
}

// Dial opens a connection over the lab's network.
func (l *links) Dial(ctx context.Context, network string, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	made := netip.AddrPortFrom(from, 40000) // the port of a packet that never leaves the host
	if network == "udp" {
		conn, err := asker.Net{}.Dial(ctx, network, from, to)
		if err != nil {
			return nil, err
		}
		return &datagrams{Conn: conn, links: l, from: conn.LocalAddr().(*net.UDPAddr).AddrPort(), to: to}, nil
	}
	if l.isCut(from, to.Addr()) {
		l.capture.Syn(time.Now(), made, to)
		<-ctx.Done()
		return nil, os.ErrDeadlineExceeded
	}
	conn, err := asker.Net{}.Dial(ctx, network, from, to)
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
}

// Write sends a datagram, or loses it where the link is cut.
func (d *datagrams) Write(b []byte) (int, error) {
	d.last = append(d.last[:0], b...)
	if d.links.isCut(d.from.Addr(), d.to.Addr()) {
		d.links.capture.UDP(time.Now(), d.from, d.to, b)
		return len(b), nil
	}
	return d.Conn.Write(b)
}

// Read notes a datagram that a closed port refused: no server saw it.
func (d *datagrams) Read(b []byte) (int, error) {
	n, err := d.Conn.Read(b)
	if errors.Is(err, syscall.ECONNREFUSED) {
		d.links.capture.UDP(time.Now(), d.from, d.to, d.last)
	}
	return n, err
}
