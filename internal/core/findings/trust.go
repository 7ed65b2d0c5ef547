package findings

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
)

// endsSoon is how long before its end a certificate is reported.
const endsSoon = 30 * 24 * time.Hour

// certificates looks at those of servers over TLS.
func certificates(c *checker) {
	for _, shown := range c.facts.Shown {
		place := shown.Server.Certificates.Place
		left := shown.Ends.Sub(c.reckoner.Now)
		switch {
		case shown.Problem != "":
			c.add(Finding{Code: "certificate-unusable", Place: place,
				Text:   fmt.Sprintf("No device can ask %s over TLS: %s.", shown.Server.Name, shown.Problem),
				Repair: "put a certificate that is good, its key and its authorities in these files"})
			continue
		case !shown.Ends.IsZero() && left < endsSoon:
			c.add(Finding{Code: "certificate-ends-soon", Place: place,
				Text: fmt.Sprintf("The certificate of %s ends on %s, in %d days; from then on no device takes it.",
					shown.Server.Name, shown.Ends.UTC().Format(time.DateOnly), int(left.Hours()/24)),
				Repair: "have it made anew before; serve takes the new file by itself"})
		}
		if !shown.Names {
			c.add(Finding{Code: "certificate-names-nobody", Place: place,
				Text: fmt.Sprintf("The certificate of %s bears %s, and neither the server's name nor its address "+
					"%s: a device that looks refuses it.", shown.Server.Name, shown.Bears, shown.Server.Address),
				Repair: fmt.Sprintf("have it made with the DNS name %s or the address %s", shown.Server.Name,
					shown.Server.Address)})
		}
	}
}

// rulesThatCanBePassed looks for rules that refuse something before one that
// allows everything: a device that takes shortened words, and sends them so, lets
// them past.
func rulesThatCanBePassed(c *checker) {
	for _, r := range c.reckoner.Site.Roles {
		for i, rule := range r.Commands {
			if rule.Allow || !slices.ContainsFunc(r.Commands[i:], allowsAll) {
				continue
			}
			line, passes := passing(r, rule)
			if !passes {
				continue
			}
			c.add(Finding{Code: "rule-can-be-passed", Place: rule.Place,
				Text: fmt.Sprintf("The rule %q can be passed where a device takes shortened words and sends them "+
					"as typed: %q is allowed by the rule after it.", rule.Text, line),
				Repair: "allow what may be used, and leave out allow **: what no rule allows is refused"})
		}
	}
}

func allowsAll(r site.Rule) bool { return r.Allow && len(r.Words) == 1 && r.Words[0] == "**" }

// passing returns a line that means what a rule refuses, and is allowed.
func passing(r *site.Role, refuses site.Rule) (string, bool) {
	for index, w := range refuses.Words {
		if len(w) < 2 || w == "**" {
			continue
		}
		args := []string{}
		for i, word := range refuses.Words {
			switch {
			case word == "**":
				continue
			case word == "*":
				word = "x"
			case i == index:
				word = word[:len(word)-1]
			}
			args = append(args, word)
		}
		for _, rule := range r.Commands {
			if rights.Applies(rule, args, r.Exact) {
				if rule.Allow {
					return strings.Join(args, " "), true
				}
				break
			}
		}
	}
	return "", false
}

// clearTextDirectory reports directories that are asked without TLS.
func clearTextDirectory(c *checker) {
	for _, d := range c.reckoner.Site.Servers {
		if d.Protocol == site.LDAP && d.Directory.Security == "none" {
			c.add(Finding{Code: "clear-text-directory", Place: d.Place,
				Text: fmt.Sprintf("The directory %s is asked without TLS: every password of its people crosses the "+
					"network in clear.", d.Name),
				Repair: "write tls: start, or tls: ldaps"})
		}
	}
}

// shadowedClients reports entries of clients that a device stands before.
func shadowedClients(c *checker) {
	s := c.reckoner.Site
	for _, client := range s.Clients {
		for _, d := range s.Devices {
			for _, v := range client.Servers {
				if from := d.Path(v).Source; from.IsValid() && client.Covers(from, v) && client.Key != v.Key {
					c.add(Finding{Code: "client-shadowed", Place: client.Place,
						Text: fmt.Sprintf("The entry covers %s, from which %s asks %s: the device counts, with the "+
							"key of the server, and not the key of this entry.", from, d.Name, v.Name),
						Repair: "leave the device's address out of the entry, or take the device out"})
				}
			}
		}
	}
}

// samePlace reports servers that would run at one address and port.
func samePlace(c *checker) {
	type place struct {
		address string
		port    uint16
		tcp     bool
	}
	first := map[place]*site.Server{}
	for _, v := range c.reckoner.Site.Servers {
		if _, err := netip.ParseAddr(v.Address); err != nil || v.Protocol == site.LDAP {
			continue
		}
		ports := []uint16{v.Port}
		if v.TwoPorts() {
			ports = []uint16{v.AuthenticationPort, v.AccountingPort}
		}
		for _, port := range ports {
			at := place{address: v.Address, port: port, tcp: v.Secured() || v.Protocol == site.TACACS}
			if other := first[at]; other != nil && other != v {
				c.add(Finding{Code: "same-port", Place: v.Place,
					Text: fmt.Sprintf("%s and %s have the address %s and the port %d: only one of them can run there.",
						other.Name,
						v.Name, v.Address, port),
					Repair: "give one of them another address or port"})
				break
			}
			first[at] = v
		}
	}
}
