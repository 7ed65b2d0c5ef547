package standin

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/beevik/etree"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/wire/netconf"
)

// Namespaces and module names of the models that a stand-in is configured by.
const (
	systemNS = yang.SystemNS
	tacacsNS = yang.TACACSNS
	openNS   = yang.OpenNS
)

// capabilities are what a stand-in announces. A module of YANG 1.1 stands in its
// YANG library only (RFC 7950, section 5.6.4).
func (d *Device) capabilities() []string {
	all := []string{netconf.Base10, netconf.Base11, netconf.Validate, netconf.RollbackOnError, libraryCapability}
	switch traits := d.config.Device.Kind.Traits; traits.TakesBack {
	case site.ConfirmedCommit:
		all = append(all, netconf.Candidate, netconf.ConfirmedCommit)
	case site.FirstConfirmedCommit:
		all = append(all, netconf.Candidate, netconf.ConfirmedCommit10)
	case site.TakesNothingBack:
		all = append(all, netconf.Candidate)
	default:
		all = append(all, netconf.WritableRunning)
	}
	for _, m := range d.modules() {
		if !m.YANG11 {
			all = append(all, fmt.Sprintf("%s?module=%s&revision=%s", m.Namespace, m.Name, m.Revision))
		}
	}
	return all
}

const libraryCapability = "urn:ietf:params:netconf:capability:yang-library:1.0?revision=2016-06-21&module-set-id=1"

// systemFeatures are those of ietf-system, RFC 7317.
var systemFeatures = []string{"radius", "authentication", "local-users", "radius-authentication"}

// modules are those that the kind has.
func (d *Device) modules() []yang.Module {
	return slices.DeleteFunc(slices.Clone(yang.Modules),
		func(m yang.Module) bool { return !d.config.Device.Kind.Traits.HasModel(m.Name) })
}

// library is the YANG library, RFC 7895.
func (d *Device) library() *etree.Element {
	x := etree.NewElement("modules-state")
	x.CreateAttr("xmlns", netconf.LibraryNS)
	x.CreateElement("module-set-id").SetText("1")
	for _, m := range d.modules() {
		e := x.CreateElement("module")
		for _, leaf := range [][2]string{{"name", m.Name}, {"revision", m.Revision}, {"namespace", m.Namespace}} {
			e.CreateElement(leaf[0]).SetText(leaf[1])
		}
		if m.Namespace == systemNS {
			for _, f := range systemFeatures {
				e.CreateElement("feature").SetText(f)
			}
		}
		e.CreateElement("conformance-type").SetText("implement")
	}
	return x
}

// ServeNETCONF takes NETCONF over SSH (RFC 6242) until Shutdown.
func (d *Device) ServeNETCONF(listener net.Listener) {
	d.serve(listener, func(conn net.Conn) { d.sshConnection(conn, site.NETCONF) })
}

// netconfSession is one NETCONF session.
type netconfSession struct {
	device  *Device
	visitor *visitor
	conn    *netconf.Conn
	id      uint32
	closing bool
	mishap  string // what goes wrong with the answer that is due
}

// netconf serves the subsystem on a channel.
func (d *Device) netconf(v *visitor, channel ssh.Channel) {
	store := &d.store
	store.mu.Lock()
	store.sessions++
	s := &netconfSession{device: d, visitor: v, conn: netconf.NewConn(channel), id: store.sessions}
	if store.open == nil {
		store.open, store.locks = map[uint32]func(){}, map[string]uint32{}
	}
	store.open[s.id] = func() { _ = channel.Close() }
	store.mu.Unlock()
	defer s.end()
	if s.conn.Write(netconf.Hello(d.capabilities(), s.id)) != nil {
		return
	}
	message, err := s.conn.Read()
	if err != nil {
		return
	}
	theirs, session, err := netconf.ReadHello(message)
	if err != nil || session != "" || !slices.Contains(theirs, netconf.Base10) &&
		!slices.Contains(theirs, netconf.Base11) {
		return // RFC 6241, section 8.1: the session ends
	}
	if slices.Contains(theirs, netconf.Base11) {
		s.conn.Chunked()
	}
	for !s.closing {
		message, err := s.conn.Read()
		if err != nil {
			if errors.Is(err, netconf.ErrFraming) || errors.Is(err, netconf.ErrTooLong) {
				d.logs("a NETCONF session of %s ended: %v", printed(v.person), err)
			}
			return
		}
		answer := s.answer(message)
		switch s.mishap {
		case Hangs:
			for err == nil { // until the client goes
				_, err = s.conn.Read()
			}
			return
		case Drops:
			return
		}
		if s.conn.Write(answer) != nil {
			return
		}
	}
}

