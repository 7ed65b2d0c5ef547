package findings

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// unheard looks for servers that are up and never answer a device: because of
// its key, its address, its ports, or what they are for.
func unheard(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		for _, step := range cs.Steps {
			for _, t := range step.Tries {
				if state(cs, t.Server) == foresee.Up {
					c.unheardServer(sh, cs, step, t.Server, t.Reply.Reason)
				}
			}
		}
	}
}

func state(cs foresee.Case, s *site.Server) foresee.State {
	for _, w := range cs.When {
		if w.Server == s {
			return w.State
		}
	}
	return foresee.Up
}

func (c *checker) unheardServer(sh foresee.Shape, cs foresee.Case, step walk.Step, s *site.Server, why reason.Reason) {
	d := cs.Device
	f := Finding{Devices: sh.Devices, Access: []string{cs.Way.Name()}}
	switch why {
	case reason.KeyDiffers:
		held := d.Key(s)
		f.Code, f.Place = "key-differs", d.Found.Keys[s].KeyRef.Place
		how := c.reckoner.Keys[held.Name].Difference(c.reckoner.Keys[d.Shares(s).Name])
		if _, known := c.reckoner.Keys[held.Name]; !known || how == "" {
			how = "its value cannot be read here, so it counts as another key"
		}
		f.Text = fmt.Sprintf("The device holds the key %s for %s, and the server has %s: %s. The server never "+
			"answers this device in a way that it can read.", held.Name, s.Name, d.Shares(s).Name, how)
		f.Repair = fmt.Sprintf("put the key %s on the device, then take %q out of found", d.Shares(s).Name,
			s.Name+": "+held.Name)
	case reason.ClientUnknown:
		f.Code, f.Place = "client-unknown", d.Found.Place
		f.Text = fmt.Sprintf("The device asks from %s, and %s knows it as %s: it does not answer an address that "+
			"it does not know.", d.Asks(), s.Name, d.Source)
		f.Repair = fmt.Sprintf("have the device ask from %s, or write source: %s and take source out of found",
			d.Source,
			d.Asks())
	case reason.WrongPort:
		authentication, accounting, place := d.Ports(s)
		f.Code, f.Place = "ports-differ", place
		f.Text = fmt.Sprintf("The device asks %s at the ports %d and %d, and the server listens at %d and %d: %s "+
			"is never answered.",
			s.Name, authentication, accounting, s.AuthenticationPort, s.AccountingPort, asks(step.Purpose))
		f.Repair = fmt.Sprintf("write ports: {authentication: %d, accounting: %d} at the server and set them on "+
			"the device, or change the server's", s.AuthenticationPort, s.AccountingPort)
	case reason.NoSource:
		p := d.Path(s)
		f.Code, f.Place = "no-source", placeOf(d)
		f.Text = fmt.Sprintf("%s is at %s, and the device has no address of that family to ask from: it never asks it.",
			s.Name, s.Address)
		f.Repair = fmt.Sprintf("give the device one: source: [%s, ADDRESS]; or give the server an address of the "+
			"other family", d.Source)
		if p.Interface != "" {
			f.Repair = fmt.Sprintf("say its address too: interfaces: {%s: [..., ADDRESS]}; or give the server an "+
				"address of the other family", p.Interface)
		}
	case reason.NotForThis:
		f.Code, f.Place = "not-for-this", s.Place
		f.Text = fmt.Sprintf("The list %s asks %s, which is not for %s: it never answers that.", listName(step.List),
			s.Name,
			asks(step.Purpose))
		f.Repair = fmt.Sprintf("add the use to for: of %s, or ask a group without it", s.Name)
	default:
		return
	}
	c.add(f)
}

func listName(l *site.List) string {
	if l == nil {
		return "(built in)"
	}
	return l.Name
}

// asks is a purpose as a kind of question.
func asks(p site.Purpose) string {
	switch {
	case p == site.Login || p == site.Elevation:
		return "authentication"
	case p.Records():
		return "accounting"
	}
	return "authorization"
}

// sourceUnset looks for devices that may ask from one address or another.
func sourceUnset(c *checker, sh foresee.Shape) {
	if len(sh.Servers()) == 0 {
		return
	}
	for _, d := range sh.Devices {
		if slices.ContainsFunc(sh.Servers(), d.AnySource) {
			c.add(Finding{Code: "source-unset", Devices: []*site.Device{d}, Place: d.Place,
				Text: "The device has several addresses and no fixed source: its requests come from whichever " +
					"faces the server, and the server knows one.",
				Repair: "write source: ADDRESS, and set it on the device"})
		}
	}
}

// clearInFile looks for keys whose value stands in the site file.
func clearInFile(c *checker) {
	s := c.reckoner.Site
	for _, k := range s.Keys {
		if k.Source != site.KeyClear {
			continue
		}
		f := Finding{Code: "clear-in-file", Place: k.Place,
			Text: fmt.Sprintf("The key %s stands in clear in the site file: whoever reads the file has it.", k.Name),
			Repair: fmt.Sprintf("write %s: sealed and run: mellowgate keys seal %[1]s; or %[1]s: file keys/%[1]s, "+
				"or %[1]s: env VARIABLE", k.Name)}
		if s.Lab.Only {
			f.Severity = Note
		}
		c.add(f)
	}
}

