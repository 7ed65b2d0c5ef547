package config

import (
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/beevik/etree"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/routine"
	"mellowgate/internal/wire/netconf"
)

// Device is the stand-in whose configuration it is.
type Device interface {
	// Draft copies the design in use.
	Draft() *Draft
	// Use puts a draft in place of the design in use.
	Use(*Draft)
	// Say writes a line into the log of the device.
	Say(format string, args ...any)
}

// Store is the configuration as NETCONF sees it, beside what runs. Make one with
// New.
//
// mu guards everything in it, and the changing of what runs; each session runs in
// the goroutine that called Serve. A confirmed commit that waits has a timer, which
// Close stops.
type Store struct {
	device    Device
	keys      site.Keys
	behaviour site.Behaviour
	mu        sync.Mutex
	candidate *etree.Element
	changed   bool              // the candidate differs from what runs, as far as is known
	locks     map[string]uint32 // by datastore, the session that holds it
	sessions  uint32
	open      map[uint32]func() // ends a session
	// A confirmed commit that waits for its confirmation.
	before  *Draft
	timer   *time.Timer
	by      uint32 // the session that began it
	persist string // it may be confirmed by others who know this

	troubling sync.Mutex // of trouble alone
	trouble   []Trouble  // what goes wrong, on purpose
}

// New makes the store of a device.
func New(d Device, keys site.Keys, behaviour site.Behaviour) *Store {
	return &Store{device: d, keys: keys, behaviour: behaviour, locks: map[string]uint32{}, open: map[uint32]func(){}}
}

// Close stops the clock of a confirmed commit that waits: what runs stays.
func (st *Store) Close() {
	st.mu.Lock()
	defer st.mu.Unlock()
	if st.timer != nil {
		st.timer.Stop()
	}
}

// configuration returns the design in use as data of every model.
func (st *Store) configuration() *etree.Element {
	draft := st.device.Draft()
	config := etree.NewElement("config")
	for _, m := range yang.InOrder {
		text, err := draft.data(m, st.keys).XML()
		doc := etree.NewDocument()
		if err == nil {
			err = doc.ReadFromBytes(text)
		}
		if err != nil {
			st.device.Say("a part of the configuration cannot be shown: %v", err)
			continue
		}
		config.AddChild(doc.Root().Copy())
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

// planned returns the design that results from a configuration, or what is wrong
// with it. What differs from what runs is what counts, of each model.
func (st *Store) planned(config *etree.Element) (*Draft, error) {
	w := st.device.Draft()
	before, after := make([]yang.Data, len(yang.InOrder)), make([]yang.Data, len(yang.InOrder))
	for i, m := range yang.InOrder {
		before[i] = again(m, w.data(m, st.keys))
		x := &etree.Element{} // where a model says nothing at all
		for _, c := range config.ChildElements() {
			if c.NamespaceURI() == m.Module().Namespace {
				x = c
			}
		}
		read, err := m.Read(dataOf(m, x))
		if err != nil {
			return nil, netconf.Fail("invalid-value", "/"+x.Tag, "%v", err)
		}
		after[i] = read
	}
	for i := range yang.InOrder {
		if err := w.apply(before[i], after[i]); err != nil {
			return nil, err
		}
	}
	return w, nil
}

// dataOf returns the text of an element; an empty container where there is none.
func dataOf(m yang.Model, x *etree.Element) []byte {
	if x.Tag == "" {
		return []byte(`<system xmlns="` + m.Module().Namespace + `"/>`)
	}
	return netconf.Bytes(x.Copy())
}

// again gives data as it is read back, so that two can be compared.
func again(m yang.Model, data yang.Data) yang.Data {
	if text, err := data.XML(); err == nil {
		if read, err := m.Read(text); err == nil {
			return read
		}
	}
	return data
}

// confirmTime is how long a confirmed commit waits unless it says otherwise, RFC
// 6241 section 8.4.1.
const confirmTime = 600 * time.Second

// commit makes what is in the candidate run. A confirmed one comes back by
// itself unless another commit follows in time.
func (s *session) commit(x, _ *etree.Element) error {
	store := s.store
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
		return &netconf.Error{Type: "protocol", Tag: "in-use",
			Message: "a change waits for its confirmation; its persist-id is wanted"}
	}
	if store.before == nil && given != "" {
		return &netconf.Error{Type: "protocol", Tag: "invalid-value", Message: "no change waits for a confirmation",
			Info: map[string]string{"bad-element": "persist-id"}}
	}
	w, err := store.planned(s.content("candidate"))
	if err != nil {
		return err
	}
	confirmed := x.SelectElement("confirmed") != nil
	wait := confirmTime
	if t := x.SelectElement("confirm-timeout"); t != nil {
		n, err := strconv.Atoi(strings.TrimSpace(t.Text()))
		if err != nil || n < 1 {
			return &netconf.Error{Type: "protocol", Tag: "invalid-value",
				Message: "confirm-timeout is a number of seconds",
				Info:    map[string]string{"bad-element": "confirm-timeout"}}
		}
		wait = time.Duration(n) * time.Second
	}
	if store.timer != nil {
		store.timer.Stop()
	}
	if confirmed && store.before == nil {
		store.before = store.device.Draft()
	}
	store.device.Use(w)
	store.candidate, store.changed = nil, false
	if !confirmed {
		store.before = nil
		store.timer = nil
		store.persist = ""
		store.device.Say("%s has committed a change of the configuration", s.visitor.Name())
		return nil
	}
	store.by, store.persist = s.id, ""
	if p := x.SelectElement("persist"); p != nil {
		store.persist = strings.TrimSpace(p.Text())
	}
	store.device.Say("%s has committed a change of the configuration, which comes back in %s unless it is confirmed",
		s.visitor.Name(), wait)
	state := store.before
	store.timer = routine.AfterFunc(wait, func() {
		store.mu.Lock()
		defer store.mu.Unlock()
		if store.before == state {
			store.takeBack("nobody confirmed it in time")
		}
	})
	return nil
}

// takeBack makes the design run that ran before a confirmed commit. The store is
// locked.
func (st *Store) takeBack(why string) {
	if st.timer != nil {
		st.timer.Stop()
	}
	st.device.Use(st.before)
	st.before = nil
	st.timer = nil
	st.persist = ""
	st.candidate = nil
	st.changed = false
	st.device.Say("the change of the configuration was taken back: %s", why)
}

func (s *session) cancel(x, _ *etree.Element) error {
	store := s.store
	given := ""
	if id := x.SelectElement("persist-id"); id != nil {
		given = strings.TrimSpace(id.Text())
	}
	switch {
	case store.before == nil:
		return &netconf.Error{Type: "protocol", Tag: "operation-failed", Message: "no change waits for a confirmation"}
	case given != store.persist || store.persist == "" && store.by != s.id:
		return &netconf.Error{Type: "protocol", Tag: "invalid-value", Message: "the persist-id is another",
			Info: map[string]string{"bad-element": "persist-id"}}
	}
	store.takeBack(s.visitor.Name() + " has cancelled it")
	return nil
}
