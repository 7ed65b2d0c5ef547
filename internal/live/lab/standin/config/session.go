package config

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/beevik/etree"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/routine"
	"mellowgate/internal/wire/netconf"
)

// capabilities are what a stand-in announces. A module of YANG 1.1 stands in its
// YANG library only (RFC 7950, section 5.6.4).
func (st *Store) capabilities() []string {
	all := []string{netconf.Base10, netconf.Base11, netconf.Validate, netconf.RollbackOnError, libraryCapability}
	switch st.behaviour.TakesBack {
	case site.ConfirmedCommit:
		all = append(all, netconf.Candidate, netconf.ConfirmedCommit)
	case site.FirstConfirmedCommit:
		all = append(all, netconf.Candidate, netconf.ConfirmedCommit10)
	case site.TakesNothingBack:
		all = append(all, netconf.Candidate)
	default:
		all = append(all, netconf.WritableRunning)
	}
	for _, m := range st.modules() {
		if !m.YANG11 {
			all = append(all, fmt.Sprintf("%s?module=%s&revision=%s", m.Namespace, m.Name, m.Revision))
		}
	}
	return all
}

const libraryCapability = "urn:ietf:params:netconf:capability:yang-library:1.0?revision=2016-06-21&module-set-id=1"

// systemFeatures are those of ietf-system, RFC 7317.
var systemFeatures = []string{"radius", "authentication", "local-users", "radius-authentication"}

// modules are those that the platform has.
func (st *Store) modules() []yang.Module {
	return slices.DeleteFunc(slices.Clone(yang.Modules),
		func(m yang.Module) bool { return !st.behaviour.HasModel(m.Name) })
}

// library is the YANG library, RFC 7895.
func (st *Store) library() *etree.Element {
	x := etree.NewElement("modules-state")
	x.CreateAttr("xmlns", netconf.LibraryNS)
	x.CreateElement("module-set-id").SetText("1")
	for _, m := range st.modules() {
		e := x.CreateElement("module")
		for _, leaf := range [][2]string{{"name", m.Name}, {"revision", m.Revision}, {"namespace", m.Namespace}} {
			e.CreateElement(leaf[0]).SetText(leaf[1])
		}
		if m.Namespace == yang.SystemNS {
			for _, f := range systemFeatures {
				e.CreateElement("feature").SetText(f)
			}
		}
		e.CreateElement("conformance-type").SetText("implement")
	}
	return x
}

// Visitor is who has a session.
type Visitor interface {
	// Name is the person, as it can be printed.
	Name() string
	Level() int
	// Command asks whether a command of a level may run, and says why not.
	Command(line string, level int) (allowed bool, why string)
}

// session is one NETCONF session.
type session struct {
	store   *Store
	visitor Visitor
	conn    *netconf.Conn
	id      uint32
	closing bool
	mishap  string // what goes wrong with the answer that is due
}

// Serve serves one session until either side ends it. Closing the channel ends it.
func (st *Store) Serve(v Visitor, channel io.ReadWriteCloser) {
	st.mu.Lock()
	st.sessions++
	s := &session{store: st, visitor: v, conn: netconf.NewConn(channel), id: st.sessions}
	st.open[s.id] = func() { _ = channel.Close() }
	st.mu.Unlock()
	defer s.end()
	if s.conn.Write(netconf.Hello(st.capabilities(), s.id)) != nil {
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
				st.device.Say("a NETCONF session of %s ended: %v", v.Name(), err)
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

// end gives back what the session held. A confirmed commit of it that has no
// persist id is taken back (RFC 6241, section 8.4.1).
func (s *session) end() {
	store := s.store
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
		store.takeBack("the session that made the change has ended")
	}
}

// answer answers one rpc.
func (s *session) answer(message []byte) []byte {
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
		troubles := s.store.troubles(operations[0])
		s.mishap = troubles.ends
		if s.mishap == Hangs {
			return nil // and nothing is done
		}
		s.store.mu.Lock()
		if err = troubles.refusal; err == nil {
			err = s.operate(operations[0], reply)
		}
		s.store.mu.Unlock()
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
	do    func(s *session, x, reply *etree.Element) error
}{
	"get":             {1, (*session).get},
	"get-config":      {1, (*session).get},
	"edit-config":     {15, (*session).edit},
	"copy-config":     {15, (*session).copyConfig},
	"validate":        {1, (*session).validate},
	"discard-changes": {15, (*session).discard},
	"commit":          {15, (*session).commit},
	"cancel-commit":   {15, (*session).cancel},
	"lock":            {15, (*session).lock},
	"unlock":          {15, (*session).unlock},
	"kill-session":    {15, (*session).kill},
	"close-session":   {0, (*session).close},
}

func (s *session) operate(x, reply *etree.Element) error {
	o, known := operations[x.Tag]
	if !known || x.NamespaceURI() != netconf.Base {
		return &netconf.Error{Type: "protocol", Tag: "operation-not-supported",
			Message: "there is no operation " + x.Tag + " here"}
	}
	if s.visitor.Level() < o.level {
		return &netconf.Error{Type: "protocol", Tag: "access-denied",
			Message: fmt.Sprintf("this needs level %d, and you have level %d", o.level, s.visitor.Level())}
	}
	if o.level > 0 {
		if allowed, why := s.visitor.Command("netconf "+x.Tag, o.level); !allowed {
			return &netconf.Error{Type: "protocol", Tag: "access-denied", Message: why}
		}
	}
	return o.do(s, x, reply)
}

// storeOf returns the datastore that an element names.
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
func (s *session) content(which string) *etree.Element {
	store := s.store
	if which == "running" {
		return s.store.configuration()
	}
	if store.candidate == nil {
		store.candidate = s.store.configuration()
	}
	return store.candidate
}

func (s *session) get(x, reply *etree.Element) error {
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
		content.AddChild(s.store.library())
	}
	for _, c := range netconf.Filter(content, filter) {
		data.AddChild(c)
	}
	return nil
}

