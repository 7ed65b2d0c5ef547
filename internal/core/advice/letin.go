package advice

import (
	"fmt"
	"slices"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// open looks for logins without valid credentials.
func open(c *checker, sh foresee.Shape) {
	always := map[*site.Way]bool{} // no need to say that it is open in outages too
	for _, cs := range sh.Cases {
		if cs.Outcome != foresee.Open || always[cs.Way] {
			continue
		}
		step := lastStep(cs, site.Login)
		f := Finding{Devices: sh.Devices, Access: []string{cs.Way.Name()}, Place: step.Method.Place}
		list := cs.Way.Lists[site.Login]
		outage := slices.ContainsFunc(cs.When, func(w foresee.Condition) bool { return w.State == foresee.Down })
		switch {
		case list == nil:
			f.Code, f.Place = "open-built-in", cs.Way.Place
			f.Text = "Anyone gets in: the way in has no login list, and devices of this kind then ask for nothing."
			f.Repair = "give the way in a login list, or the device a default one"
			always[cs.Way] = true
		case outage:
			f.Code = "open-when-silent"
			f.Text = fmt.Sprintf("%s anyone gets in with any name and password: the list %s comes to none.", upper(when(cs)), list.Name)
			f.Repair = "put local in place of none, and a local account on the device"
		default:
			f.Code = "open-always"
			f.Text = fmt.Sprintf("Anyone gets in, with every server up: the list %s comes to none.", list.Name)
			f.Repair = "take none out of the list"
			always[cs.Way] = true
		}
		c.add(f)
	}
}

// keyDiffers looks for servers that are up and yet unreadable for a device
// because its key is another one.
func keyDiffers(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		for _, step := range cs.Steps {
			for _, t := range step.Tries {
				if t.Reply.Reason != walk.KeyDiffers {
					continue
				}
				held := cs.Device.Holds.Keys[t.Server]
				how := c.reckoner.Keys[held.Key.Name].Difference(c.reckoner.Keys[t.Server.Key.Name])
				if _, known := c.reckoner.Keys[held.Key.Name]; !known || how == "" {
					how = "its value cannot be read here, so it counts as another key"
				}
				c.add(Finding{Code: "key-differs", Devices: sh.Devices, Access: []string{cs.Way.Name()}, Place: held.KeyRef.Place,
					Text: fmt.Sprintf("The device holds the key %s for %s, and the server has %s: %s. The server never answers this device in a way that it can read.",
						held.Key.Name, t.Server.Name, t.Server.Key.Name, how),
					Repair: fmt.Sprintf("put the key %s on the device, then take %q out of holds", t.Server.Key.Name, t.Server.Name+": "+held.Key.Name)})
			}
		}
	}
}

// clearTextWay looks for a way in that sends passwords in clear.
func clearTextWay(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		if cs.Way.Access == site.Telnet && (cs.Outcome == foresee.In || cs.Outcome == foresee.Low) {
			c.add(Finding{Code: "clear-text-way", Devices: sh.Devices, Access: []string{cs.Way.Name()}, Place: cs.Way.Place,
				Text:   "Telnet is open: names, passwords and everything typed cross the network in clear.",
				Repair: "write telnet: off, and use ssh"})
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
			Text:   fmt.Sprintf("The key %s stands in clear in the site file: whoever reads the file has it.", k.Name),
			Repair: fmt.Sprintf("write %s: file keys/%s (a file that only you can read), or %s: env VARIABLE", k.Name, k.Name, k.Name)}
		if s.Lab.Only {
			f.Severity = Note
		}
		c.add(f)
	}
}
