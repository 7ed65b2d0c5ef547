package config

import (
	"slices"

	"github.com/beevik/etree"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/yang"
	"mellowgate/internal/wire/netconf"
)

// What can go wrong with the configuration over NETCONF, on purpose.
const (
	Hangs   = "hangs"   // an operation is never answered
	Drops   = "drops"   // an operation is done, and the connection ends before the answer
	Refuses = "refuses" // a leaf, or another element, is refused
	Lacks   = "lacks"   // a model that is announced is not there
	Warns   = "warns"   // an operation is answered with a warning
)

// Troubles are the words above.
var Troubles = []string{Hangs, Drops, Refuses, Lacks, Warns}

// TroubleTakes reports whether a trouble can be with something: an operation, an
// element or a model. The choices are nil where any name may do.
func TroubleTakes(what string) (choices []string) {
	switch what {
	case Lacks:
		return site.Models
	case Refuses:
		return nil
	}
	var takes []string
	for name := range operations {
		takes = append(takes, name)
	}
	slices.Sort(takes)
	return takes
}

// Trouble is one thing that goes wrong.
type Trouble struct{ What, With string }

// SetTroubles sets all that goes wrong from now on.
func (st *Store) SetTroubles(troubles []Trouble) {
	st.troubling.Lock()
	defer st.troubling.Unlock()
	st.trouble = slices.Clone(troubles)
}

// troubled is what the troubles do to one operation.
type troubled struct {
	ends    string // Hangs, Drops or ""
	refusal error
	warning *netconf.Error
}

func (st *Store) troubles(x *etree.Element) troubled {
	st.troubling.Lock()
	defer st.troubling.Unlock()
	var all troubled
	for _, t := range st.trouble {
		switch {
		case (t.What == Hangs || t.What == Drops) && t.With == x.Tag:
			all.ends = t.What
		case t.What == Warns && t.With == x.Tag:
			all.warning = netconf.Fail("operation-failed", "", "this works, and is not what the maker recommends")
		case t.What == Refuses && x.Tag == "edit-config":
			if e := x.FindElement(".//" + t.With); e != nil {
				all.refusal = netconf.Fail("invalid-value", e.GetPath(), "this device does not take %s", t.With)
			}
		case t.What == Lacks:
			i := slices.IndexFunc(yang.Modules, func(m yang.Module) bool { return m.Name == t.With })
			if space := yang.Modules[i].Namespace; inside(x, space) {
				all.refusal = &netconf.Error{Type: "application", Tag: "unknown-namespace",
					Message: "there is nothing of " + t.With + " here", Info: map[string]string{"bad-namespace": space}}
			}
		}
	}
	return all
}

// inside reports whether an element, or one within it, is of a namespace.
func inside(x *etree.Element, space string) bool {
	return x.NamespaceURI() == space ||
		slices.ContainsFunc(x.ChildElements(), func(c *etree.Element) bool { return inside(c, space) })
}
