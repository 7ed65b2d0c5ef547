// Package devicelogs receives the logs that devices send: syslog messages of either
// form (RFC 3164, RFC 5424) over UDP (RFC 5426), TCP (RFC 6587) and TLS (RFC 5425). It
// keeps each with the device that sent it, as a line of evidence, and understands none:
// what a make's line says is left to its phrasebook. It holds up nobody, and its memory
// does not grow with what comes.
package devicelogs

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/guard"
	"mellowgate/internal/routine"
)

// Config is what is received and where it goes. All fields are needed, except TLS where
// nothing is received over it.
type Config struct {
	Where []site.LogSource
	// Device names the device with an address, "" for none: what others send is dropped.
	Device func(netip.Addr) string
	Keep   func(evidence.LogLine)
	Say    func(text string)
	TLS    func(server string) (*tls.Config, error) // what the server of that name shows
	Now    func() time.Time
}

const (
	longest     = 8 << 10          // octets of one message; the rest is cut
	mostConns   = 512              // connections at the same time
	idle        = 10 * time.Minute // after which a connection is closed
	lineRate    = 500              // messages of one device in a second
	sayEvery    = time.Minute      // how often it is told that messages were dropped
	mostDropped = 4096             // devices that are counted
)

// Receiver receives until it is closed. It owns a goroutine for each place, and one for
// each connection.
type Receiver struct {
	config Config
	ctx    context.Context
	cancel context.CancelFunc
	work   routine.Group
	open   []io.Closer
	places []string

	mu     sync.Mutex
	conns  map[net.Conn]bool
	rates  map[string]*rate
	warned time.Time
}

// rate is how much a device sent in the second that began at since.
type rate struct {
	since   time.Time
	n       int
	dropped int
}

// Listen begins to receive everywhere, or nowhere.
func Listen(c Config) (*Receiver, error) {
	ctx, cancel := context.WithCancel(context.Background())
	r := &Receiver{config: c, ctx: ctx, cancel: cancel, conns: map[net.Conn]bool{}, rates: map[string]*rate{}}
	for _, at := range c.Where {
		if err := r.listen(at); err != nil {
			r.Close()
			return nil, fmt.Errorf("logs of devices by %s at %s: %w", at.Network, at.Address, err)
		}
	}
	return r, nil
}

// Places returns where it listens, in words.
func (r *Receiver) Places() []string { return r.places }

// Close ends everything, and waits for it.
func (r *Receiver) Close() {
	r.cancel()
	for _, c := range r.open {
		_ = c.Close()
	}
	r.mu.Lock()
	for c := range r.conns {
		_ = c.Close()
	}
	r.mu.Unlock()
	r.work.Wait()
}

func (r *Receiver) listen(at site.LogSource) error {
	if at.Network == "udp" {
		conn, err := net.ListenPacket("udp", at.Address)
		if err != nil {
			return err
		}
		r.open = append(r.open, conn)
		r.places = append(r.places, "udp "+conn.LocalAddr().String())
		r.work.Go(func() { r.datagrams(conn) })
		return nil
	}
	var shown *tls.Config
	if at.Network == "tls" {
		var err error
		if shown, err = r.config.TLS(at.Server.Name); err != nil {
			return err
		}
	}
	l, err := net.Listen("tcp", at.Address)
	if err != nil {
		return err
	}
	r.open = append(r.open, l)
	r.places = append(r.places, at.Network+" "+l.Addr().String())
	r.work.Go(func() { r.connections(l, shown) })
	return nil
}

func (r *Receiver) trouble(err error) { r.config.Say(fmt.Sprintf("logs of devices: %v", err)) }

func (r *Receiver) datagrams(conn net.PacketConn) {
	buffer := make([]byte, longest)
	guard.Retry(r.ctx, func() error {
		n, from, err := conn.ReadFrom(buffer)
		if err == nil {
			r.take(from, string(buffer[:n]))
		}
		return err
	}, r.trouble)
}

