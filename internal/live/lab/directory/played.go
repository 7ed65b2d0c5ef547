// Package directory is a small directory server (RFC 4511) that a lab plays: bind,
// search, StartTLS. It holds people in one place of the tree, each found by
// whatever the site's own filter asks for, and can be made to fail on purpose.
package directory

import (
	"context"
	"crypto/tls"
	"io"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/guard"
	"mellowgate/internal/routine"
)

// Config is what a played directory works from.
type Config struct {
	Server     *site.Server // protocol: ldap
	Searcher   site.Secret  // the password of who searches
	People     []*site.Person
	PasswordIs func(p *site.Person, password string) bool
	TLS        *tls.Config // for StartTLS and LDAPS
	OtherTLS   *tls.Config // with a certificate that bears another name
}

// Fault is what is wrong, on purpose, with the directory as one asker or all of
// them meet it.
type Fault struct {
	Error     bool          // it says that it is busy
	Refuses   bool          // it refuses who searches
	Delay     time.Duration // every answer is so late
	NoBase    bool          // it has nothing at the base
	NoTLS     bool          // it refuses TLS
	OtherName bool          // its certificate bears another name
}

// Server is a running directory.
type Server struct {
	config  Config
	entries []entry
	ctx     context.Context
	stop    context.CancelFunc
	running routine.Group
	mu      sync.Mutex
	faults  map[netip.Addr]Fault
	closers map[io.Closer]bool
}

// entry is one person as the directory has them. Names of attributes are in
// lower case.
type entry struct {
	dn         string
	person     *site.Person
	attributes map[string][]string
}

// New makes a directory that listens nowhere yet. The filter of the site must
// be one that LDAP knows; with another nobody is found.
func New(c Config) *Server {
	s := &Server{config: c, faults: map[netip.Addr]Fault{}, closers: map[io.Closer]bool{}}
	s.ctx, s.stop = context.WithCancel(context.Background())
	for _, p := range c.People {
		s.entries = append(s.entries, entryOf(c.Server.Directory, p))
	}
	return s
}

// entryOf makes an entry that the site's filter finds by the person's name.
func entryOf(d site.Directory, p *site.Person) entry {
	e := entry{person: p, attributes: map[string][]string{"objectclass": {"person"}}}
	named := "cn"
	if filter, err := ldap.CompileFilter(strings.ReplaceAll(d.Find, "%u", ldap.EscapeFilter(p.Name))); err == nil {
		collect(filter, func(attribute, value string) {
			if value == p.Name {
				named = attribute
			}
			attribute = strings.ToLower(attribute)
			e.attributes[attribute] = append(e.attributes[attribute], value)
		})
	}
	for _, team := range p.Teams {
		at := strings.ToLower(d.TeamsFrom)
		e.attributes[at] = append(e.attributes[at], "cn="+ldap.EscapeDN(team)+","+d.Base)
	}
	e.dn = named + "=" + ldap.EscapeDN(p.Name) + "," + d.Base
	return e
}

// Fault puts a fault on the directory for an asker, or for all with the zero
// Addr, in place of the one before.
func (s *Server) Fault(client netip.Addr, f Fault) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.faults[client.Unmap()] = f
}

func (s *Server) fault(client netip.Addr) Fault {
	s.mu.Lock()
	defer s.mu.Unlock()
	one, every := s.faults[client], s.faults[netip.Addr{}]
	return Fault{Error: one.Error || every.Error, Refuses: one.Refuses || every.Refuses,
		Delay: max(one.Delay, every.Delay), NoBase: one.NoBase || every.NoBase, NoTLS: one.NoTLS || every.NoTLS,
		OtherName: one.OtherName || every.OtherName}
}

// Serve answers on a listener until Close.
func (s *Server) Serve(l net.Listener) {
	s.closing(l)
	s.running.Go(func() {
		guard.Retry(s.ctx, func() error {
			c, err := l.Accept()
			if err == nil {
				s.running.Go(func() { s.converse(c) })
			}
			return err
		}, func(error) {}) // nobody reads what a played directory has to say
	})
}

