package gate

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/routine"
	"mellowgate/internal/wire/tacacs"
)

// tacacsConn is one connection with the sessions on it. In single-connection
// mode there are many at once. What is answered at once is answered by the
// reader; a session that waits, for a person or for a password hash, has a
// goroutine of its own, and its packets reach it by their session id.
type tacacsConn struct {
	server  *server
	conn    io.ReadWriter
	client  netip.AddrPort
	device  *site.Device
	keys    [][]byte // that the asker may use; once one fits, that one
	single  bool
	heard   func() // is told of each whole packet
	sending sync.Mutex
	mu      sync.Mutex
	open    map[uint32]chan received
	waiting []unanswered // answers that wait for the disk; the reader's
}

// received is a packet on its way to its session.
type received struct {
	header tacacs.Header
	body   []byte
}

// mostSessions bounds the sessions at once on one connection.
const mostSessions = 64

// serveTACACS serves one connection: one session, or in single-connection mode
// as many as come.
func (s *server) serveTACACS(conn net.Conn, from netip.AddrPort, who asker, heard func()) {
	c := &tacacsConn{server: s, conn: conn, client: from, device: who.device, keys: who.keys,
		heard: heard}
	c.serve(conn.SetDeadline, conn.Close)
}

// serve reads packets and hands them to their sessions until the connection
// ends. A deadline holds for a whole packet, so that an asker who sends an
// octet now and then is not waited for.
func (c *tacacsConn) serve(deadline func(time.Time) error, hangUp func() error) {
	var sessions routine.Group
	defer sessions.Wait()
	defer c.endAll()
	in := readers.Get().(*bufio.Reader)
	in.Reset(c.conn)
	defer func() {
		in.Reset(nil)
		readers.Put(in)
	}()
	defer c.answerAll()
	for first := true; ; first = false {
		whole := holdsPacket(in)
		if !whole || len(c.waiting) == mostTogether {
			c.answerAll()
		}
		// For a packet to begin, whoever has a session here may take a person's time; then it is to be whole soon.
		if begins := idle; !whole {
			if first {
				begins = unfinished
			}
			_ = deadline(time.Now().Add(begins))
			if c.server.port.ctx.Err() != nil {
				return
			}
			_, err := in.Peek(1)
			if err == nil && !holdsPacket(in) {
				_ = deadline(time.Now().Add(unfinished))
			}
		}
		if c.server.port.ctx.Err() != nil {
			return
		}
		h, body, err := tacacs.ReadPacket(in, c.keys[0])
		if err != nil {
			c.unread(h, err)
			return
		}
		c.heard()
		if first {
			c.chooseKey(h, body)
			c.single = h.Flags&tacacs.FlagSingleConnect != 0
		}
		if !c.fits(h, first) {
			c.server.drop(c.question(purposeOf(h.Type)), reason.Malformed,
				fmt.Sprintf("a packet out of order: sequence number %d (RFC 8907, section 4.3)", h.Sequence))
			return
		}
		if h.Sequence != 1 {
			// a client sends the next packet only after the answer to the last
			if !c.pass(received{header: h, body: body}) {
				c.server.drop(c.question(purposeOf(h.Type)), reason.Malformed,
					"packets of a session before its answers (RFC 8907, section 4.3)")
				return
			}
			continue
		}
		if !first && !c.renew() {
			return
		}
		if most := c.server.Site.Service.Limits.QuestionsPerClient; !c.server.gate.rates.Allow(c.client.Addr(), most) {
			c.server.drop(c.question(purposeOf(h.Type)), reason.TooMany,
				fmt.Sprintf("more than %d questions in a second", most))
			return
		}
		session := &tacacsSession{tacacsConn: c, server: c.server, device: c.device,
			first: received{header: h, body: body}}
		quick, warm := session.quick()
		if session.warm = warm; quick {
			session.serve()
			if !c.single { // one session and no more
				return
			}
			continue
		}
		session.packets = c.begin(h.SessionID)
		sessions.Go(func() {
			defer c.end(h.SessionID)
			session.serve()
			if !c.single {
				_ = hangUp() // ends the reader
			}
		})
	}
}

