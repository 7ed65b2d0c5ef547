package site

// Transport is what carries the questions to a server. What each means stands in one table; another one is a row
// of it and a listener (live/server/gate).
type Transport string

// Transports, as the site file writes them.
const (
	UDP Transport = "udp"
	TCP Transport = "tcp"
	TLS Transport = "tls"
)

// carriage is what a transport means.
type carriage struct {
	secured bool                // certificates show who speaks, and the shared secret is none of the site's
	stream  bool                // a connection; else each question is a datagram, which may be lost and is sent again
	ports   map[Protocol]uint16 // the usual port of each protocol that it carries; for RADIUS over UDP the first of two
	words   map[Protocol]string // how people name a protocol over it
}

var carriages = map[Transport]carriage{
	UDP: {ports: map[Protocol]uint16{RADIUS: 1812}, words: map[Protocol]string{RADIUS: "RADIUS"}}, // RFC 2865
	TCP: {stream: true, ports: map[Protocol]uint16{TACACS: 49, LDAP: 389},
		words: map[Protocol]string{TACACS: "TACACS+", LDAP: "LDAP"}}, // RFC 8907, RFC 4511
	TLS: {secured: true, stream: true, ports: map[Protocol]uint16{RADIUS: 2083, TACACS: 300},
		words: map[Protocol]string{RADIUS: "RADIUS over TLS", TACACS: "TACACS+ over TLS"}}, // RFC 6614, RFC 9887
}

// transports returns the transports in the order in which they are offered.
func transports() []string { return []string{string(UDP), string(TCP), string(TLS)} }

// usual is the transport of a protocol where the site says none.
var usual = map[Protocol]Transport{RADIUS: UDP, TACACS: TCP, LDAP: TCP}

// Over returns the transport by which a server is asked.
func (s *Server) Over() Transport {
	if s.Transport == "" {
		return usual[s.Protocol]
	}
	return s.Transport
}

// Carries reports whether a transport carries a protocol.
func (t Transport) Carries(p Protocol) bool {
	_, carries := carriages[t].ports[p]
	return carries
}

// Secured reports whether certificates show who speaks, in place of a key of the site's.
func (s *Server) Secured() bool { return carriages[s.Over()].secured }

// Datagrams reports whether each question is a datagram: one that gets no answer is sent again.
func (s *Server) Datagrams() bool { return !carriages[s.Over()].stream && s.Over() != "" }

// Streams reports whether questions come over a connection.
func (s *Server) Streams() bool { return carriages[s.Over()].stream }

// TwoPorts reports whether logins and records are asked at ports of their own, as with RADIUS over UDP (RFC 2866,
// section 3).
func (s *Server) TwoPorts() bool { return s.Protocol == RADIUS && s.Datagrams() && !s.Secured() }

// UsualPort returns the port of a server where the site says none.
func (s *Server) UsualPort() uint16 { return carriages[s.Over()].ports[s.Protocol] }

// Spoken returns what is spoken with a server, in words, such as "RADIUS over TLS".
func (s *Server) Spoken() string { return carriages[s.Over()].words[s.Protocol] }
