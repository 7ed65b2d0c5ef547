package sheet

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/site"
)

// searches says how a device asks a directory.
func searches(v blueprint.Server) string {
	d := v.Directory
	who := "it searches as nobody"
	if d.BindAs != "" {
		who = fmt.Sprintf("it searches as %s with the key %s", d.BindAs, v.Key)
	}
	security := map[string]string{"start": "StartTLS", "ldaps": "TLS from the start (ldaps)",
		"none": "no TLS: passwords cross the network in clear"}[d.Security]
	return fmt.Sprintf("below %s with %s, %s, %s", d.Base, d.Find, who, security)
}

// named says what a device needs to find servers that have a name in place of an
// address.
func named(v *site.Server) []Item {
	if _, err := netip.ParseAddr(v.Address); err == nil {
		return nil
	}
	return []Item{{Text: fmt.Sprintf(
		"%s is a name: see that the device asks a name service that answers at night too, or write the address in "+
			"its place. While no name service answers, %s is as good as silent.", v.Address,
		v.Name)}}
}

// sources returns the addresses from which the device asks, each once.
func (m *maker) sources() (all []string) {
	for _, v := range m.plan.Servers {
		if v.Source != "" && !slices.Contains(all, v.Source) {
			all = append(all, v.Source)
		}
	}
	if len(all) == 0 {
		all = append(all, m.plan.Source)
	}
	return all
}

// leaves says how requests leave for which servers, one item for those alike.
func (m *maker) leaves() (items []Item) {
	how, to := []string(nil), map[string][]string{}
	for _, v := range m.plan.Servers {
		text := v.Source
		if text == "" {
			text = "nowhere: the device has no address of its family"
		}
		if v.Interface != "" {
			text += ", the address of the interface " + v.Interface
		}
		if v.Network != "" {
			text += ", through the network " + v.Network
		}
		if to[text] == nil {
			how = append(how, text)
		}
		to[text] = append(to[text], v.Name)
	}
	for _, text := range how {
		which := "Requests come from "
		if len(how) > 1 {
			which = "Requests to " + strings.Join(to[text], ", ") + " come from "
		}
		items = append(items, Item{Text: which + text + "."})
	}
	return items
}