// readers are used again: a connection for each login is usual.
var readers = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, 4096) }}

// mostTogether bounds how many answers of a connection wait for the disk together.
const mostTogether = 64

// holdsPacket reports whether a whole packet has been read already.
func holdsPacket(in *bufio.Reader) bool {
	const header = 12 // RFC 8907, section 4.1
	if in.Buffered() < header {
		return false
	}
	b, err := in.Peek(header)
	return err == nil && uint64(in.Buffered()) >= header+uint64(binary.BigEndian.Uint32(b[8:]))
}

// renew takes what is known of the server and of the asker anew, for a session
// that begins on a connection that is kept. It is false when the asker is not
// known any more, or its key is another one now.
func (c *tacacsConn) renew() bool {
	s := c.server.port.server()
	if !s.gate.config.Front.Meets(s.site.Name, c.client.Addr()) {
		return false
	}
	if s == c.server {
		return true
	}
	who, known := s.asker(c.client.Addr())
	if !known || !slices.ContainsFunc(who.keys, func(k []byte) bool { return string(k) == string(c.keys[0]) }) {
		return false
	}
	c.server, c.device = s, who.device
	return true
}

// chooseKey finds the key with which the first body adds up, where there is
// more than one: all sessions of a connection use it.
func (c *tacacsConn) chooseKey(h tacacs.Header, body []byte) {
	for i, key := range c.keys[1:] {
		if tacacs.Readable(h, body) {
			break
		}
		tacacs.Obfuscate(h, body, c.keys[i]) // as it came
		tacacs.Obfuscate(h, body, key)
		if tacacs.Readable(h, body) {
			c.keys = [][]byte{key}
			return
		}
	}
	c.keys = c.keys[:1]
}

// fits reports whether a packet goes to a session that is open, or opens one.
func (c *tacacsConn) fits(h tacacs.Header, first bool) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	_, known := c.open[h.SessionID]
	if known {
		return h.Sequence != 1
	}
	return h.Sequence == 1 && (first || c.single) && len(c.open) < mostSessions
}

// pass hands a packet to its session. It is false when the session has not
// answered the packet before.
func (c *tacacsConn) pass(p received) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	select {
	case c.open[p.header.SessionID] <- p:
		return true
	default:
		return false
	}
}

func (c *tacacsConn) begin(id uint32) <-chan received {
	c.mu.Lock()
	defer c.mu.Unlock()
	packets := make(chan received, 1)
	if c.open == nil {
		c.open = map[uint32]chan received{}
	}
	c.open[id] = packets
	return packets
}

func (c *tacacsConn) end(id uint32) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.open, id)
}

func (c *tacacsConn) endAll() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, packets := range c.open {
		close(packets)
	}
	c.open = nil
}

// unread notes why a packet could not be read.
func (c *tacacsConn) unread(h tacacs.Header, err error) {
	q := c.question(purposeOf(h.Type))
	switch {
	case errors.Is(err, tacacs.ErrHeader), errors.Is(err, tacacs.ErrClear):
		c.server.drop(q, reason.Malformed, err.Error())
	case errors.Is(err, io.ErrUnexpectedEOF):
		c.server.drop(q, reason.Malformed, "the packet was never finished")
	}
}

func (c *tacacsConn) question(p site.Purpose) question {
	return c.server.question(p, c.client, asker{device: c.device, keys: c.keys})
}

// purposeOf is what a packet's type is about, for events.
func purposeOf(t tacacs.Type) site.Purpose {
	switch t {
	case tacacs.Authentication:
		return site.Login
	case tacacs.Authorization:
		return site.Session
	}
	return site.RecordSessions
}
