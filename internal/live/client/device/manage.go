// Package device reads and changes the configuration of devices over NETCONF
// (RFC 6241, RFC 6242): SSH with host keys checked, and the models that a device
// announces.
package device

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/beevik/etree"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/routine"
	"mellowgate/internal/wire/netconf"
)

// Target is a device to manage, and who manages it. Over NETCONF, Auth and HostKey are
// needed; over RESTCONF, Password.
type Target struct {
	Address string // address:port
	Person  string
	Auth    []ssh.AuthMethod
	HostKey ssh.PublicKey
	Timeout time.Duration // for connecting and for each answer; default 30 s
	// RESTCONF manages it by RFC 8040, over TLS: Trusted are the authorities of its
	// certificate, nil for those of this host, and ServerName the name that it must bear, ""
	// for the address.
	RESTCONF   bool
	Password   site.Secret
	Trusted    *x509.CertPool
	ServerName string
	// Others log in over RESTCONF where the person is refused: each request logs in anew, so
	// that a change may shut out who makes it in the middle of it.
	Others []Identity
}

// Identity is who logs in over RESTCONF.
type Identity struct {
	Person   string
	Password site.Secret
}

// Access is the way in by which the device is managed.
func (t Target) Access() string {
	if t.RESTCONF {
		return site.API
	}
	return site.NETCONF
}

// Manager is an open session on a device, however it is managed.
type Manager interface {
	Has(capability string) bool
	Models() Models
	Read(store string) (Held, error)
	Lock(store string) error
	Unlock(store string) error
	Discard() error
	Edit(store string, config *etree.Element) error
	Validate() error
	CommitConfirmed(within time.Duration, persist string) error
	Commit(persist string) error
	Cancel(persist string) error
	Warned() []string // of the last call
	End()
}

// Manage opens a session on a device, over NETCONF or RESTCONF as the target says.
func Manage(ctx context.Context, t Target) (Manager, error) {
	if t.Timeout == 0 {
		t.Timeout = 30 * time.Second
	}
	if t.RESTCONF {
		r, err := openRESTCONF(ctx, t)
		if err != nil {
			return nil, err
		}
		return r, nil
	}
	s, err := Open(ctx, t)
	if err != nil {
		return nil, err
	}
	return s, nil
}

// PasswordAuth proves who somebody is by a password, typed or asked for.
func PasswordAuth(s site.Secret) []ssh.AuthMethod {
	return []ssh.AuthMethod{ssh.Password(s.Reveal()),
		ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
			answers := make([]string, len(questions))
			for i := range answers {
				answers[i] = s.Reveal()
			}
			return answers, nil
		})}
}

// Errors of managing.
var (
	// ErrRefused is a device that does not let the person in.
	ErrRefused = errors.New("the device refuses the login")
	// ErrHostKey is a device that shows another key than the one it is known by.
	ErrHostKey = errors.New(
		"the device shows another SSH host key than the one it is known by: somebody may stand between")
	// ErrNoModel is a device that announces no model of ours.
	ErrNoModel = errors.New("the device announces neither ietf-system nor openconfig-system")
)

// Session is an open session on a device.
//
// One goroutine at a time uses it; End closes it.
type Session struct {
	*netconf.Client
	conn    net.Conn
	ssh     *ssh.Client
	timeout time.Duration
	stop    func() bool
	models  *Models // once they are known
}

// Open logs in, and opens a NETCONF session. The context ends it early.
func Open(ctx context.Context, t Target) (*Session, error) {
	if t.Timeout == 0 {
		t.Timeout = 30 * time.Second
	}
	conn, err := (&net.Dialer{Timeout: t.Timeout}).DialContext(ctx, "tcp", t.Address)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be reached: %w", t.Address, err)
	}
	s := &Session{conn: conn, timeout: t.Timeout, stop: routine.OnDone(ctx, func() { _ = conn.Close() })}
	_ = conn.SetDeadline(time.Now().Add(t.Timeout))
	c, channels, requests, err := ssh.NewClientConn(conn, t.Address,
		&ssh.ClientConfig{User: t.Person, Auth: t.Auth, HostKeyCallback: ssh.FixedHostKey(t.HostKey),
			Timeout: t.Timeout})
	if err != nil {
		s.End()
		switch { // the library gives no kinds of error here
		case strings.Contains(err.Error(), "unable to authenticate"):
			return nil, ErrRefused
		case strings.Contains(err.Error(), "host key mismatch"):
			return nil, ErrHostKey
		}
		return nil, fmt.Errorf("%s: the connection ended: %w", t.Address, err)
	}
	s.ssh = ssh.NewClient(c, channels, requests)
	if err := s.subsystem(); err != nil {
		s.End()
		return nil, fmt.Errorf("%s: %w", t.Address, err)
	}
	return s, nil
}