// end returns back what the session held. A confirmed commit of it that has no
// persist id is taken back (RFC 6241, section 8.4.1).
func (s *netconfSession) end() {
	store := &s.device.store
	store.mu.Lock()
	defer store.mu.Unlock()
	delete(store.open, s.id)
	for name, by := range store.locks {
		if by == s.id {
			delete(store.locks, name)
			if name == "candidate" {
				store.candidate, store.changed = nil, false // section 8.3.5.2
			}
		}
	}
	if store.before != nil && store.by == s.id && store.persist == "" {
		s.device.takeBack("the session that made the change has ended")
	}
}

// answer answers one rpc.
func (s *netconfSession) answer(message []byte) []byte {
	rpc, err := netconf.Parse(message, "rpc")
	if err != nil {
		reply := netconf.Reply(nil)
		netconf.AddError(reply, &netconf.Error{Type: "rpc", Tag: "malformed-message", Message: err.Error()})
		return netconf.Bytes(reply)
	}
	reply := netconf.Reply(rpc)
	switch operations := rpc.ChildElements(); {
	case rpc.SelectAttr("message-id") == nil:
		err = &netconf.Error{Type: "rpc", Tag: "missing-attribute", Message: "an rpc has a message-id",
			Info: map[string]string{"bad-attribute": "message-id", "bad-element": "rpc"}}
	case len(operations) != 1:
		err = &netconf.Error{Type: "protocol", Tag: "operation-not-supported", Message: "an rpc holds one operation"}
	default:
		troubles := s.device.troubles(operations[0])
		s.mishap = troubles.ends
		if s.mishap == Hangs {
			return nil // and nothing is done
		}
		s.device.store.mu.Lock()
		if err = troubles.refusal; err == nil {
			err = s.operate(operations[0], reply)
		}
		s.device.store.mu.Unlock()
		if troubles.warning != nil {
			netconf.AddWarning(reply, troubles.warning)
		}
	}
	var failure *netconf.Error
	switch {
	case errors.As(err, &failure):
		netconf.AddError(reply, failure)
	case err != nil:
		netconf.AddError(reply, netconf.Fail("operation-failed", "", "%v", err))
	case len(reply.ChildElements()) == 0:
		reply.CreateElement("ok")
	}
	return netconf.Bytes(reply)
}

// operations are what a session can ask, with the level of the command that
// each is authorized as: "netconf NAME".
var operations = map[string]struct {
	level int
	do    func(s *netconfSession, x, reply *etree.Element) error
}{
	"get":             {1, (*netconfSession).get},
	"get-config":      {1, (*netconfSession).get},
	"edit-config":     {15, (*netconfSession).edit},
	"copy-config":     {15, (*netconfSession).copyConfig},
	"validate":        {1, (*netconfSession).validate},
	"discard-changes": {15, (*netconfSession).discard},
	"commit":          {15, (*netconfSession).commit},
	"cancel-commit":   {15, (*netconfSession).cancel},
	"lock":            {15, (*netconfSession).lock},
	"unlock":          {15, (*netconfSession).unlock},
	"kill-session":    {15, (*netconfSession).kill},
	"close-session":   {0, (*netconfSession).close},
}

