package rollout

import (
	"slices"

	"github.com/beevik/etree"

	"mellowgate/internal/live/client/device"
	"mellowgate/internal/wire/netconf"
)

// ordered are leaf-lists whose order counts: a merge adds to them, so what is
// there goes first.
var ordered = []string{"user-authentication-order", "authentication-method", "authorization-method",
	"accounting-method"}

// replaced are containers that are the design's alone: they are put there whole.
var replaced = []string{"radius", "tacacs-plus", "server-groups"}

// edits returns what is sent for the whole design, one after the other. First go
// the orders of methods that are there, which a merge would only add to. Servers
// and groups are replaced as a whole; accounts that the site does not have stay.
func edits(held device.Held, config *etree.Element) []*etree.Element {
	var elements []*etree.Element
	if c := outdated(held); len(c.ChildElements()) > 0 {
		elements = append(elements, c)
	}
	return append(elements, whole(config))
}

// outdated makes an edit that takes every entry of the ordered leaf-lists out.
func outdated(held device.Held) *etree.Element {
	return parts(dataOf(held), ordered, func(x *etree.Element) { operate(x, "remove") })
}

// onlyUsers returns the part of a design that is about local accounts.
func onlyUsers(config *etree.Element) *etree.Element {
	return parts(config, []string{"user"}, func(*etree.Element) {})
}

// asBefore makes an edit that puts there what a device held.
func asBefore(held device.Held) *etree.Element {
	config := etree.NewElement("config")
	data := dataOf(held)
	for _, a := range data.Attr {
		if a.Space == "xmlns" {
			config.CreateAttr("xmlns:"+a.Key, a.Value)
		}
	}
	for _, top := range data.ChildElements() {
		x := top.Copy()
		operate(x, "replace")
		config.AddChild(x)
	}
	return config
}

// dataOf returns what a device held as elements.
func dataOf(held device.Held) *etree.Element {
	doc := etree.NewDocument()
	if doc.ReadFromBytes(held.Data) != nil || doc.Root() == nil {
		return etree.NewElement("data")
	}
	return doc.Root()
}

// parts makes an edit of the elements of some names, with the tree that leads to
// them; do is done to each.
func parts(from *etree.Element, names []string, do func(*etree.Element)) *etree.Element {
	config := etree.NewElement("config")
	for _, top := range from.ChildElements() {
		if x := part(top, names, do); x != nil {
			config.AddChild(x)
		}
	}
	return config
}

// part returns the part of a tree that leads to elements of some names, nil where
// there is none.
func part(x *etree.Element, names []string, do func(*etree.Element)) *etree.Element {
	if slices.Contains(names, x.Tag) {
		leaf := x.Copy()
		do(leaf)
		return leaf
	}
	made := etree.NewElement(x.Tag)
	if x.Parent() == nil || x.NamespaceURI() != x.Parent().NamespaceURI() {
		made.CreateAttr("xmlns", x.NamespaceURI())
	}
	found := false
	for _, c := range x.ChildElements() {
		if p := part(c, names, do); p != nil {
			made.AddChild(p)
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

// hidden are leaves with secrets.
var hidden = []string{"shared-secret", "secret-key", "password", "password-hashed"}

// shown returns edits as data to read, without their secrets.
func shown(edits []*etree.Element) string {
	doc := etree.NewDocument()
	for _, e := range edits {
		x := e.Copy()
		for _, leaf := range x.FindElements(".//*") {
			if slices.Contains(hidden, leaf.Tag) && leaf.Text() != "" {
				leaf.SetText("(secret)")
			}
		}
		doc.AddChild(x)
	}
	doc.Indent(2)
	text, err := doc.WriteToString()
	if err != nil {
		return "" // a tree of elements can always be written
	}
	return text
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
