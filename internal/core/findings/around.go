package findings

import (
	"fmt"
	"net/netip"
	"strings"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

// fromLeftOut looks for ways in that anybody may open beside one that is limited.
func fromLeftOut(c *checker, sh foresee.Shape) {
	var limited, free []string
	place := site.Place{}
	for _, w := range sh.Devices[0].Ways {
		switch {
		case !w.OverNetwork():
		case len(w.From) > 0:
			limited = append(limited, w.Name())
		default:
			if free = append(free, w.Name()); len(free) == 1 {
				place = w.Place
			}
		}
	}
	if len(limited) == 0 || len(free) == 0 {
		return
	}
	c.add(Finding{Code: "from-left-out", Devices: sh.Devices, Access: free, Place: place,
		Text: fmt.Sprintf("Only some addresses may open %s, and every address may open %s: whoever is kept out "+
			"there tries here.", strings.Join(limited, ", "), strings.Join(free, ", ")),
		Repair: "say who may open it: from: [NETWORK]; or off where nobody needs it"})
}

// oldSSH looks for ways in that take version 1 of SSH.
func oldSSH(c *checker, sh foresee.Shape) {
	for _, w := range sh.Devices[0].Ways {
		if w.SSH.Version1 {
			c.add(Finding{Code: "ssh-version-1", Devices: sh.Devices, Access: []string{w.Name()}, Place: w.Place,
				Text:   "It takes version 1 of SSH too, which whoever is on the way can read and change.",
				Repair: "write versions: 2, once every client speaks it"})
		}
	}
}

// shutWhenSwitchedOn looks for devices that nobody gets into between the moment at
// which central logins are switched on and that at which the first list is in use.
func shutWhenSwitchedOn(c *checker, sh foresee.Shape) {
	d := sh.Devices[0]
	if t := d.Platform.Behaviour; !t.SwitchedOn || t.BuiltInLogin != site.ByLocal || len(d.Logins()) > 0 {
		return
	}
	c.add(Finding{Code: "shut-when-switched-on", Devices: sh.Devices, Place: placeOf(d),
		Text: "When central logins are switched on, every way in asks for a local account until its list is in " +
			"use, and the device has none that anybody can log in with: nobody gets in then.",
		Repair: "name an account of level 15 with a password in accounts of the device or its profile"})
}

// hangsOnNames looks for servers that devices find by a name.
func hangsOnNames(c *checker) {
	asked := map[*site.Server]bool{}
	for _, d := range c.reckoner.Site.Devices {
		for _, s := range d.Asked() {
			asked[s] = true
		}
	}
	for _, s := range c.reckoner.Site.Servers {
		if _, err := netip.ParseAddr(s.Address); err == nil || !asked[s] {
			continue
		}
		c.add(Finding{Code: "hangs-on-names", Place: s.Place,
			Text: fmt.Sprintf("Devices find %s by the name %s: while no name service answers them, it is as good "+
				"as silent, and the wait for the name comes on top.", s.Name, s.Address),
			Repair: "write its address; a name is safe only where the device keeps names itself"})
	}
}
