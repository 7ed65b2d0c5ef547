package findings

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
		if cs.Outcome != walk.OutcomeOpen || always[cs.Way] {
			continue
		}
		step := lastStep(cs, site.Login)
		f := Finding{Devices: sh.Devices, Access: []string{cs.Way.Name()}, Place: step.Method.Place}
		list := step.List
		outage := slices.ContainsFunc(cs.When, func(w foresee.Condition) bool { return w.State == foresee.Down })
		switch {
		case list == nil:
			f.Code, f.Place = "open-built-in", cs.Way.Place
			f.Text = "Anyone gets in: the way in has no login list, and devices of this platform then ask for nothing."
			f.Repair = "give the way in a login list, or the device a default one"
			always[cs.Way] = true
		case outage:
			f.Code = "open-when-silent"
			f.Text = fmt.Sprintf("%s anyone gets in with any name and password: the list %s reaches none.",
				upper(when(cs)),
				list.Name)
			f.Repair = "put local in place of none, and a local account on the device"
			if hasLocal(cs.Device, cs.Way) {
				f.Repair = "take none out of the list, which asks local already"
			}
		default:
			f.Code = "open-always"
			f.Text = fmt.Sprintf("Anyone gets in, with every server up: the list %s reaches none.", list.Name)
			f.Repair = "take none out of the list"
			always[cs.Way] = true
		}
		c.add(f)
	}
}

// sharedLogin looks for logins by a secret that many share: nobody knows who it was.
func sharedLogin(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		step := lastStep(cs, site.Login)
		if step.Method.Kind != site.BySecret || step.Result != walk.Accepted {
			continue
		}
		c.add(Finding{Code: "shared-login", Devices: sh.Devices, Access: []string{cs.Way.Name()},
			Place: step.Method.Place,
			Text: fmt.Sprintf("%s the list %s takes %s in place of a person's password: whoever knows it is in "+
				"under any name, and no record says who it was.", upper(when(cs)), step.List.Name, step.Method),
			Repair: "put local in its place, with an account; or accept this for the devices that can do no better"})
	}
}

// clearTextWay looks for a way in that sends passwords in clear.
func clearTextWay(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		if cs.Way.Access == site.Telnet && (cs.Outcome == walk.OutcomeIn || cs.Outcome == walk.OutcomeLow) {
			c.add(Finding{Code: "clear-text-way", Devices: sh.Devices, Access: []string{cs.Way.Name()},
				Place:  cs.Way.Place,
				Text:   "Telnet is open: names, passwords and everything typed cross the network in clear.",
				Repair: "write telnet: off, and use ssh"})
		}
	}
}
