package standin

import (
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/beevik/etree"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/wire/netconf"
)

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

// configuration returns the design in use as data of both models.
func (d *Device) configuration() *etree.Element {
	system, open := d.draft().models(d.config.Keys)
	config := etree.NewElement("config")
	for _, m := range []interface{ XML() ([]byte, error) }{system, open} {
		text, err := m.XML()
		doc := etree.NewDocument()
		if err == nil {
			err = doc.ReadFromBytes(text)
		}
		if err != nil {
			d.logs("a part of the configuration cannot be shown: %v", err)
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

// planned returns the design that a configuration comes to, or what is wrong with
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
		return &netconf.Error{Type: "protocol", Tag: "in-use",
			Message: "a change waits for its confirmation; its persist-id is wanted"}
	}
	if store.before == nil && given != "" {
		return &netconf.Error{Type: "protocol", Tag: "invalid-value", Message: "no change waits for a confirmation",
			Info: map[string]string{"bad-element": "persist-id"}}
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
			return &netconf.Error{Type: "protocol", Tag: "invalid-value", Message: "confirm-timeout is a number of seconds",
				Info: map[string]string{"bad-element": "confirm-timeout"}}
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
	d.logs("%s has committed a change of the configuration, which comes back in %s unless it is confirmed",
		printed(s.visitor.person), wait)
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
		return &netconf.Error{Type: "protocol", Tag: "invalid-value", Message: "the persist-id is another",
			Info: map[string]string{"bad-element": "persist-id"}}
	}
	s.device.takeBack(printed(s.visitor.person) + " has cancelled it")
	return nil
}
