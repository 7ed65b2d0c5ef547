package findings

import (
	"fmt"
	"net/netip"
	"slices"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// localFirst looks for local accounts that pass servers by that are up.
func localFirst(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		list, named := cs.Device.LoginList(cs.Way, cs.Who.Typed())
		if cs.Who.Kind != foresee.Local || !named || cs.Outcome == walk.OutcomeRefused {
			continue
		}
		step := lastStep(cs, site.Login)
		index := slices.IndexFunc(list.Methods, func(m site.Method) bool { return m.Place == step.Method.Place })
		later := index >= 0 && slices.ContainsFunc(list.Methods[index:],
			func(m site.Method) bool { return m.Kind == site.ByGroup })
		if step.Method.Kind == site.ByLocal && later {
			c.add(Finding{Code: "local-first", Devices: sh.Devices, Access: []string{cs.Way.Name()},
				Place: step.Method.Place,
				Text: fmt.Sprintf("The list %s asks local before the servers: the account %s gets in past them, "+
					"unseen by them.",
					list.Name, cs.Who.Typed()),
				Repair: "put local behind the groups"})
		}
	}
}

// linesLeftOut looks for lines whose login list is another one than that of
// the lines beside them, because they name none.
func linesLeftOut(c *checker, sh foresee.Shape) {
	d := sh.Devices[0]
	for _, access := range []string{site.SSH, site.Telnet} {
		var named *site.Way
		for _, w := range d.Ways {
			if w.Access == access && w.HasLines && w.Origins[site.Login] == site.Own {
				named = w
			}
		}
		if named == nil {
			continue
		}
		covered := 0
		for _, w := range d.Ways {
			if w.Access != access || !w.HasLines {
				continue
			}
			covered += w.Lines.High - w.Lines.Low + 1
			if w.Origins[site.Login] != site.Own && w.Lists[site.Login] != named.Lists[site.Login] {
				c.add(Finding{Code: "lines-left-out", Devices: sh.Devices, Access: []string{w.Name()}, Place: w.Place,
					Text: fmt.Sprintf("Lines %s of %s name no login list and take %s, while lines %s use %s: who "+
						"lands on which line decides who gets in.", w.Lines, access, takes(w, d), named.Lines,
						named.Lists[site.Login].Name),
					Repair: "name the list at these lines too: login: " + named.Lists[site.Login].Name})
			}
		}
		if all := d.Platform.Behaviour.Lines; covered < all.High-all.Low+1 {
			c.add(Finding{Code: "lines-left-out", Devices: sh.Devices, Access: []string{access}, Place: named.Place,
				Text: fmt.Sprintf("Devices of the platform %s have lines %s, and %s says something of %d of them: the "+
					"others keep what is on the device.", d.Platform.Name, all, access, covered),
				Repair: fmt.Sprintf("write lines: %s, or a second entry for the rest", all)})
		}
	}
}

func takes(w *site.Way, d *site.Device) string {
	if l := w.Lists[site.Login]; l != nil {
		return "the device-wide " + l.Name
	}
	return "the platform's built-in login (" + string(d.Platform.Behaviour.BuiltInLogin) + ")"
}

// defaultSurprise looks for consoles that a device-wide list governs, unsaid.
func defaultSurprise(c *checker, sh foresee.Shape) {
	w := sh.Devices[0].Way(site.Console)
	if w == nil || w.Origins[site.Login] != site.Default || len(w.Lists[site.Login].Servers()) == 0 {
		return
	}
	list := w.Lists[site.Login]
	c.add(Finding{Code: "default-surprise", Devices: sh.Devices, Access: []string{w.Name()}, Place: list.Place,
		Text: fmt.Sprintf("The device-wide list %s also governs the console, which is the last way in, and nothing "+
			"says that this is meant.", list.Name),
		Repair: fmt.Sprintf("say it: console: {login: %s} under access; or give the console a list of its own",
			list.Name)})
}

// reach notes which methods of a list any case came to.
func reach(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		for _, step := range cs.Steps {
			if step.List == nil {
				continue
			}
			for i, m := range step.List.Methods {
				if m.Place == step.Method.Place && i < 64 {
					c.reached[step.List] |= 1 << i
				}
			}
		}
	}
}

// deadMethods reports methods that no case came to, of lists that were walked.
func deadMethods(c *checker) {
	for _, l := range c.reckoner.Site.Lists {
		walked, known := c.reached[l]
		if !known {
			continue
		}
		for i, m := range l.Methods {
			if i > 0 && i < 64 && walked&(1<<i) == 0 && l.Methods[i-1].Kind != site.ByGroup {
				c.add(Finding{Code: "dead-method", Place: m.Place,
					Text: fmt.Sprintf("The method %s of the list %s is never reached: %s before it always decides.", m,
						l.Name,
						l.Methods[i-1]),
					Repair: "take it out, or put it before " + l.Methods[i-1].String()})
			}
		}
	}
}

// badAcceptance reports acceptances of findings that do not exist.
func badAcceptance(c *checker) {
	for _, a := range c.reckoner.Site.Accepted {
		if _, known := severities[a.Code]; !known {
			c.add(Finding{Code: "unused", Place: a.Place,
				Text:   fmt.Sprintf("accept names the finding %q, and there is none of that name.", a.Code),
				Repair: "look the name up: mellowgate check -explain all"})
		}
	}
}

// sharedFate looks for devices whose servers all are on them or behind them. They
// are alike to every login, so each device of a shape is looked at.
func sharedFate(c *checker, sh foresee.Shape) {
	asked := sh.Devices[0].Servers()
	if len(asked) == 0 {
		return
	}
	at := map[*site.Server]netip.Addr{} // the zero Addr where a name stands for it
	for _, s := range asked {
		at[s], _ = netip.ParseAddr(s.Address)
	}
	for _, d := range sh.Devices {
		bound := func(s *site.Server) bool {
			return slices.Contains(d.Addresses, at[s]) ||
				slices.ContainsFunc(s.Behind, func(r site.Ref) bool { return r.Name == d.Name })
		}
		if slices.ContainsFunc(asked, func(s *site.Server) bool { return !bound(s) }) {
			continue
		}
		c.add(Finding{Code: "shared-fate", Devices: []*site.Device{d}, Place: d.Place,
			Text: fmt.Sprintf("Every server that %s asks (%s) is on it or behind it: when the device is in "+
				"trouble, so is the way to them, and only local accounts get in.", d.Name, join(serverNames(asked))),
			Repair: "let it ask a server that is reached another way too; or accept this, with a local account " +
				"that is tried"})
	}
}
