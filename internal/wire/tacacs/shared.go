package tacacs

import (
	"errors"
	"io"
	"sync"

	"mellowgate/internal/routine"
)

// Shared is one connection that carries many sessions at once, RFC 8907
// section 4.3: single-connection mode. It is offered in each first packet;
// a server that does not take it up closes the connection after one session.
type Shared struct {
	conn    io.ReadWriteCloser
	key     []byte
	sending sync.Mutex
	mu      sync.Mutex
	waiting map[uint32]chan answer
	err     error
	agreed  bool
	done    chan struct{}
}

type answer struct {
	header Header
	body   []byte
}

// ErrEnded is a shared connection that has ended.
var ErrEnded = errors.New("the shared connection has ended")

// Share begins to read from a connection. Close ends it.
func Share(conn io.ReadWriteCloser, key []byte) *Shared {
	s := &Shared{conn: conn, key: key, waiting: map[uint32]chan answer{}, done: make(chan struct{})}
	routine.Go(s.read)
	return s
}

// Client returns a client whose sessions all go over the shared connection. It
// may be used from many goroutines.
func (s *Shared) Client() *Client { return &Client{shared: s} }

// Agreed reports whether the server took up single-connection mode.
func (s *Shared) Agreed() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.agreed
}

// Close ends the connection and every session on it.
func (s *Shared) Close() error {
	err := s.conn.Close()
	<-s.done
	return err
}

// read hands each packet to the session that waits for it.
func (s *Shared) read() {
	defer close(s.done)
	for {
		h, body, err := ReadPacket(s.conn, s.key)
		s.mu.Lock()
		if err != nil {
			s.err = errors.Join(ErrEnded, err)
			for _, w := range s.waiting {
				close(w)
			}
			s.waiting = map[uint32]chan answer{}
			s.mu.Unlock()
			return
		}
		if h.Sequence == 2 && h.Flags&FlagSingleConnect != 0 {
			s.agreed = true
		}
		if w, ok := s.waiting[h.SessionID]; ok { // an answer that nobody waits for is dropped
			delete(s.waiting, h.SessionID)
			w <- answer{header: h, body: body}
		}
		s.mu.Unlock()
	}
}

// round sends a packet and waits for the next one of its session.
func (s *Shared) round(h Header, body []byte) (Header, []byte, error) {
	if h.Sequence == 1 {
		h.Flags |= FlagSingleConnect
	}
	w := make(chan answer, 1)
	s.mu.Lock()
	if s.err != nil {
		s.mu.Unlock()
		return Header{}, nil, s.err
	}
	s.waiting[h.SessionID] = w
	s.mu.Unlock()
	if err := s.send(h, body); err != nil {
		s.mu.Lock()
		delete(s.waiting, h.SessionID)
		s.mu.Unlock()
		return Header{}, nil, err
	}
	a, ok := <-w
	if !ok {
		s.mu.Lock()
		defer s.mu.Unlock()
		return Header{}, nil, s.err
	}
	return a.header, a.body, nil
}

func (s *Shared) send(h Header, body []byte) error {
	s.sending.Lock()
	defer s.sending.Unlock()
	_, err := s.conn.Write(AppendPacket(nil, h, body, s.key))
	return err
}