func (s *Session) subsystem() error {
	session, err := s.ssh.NewSession()
	if err != nil {
		return err
	}
	in, err := session.StdinPipe()
	if err != nil {
		return err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return err
	}
	if err := session.RequestSubsystem("netconf"); err != nil {
		return errors.New("there is no NETCONF subsystem")
	}
	s.Client, err = netconf.Open(netconf.NewConn(struct {
		io.Reader
		io.Writer
	}{out, &paced{Writer: in, session: s}}))
	return err
}

// paced gives each message that is sent its time to be answered.
type paced struct {
	io.Writer
	session *Session
}

func (p *paced) Write(b []byte) (int, error) {
	_ = p.session.conn.SetDeadline(time.Now().Add(p.session.timeout))
	return p.Writer.Write(b)
}

// End ends the session, in good order where that is possible.
func (s *Session) End() {
	s.stop()
	if s.Client != nil {
		_ = s.conn.SetDeadline(time.Now().Add(time.Second))
		_ = s.Client.Close()
	}
	if s.ssh != nil {
		_ = s.ssh.Close()
	}
	_ = s.conn.Close()
}

// Cut ends the connection at once, as a line that is cut does.
func (s *Session) Cut() { _ = s.conn.Close() }

// rootName is the top element of each model's data.
const rootName = "system"

// Held is what a device holds: the facts, and the data as it gave it.
type Held struct {
	Models Models
	Facts  drift.Facts
	Data   []byte // XML; it may hold secrets
}

// Read reads a datastore of a device: running, or candidate.
func (s *Session) Read(store string) (Held, error) {
	h := Held{Models: s.Models(), Facts: drift.Facts{}}
	var roots []netconf.Root
	for _, m := range yang.InOrder {
		if h.Models.Has(m) {
			roots = append(roots, netconf.Root{Name: rootName, Namespace: m.Module().Namespace})
		}
	}
	if len(roots) == 0 {
		if len(h.Models.Notes) > 0 {
			return h, fmt.Errorf("%w (%s)", ErrNoModel, strings.Join(h.Models.Notes, "; "))
		}
		return h, ErrNoModel
	}
	data, err := s.GetConfig(store, roots...)
	if err != nil {
		return h, fmt.Errorf("its configuration cannot be read: %w", deviceRefuses(err, h.Models))
	}
	h.Data = netconf.Bytes(data.Copy())
	h.Facts, err = factsOf(data)
	return h, err
}

// Warned returns the warnings of the last answer.
func (s *Session) Warned() []string {
	var all []string
	for _, w := range s.Warnings {
		all = append(all, w.Error())
	}
	return all
}

// Edit merges a configuration into a datastore.
func (s *Session) Edit(store string, config *etree.Element) error {
	if err := s.Client.Edit(store, config); err != nil {
		return deviceRefuses(err, s.Models())
	}
	return nil
}

// FactsOf returns the facts of data as a device gives it; none where it cannot be
// read.
func FactsOf(data []byte) drift.Facts {
	doc := etree.NewDocument()
	if doc.ReadFromBytes(data) != nil || doc.Root() == nil {
		return drift.Facts{}
	}
	facts, err := factsOf(doc.Root())
	if err != nil {
		return drift.Facts{}
	}
	return facts
}

func factsOf(data *etree.Element) (drift.Facts, error) {
	facts := drift.Facts{}
	for _, x := range data.ChildElements() {
		for _, m := range yang.InOrder {
			if x.NamespaceURI() != m.Module().Namespace {
				continue
			}
			read, err := m.Read(netconf.Bytes(x.Copy()))
			if err != nil {
				return facts, fmt.Errorf("what it says of %s cannot be read: %w", m.Module().Name, err)
			}
			facts.Join(read.Facts())
		}
	}
	shy(facts)
	return facts, nil
}

// shy notes that passwords of accounts are not shown by a device that shows no
// secret at all.
func shy(f drift.Facts) {
	if f.Shows() {
		return
	}
	for k := range f {
		if k.About == drift.Account && k.What == "" {
			f.Unread(drift.Account, k.Name, "password")
		}
	}
}

// Wanted returns what a device should hold, in the models that it announces, and
// names what these cannot carry.
// The error is a model whose data cannot be written: a configuration without it
// would not be the design.
func Wanted(d *site.Device, keys site.Keys, m Models) (facts drift.Facts, config *etree.Element, left []string,
	err error) {
	return wanted(blueprint.Of(d), keys, m)
}

