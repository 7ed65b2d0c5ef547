package sheet

import (
	"fmt"
	"net/netip"
	"strings"

	"mellowgate/internal/core/site"
)

// switchOn is the moment at which the device begins to ask lists at all.
func (m *maker) switchOn() Section {
	behaviour := m.device.Platform.Behaviour
	if !behaviour.SwitchedOn {
		return Section{}
	}
	does := map[site.MethodKind]string{site.ByLocal: "asks for a local account",
		site.ByNone:       "asks for NOTHING: cut the device off from others until the lists are in use",
		site.LinePassword: "asks for the password of its line"}
	var ways []string
	for _, w := range m.device.Ways {
		ways = append(ways, w.Name())
	}
	return Section{Title: "Switch central logins on",
		Why: "Lists can be made only then, and every way in changes at that moment, before any list is in use.",
		Items: []Item{{Text: fmt.Sprintf("Switch them on. From that moment each of %s %s. Sessions that are open stay.",
			strings.Join(ways, ", "), does[behaviour.BuiltInLogin])},
			{Text: "Before you go on, get in once more from a second session, by the way in that is changed first."}}}
}

// opens is what a way in needs before it is opened at all.
func (m *maker) opens() Section {
	s := Section{Title: "Before ssh is used", Why: "Without a key of its own the device opens no ssh."}
	for _, w := range m.device.Ways {
		if w.SSH.HostKey != "" {
			s.Items = append(s.Items, Item{Text: fmt.Sprintf(
				"Make a key for the device: %s. Note its fingerprint, to compare it at the first login.",
				keyOf[w.SSH.HostKey])})
		}
		if w.Access == site.SSH && (w.SSH != site.SSHWay{}) {
			versions := "Let ssh speak version 2 only."
			if w.SSH.Version1 {
				versions = "Let ssh speak the versions 1 and 2. Version 1 can be read on the way: see check."
			}
			s.Items = append(s.Items, Item{Text: versions})
		}
		if len(s.Items) > 0 {
			return s // one key and one version for all lines
		}
	}
	return Section{}
}

var keyOf = map[string]string{"ed25519": "Ed25519", "ecdsa": "ECDSA, P-256 or longer", "rsa": "RSA, 3072 bits or more"}

// limits is who may open the ways in: it can shut out whoever sets it.
func (m *maker) limits() Section {
	s := Section{Title: "Who may open the ways in",
		Why: "After all else works, because this can shut you out: the open session stays until it is tried."}
	for _, w := range m.device.Ways {
		if len(w.From) > 0 {
			s.Items = append(s.Items, Item{Text: fmt.Sprintf(
				"Let %s be opened from %s only.", w.Name(), prefixes(w.From))})
		}
	}
	if len(s.Items) > 0 {
		s.Items = append(s.Items, Item{Text: "From one of these addresses: log in once more by each. From another: " +
			"it must not open."})
	}
	return s
}

func prefixes(all []netip.Prefix) string {
	names := make([]string, len(all))
	for i, p := range all {
		names[i] = p.String()
	}
	return strings.Join(names, ", ")
}

// restarts is what makes pages take their lists, where a platform needs it.
func (m *maker) restarts(w *site.Way) []Item {
	if !m.device.Platform.Behaviour.PagesRestart || w.Access != site.Web && w.Access != site.API {
		return nil
	}
	return []Item{{Text: fmt.Sprintf("Start the service of %s again: it takes the lists only then, and open pages end.",
		w.Name())}}
}
