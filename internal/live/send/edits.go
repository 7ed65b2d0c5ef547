package send

import (
	"slices"

	"github.com/beevik/etree"

	"mellowgate/internal/live/manage"
	"mellowgate/internal/wire/netconf"
)

// ordered are leaf-lists whose order counts: a merge adds to them, so what is
// there goes first.
var ordered = []string{"user-authentication-order", "authentication-method", "authorization-method", "accounting-method"}

// replaced are containers that are the design's alone: they are put there whole.
var replaced = []string{"radius", "tacacs-plus", "server-groups"}

// outdated makes an edit that takes every entry of the ordered leaf-lists out.
func outdated(held manage.Held) *etree.Element {
	config := etree.NewElement("config")
	doc := etree.NewDocument()
	if doc.ReadFromBytes(held.Data) != nil || doc.Root() == nil {
		return config
	}
	for _, top := range doc.Root().ChildElements() {
		if x := onlyOrdered(top); x != nil {
			config.AddChild(x)
		}
	}
	return config
}

// onlyOrdered copies the part of a tree that leads to ordered leaf-lists, each
// entry to be removed. It is nil where there is none.
func onlyOrdered(x *etree.Element) *etree.Element {
	if slices.Contains(ordered, x.Tag) {
		leaf := x.Copy()
		operate(leaf, "remove")
		return leaf
	}
	made := etree.NewElement(x.Tag)
	if x.Parent() == nil || x.NamespaceURI() != x.Parent().NamespaceURI() {
		made.CreateAttr("xmlns", x.NamespaceURI())
	}
	found := false
	for _, c := range x.ChildElements() {
		if part := onlyOrdered(c); part != nil {
			made.AddChild(part)
			found = true
		}
	}
	if !found {
		return nil
	}
	return made
}

// operate sets the operation of an element, RFC 6241 section 7.2.
func operate(x *etree.Element, operation string) {
	x.CreateAttr("xmlns:nc", netconf.Base)
	x.CreateAttr("nc:operation", operation)
}

// whole lets the containers that are the design's alone be replaced; the rest is
// merged, so that what else is on the device stays.
func whole(config *etree.Element) *etree.Element {
	made := config.Copy()
	for _, top := range made.ChildElements() {
		mark(top)
	}
	return made
}

func mark(x *etree.Element) {
	for _, c := range x.ChildElements() {
		if slices.Contains(replaced, c.Tag) {
			operate(c, "replace")
			continue
		}
		mark(c)
	}
}