// closing remembers what Close closes; it is false where all is over already.
func (s *Server) closing(c io.Closer) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	select {
	case <-s.ctx.Done():
		_ = c.Close()
		return false
	default:
	}
	s.closers[c] = true
	return true
}

// Drop ends every connection; new ones may come.
func (s *Server) Drop() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.closers {
		if conn, ok := c.(net.Conn); ok {
			_ = conn.Close()
		}
	}
}

// Close ends the directory and waits for its connections.
func (s *Server) Close() {
	s.mu.Lock()
	s.stop()
	for c := range s.closers {
		_ = c.Close()
	}
	s.mu.Unlock()
	s.running.Wait()
}

// mostAsked bounds one message in octets, idle a connection without one.
const (
	mostAsked = 1 << 16
	idle      = 2 * time.Minute
)

// session is one connection.
type session struct {
	server  *Server
	conn    net.Conn
	client  netip.Addr
	secured bool
	bound   string // the DN of who has bound; "" is nobody
}

func (s *Server) converse(c net.Conn) {
	defer func() {
		_ = c.Close()
		s.mu.Lock()
		delete(s.closers, c)
		s.mu.Unlock()
	}()
	if !s.closing(c) {
		return
	}
	v := &session{server: s, conn: c}
	if at, ok := c.RemoteAddr().(*net.TCPAddr); ok {
		v.client = at.AddrPort().Addr().Unmap()
	}
	if s.config.Server.Directory.Security == "ldaps" {
		fault := s.fault(v.client)
		if fault.NoTLS {
			return
		}
		v.conn, v.secured = tls.Server(c, s.secures(fault)), true
	}
	for {
		_ = c.SetReadDeadline(time.Now().Add(idle))
		message, err := ber.ReadPacket(io.LimitReader(v.conn, mostAsked))
		if err != nil || !v.answer(message) {
			return
		}
	}
}

// secures returns what the directory shows over TLS.
func (s *Server) secures(f Fault) *tls.Config {
	if f.OtherName {
		return s.config.OtherTLS
	}
	return s.config.TLS
}

// late waits as long as a fault makes answers late.
func (v *session) late(d time.Duration) {
	if d == 0 {
		return
	}
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-v.server.ctx.Done():
	}
}

// answer answers one message; it is false when the connection ends.
func (v *session) answer(m *ber.Packet) bool {
	if len(m.Children) < 2 {
		return false
	}
	id, ok := m.Children[0].Value.(int64)
	op := m.Children[1]
	if !ok || op.ClassType != ber.ClassApplication {
		return false
	}
	fault := v.server.fault(v.client)
	v.late(fault.Delay)
	switch op.Tag {
	case ldap.ApplicationBindRequest:
		return v.send(id, result(ldap.ApplicationBindResponse, v.bind(op, fault)))
	case ldap.ApplicationSearchRequest:
		entries, code := v.search(op, fault)
		for _, e := range entries {
			if !v.send(id, e) {
				return false
			}
		}
		return v.send(id, result(ldap.ApplicationSearchResultDone, code))
	case ldap.ApplicationExtendedRequest:
		return v.extended(id, op, fault)
	case ldap.ApplicationAbandonRequest:
		return true
	}
	return false // an unbind, or what this directory does not do
}

// bind checks a name and a password. An empty password is nobody's (RFC 4513,
// section 5.1.2).
func (v *session) bind(op *ber.Packet, f Fault) uint16 {
	v.bound = ""
	if len(op.Children) < 3 || op.Children[2].Tag != 0 {
		return ldap.LDAPResultAuthMethodNotSupported
	}
	c := v.server.config
	dn, password := text(op.Children[1]), op.Children[2].Data.String()
	searcher := c.Server.Directory.BindAs
	switch {
	case f.Error:
		return ldap.LDAPResultBusy
	case dn == "" && password == "":
		return ldap.LDAPResultSuccess
	case password == "":
		return ldap.LDAPResultUnwillingToPerform
	case searcher != "" && strings.EqualFold(dn, searcher):
		if f.Refuses || !c.Searcher.Equal(site.NewSecret(password)) {
			return ldap.LDAPResultInvalidCredentials
		}
		v.bound = searcher
		return ldap.LDAPResultSuccess
	}
	for _, e := range v.server.entries {
		if strings.EqualFold(e.dn, dn) && c.PasswordIs(e.person, password) {
			v.bound = e.dn
			return ldap.LDAPResultSuccess
		}
	}
	return ldap.LDAPResultInvalidCredentials
}