func (s *netconfSession) operate(x, reply *etree.Element) error {
	o, known := operations[x.Tag]
	if !known || x.NamespaceURI() != netconf.Base {
		return &netconf.Error{Type: "protocol", Tag: "operation-not-supported",
			Message: "there is no operation " + x.Tag + " here"}
	}
	if s.visitor.level < o.level {
		return &netconf.Error{Type: "protocol", Tag: "access-denied",
			Message: fmt.Sprintf("this needs level %d, and you have level %d", o.level, s.visitor.level)}
	}
	if o.level > 0 {
		if verdict := s.visitor.command("netconf "+x.Tag, o.level); !verdict.Allowed {
			return &netconf.Error{Type: "protocol", Tag: "access-denied", Message: whyNot(verdict)}
		}
	}
	return o.do(s, x, reply)
}

// store gives the datastore that an element names.
func storeOf(x *etree.Element, name string) (string, error) {
	holder := x.SelectElement(name)
	if holder == nil || len(holder.ChildElements()) != 1 {
		return "", &netconf.Error{Type: "protocol", Tag: "missing-element", Message: "say which datastore: " + name,
			Info: map[string]string{"bad-element": name}}
	}
	which := holder.ChildElements()[0].Tag
	if which != "running" && which != "candidate" {
		return "", &netconf.Error{Type: "protocol", Tag: "invalid-value",
			Message: "there is no datastore " + which + " here; running and candidate are"}
	}
	return which, nil
}

// content returns a datastore. The candidate begins as what runs.
func (s *netconfSession) content(which string) *etree.Element {
	store := &s.device.store
	if which == "running" {
		return s.device.configuration()
	}
	if store.candidate == nil {
		store.candidate = s.device.configuration()
	}
	return store.candidate
}

func (s *netconfSession) get(x, reply *etree.Element) error {
	which := "running"
	if x.Tag == "get-config" {
		var err error
		if which, err = storeOf(x, "source"); err != nil {
			return err
		}
	}
	filter := x.SelectElement("filter")
	if filter != nil {
		if kind := filter.SelectAttrValue("type", "subtree"); kind != "subtree" {
			return &netconf.Error{Type: "protocol", Tag: "operation-not-supported",
				Message: "filters of the type " + kind + " are not taken; subtree is"}
		}
	}
	data := reply.CreateElement("data")
	content := s.content(which)
	if x.Tag == "get" {
		content.AddChild(s.device.library())
	}
	for _, c := range netconf.Filter(content, filter) {
		data.AddChild(c)
	}
	return nil
}

// free refuses what another session has locked.
func (s *netconfSession) free(which string) error {
	if by, locked := s.device.store.locks[which]; locked && by != s.id {
		return &netconf.Error{Type: "protocol", Tag: "in-use", Message: "another session has locked the datastore " + which,
			Info: map[string]string{"session-id": fmt.Sprint(by)}}
	}
	return nil
}

// shape tells the lists and leaf-lists of the models.
type shape struct{}

func (shape) Keys(path []string) ([]string, bool) {
	switch last := path[len(path)-1]; last {
	case "user-authentication-order", "authentication-method", "authorization-method", "accounting-method":
		return nil, true
	case "server":
		if len(path) > 1 && path[len(path)-2] == "servers" {
			return []string{"address"}, false
		}
		return []string{"name"}, false
	case "server-group":
		return []string{"name"}, false
	case "event":
		return []string{"event-type"}, false
	case "user":
		if slices.Contains(path, "aaa") {
			return []string{"username"}, false
		}
		return []string{"name"}, false
	}
	return nil, false
}

