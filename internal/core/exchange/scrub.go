package exchange

import (
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/capture"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

// StandInKey is the key of every packet of a scrubbed capture. OtherKey is that
// of packets which were made with another key than the server's.
const (
	StandInKey = "scrubbed-capture-stand-in-key"
	OtherKey   = "scrubbed-capture-another-key"
)

// scrubbedPassword stands in place of every password, repeated to keep its
// length class.
const scrubbedPassword = "scrubbed"

// Scrubber writes a copy of a capture that can be shared: passwords, names,
// texts and addresses are replaced, the same by the same, and everything that
// a key makes is made again with a stand-in key. It is a capture.Handler.
type Scrubber struct {
	directory Directory
	out       *capture.Writer
	addresses map[netip.Addr]netip.Addr
	names     map[string]string
	requests  map[pairKey][16]byte // the authenticators of requests, as received
	made      map[pairKey][16]byte // the same, as written
	conns     map[capture.Conn]*scrubbedConn
	Left      int // packets left out because they could not be read
}

// scrubbedConn is one TACACS+ connection.
type scrubbedConn struct {
	port    port
	tcp     *capture.TCP
	buffers [2][]byte
}

// NewScrubber writes to out.
func NewScrubber(d Directory, out io.Writer) (*Scrubber, error) {
	w, err := capture.NewWriter(out)
	return &Scrubber{directory: d, out: w, addresses: map[netip.Addr]netip.Addr{}, names: map[string]string{},
		requests: map[pairKey][16]byte{}, made: map[pairKey][16]byte{}, conns: map[capture.Conn]*scrubbedConn{}}, err
}

// Close ends the copy.
func (s *Scrubber) Close() error { return s.out.Close() }

// place returns the address that stands for another, from the documentation
// ranges (RFC 5737 has three of 254; beyond them 100.64.0.0/10 serves).
func (s *Scrubber) place(p netip.AddrPort) netip.AddrPort {
	return netip.AddrPortFrom(s.address(p.Addr()), p.Port())
}

func (s *Scrubber) address(a netip.Addr) netip.Addr {
	if known, ok := s.addresses[a]; ok {
		return known
	}
	n := len(s.addresses)
	made := netip.AddrFrom4([4]byte{100, byte(64 + n>>16&63), byte(n >> 8), byte(n)})
	if ranges := [][3]byte{{192, 0, 2}, {198, 51, 100}, {203, 0, 113}}; n < 3*254 {
		r := ranges[n/254]
		made = netip.AddrFrom4([4]byte{r[0], r[1], r[2], byte(n%254 + 1)})
	}
	if !a.Unmap().Is4() {
		made = netip.AddrFrom16([16]byte{0x20, 0x01, 0x0d, 0xb8, 13: byte(n >> 16), 14: byte(n >> 8), 15: byte(n + 1)})
	}
	s.addresses[a] = made
	return made
}

// name returns the word that stands for another, "" for "".
func (s *Scrubber) name(kind, text string) string {
	if text == "" {
		return ""
	}
	if a, err := netip.ParseAddr(text); err == nil {
		return s.address(a).String()
	}
	if known, ok := s.names[kind+" "+text]; ok {
		return known
	}
	made := fmt.Sprintf("%s-%d", kind, len(s.names)+1)
	s.names[kind+" "+text] = made
	return made
}

// Datagram copies a RADIUS packet; anything else is left out.
func (s *Scrubber) Datagram(moment time.Time, from, to netip.AddrPort, b []byte, cut bool) {
	p, request := s.directory.at(to)
	client, server := from, to
	if !request || p.protocol != site.RADIUS {
		if p, request = s.directory.at(from); !request || p.protocol != site.RADIUS {
			return
		}
		client = to
		server = from
		request = false
	}
	packet, err := radius.Decode(b)
	if err != nil || cut {
		s.Left++
		return
	}
	if len(s.requests) > mostPending { // a long capture: what is older has had its answer
		clear(s.requests)
		clear(s.made)
	}
	copied, err := s.radius(packet, pairKey{client: client, server: server, id: packet.ID}, p, b, request)
	if err != nil {
		s.Left++
		return
	}
	s.out.UDP(moment, s.place(from), s.place(to), copied)
}

// radius makes a packet anew.
func (s *Scrubber) radius(packet *radius.Packet, k pairKey, p port, b []byte, request bool) ([]byte, error) {
	key, known := s.directory.key(p, k.client.Addr())
	made := &radius.Packet{Code: packet.Code, ID: packet.ID, Authenticator: packet.Authenticator}
	fits := true
	switch {
	case !known:
	case request && packet.Code == radius.AccountingRequest:
		fits = radius.CheckAccountingRequest(b, key)
	case request:
		fits = radius.CheckMessageAuthenticator(b, packet.Authenticator, key) != radius.Invalid
	default:
		fits = radius.CheckResponse(b, s.requests[k], key)
	}
	with := []byte(StandInKey)
	if !fits {
		with = []byte(OtherKey)
	}
	signed := false
	for _, a := range packet.Attributes {
		signed = signed || a.Type == radius.MessageAuthenticator
		made.Attributes = append(made.Attributes, s.attribute(a, packet.Authenticator, with))
	}
	if request {
		s.requests[k] = packet.Authenticator
		defer func() { s.made[k] = made.Authenticator }()
		switch {
		case packet.Code == radius.AccountingRequest:
			return made.EncodeAccountingRequest(with)
		case !signed:
			return made.Append(nil)
		}
		return made.EncodeRequest(with)
	}
	return made.EncodeResponse(s.made[k], with)
}

// attribute replaces what an attribute tells of the site.
func (s *Scrubber) attribute(a radius.Attribute, authenticator [16]byte, key []byte) radius.Attribute {
	e, known := radius.Lookup(a.Type)
	switch {
	case a.Type == radius.UserPassword:
		hidden, err := radius.HidePassword(strings.Repeat(scrubbedPassword,
			max(1, len(a.Value)/16*2))[:max(1, len(a.Value)-1)], authenticator, key)
		if err == nil {
			return radius.Attribute{Type: a.Type, Value: hidden}
		}
	case a.Type == radius.MessageAuthenticator:
		return a
	case a.Type == radius.UserName:
		return radius.Attribute{Type: a.Type, Value: []byte(s.name("person", string(a.Value)))}
	case known && e.Form == radius.Integer:
		return a
	case known && (e.Form == radius.Address || e.Form == radius.Address6):
		if ip, ok := netip.AddrFromSlice(a.Value); ok && s.address(ip).Is4() == ip.Is4() {
			return radius.Attribute{Type: a.Type, Value: s.address(ip).AsSlice()}
		}
	case known && e.Form == radius.Text:
		return radius.Attribute{Type: a.Type, Value: []byte(s.name("text", string(a.Value)))}
	}
	return radius.Attribute{Type: a.Type, Value: make([]byte, len(a.Value))} // octets that might tell: as many zeros
}

// Data copies TACACS+ packets; octets of a key that is not known, and TLS, are
// left out.
func (s *Scrubber) Data(moment time.Time, c *capture.Conn, fromClient bool, b []byte, lost bool) {
	v := s.conn(moment, c)
	if v == nil {
		return
	}
	side := 1
	if fromClient {
		side = 0
	}
	if lost {
		v.buffers[side] = nil
	}
	v.buffers[side] = append(v.buffers[side], b...)
	for {
		key, known := s.directory.key(v.port, c.Client.Addr())
		h, body, err := tacacs.DecodePacket(v.buffers[side], key)
		if err != nil {
			if len(v.buffers[side]) > tacacs.MaxBody {
				v.buffers[side] = nil
			}
			return
		}
		v.buffers[side] = v.buffers[side][12+len(body):]
		with := []byte(StandInKey)
		made, err := s.body(h, body)
		if err != nil || !known {
			s.Left++
			made, with = make([]byte, len(body)), []byte(OtherKey)
		}
		v.tcp.Data(moment, fromClient, tacacs.AppendPacket(nil, h, made, with))
	}
}

func (s *Scrubber) conn(moment time.Time, c *capture.Conn) *scrubbedConn {
	if v, ok := s.conns[*c]; ok {
		return v
	}
	p, ok := s.directory.at(c.Server)
	if !ok || p.protocol != site.TACACS || p.tls || len(s.conns) >= mostConns {
		return nil
	}
	v := &scrubbedConn{port: p, tcp: s.out.Connect(moment, s.place(c.Client), s.place(c.Server))}
	s.conns[*c] = v
	return v
}

// body makes a body anew.
func (s *Scrubber) body(h tacacs.Header, body []byte) ([]byte, error) {
	request := h.Sequence%2 == 1
	switch {
	case h.Type == tacacs.Authentication && h.Sequence == 1:
		v, err := tacacs.DecodeAuthenStart(body)
		v.User, v.RemoteAddress = s.name("person", v.User), s.name("text", v.RemoteAddress)
		if v.Data != "" {
			v.Data = scrubbedPassword
		}
		return v.Append(nil), err
	case h.Type == tacacs.Authentication && request:
		v, err := tacacs.DecodeAuthenContinue(body)
		if v.Message != "" {
			v.Message = scrubbedPassword
		}
		v.Data = s.name("text", v.Data)
		return v.Append(nil), err
	case h.Type == tacacs.Authentication:
		v, err := tacacs.DecodeAuthenReply(body)
		v.Message, v.Data = s.name("text", v.Message), s.name("text", v.Data)
		return v.Append(nil), err
	case h.Type == tacacs.Authorization && request:
		v, err := tacacs.DecodeAuthorRequest(body)
		return s.asked(v).Append(nil), err
	case h.Type == tacacs.Authorization:
		v, err := tacacs.DecodeAuthorResponse(body)
		v.Message, v.Data = s.name("text", v.Message), s.name("text", v.Data)
		return v.Append(nil), err
	case request:
		v, err := tacacs.DecodeAcctRequest(body)
		v.AuthorRequest = s.asked(v.AuthorRequest)
		return v.Append(nil), err
	}
	v, err := tacacs.DecodeAcctReply(body)
	v.Message, v.Data = s.name("text", v.Message), s.name("text", v.Data)
	return v.Append(nil), err
}

// asked replaces the person, where they came from, and what a command says
// beyond its first word.
func (s *Scrubber) asked(r tacacs.AuthorRequest) tacacs.AuthorRequest {
	r.User, r.RemoteAddress = s.name("person", r.User), s.name("text", r.RemoteAddress)
	args := make([]string, len(r.Args))
	for i, a := range r.Args {
		name, value, _ := tacacs.Arg(a)
		switch name {
		case "cmd":
			first, rest, _ := strings.Cut(value, " ")
			args[i] = "cmd=" + strings.TrimSpace(first+" "+s.name("words", rest))
		case "cmd-arg":
			args[i] = "cmd-arg=" + s.name("words", value)
		case "task_id":
			args[i] = "task_id=" + s.name("task", value)
		default:
			args[i] = a
		}
	}
	r.Args = args
	return r
}

// Ended copies the end of a connection.
func (s *Scrubber) Ended(moment time.Time, c *capture.Conn, end capture.Ending) {
	p, ok := s.directory.at(c.Server)
	if !ok || p.protocol != site.TACACS {
		return
	}
	switch end.How {
	case capture.Unanswered:
		s.out.Syn(moment, s.place(c.Client), s.place(c.Server))
	case capture.Refused:
		s.out.Refused(moment, s.place(c.Client), s.place(c.Server))
	default:
		if v := s.conns[*c]; v != nil {
			v.tcp.Close(moment, end.By != capture.TheServer)
		}
	}
	delete(s.conns, *c)
}

// Unreachable messages are left out: they repeat addresses and octets.
func (s *Scrubber) Unreachable(time.Time, netip.Addr, netip.AddrPort, netip.AddrPort, bool, capture.Refusal) {
}

// Neighbour questions are left out too.
func (s *Scrubber) Neighbour(time.Time, netip.Addr, netip.Addr, bool) {}