func wanted(b blueprint.Blueprint, keys site.Keys, m Models) (facts drift.Facts, config *etree.Element, left []string,
	err error) {
	secrets := func(name string) string { return keys[name].Reveal() }
	facts, config = drift.Facts{}, etree.NewElement("config")
	var notCarried [][]string
	for _, model := range yang.InOrder {
		if !m.Has(model) {
			continue
		}
		data, not := model.Of(b, secrets)
		data, without := data.Without(m.Lacks)
		facts.Join(data.Facts())
		notCarried = append(notCarried, append(not, without...))
		x, failed := element(data)
		if failed != nil {
			err = errors.Join(err, fmt.Errorf("the data of %s cannot be written: %w", model.Module().Name, failed))
			continue
		}
		config.AddChild(x)
	}
	return facts, config, common(notCarried), err
}

// element returns data of a model as an element.
func element(data yang.Data) (*etree.Element, error) {
	text, err := data.XML()
	if err != nil {
		return nil, err
	}
	doc := etree.NewDocument()
	if err := doc.ReadFromBytes(text); err != nil {
		return nil, err
	}
	return doc.Root().Copy(), nil
}

// Differences compares what a device should hold with what it holds.
func Differences(s *site.Site, d *site.Device, keys site.Keys, held Held) []drift.Difference {
	return differences(s, d, blueprint.Of(d), keys, held)
}

// Unknown returns the differences, of those from the design, that the site does not
// know of: d is the device with what holds says of it. It is stale where the
// device does not hold what holds says.
func Unknown(s *site.Site, d *site.Device, keys site.Keys, held Held,
	fromDesign []drift.Difference) (unknown []drift.Difference, stale bool) {
	now := differences(s, d, blueprint.Now(d), keys, held)
	among := func(all []drift.Difference, x drift.Difference) bool {
		return slices.ContainsFunc(all,
			func(n drift.Difference) bool { return n.About == x.About && n.Name == x.Name && n.What == x.What })
	}
	for _, x := range now {
		stale = stale || d.Found.Place.Known() && !among(fromDesign, x)
	}
	return slices.DeleteFunc(slices.Clone(fromDesign), func(x drift.Difference) bool { return !among(now, x) }), stale
}

func differences(s *site.Site, d *site.Device, b blueprint.Blueprint, keys site.Keys, held Held) []drift.Difference {
	want, _, _, _ := wanted(b, keys, held.Models)
	have := held.Facts
	// it has the groups by name; ietf-system sees all servers of a protocol as one
	if held.Models.Has(yang.Models["openconfig"]) {
		have = maps.Clone(have)
		for _, f := range []drift.Facts{want, have} {
			f.Forget(drift.Group, drift.AllRADIUS)
			f.Forget(drift.Group, drift.AllTACACS)
		}
	}
	want.Settle(have, samePassword)
	return drift.Compare(want, have, Where(s, d))
}

// samePassword reports whether a password that the design has in clear ($0$, RFC
// 7317 section 4.3) is the one that a device shows as a hash.
func samePassword(want, have site.Secret) bool {
	clear, ok := strings.CutPrefix(want.Reveal(), "$0$")
	return ok && strings.HasPrefix(have.Reveal(), "$") && same(have.Reveal(), clear)
}

func same(hash, clear string) bool {
	ok, err := secrets.PasswordIs(site.Password{Hash: hash}, clear, nil)
	return err == nil && ok
}

// common returns what none of the models carries.
func common(lists [][]string) []string {
	if len(lists) == 0 {
		return nil
	}
	var some []string
	for _, text := range lists[0] {
		in := 1
		for _, other := range lists[1:] {
			for _, o := range other {
				if o == text {
					in++
					break
				}
			}
		}
		if in == len(lists) {
			some = append(some, text)
		}
	}
	return some
}

// Where returns the place in the site of what a difference is about.
func Where(s *site.Site, d *site.Device) func(drift.About, string) string {
	return func(about drift.About, name string) string {
		switch about {
		case drift.Server:
			if v := s.Server(name); v != nil {
				return s.Where(v.Place)
			}
		case drift.Account:
			if a := d.Account(name); a != nil {
				return s.Where(a.Place)
			}
		case drift.Group:
			for _, g := range s.Groups {
				if g.Name == name {
					return s.Where(g.Place)
				}
			}
		case drift.Way:
			access, _, _ := strings.Cut(name, " ")
			for _, w := range d.Ways {
				if w.Access == access {
					return s.Where(w.Place)
				}
			}
		case drift.List:
			for _, w := range d.Ways {
				for p, l := range w.Lists {
					if l != nil && (site.Purpose(p).String() == name || name == "records" &&
						site.Purpose(p).Records()) {
						return s.Where(l.Place)
					}
				}
			}
		}
		return s.Where(d.Place)
	}
}