func (s *netconfSession) edit(x, _ *etree.Element) error {
	which, err := storeOf(x, "target")
	if err != nil {
		return err
	}
	direct := s.device.config.Device.Kind.Traits.TakesBack == site.NoCandidate
	if (which == "running") != direct {
		return &netconf.Error{Type: "protocol", Tag: "operation-not-supported",
			Message: "the datastore " + which + " cannot be edited here"}
	}
	if err := s.free(which); err != nil {
		return err
	}
	operation := "merge"
	if o := x.SelectElement("default-operation"); o != nil {
		operation = strings.TrimSpace(o.Text())
	}
	config := x.SelectElement("config")
	if config == nil || !slices.Contains([]string{"merge", "replace", "none"}, operation) {
		return &netconf.Error{Type: "protocol", Tag: "missing-element",
			Message: "an edit has a config, and merge, replace or none as default-operation",
			Info:    map[string]string{"bad-element": "config"}}
	}
	for _, c := range config.ChildElements() {
		if c.Tag != "system" || c.NamespaceURI() != systemNS && c.NamespaceURI() != openNS {
			return &netconf.Error{Type: "application", Tag: "unknown-namespace", Path: "/" + c.Tag,
				Message: "there is no " + c.Tag + " of " + c.NamespaceURI() + " here",
				Info:    map[string]string{"bad-namespace": c.NamespaceURI(), "bad-element": c.Tag}}
		}
	}
	fresh := s.content(which).Copy()
	if err := netconf.Edit(fresh, config, operation, shape{}); err != nil {
		return err // and the datastore is as it was
	}
	w, err := s.device.planned(fresh)
	if err != nil {
		return err
	}
	if direct {
		s.device.use(w)
		return nil
	}
	s.device.store.candidate, s.device.store.changed = fresh, true
	return nil
}

func (s *netconfSession) copyConfig(x, _ *etree.Element) error {
	to, err := storeOf(x, "target")
	if err != nil {
		return err
	}
	from, err := storeOf(x, "source")
	if err != nil {
		return err
	}
	if to != "candidate" {
		return &netconf.Error{Type: "protocol", Tag: "operation-not-supported", Message: "only the candidate is copied to"}
	}
	if err := s.free(to); err != nil {
		return err
	}
	s.device.store.candidate, s.device.store.changed = s.content(from).Copy(), true
	return nil
}

func (s *netconfSession) validate(x, _ *etree.Element) error {
	which, err := storeOf(x, "source")
	if err != nil {
		return err
	}
	_, err = s.device.planned(s.content(which))
	return err
}

func (s *netconfSession) discard(*etree.Element, *etree.Element) error {
	if err := s.free("candidate"); err != nil {
		return err
	}
	s.device.store.candidate, s.device.store.changed = nil, false
	return nil
}

func (s *netconfSession) lock(x, _ *etree.Element) error {
	which, err := storeOf(x, "target")
	if err != nil {
		return err
	}
	store := &s.device.store
	if by, locked := store.locks[which]; locked {
		return &netconf.Error{Type: "protocol", Tag: "lock-denied", Message: "the datastore is locked already",
			Info: map[string]string{"session-id": fmt.Sprint(by)}}
	}
	if which == "candidate" && store.changed || store.before != nil && store.by != s.id {
		return &netconf.Error{Type: "protocol", Tag: "lock-denied",
			Message: "there are changes of another session that are neither committed nor discarded",
			Info:    map[string]string{"session-id": "0"}}
	}
	store.locks[which] = s.id
	return nil
}

func (s *netconfSession) unlock(x, _ *etree.Element) error {
	which, err := storeOf(x, "target")
	if err != nil {
		return err
	}
	if s.device.store.locks[which] != s.id {
		return &netconf.Error{Type: "protocol", Tag: "operation-failed", Message: "this session has not locked it"}
	}
	delete(s.device.store.locks, which)
	return nil
}

func (s *netconfSession) kill(x, _ *etree.Element) error {
	id := x.SelectElement("session-id")
	if id == nil {
		return &netconf.Error{Type: "protocol", Tag: "missing-element", Message: "which session?",
			Info: map[string]string{"bad-element": "session-id"}}
	}
	n, err := strconv.ParseUint(strings.TrimSpace(id.Text()), 10, 32)
	end, open := s.device.store.open[uint32(n)]
	if err != nil || !open || uint32(n) == s.id {
		return &netconf.Error{Type: "protocol", Tag: "invalid-value", Message: "there is no other session of that number"}
	}
	go end()
	return nil
}

func (s *netconfSession) close(*etree.Element, *etree.Element) error {
	s.closing = true
	return nil
}

// nowhereDialer reaches nothing: nobody is at the address.
type nowhereDialer struct{}

func (nowhereDialer) Dial(ctx context.Context, _ string, _ netip.Addr, _ netip.AddrPort) (net.Conn, error) {
	<-ctx.Done()
	return nil, context.DeadlineExceeded
}
