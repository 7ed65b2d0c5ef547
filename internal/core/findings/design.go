package findings

import (
	"fmt"
	"slices"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// sameName looks for a local account and a person of one name: which password
// works then depends on the servers.
func sameName(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		p := cs.Who.Person()
		if cs.Who.Kind != foresee.Local || p == nil || cs.Outcome == walk.OutcomeRefused {
			continue
		}
		a := cs.Device.Account(cs.Who.Typed())
		f := Finding{Code: "same-name", Devices: sh.Devices, Access: []string{cs.Way.Name()}, Place: a.Place,
			Text: fmt.Sprintf("%s is a local account and a person (%s): %s the local password works, else the "+
				"person's.",
				a.Name, c.reckoner.Site.Where(p.Place), when(cs)),
			Repair: "give the local account a name that nobody bears"}
		if a.Password.Same(p.Password) {
			f.Text = fmt.Sprintf(
				"%s is a local account and a person (%s), with one password: who has the person's password has the "+
					"way back in too, and a new one must be set in both places.", a.Name,
				c.reckoner.Site.Where(p.Place))
			f.Repair = "give the local account a name that nobody bears, and a password of its own"
		}
		c.add(f)
	}
}

// notRecorded looks for commands that people can type and no server records.
func notRecorded(c *checker, sh foresee.Shape) {
	reached := map[*site.Way]int{}
	noted := map[*site.Way]bool{}
	for _, cs := range sh.Cases {
		if cs.Outcome == walk.OutcomeRefused || cs.Stuck || cs.Who.Kind != foresee.Known {
			continue
		}
		reached[cs.Way] = max(reached[cs.Way], cs.Level)
		noted[cs.Way] = noted[cs.Way] || cannotRecord(cs)
	}
	for _, w := range sh.Devices[0].Ways {
		level, used := reached[w]
		if !used || level == 0 {
			continue
		}
		list := w.Lists[site.RecordCommands]
		f := Finding{Code: "not-recorded", Devices: sh.Devices, Access: []string{w.Name()}, Place: w.Place}
		switch {
		case list == nil:
			f.Text = fmt.Sprintf("People reach level %d, and no command typed by this way in is recorded.", level)
			f.Repair = "add record-commands with a list that says account: commands"
			if !slices.ContainsFunc(sh.Devices[0].Servers(),
				func(s *site.Server) bool { return s.Protocol == site.TACACS && s.Serves(site.RecordCommands) }) {
				f.Text = fmt.Sprintf("People reach level %d, and no command typed by this way in is recorded: no "+
					"TACACS+ server is asked there, and RADIUS and directories have no records of commands.", level)
				f.Repair = "let the devices ask TACACS+ servers and add record-commands; or accept this, with the " +
					"reason: accept: [{code: not-recorded, device: NAME, why: WHY}]"
			}
		case noted[w]:
			f.Place = list.Place
			f.Text = fmt.Sprintf("The list %s asks RADIUS servers only, and RADIUS has no records of commands.",
				list.Name)
			f.Repair = "record commands by a group of TACACS+ servers"
		case list.Levels.Low > 1 || list.Levels.High < level:
			f.Place = list.Place
			f.Text = fmt.Sprintf("People reach level %d, and the list %s records only commands of %s: the others "+
				"leave no record.", level, list.Name, levelsText(list.Levels))
			f.Repair = "write levels: 0-15"
		default:
			continue
		}
		c.add(f)
	}
}

func levelsText(r site.Range) string {
	if r.Low == r.High {
		return "level " + r.String()
	}
	return "levels " + r.String()
}

// cannotRecord reports whether all servers are up and the record still fails
// because the protocol does not carry it.
func cannotRecord(c foresee.Case) bool {
	last := lastStep(c, site.RecordCommands)
	return last.Result == walk.Unavailable && last.Reason == reason.NotCarried
}

