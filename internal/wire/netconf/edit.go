package netconf

import (
	"slices"
	"strings"

	"github.com/beevik/etree"
)

// Shape tells what of a tree is a list or a leaf-list; everything else is there
// once.
type Shape interface {
	// Keys gives the names of the keys of a list's entries, nil where the element
	// is no list, and whether it is a leaf-list, whose entries are their values.
	Keys(path []string) (keys []string, leaves bool)
}

// Edit changes a configuration as edit-config asks, RFC 6241 section 7.2. The
// operation is that of default-operation: merge, replace or none. Config's
// children are put into into.
func Edit(into, config *etree.Element, operation string, shape Shape) error {
	for _, c := range config.ChildElements() {
		if err := edit(into, c, operation, shape, []string{c.Tag}); err != nil {
			return err
		}
	}
	return nil
}

// operationOf returns the operation of an element, from its attribute, else that
// of its parent.
func operationOf(x *etree.Element, inherited string) (string, error) {
	for _, a := range x.Attr {
		if a.Key != "operation" || a.NamespaceURI() != Base {
			continue
		}
		if !slices.Contains([]string{"merge", "replace", "create", "delete", "remove"}, a.Value) {
			return "", &Error{Type: "protocol", Tag: "bad-attribute", Path: x.GetPath(),
				Message: "the operation " + a.Value + " is none of RFC 6241, section 7.2",
				Info:    map[string]string{"bad-attribute": "operation", "bad-element": x.Tag}}
		}
		return a.Value, nil
	}
	return inherited, nil
}

func edit(parent, x *etree.Element, inherited string, shape Shape, path []string) error {
	operation, err := operationOf(x, inherited)
	if err != nil {
		return err
	}
	have, err := find(parent, x, shape, path)
	if err != nil {
		return err
	}
	switch {
	case operation == "create" && have != nil:
		return Fail("data-exists", "/"+strings.Join(path, "/"), "it is there already")
	case operation == "delete" && have == nil:
		return Fail("data-missing", "/"+strings.Join(path, "/"), "there is none to delete")
	case operation == "delete", operation == "remove":
		if have != nil {
			parent.RemoveChild(have)
		}
		return nil
	case operation == "replace" && have != nil:
		parent.RemoveChild(have)
		have = nil
	}
	if have == nil {
		if operation == "none" && len(x.ChildElements()) == 0 {
			return Fail("data-missing", "/"+strings.Join(path, "/"), "there is none, and no operation makes it")
		}
		have = parent.CreateElement(x.Tag)
		if space := x.NamespaceURI(); space != parent.NamespaceURI() {
			have.CreateAttr("xmlns", space)
		}
	}
	children := x.ChildElements()
	if len(children) == 0 {
		copyLeaf(have, x)
		return nil
	}
	for _, c := range children {
		down := operation
		if operation == "replace" || operation == "create" {
			down = "merge" // the rest is new anyway
		}
		if err := edit(have, c, down, shape, append(slices.Clone(path), c.Tag)); err != nil {
			return err
		}
	}
	return nil
}

// copyLeaf copies a value, with the prefixes that it may use.
func copyLeaf(to, from *etree.Element) {
	to.SetText(strings.TrimSpace(from.Text()))
	if prefix, space := prefixOf(from); space != "" {
		to.CreateAttr("xmlns:"+prefix, space)
	}
}

// prefixOf returns the prefix of a qualified value and its namespace, "" where the
// value has none that is declared.
func prefixOf(x *etree.Element) (prefix, space string) {
	prefix, _, qualified := strings.Cut(strings.TrimSpace(x.Text()), ":")
	if !qualified {
		return "", ""
	}
	for e := x; e != nil; e = e.Parent() {
		for _, a := range e.Attr {
			if a.Space == "xmlns" && a.Key == prefix {
				return prefix, a.Value
			}
		}
	}
	return "", ""
}

// value returns the value of a leaf, whatever prefix it is written with (RFC 7950,
// section 9.10.3).
func value(x *etree.Element) string {
	text := strings.TrimSpace(x.Text())
	if prefix, space := prefixOf(x); space != "" {
		return "{" + space + "}" + strings.TrimPrefix(text, prefix+":")
	}
	return text
}

// find returns the element of a parent that an element of an edit means, nil for
// none.
func find(parent, x *etree.Element, shape Shape, path []string) (*etree.Element, error) {
	keys, leaves := shape.Keys(path)
	for _, k := range keys {
		if x.SelectElement(k) == nil {
			return nil, &Error{Type: "application", Tag: "missing-element", Path: "/" + strings.Join(path, "/"),
				Message: "the key " + k + " of this list is missing", Info: map[string]string{"bad-element": k}}
		}
	}
	for _, c := range parent.SelectElements(x.Tag) {
		if c.NamespaceURI() != x.NamespaceURI() {
			continue
		}
		same := !leaves || value(c) == value(x)
		for _, k := range keys {
			e := c.SelectElement(k)
			same = same && e != nil && value(e) == value(x.SelectElement(k))
		}
		if same {
			return c, nil
		}
	}
	return nil, nil
}

// Filter returns what a subtree filter chooses of a configuration, RFC 6241
// section 6. Without a filter it is everything.
func Filter(config, filter *etree.Element) []*etree.Element {
	if filter == nil {
		var elements []*etree.Element
		for _, c := range config.ChildElements() {
			elements = append(elements, c.Copy())
		}
		return elements
	}
	var all []*etree.Element
	for _, c := range config.ChildElements() {
		for _, f := range filter.ChildElements() {
			if chosen := choose(c, f); chosen != nil {
				all = append(all, chosen)
				break
			}
		}
	}
	return all
}

// choose returns what one node of a filter chooses of an element.
func choose(x, f *etree.Element) *etree.Element {
	if x.Tag != f.Tag || f.NamespaceURI() != "" && f.NamespaceURI() != Base && f.NamespaceURI() != x.NamespaceURI() {
		return nil
	}
	var inner []*etree.Element
	for _, c := range f.ChildElements() {
		// content match, section 6.2.5
		if text := strings.TrimSpace(c.Text()); text != "" && len(c.ChildElements()) == 0 {
			have := x.SelectElement(c.Tag)
			if have == nil || strings.TrimSpace(have.Text()) != text {
				return nil
			}
			continue
		}
		inner = append(inner, c)
	}
	if len(inner) == 0 {
		return x.Copy()
	}
	chosen := etree.NewElement(x.FullTag())
	chosen.Attr = slices.Clone(x.Attr)
	some := false
	for _, c := range x.ChildElements() {
		for _, f := range inner {
			if part := choose(c, f); part != nil {
				chosen.AddChild(part)
				some = true
				break
			}
		}
	}
	for _, c := range f.ChildElements() { // what was matched is part of the answer
		if strings.TrimSpace(c.Text()) != "" && len(c.ChildElements()) == 0 && some {
			if have := x.SelectElement(c.Tag); have != nil && chosen.SelectElement(c.Tag) == nil {
				chosen.InsertChildAt(0, have.Copy())
			}
		}
	}
	if !some {
		return nil
	}
	return chosen
}
