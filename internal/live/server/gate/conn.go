package gate

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/guard"
	"mellowgate/internal/live/store/pki"
	"mellowgate/internal/routine"
	"mellowgate/internal/wire/capture"
	"mellowgate/internal/wire/tacacs"
)

// idle is how long is waited for the next whole packet, which may be what a
// person types.
const idle = 60 * time.Second

// unfinished is how long is waited for the first octet of a new connection, and
// for the rest of a packet that has begun.
const unfinished = 5 * time.Second

// accept takes TCP connections until the listener is closed.
func (o *port) accept(listener net.Listener) {
	var taken guard.Conns
	guard.Retry(o.ctx, func() error {
		conn, err := listener.Accept()
		if err != nil {
			return err
		}
		from := conn.RemoteAddr().(*net.TCPAddr).AddrPort()
		s := o.server()
		most := s.Site.Service.Limits
		place := taken.Take(from.Addr(), conn, most.Connections, most.ConnectionsPerClient)
		if place == nil {
			_ = conn.Close()
			q := question{asking: asking{client: from}}
			q.Purpose = site.PurposeCount
			s.drop(q, reason.TooMany, fmt.Sprintf("%s has %d connections open; this one was closed",
				from.Addr().Unmap(),
				most.ConnectionsPerClient))
			return nil
		}
		o.gate.workers.Go(func() {
			defer place.Give()
			o.gate.connections.Add(1)
			defer o.gate.connections.Add(-1)
			o.connection(conn, place.Heard)
		})
		return nil
	}, o.trouble)
}

// trouble notes that the server cannot take what comes to its port just now.
func (o *port) trouble(err error) {
	q := question{}
	q.Purpose = site.PurposeCount
	o.server().drop(q, reason.CannotTake, "nothing is taken at the port just now, and it is tried again: "+err.Error())
}

// connection serves one connection of a device of the site, over TLS where the
// server is. It tells of each whole packet.
func (o *port) connection(conn net.Conn, heard func()) {
	s := o.server()
	defer func() { _ = conn.Close() }()
	// The end of the server ends the reading; what is being answered is answered.
	defer routine.OnDone(o.ctx, func() { _ = conn.SetReadDeadline(time.Now()) })()
	from := conn.RemoteAddr().(*net.TCPAddr).AddrPort()
	from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
	through := conn
	if w := s.gate.config.Capture; w != nil { // below TLS: the capture holds what was on the wire
		tapped := &tapped{Conn: conn, tcp: w.Connect(s.gate.config.Now(), from,
			conn.LocalAddr().(*net.TCPAddr).AddrPort()),
			now: s.gate.config.Now}
		if s.site.Protocol == site.TACACS && !s.site.Secured() && !s.gate.config.Credentials {
			tapped.veil = tacacs.NewVeil(s.openers(from.Addr()))
		}
		defer tapped.end()
		through = tapped
	}
	q := question{asking: asking{client: from}}
	q.Purpose = site.PurposeCount
	client, known := s.asker(from.Addr())
	if !known {
		s.drop(q, reason.ClientUnknown, s.nobody(from.Addr()))
		return
	}
	q.Device = client.device
	if s.site.Secured() && client.device == nil {
		s.drop(q, reason.ClientUnknown, s.nobody(from.Addr()))
		return
	}
	if s.site.Secured() {
		secured := tls.Server(through, o.secured.Load())
		_ = secured.SetDeadline(time.Now().Add(unfinished))
		if err := secured.Handshake(); err != nil {
			s.drop(q, reason.TLS, "the TLS handshake failed: "+err.Error())
			return
		}
		if ok, bears := pki.NamesDevice(secured.ConnectionState().PeerCertificates[0], client.device); !ok {
			s.drop(q, reason.TLS,
				fmt.Sprintf("the certificate names %s, and not %s: another device's is not taken for it", bears,
					client.device.Name))
			return
		}
		through = secured
	}
	if s.site.Protocol == site.TACACS {
		s.serveTACACS(through, from, client, heard)
		return
	}
	o.serveRADIUSOverTLS(through, from, heard)
}

// tapped writes what passes to the capture.
type tapped struct {
	net.Conn
	tcp  *capture.TCP
	now  func() time.Time
	gone atomic.Bool // who asked ended it first

	mu   sync.Mutex
	veil *tacacs.Veil // nil: all is kept as it is
}

// keep writes octets to the capture, without what the keys would open.
func (t *tapped) keep(fromClient bool, b []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.veil != nil {
		b = t.veil.Pass(fromClient, b)
	}
	if len(b) > 0 {
		t.tcp.Data(t.now(), fromClient, b)
	}
}

func (t *tapped) Read(b []byte) (int, error) {
	n, err := t.Conn.Read(b)
	t.keep(true, b[:n])
	if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) && !errors.Is(err, net.ErrClosed) {
		t.gone.Store(true)
	}
	return n, err
}

func (t *tapped) Write(b []byte) (int, error) {
	t.keep(false, b)
	return t.Conn.Write(b)
}

func (t *tapped) end() { t.tcp.Close(t.now(), t.gone.Load()) }