// oneServer looks for logins that hang on one server: with that one silent
// nobody whom only servers know gets in.
func oneServer(c *checker, sh foresee.Shape) {
	for _, w := range sh.Devices[0].Ways {
		list := w.Lists[site.Login]
		servers := list.Servers()
		if len(servers) != 1 {
			continue
		}
		hangs := slices.ContainsFunc(sh.Cases, func(cs foresee.Case) bool {
			return cs.Way == w && cs.Who.Kind == foresee.Known && cs.Outcome == walk.OutcomeRefused &&
				slices.Contains(cs.When, foresee.Condition{Server: servers[0], State: foresee.Down})
		})
		if hangs {
			c.add(Finding{Code: "one-server", Devices: sh.Devices, Access: []string{w.Name()}, Place: list.Place,
				Text: fmt.Sprintf("The list %s has one server: when %s is silent, nobody but local accounts gets in.",
					list.Name,
					servers[0].Name),
				Repair: "add a second server to the group, or a second group before local"})
		}
	}
}

// unused looks for what nothing uses.
func unused(c *checker) {
	s := c.reckoner.Site
	used := map[any]bool{}
	for _, d := range s.Devices {
		used[d.Platform], used[d.Profile] = true, true
		for _, v := range s.Servers {
			if own := d.Shares(v); own != nil {
				used[own] = true
			}
		}
		for _, h := range d.Found.Keys {
			used[h.Key] = true
		}
		for v := range d.Found.Ports {
			used[v] = true
		}
		for _, a := range d.Accounts {
			used[a], used[a.Password.Key] = true, true
			if a.Login != nil {
				used[a.Login.Place] = true
			}
		}
		for _, w := range d.Ways {
			for _, l := range w.Lists {
				if l != nil {
					used[l.Place] = true // what a device holds in place of a list bears its place
				}
			}
		}
	}
	for _, l := range s.Lists {
		used[l] = used[l.Place]
		for _, m := range l.Methods {
			if !used[l] {
				continue
			}
			if secret, ok := m.Secret(); ok {
				used[secret] = true
			}
			if g, ok := m.Group(); ok {
				used[g] = true
			}
			for _, server := range m.Servers() {
				used[server] = true
			}
		}
	}
	for _, v := range s.Directories {
		used[v] = true
	}
	for _, c := range s.Clients {
		used[c.Key] = true
		for _, v := range c.Servers {
			used[v] = true
		}
	}
	for _, v := range s.Servers {
		if used[v] {
			used[v.Key] = true
			used[v.NextKey] = true
			used[v.Directory.Key] = true
		}
	}
	for _, e := range s.Elevations {
		used[e.Password.Key] = true
	}
	for _, g := range s.Grants {
		used[g.Role] = true
	}
	for _, p := range s.People {
		used[p.Password.Key], used[p.OneTime] = true, true
	}
	used[s.Service.Ledger.Key] = true
	say := func(what string, value any, r site.Ref) {
		if !used[value] {
			c.add(Finding{Code: "unused", Place: r.Place, Text: fmt.Sprintf("Nothing uses the %s %s.", what, r.Name),
				Repair: "use it, or take it out"})
		}
	}
	for _, v := range s.Keys {
		say("key", v, v.Ref)
	}
	for _, v := range s.Servers {
		say("server", v, v.Ref)
	}
	for _, v := range s.Groups {
		say("group", v, v.Ref)
	}
	for _, v := range s.Lists {
		say("list", v, v.Ref)
	}
	for _, v := range s.Platforms {
		say("platform", v, v.Ref)
	}
	for _, v := range s.Profiles {
		say("profile", v, v.Ref)
	}
	for _, v := range s.Accounts {
		say("account", v, v.Ref)
	}
	for _, v := range s.Elevations {
		say("elevation secret", v, v.Ref)
	}
	for _, v := range s.Roles {
		say("role", v, v.Ref)
	}
}