func (r *Receiver) connections(l net.Listener, shown *tls.Config) {
	guard.Retry(r.ctx, func() error {
		conn, err := l.Accept()
		if err != nil {
			return err
		}
		if !r.enter(conn) {
			return conn.Close()
		}
		through := conn
		if shown != nil {
			through = tls.Server(conn, shown)
		}
		r.work.Go(func() {
			defer r.leave(conn)
			r.stream(through, conn.RemoteAddr())
		})
		return nil
	}, r.trouble)
}

// enter counts a connection of a device; false for one of somebody else, or for one too
// many.
func (r *Receiver) enter(conn net.Conn) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.device(conn.RemoteAddr()) == "" || len(r.conns) >= mostConns || r.ctx.Err() != nil {
		return false
	}
	r.conns[conn] = true
	return true
}

func (r *Receiver) leave(conn net.Conn) {
	r.mu.Lock()
	delete(r.conns, conn)
	r.mu.Unlock()
	_ = conn.Close()
}

// stream reads messages of a connection: each with its length before it, or ended by a
// line feed (RFC 6587, section 3.4).
func (r *Receiver) stream(conn net.Conn, from net.Addr) {
	in := bufio.NewReaderSize(conn, longest)
	for {
		_ = conn.SetReadDeadline(time.Now().Add(idle))
		text, err := message(in)
		if text != "" {
			r.take(from, text)
		}
		if err != nil {
			return
		}
	}
}

// errFrame is a stream that is not syslog.
var errFrame = errors.New("no syslog message")

// message reads one message of a stream; what is longer than the longest is cut.
func message(in *bufio.Reader) (string, error) {
	head, err := in.Peek(1)
	if err != nil {
		return "", err
	}
	if head[0] < '1' || head[0] > '9' {
		return line(in)
	}
	number, err := in.ReadString(' ')
	n, failed := strconv.Atoi(strings.TrimSpace(number))
	if err != nil || failed != nil || len(number) > 7 {
		return "", errFrame
	}
	text := make([]byte, min(n, longest))
	if _, err := io.ReadFull(in, text); err != nil {
		return "", err
	}
	_, err = in.Discard(n - len(text))
	return string(text), err
}

// line reads up to a line feed.
func line(in *bufio.Reader) (string, error) {
	text, err := in.ReadSlice('\n')
	kept := string(text)
	for errors.Is(err, bufio.ErrBufferFull) {
		_, err = in.ReadSlice('\n')
	}
	return kept, err
}

func (r *Receiver) device(from net.Addr) string {
	endpoint, err := netip.ParseAddrPort(from.String())
	if err != nil {
		return ""
	}
	return r.config.Device(endpoint.Addr().Unmap())
}

// take keeps a message, if a device of the site sent it and not too many came before.
func (r *Receiver) take(from net.Addr, text string) {
	device := r.device(from)
	text = readable(text)
	if device == "" || text == "" || !r.admits(device) {
		return
	}
	r.config.Keep(evidence.LogLine{Time: r.config.Now().UTC(), Device: device, Text: text, Raw: true})
}

// admits reports whether a device may send one more in this second.
func (r *Receiver) admits(device string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := r.config.Now()
	v := r.rates[device]
	if v == nil {
		if len(r.rates) >= mostDropped {
			clear(r.rates)
		}
		v = &rate{}
		r.rates[device] = v
	}
	if now.Sub(v.since) >= time.Second {
		v.since, v.n = now, 0
	}
	if v.n++; v.n <= lineRate {
		return true
	}
	if v.dropped++; now.Sub(r.warned) >= sayEvery {
		r.warned = now
		r.config.Say(fmt.Sprintf("%s sends more than %d lines of its log in a second: %d were dropped", device,
			lineRate,
			v.dropped))
		v.dropped = 0
	}
	return false
}

// readable returns the text of a message: without its priority, in UTF-8, in one line.
func readable(text string) string {
	if rest, ok := strings.CutPrefix(text, "<"); ok {
		if n, after, ok := strings.Cut(rest, ">"); ok && len(n) <= 3 {
			text = after
		}
	}
	text = strings.ToValidUTF8(strings.TrimRight(text, "\r\n\x00 "), "\uFFFD")
	return strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f {
			return ' '
		}
		return c
	}, strings.ReplaceAll(text, "\ufeff", ""))
}