// search returns the entries that a filter chooses, each as a response.
func (v *session) search(op *ber.Packet, f Fault) ([]*ber.Packet, uint16) {
	d := v.server.config.Server.Directory
	switch {
	case f.Error:
		return nil, ldap.LDAPResultBusy
	case len(op.Children) < 8:
		return nil, ldap.LDAPResultProtocolError
	case d.BindAs != "" && v.bound != d.BindAs, d.BindAs == "" && f.Refuses:
		return nil, ldap.LDAPResultInsufficientAccessRights
	case f.NoBase || !strings.EqualFold(text(op.Children[0]), d.Base):
		return nil, ldap.LDAPResultNoSuchObject
	}
	most, _ := op.Children[3].Value.(int64)
	var wanted []string
	for _, a := range op.Children[7].Children {
		wanted = append(wanted, text(a))
	}
	var found []*ber.Packet
	for _, e := range v.server.entries {
		if !matches(op.Children[6], e.attributes) {
			continue
		}
		if most > 0 && len(found) == int(most) {
			return found, ldap.LDAPResultSizeLimitExceeded
		}
		found = append(found, e.response(wanted))
	}
	return found, ldap.LDAPResultSuccess
}

// startTLS is the name of the one extended operation, RFC 4511 section 4.14.
const startTLS = "1.3.6.1.4.1.1466.20037"

func (v *session) extended(id int64, op *ber.Packet, f Fault) bool {
	if f.NoTLS || len(op.Children) < 1 || op.Children[0].Data.String() != startTLS || v.secured ||
		v.server.config.Server.Directory.Security != "start" {
		return v.send(id, result(ldap.ApplicationExtendedResponse, ldap.LDAPResultProtocolError))
	}
	if !v.send(id, result(ldap.ApplicationExtendedResponse, ldap.LDAPResultSuccess)) {
		return false
	}
	v.conn, v.secured = tls.Server(v.conn, v.server.secures(f)), true
	return true
}

func (v *session) send(id int64, op *ber.Packet) bool {
	m := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	m.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, ""))
	m.AppendChild(op)
	_, err := v.conn.Write(m.Bytes())
	return err == nil
}

// result is an LDAPResult, RFC 4511 section 4.1.9.
func result(tag ber.Tag, code uint16) *ber.Packet {
	op := ber.Encode(ber.ClassApplication, ber.TypeConstructed, tag, nil, "")
	op.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, int64(code), ""))
	op.AppendChild(octets(""))
	op.AppendChild(octets(""))
	return op
}

// response is a SearchResultEntry, RFC 4511 section 4.5.2; no wanted attribute
// stands for all.
func (e entry) response(wanted []string) *ber.Packet {
	op := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationSearchResultEntry, nil, "")
	op.AppendChild(octets(e.dn))
	all := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	for _, name := range wanted {
		values := e.attributes[strings.ToLower(name)]
		if len(values) == 0 {
			continue
		}
		one := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
		one.AppendChild(octets(name))
		set := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSet, nil, "")
		for _, v := range values {
			set.AppendChild(octets(v))
		}
		one.AppendChild(set)
		all.AppendChild(one)
	}
	op.AppendChild(all)
	return op
}

func octets(s string) *ber.Packet {
	return ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, s, "")
}

func text(p *ber.Packet) string { return ber.DecodeString(p.Data.Bytes()) }