// free refuses what another session has locked.
func (s *session) free(which string) error {
	if by, locked := s.store.locks[which]; locked && by != s.id {
		return &netconf.Error{Type: "protocol", Tag: "in-use", Message: "another session has locked the datastore " +
			which,
			Info: map[string]string{"session-id": fmt.Sprint(by)}}
	}
	return nil
}

func (s *session) edit(x, _ *etree.Element) error {
	which, err := storeOf(x, "target")
	if err != nil {
		return err
	}
	direct := s.store.behaviour.TakesBack == site.NoCandidate
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
		if c.Tag != "system" || c.NamespaceURI() != yang.SystemNS && c.NamespaceURI() != yang.OpenNS {
			return &netconf.Error{Type: "application", Tag: "unknown-namespace", Path: "/" + c.Tag,
				Message: "there is no " + c.Tag + " of " + c.NamespaceURI() + " here",
				Info:    map[string]string{"bad-namespace": c.NamespaceURI(), "bad-element": c.Tag}}
		}
	}
	fresh := s.content(which).Copy()
	if err := netconf.Edit(fresh, config, operation, yang.Shape{}); err != nil {
		return err // and the datastore is as it was
	}
	w, err := s.store.planned(fresh)
	if err != nil {
		return err
	}
	if direct {
		s.store.device.Use(w)
		return nil
	}
	s.store.candidate, s.store.changed = fresh, true
	return nil
}

func (s *session) copyConfig(x, _ *etree.Element) error {
	to, err := storeOf(x, "target")
	if err != nil {
		return err
	}
	from, err := storeOf(x, "source")
	if err != nil {
		return err
	}
	if to != "candidate" {
		return &netconf.Error{Type: "protocol", Tag: "operation-not-supported",
			Message: "only the candidate is copied to"}
	}
	if err := s.free(to); err != nil {
		return err
	}
	s.store.candidate, s.store.changed = s.content(from).Copy(), true
	return nil
}

func (s *session) validate(x, _ *etree.Element) error {
	which, err := storeOf(x, "source")
	if err != nil {
		return err
	}
	_, err = s.store.planned(s.content(which))
	return err
}

func (s *session) discard(*etree.Element, *etree.Element) error {
	if err := s.free("candidate"); err != nil {
		return err
	}
	s.store.candidate, s.store.changed = nil, false
	return nil
}

func (s *session) lock(x, _ *etree.Element) error {
	which, err := storeOf(x, "target")
	if err != nil {
		return err
	}
	store := s.store
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

func (s *session) unlock(x, _ *etree.Element) error {
	which, err := storeOf(x, "target")
	if err != nil {
		return err
	}
	if s.store.locks[which] != s.id {
		return &netconf.Error{Type: "protocol", Tag: "operation-failed", Message: "this session has not locked it"}
	}
	delete(s.store.locks, which)
	return nil
}

func (s *session) kill(x, _ *etree.Element) error {
	id := x.SelectElement("session-id")
	if id == nil {
		return &netconf.Error{Type: "protocol", Tag: "missing-element", Message: "which session?",
			Info: map[string]string{"bad-element": "session-id"}}
	}
	n, err := strconv.ParseUint(strings.TrimSpace(id.Text()), 10, 32)
	end, open := s.store.open[uint32(n)]
	if err != nil || !open || uint32(n) == s.id {
		return &netconf.Error{Type: "protocol", Tag: "invalid-value",
			Message: "there is no other session of that number"}
	}
	routine.Go(end)
	return nil
}

func (s *session) close(*etree.Element, *etree.Element) error {
	s.closing = true
	return nil
}