// exposed reports files with secrets that others can read.
func exposed(c *checker) {
	if c.reckoner.Site.Lab.Only {
		return
	}
	for _, e := range c.facts.Exposed {
		c.add(Finding{Code: "readable-by-others", Place: e.Place,
			Text:   fmt.Sprintf("Others on this machine can read %s (%s), which holds secrets.", e.Path, e.Mode),
			Repair: "chmod o= " + e.Path})
	}
}

// keyStrength looks at the values of the keys that servers use.
func keyStrength(c *checker) {
	s := c.reckoner.Site
	with := map[site.Secret][]*site.Server{}
	counted := 0
	seen := map[*site.Key]bool{}
	for _, v := range s.Servers {
		if v.Key == nil {
			continue
		}
		value, known := c.reckoner.Keys[v.Key.Name]
		if !known {
			continue
		}
		counted++
		with[value] = append(with[value], v)
		if why := weakness(value, s); why != "" && !seen[v.Key] {
			seen[v.Key] = true
			c.add(Finding{Code: "key-weak", Place: v.Key.Place,
				Text: fmt.Sprintf("The key %s %s: who records one exchange can find it by trying.", v.Key.Name, why),
				Repair: "make a new one: mellowgate keys make; and bring it in without an outage: mellowgate keys " +
					"change " +
					v.Key.Name + " begin"})
		}
	}
	for _, servers := range with {
		if len(with) == 1 && counted > 2 {
			c.add(Finding{Code: "key-everywhere", Place: servers[0].Key.Place,
				Text: fmt.Sprintf("All %d servers have one key: who learns it on one device can play every server "+
					"to every device.", counted),
				Repair: "give each server, or each place, a key of its own"})
		}
	}
}

// commonWords are the words of keys and passwords that are tried first.
var commonWords = []string{"password", "secret", "admin", "administrator", "radius", "tacacs", "network", "switch",
	"router", "letmein", "welcome",
	"changeme", "default", "test", "testing", "qwerty", "master", "shared", "sharedsecret", "company", "spring",
	"summer",
	"autumn", "winter",
	"monday", "dragon", "monkey", "football", "sunshine", "princess", "access", "manager", "service", "server",
	"internet",
	"security", "login"}

var wordAndDigits = regexp.MustCompile(`^([A-Za-z]+)[0-9]*[!?.$#@]*$`)

// weakness says why a key is weak, "" when it is not.
func weakness(value site.Secret, s *site.Site) string {
	text := value.Reveal()
	distinct := map[rune]bool{}
	n := 0
	for _, r := range text {
		distinct[r] = true
		n++
	}
	if n < 16 {
		return fmt.Sprintf("has %d characters, and 16 are the least", n)
	}
	if len(distinct) < 6 {
		return fmt.Sprintf("has only %d different characters", len(distinct))
	}
	if m := wordAndDigits.FindStringSubmatch(text); m != nil &&
		madeOf(strings.ToLower(m[1]), append(strings.Fields(strings.ToLower(s.Name)), commonWords...)) {
		return "is made of common words and digits"
	}
	return ""
}

// madeOf reports whether a text is nothing but words of a list, one after
// another.
func madeOf(text string, words []string) bool {
	whole := make([]bool, len(text)+1) // whole[n]: the first n octets are
	whole[0] = true
	for n := range text {
		for _, w := range words {
			if whole[n] && w != "" && strings.HasPrefix(text[n:], w) {
				whole[n+len(w)] = true
			}
		}
	}
	return whole[len(text)]
}

// weakAccounts reports the accounts whose password was guessed.
func weakAccounts(c *checker) {
	for _, a := range c.reckoner.Site.Accounts {
		if what, guessed := c.facts.Guessed[a]; guessed {
			c.add(Finding{Code: "weak-account", Place: a.Password.Place,
				Text: fmt.Sprintf("The password of the account %s is %s: it opens every device that has the account.",
					a.Name,
					what),
				Repair: "make a new password and its hash: mellowgate keys hash"})
		}
	}
}

// mostShared is on how many devices an account may be before it is worth a
// note.
const mostShared = 25

// sharedFallback looks for one account on very many devices.
func sharedFallback(c *checker) {
	on := map[*site.Account]int{}
	for _, d := range c.reckoner.Site.Devices {
		for _, a := range d.Accounts {
			on[a]++
		}
	}
	for _, a := range c.reckoner.Site.Accounts {
		if on[a] > mostShared && !a.Password.None {
			c.add(Finding{Code: "shared-fallback", Place: a.Place,
				Text: fmt.Sprintf("One hash of the account %s is on %d devices: whoever learns it from one opens all.",
					a.Name,
					on[a]),
				Repair: "give each place an account with a password of its own"})
		}
	}
}
