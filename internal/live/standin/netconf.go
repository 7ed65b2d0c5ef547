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
	"sync"
	"time"

	"github.com/beevik/etree"
	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/netconf"
	"mellowgate/internal/wire/yang"
)

// Namespaces and module names of the models that a stand-in is configured by.
const (
	systemNS = "urn:ietf:params:xml:ns:yang:ietf-system"
	tacacsNS = "urn:ietf:params:xml:ns:yang:ietf-system-tacacs-plus"
	openNS   = "http://openconfig.net/yang/system"
)

var capabilities = []string{netconf.Base10, netconf.Base11, netconf.Candidate, netconf.ConfirmedCommit, netconf.Validate, netconf.RollbackOnError,
	systemNS + "?module=ietf-system&revision=2014-08-06", tacacsNS + "?module=ietf-system-tacacs-plus&revision=2021-08-05",
	openNS + "?module=openconfig-system&revision=2023-12-20"}

// datastore is the configuration as NETCONF sees it, beside what runs.
type datastore struct {
	mu        sync.Mutex // of everything here, and of changing what runs
	candidate *etree.Element
	changed   bool              // the candidate differs from what runs, as far as is known
	locks     map[string]uint32 // by datastore, the session that holds it
	sessions  uint32
	open      map[uint32]func() // ends a session
	// A confirmed commit that waits for its confirmation.
	before  *draftState
	timer   *time.Timer
	by      uint32 // the session that began it
	persist string // it may be confirmed by others who know this
}

// draftState is a design that may come back.
type draftState struct {
	device *site.Device
	draft  *draft
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
	if s.conn.Write(netconf.Hello(capabilities, s.id)) != nil {
		return
	}
	message, err := s.conn.Read()
	if err != nil {
		return
	}
	theirs, session, err := netconf.ReadHello(message)
	if err != nil || session != "" || !slices.Contains(theirs, netconf.Base10) && !slices.Contains(theirs, netconf.Base11) {
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
		if s.conn.Write(s.answer(message)) != nil {
			return
		}
	}
}

// end gives back what the session held. A confirmed commit of it that has no
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
		err = &netconf.Error{Type: "rpc", Tag: "missing-attribute", Message: "an rpc has a message-id", Info: map[string]string{"bad-attribute": "message-id", "bad-element": "rpc"}}
	case len(operations) != 1:
		err = &netconf.Error{Type: "protocol", Tag: "operation-not-supported", Message: "an rpc holds one operation"}
	default:
		s.device.store.mu.Lock()
		err = s.operate(operations[0], reply)
		s.device.store.mu.Unlock()
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
		return &netconf.Error{Type: "protocol", Tag: "operation-not-supported", Message: "there is no operation " + x.Tag + " here"}
	}
	if s.visitor.level < o.level {
		return &netconf.Error{Type: "protocol", Tag: "access-denied", Message: fmt.Sprintf("this needs level %d, and you have level %d", o.level, s.visitor.level)}
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
		return "", &netconf.Error{Type: "protocol", Tag: "missing-element", Message: "say which datastore: " + name, Info: map[string]string{"bad-element": name}}
	}
	which := holder.ChildElements()[0].Tag
	if which != "running" && which != "candidate" {
		return "", &netconf.Error{Type: "protocol", Tag: "invalid-value", Message: "there is no datastore " + which + " here; running and candidate are"}
	}
	return which, nil
}

// configuration gives the design in use as data of both models.
func (d *Device) configuration() *etree.Element {
	system, open := d.draft().models(d.config.Keys)
	config := etree.NewElement("config")
	for _, m := range []interface{ XML() ([]byte, error) }{system, open} {
		text, err := m.XML()
		doc := etree.NewDocument()
		if err == nil && doc.ReadFromBytes(text) == nil {
			config.AddChild(doc.Root().Copy())
		}
	}
	tidy(config)
	return config
}

