package tacacs

import (
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"io"
)

// Client asks questions on one connection, one session after another. A
// client of a Shared connection has many at once.
type Client struct {
	Conn   io.ReadWriter
	Key    []byte
	shared *Shared
}

// round sends a packet and reads the next one of its session.
func (c *Client) round(h Header, body []byte) (Header, []byte, error) {
	if c.shared != nil {
		return c.shared.round(h, body)
	}
	if err := c.send(h, body); err != nil {
		return Header{}, nil, err
	}
	return ReadPacket(c.Conn, c.Key)
}

func (c *Client) send(h Header, body []byte) error {
	if c.shared != nil {
		return c.shared.send(h, body)
	}
	_, err := c.Conn.Write(AppendPacket(nil, h, body, c.Key))
	return err
}

// session is one TACACS+ session: a random id, and sequence numbers that go
// odd from the client and even from the server, RFC 8907 section 4.3.
type session struct {
	client *Client
	header Header
}

func (c *Client) begin(t Type, minor byte) (*session, error) {
	var id [4]byte
	if _, err := rand.Read(id[:]); err != nil {
		return nil, err
	}
	return &session{client: c,
		header: Header{Version: majorVersion<<4 | minor, Type: t, SessionID: binary.BigEndian.Uint32(id[:])}}, nil
}

// ask sends one body and reads the next one of the session.
func (s *session) ask(body []byte) ([]byte, error) {
	s.header.Sequence++
	h, answer, err := s.client.round(s.header, body)
	if err != nil {
		return nil, err
	}
	s.header.Sequence++
	if h.SessionID != s.header.SessionID || h.Type != s.header.Type || h.Sequence != s.header.Sequence {
		return nil, fmt.Errorf("%w: an answer to another session or out of order", ErrHeader)
	}
	return answer, nil
}

// AuthenticateASCII logs in as RFC 8907 section 5.4.2.1 describes, answering
// the prompts for the name and the password. A prompt for other data
// (GETDATA) is handed to more; without more it is a refusal. RESTART starts
// again once.
func (c *Client) AuthenticateASCII(start AuthenStart, password string,
	more func(prompt string) (string, bool)) (AuthenReply, error) {
	start.Action = ActionLogin
	start.Type = ASCII
	start.Data = ""
	for round := 0; ; round++ {
		reply, err := c.ascii(start, password, more)
		if err != nil || reply.Status != AuthenRestart || round > 0 {
			return reply, err
		}
	}
}

func (c *Client) ascii(start AuthenStart, password string, more func(string) (string, bool)) (AuthenReply, error) {
	s, err := c.begin(Authentication, 0)
	if err != nil {
		return AuthenReply{}, err
	}
	body := start.Append(nil)
	for {
		answer, err := s.ask(body)
		if err != nil {
			return AuthenReply{}, err
		}
		reply, err := DecodeAuthenReply(answer)
		if err != nil {
			return AuthenReply{}, err
		}
		var typed string
		switch reply.Status {
		case AuthenGetUser:
			typed = start.User
		case AuthenGetPass:
			typed = password
		case AuthenGetData:
			var ok bool
			if more != nil {
				typed, ok = more(reply.Message)
			}
			if !ok {
				return reply, s.abort("no answer to this prompt")
			}
		default:
			return reply, nil
		}
		if s.header.Sequence > 250 { // the sequence number must not wrap
			return reply, s.abort("too many prompts")
		}
		body = AuthenContinue{Message: typed}.Append(nil)
	}
}

// abort ends an authentication; the server does not answer it.
func (s *session) abort(why string) error {
	s.header.Sequence++
	return s.client.send(s.header, AuthenContinue{Flags: FlagAbort, Data: why}.Append(nil))
}

// Authenticate logs in with a credential in the START: a PAP password, or the
// data of CHAP or MS-CHAPv2, RFC 8907 sections 5.4.2.2 to 5.4.2.5.
func (c *Client) Authenticate(start AuthenStart, form AuthenType, data string) (AuthenReply, error) {
	start.Action = ActionLogin
	start.Type = form
	start.Data = data
	answer, err := c.once(Authentication, 1, start.Append(nil))
	if err != nil {
		return AuthenReply{}, err
	}
	return DecodeAuthenReply(answer)
}

// Authorize asks one authorization question.
func (c *Client) Authorize(r AuthorRequest) (AuthorResponse, error) {
	answer, err := c.once(Authorization, 0, r.Append(nil))
	if err != nil {
		return AuthorResponse{}, err
	}
	return DecodeAuthorResponse(answer)
}

// Account sends one accounting record.
func (c *Client) Account(r AcctRequest) (AcctReply, error) {
	answer, err := c.once(Accounting, 0, r.Append(nil))
	if err != nil {
		return AcctReply{}, err
	}
	return DecodeAcctReply(answer)
}

func (c *Client) once(t Type, minor byte, body []byte) ([]byte, error) {
	s, err := c.begin(t, minor)
	if err != nil {
		return nil, err
	}
	return s.ask(body)
}
