package config

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"

	"github.com/beevik/etree"

	"mellowgate/internal/core/yang"
	"mellowgate/internal/wire/netconf"
)

// ErrChanged is a resource that is not any more as it was read.
var ErrChanged = errors.New("it was changed since it was read")

// ErrNothing is a resource that there is not.
var ErrNothing = errors.New("there is no such resource")

// Library is the YANG library as RESTCONF gives it (RFC 8040, section 3.3.3).
func (st *Store) Library() *etree.Element { return st.library() }

// Resource returns the data of a module's top container as it runs, and its entity tag;
// the error is ErrNothing for a module that the platform does not have.
func (st *Store) Resource(v Visitor, module string) (x *etree.Element, tag string, err error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	if err := mayDo(v, "restconf GET", 1); err != nil {
		return nil, "", err
	}
	return st.resource(module)
}

// MayPut reports whether somebody may change the configuration.
func (st *Store) MayPut(v Visitor) bool { return mayDo(v, "restconf PUT", 15) == nil }

// Put puts the data of a module in place of what runs (RFC 8040, section 4.5), if its
// entity tag is still the one that is given; "" does not ask.
func (st *Store) Put(v Visitor, module string, body *etree.Element, match string) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	if err := mayDo(v, "restconf PUT", 15); err != nil {
		return err
	}
	now, tag, err := st.resource(module)
	switch {
	case err != nil:
		return err
	case match != "" && match != tag:
		return ErrChanged
	case body.Tag != now.Tag || body.NamespaceURI() != now.NamespaceURI():
		return &netconf.Error{Type: "application", Tag: "invalid-value", Message: "the body is not that resource"}
	}
	edit, fresh := etree.NewElement("config"), st.configuration()
	edit.AddChild(body.Copy())
	if refusal := st.troubles(putting(edit)).refusal; refusal != nil {
		return refusal
	}
	if err := netconf.Edit(fresh, replacing(edit), "merge", yang.Shape{}); err != nil {
		return err
	}
	w, err := st.planned(fresh)
	if err != nil {
		return err
	}
	st.device.Use(w)
	st.device.Say("%s has changed the configuration", v.Name())
	return nil
}

// putting is what an edit of NETCONF would be, for what goes wrong with it on purpose.
func putting(edit *etree.Element) *etree.Element {
	x := etree.NewElement("edit-config")
	x.CreateAttr("xmlns", netconf.Base)
	x.AddChild(edit.Copy())
	return x
}

// replacing makes every top element of an edit replace what is there.
func replacing(edit *etree.Element) *etree.Element {
	for _, c := range edit.ChildElements() {
		c.CreateAttr("xmlns:nc", netconf.Base)
		c.CreateAttr("nc:operation", "replace")
	}
	return edit
}

// resource is Resource, of a store that is locked.
func (st *Store) resource(module string) (*etree.Element, string, error) {
	for _, m := range st.modules() {
		if m.Name != module {
			continue
		}
		for _, c := range st.configuration().ChildElements() {
			if c.NamespaceURI() == m.Namespace {
				x := c.Copy()
				sum := sha256.Sum256(netconf.Bytes(x.Copy()))
				return x, `"` + hex.EncodeToString(sum[:8]) + `"`, nil
			}
		}
	}
	return nil, "", ErrNothing
}

func mayDo(v Visitor, command string, level int) error {
	if v.Level() < level {
		return &netconf.Error{Type: "protocol", Tag: "access-denied",
			Message: fmt.Sprintf("this needs level %d, and you have level %d", level, v.Level())}
	}
	if allowed, why := v.Command(command, level); !allowed {
		return &netconf.Error{Type: "protocol", Tag: "access-denied", Message: why}
	}
	return nil
}