// tidy takes out the blanks between elements.
func tidy(x *etree.Element) {
	if len(x.ChildElements()) == 0 {
		return
	}
	for _, t := range slices.Clone(x.Child) {
		if c, text := t.(*etree.CharData); text && strings.TrimSpace(c.Data) == "" {
			x.RemoveChild(c)
		}
	}
	for _, c := range x.ChildElements() {
		tidy(c)
	}
}

// content gives a datastore. The candidate begins as what runs.
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
			return &netconf.Error{Type: "protocol", Tag: "operation-not-supported", Message: "filters of the type " + kind + " are not taken; subtree is"}
		}
	}
	data := reply.CreateElement("data")
	for _, c := range netconf.Filter(s.content(which), filter) {
		data.AddChild(c)
	}
	return nil
}

// free refuses what another session has locked.
func (s *netconfSession) free(which string) error {
	if by, locked := s.device.store.locks[which]; locked && by != s.id {
		return &netconf.Error{Type: "protocol", Tag: "in-use", Message: "another session has locked the datastore " + which, Info: map[string]string{"session-id": fmt.Sprint(by)}}
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
	if which == "running" {
		return &netconf.Error{Type: "protocol", Tag: "operation-not-supported", Message: "what runs is changed by a commit of the candidate"}
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
		return &netconf.Error{Type: "protocol", Tag: "missing-element", Message: "an edit has a config, and merge, replace or none as default-operation", Info: map[string]string{"bad-element": "config"}}
	}
	for _, c := range config.ChildElements() {
		if c.Tag != "system" || c.NamespaceURI() != systemNS && c.NamespaceURI() != openNS {
			return &netconf.Error{Type: "application", Tag: "unknown-namespace", Path: "/" + c.Tag, Message: "there is no " + c.Tag + " of " + c.NamespaceURI() + " here", Info: map[string]string{"bad-namespace": c.NamespaceURI(), "bad-element": c.Tag}}
		}
	}
	fresh := s.content("candidate").Copy()
	if err := netconf.Edit(fresh, config, operation, shape{}); err != nil {
		return err // and the candidate is as it was
	}
	if _, err := s.device.planned(fresh); err != nil {
		return err
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

// planned gives the design that a configuration comes to, or what is wrong with
// it. What differs from what runs is what counts, of each model.
func (d *Device) planned(config *etree.Element) (*draft, error) {
	w := d.draft()
	beforeSystem, beforeOpen := w.models(d.config.Keys)
	afterSystem, afterOpen := yang.System{}, yang.OpenSystem{}
	for _, c := range config.ChildElements() {
		text := netconf.Bytes(c.Copy())
		var err error
		if c.NamespaceURI() == systemNS {
			afterSystem, err = yang.ReadSystem(text)
		} else {
			afterOpen, err = yang.ReadOpenSystem(text)
		}
		if err != nil {
			return nil, netconf.Fail("invalid-value", "/"+c.Tag, "%v", err)
		}
	}
	if err := w.applySystem(again(beforeSystem), afterSystem); err != nil {
		return nil, err
	}
	return w, w.applyOpen(againOpen(beforeOpen), afterOpen)
}

// again and againOpen give data as it is read back, so that two can be compared.
func again(s yang.System) yang.System {
	if text, err := s.XML(); err == nil {
		if read, err := yang.ReadSystem(text); err == nil {
			return read
		}
	}
	return s
}

func againOpen(s yang.OpenSystem) yang.OpenSystem {
	if text, err := s.XML(); err == nil {
		if read, err := yang.ReadOpenSystem(text); err == nil {
			return read
		}
	}
	return s
}

// confirmTime is how long a confirmed commit waits unless it says otherwise, RFC
// 6241 section 8.4.1.
const confirmTime = 600 * time.Second

// commit makes what is in the candidate run. A confirmed one comes back by
// itself unless another commit follows in time.
func (s *netconfSession) commit(x, _ *etree.Element) error {
	store, d := &s.device.store, s.device
	for _, which := range []string{"running", "candidate"} {
		if err := s.free(which); err != nil {
			return err
		}
	}
	given := ""
	if id := x.SelectElement("persist-id"); id != nil {
		given = strings.TrimSpace(id.Text())
	}
	if store.before != nil && (given != store.persist || store.persist == "" && store.by != s.id) {
		return &netconf.Error{Type: "protocol", Tag: "in-use", Message: "a change waits for its confirmation; its persist-id is wanted"}
	}
	if store.before == nil && given != "" {
		return &netconf.Error{Type: "protocol", Tag: "invalid-value", Message: "no change waits for a confirmation", Info: map[string]string{"bad-element": "persist-id"}}
	}
	w, err := d.planned(s.content("candidate"))
	if err != nil {
		return err
	}
	confirmed := x.SelectElement("confirmed") != nil
	wait := confirmTime
	if t := x.SelectElement("confirm-timeout"); t != nil {
		n, err := strconv.Atoi(strings.TrimSpace(t.Text()))
		if err != nil || n < 1 {
			return &netconf.Error{Type: "protocol", Tag: "invalid-value", Message: "confirm-timeout is a number of seconds", Info: map[string]string{"bad-element": "confirm-timeout"}}
		}
		wait = time.Duration(n) * time.Second
	}
	if store.timer != nil {
		store.timer.Stop()
	}
	if confirmed && store.before == nil {
		old := d.draft()
		store.before = &draftState{device: old.device, draft: old}
	}
	d.use(w)
	store.candidate, store.changed = nil, false
	if !confirmed {
		store.before, store.timer, store.persist = nil, nil, ""
		d.logs("%s has committed a change of the configuration", printed(s.visitor.person))
		return nil
	}
	store.by, store.persist = s.id, ""
	if p := x.SelectElement("persist"); p != nil {
		store.persist = strings.TrimSpace(p.Text())
	}
	d.logs("%s has committed a change of the configuration, which comes back in %s unless it is confirmed", printed(s.visitor.person), wait)
	state := store.before
	store.timer = time.AfterFunc(wait, func() {
		store.mu.Lock()
		defer store.mu.Unlock()
		if store.before == state {
			d.takeBack("nobody confirmed it in time")
		}
	})
	return nil
}

// takeBack makes the design run that ran before a confirmed commit. The store is
// locked.
func (d *Device) takeBack(why string) {
	store := &d.store
	if store.timer != nil {
		store.timer.Stop()
	}
	d.use(store.before.draft)
	store.before, store.timer, store.persist, store.candidate, store.changed = nil, nil, "", nil, false
	d.logs("the change of the configuration was taken back: %s", why)
}

func (s *netconfSession) cancel(x, _ *etree.Element) error {
	store := &s.device.store
	given := ""
	if id := x.SelectElement("persist-id"); id != nil {
		given = strings.TrimSpace(id.Text())
	}
	switch {
	case store.before == nil:
		return &netconf.Error{Type: "protocol", Tag: "operation-failed", Message: "no change waits for a confirmation"}
	case given != store.persist || store.persist == "" && store.by != s.id:
		return &netconf.Error{Type: "protocol", Tag: "invalid-value", Message: "the persist-id is another", Info: map[string]string{"bad-element": "persist-id"}}
	}
	s.device.takeBack(printed(s.visitor.person) + " has cancelled it")
	return nil
}

func (s *netconfSession) lock(x, _ *etree.Element) error {
	which, err := storeOf(x, "target")
	if err != nil {
		return err
	}
	store := &s.device.store
	if by, locked := store.locks[which]; locked {
		return &netconf.Error{Type: "protocol", Tag: "lock-denied", Message: "the datastore is locked already", Info: map[string]string{"session-id": fmt.Sprint(by)}}
	}
	if which == "candidate" && store.changed || store.before != nil && store.by != s.id {
		return &netconf.Error{Type: "protocol", Tag: "lock-denied", Message: "there are changes of another session that are neither committed nor discarded", Info: map[string]string{"session-id": "0"}}
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
		return &netconf.Error{Type: "protocol", Tag: "missing-element", Message: "which session?", Info: map[string]string{"bad-element": "session-id"}}
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
