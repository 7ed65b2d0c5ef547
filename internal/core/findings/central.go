package findings

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// localFirst looks for local accounts that pass servers by that are up.
func localFirst(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		list := cs.Way.Lists[site.Login]
		if cs.Who.Kind != foresee.Local || list == nil || cs.Outcome == walk.OutcomeRefused {
			continue
		}
		step := lastStep(cs, site.Login)
		at := slices.IndexFunc(list.Methods, func(m site.Method) bool { return m.Place == step.Method.Place })
		later := at >= 0 && slices.ContainsFunc(list.Methods[at:], func(m site.Method) bool { return m.Kind == site.ByGroup })
		if step.Method.Kind == site.ByLocal && later {
			c.add(Finding{Code: "local-first", Devices: sh.Devices, Access: []string{cs.Way.Name()}, Place: step.Method.Place,
				Text: fmt.Sprintf("The list %s asks local before the servers: the account %s gets in past them, unseen by them.",
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
					Text: fmt.Sprintf("Lines %s of %s name no login list and take %s, while lines %s use %s: who lands on which "+
						"line decides who gets in.", w.Lines, access, takes(w, d), named.Lines, named.Lists[site.Login].Name),
					Repair: "name the list at these lines too: login: " + named.Lists[site.Login].Name})
			}
		}
		if all := d.Kind.Traits.Lines; covered < all.High-all.Low+1 {
			c.add(Finding{Code: "lines-left-out", Devices: sh.Devices, Access: []string{access}, Place: named.Place,
				Text: fmt.Sprintf("Devices of the kind %s have lines %s, and %s says something of %d of them: the others keep "+
					"what is on the device.", d.Kind.Name, all, access, covered),
				Repair: fmt.Sprintf("write lines: %s, or a second entry for the rest", all)})
		}
	}
}

func takes(w *site.Way, d *site.Device) string {
	if l := w.Lists[site.Login]; l != nil {
		return "the device-wide " + l.Name
	}
	return "the kind's built-in login (" + string(d.Kind.Traits.BuiltInLogin) + ")"
}

// defaultSurprise looks for consoles that a device-wide list governs, unsaid.
func defaultSurprise(c *checker, sh foresee.Shape) {
	w := sh.Devices[0].Way(site.Console)
	if w == nil || w.Origins[site.Login] != site.Default || len(w.Lists[site.Login].Servers()) == 0 {
		return
	}
	list := w.Lists[site.Login]
	c.add(Finding{Code: "default-surprise", Devices: sh.Devices, Access: []string{w.Name()}, Place: list.Place,
		Text: fmt.Sprintf("The device-wide list %s also governs the console, which is the last way in, and nothing says "+
			"that this is meant.", list.Name),
		Repair: fmt.Sprintf("say it: console: {login: %s} under access; or give the console a list of its own", list.Name)})
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
					Text: fmt.Sprintf("The method %s of the list %s is never reached: %s before it always decides.", m, l.Name,
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

// grantsAndRules looks for people without a grant, grants that never match and
// rules that never decide.
func grantsAndRules(c *checker) {
	c.ungranted()
	s := c.reckoner.Site
	for i, g := range s.Grants {
		for _, l := range sortedLabels(g) {
			bears := slices.ContainsFunc(s.Devices,
				func(d *site.Device) bool { return slices.Contains(g.Where[l], d.Labels[l]) })
			if len(s.Devices) > 0 && !bears {
				c.add(Finding{Code: "no-grant", Place: g.Place,
					Text: fmt.Sprintf("This grant never matches: no device has the label %s with %s.", l,
						strings.Join(g.Where[l], " or ")),
					Repair: "give devices the label, or mend the grant"})
			}
		}
		for _, earlier := range s.Grants[:i] {
			if takesAll(earlier, g) {
				c.add(Finding{Code: "no-grant", Place: g.Place,
					Text: fmt.Sprintf("This grant never matches: the one in %s comes first and holds wherever it does.",
						s.Where(earlier.Place)),
					Repair: "put it before that one, or take it out"})
				break
			}
		}
	}
	for _, r := range s.Roles {
		for i, rule := range r.Commands {
			for _, earlier := range r.Commands[:i] {
				if covers(earlier.Words, rule.Words) {
					c.add(Finding{Code: "rule-shadowed", Place: rule.Place,
						Text: fmt.Sprintf("The rule %q of the role %s never decides: %q before it matches all that it matches.",
							rule.Text, r.Name, earlier.Text),
						Repair: "put it before that rule, or take it out"})
					break
				}
			}
		}
	}
}

func sortedLabels(g *site.Grant) []string {
	labels := make([]string, 0, len(g.Where))
	for l := range g.Where {
		labels = append(labels, l)
	}
	slices.Sort(labels)
	return labels
}

// ungranted reports people whom no grant names, by team where it is a team's
// want.
func (c *checker) ungranted() {
	s := c.reckoner.Site
	teams, people := map[string]bool{}, map[string]bool{}
	for _, g := range s.Grants {
		for _, w := range g.Who {
			teams[w.Team], people[w.Person] = true, true
		}
	}
	said := map[string]bool{}
	for _, p := range s.People {
		if p.FromDirectory && len(p.Teams) == 0 {
			continue // a directory has the teams
		}
		granted := people[p.Name] || slices.ContainsFunc(p.Teams, func(t string) bool { return teams[t] })
		if granted || p.Disabled {
			continue
		}
		who := "person " + p.Name
		if len(p.Teams) > 0 {
			who = "team " + p.Teams[0]
		}
		if !said[who] {
			said[who] = true
			c.add(Finding{Code: "no-grant", Place: p.Place,
				Text:   fmt.Sprintf("No grant names the %s: %s is refused everywhere.", who, p.Name),
				Repair: "add a grant: - {who: [" + who + "], role: ROLE}"})
		}
	}
}

// portNamesUnsaid looks for grants that hold for some ways in, on devices of which
// nobody has said how they name their ports: servers know a way in by that name.
func portNamesUnsaid(c *checker, sh foresee.Shape) {
	d := sh.Devices[0]
	if d.Kind.Traits.PortNames != nil ||
		!slices.ContainsFunc(d.Servers(), func(s *site.Server) bool { return s.Protocol != site.LDAP }) {
		return
	}
	for _, g := range c.reckoner.Site.Grants {
		if len(g.Through) == 0 || !g.On(d) {
			continue
		}
		f := Finding{Code: "port-names-unsaid", Devices: sh.Devices, Place: d.Kind.Place,
			Text: fmt.Sprintf("A grant holds for %s alone (%s), and nothing says how devices of the kind %s name their ports "+
				"to servers: one that names them otherwise than %s is refused there.", join(g.Through),
				c.reckoner.Site.Where(g.Place), d.Kind.Name, d.Kind.Traits.PortNames.Port(g.Through[0], 0)),
			Repair: "write port-names: {" + g.Through[0] +
				": [NAME]} in the traits of the kind, with the name that the device " +
				"sends; serve tells it at the first login"}
		if !f.Place.Known() {
			f.Place = d.Place
		}
		c.add(f)
		return
	}
}

// takesAll reports whether a grant holds wherever another one does.
func takesAll(first, g *site.Grant) bool {
	for _, w := range g.Who {
		if !slices.ContainsFunc(first.Who, func(f site.Who) bool { return f.Team == w.Team && f.Person == w.Person }) {
			return false
		}
	}
	if len(first.Devices) > 0 && (len(g.Devices) == 0 || slices.ContainsFunc(g.Devices, func(r site.Ref) bool {
		return !slices.ContainsFunc(first.Devices, func(f site.Ref) bool { return f.Name == r.Name })
	})) {
		return false
	}
	for l, values := range first.Where {
		have, said := g.Where[l]
		if !said {
			return false
		}
		for _, v := range have {
			if !slices.Contains(values, v) {
				return false
			}
		}
	}
	if len(first.Through) > 0 {
		if len(g.Through) == 0 {
			return false
		}
		for _, w := range g.Through {
			if !slices.Contains(first.Through, w) {
				return false
			}
		}
	}
	return len(first.From) == 0 && len(first.Hours) == 0
}

// covers reports whether the words of a rule match every line that other words
// match.
func covers(a, b []string) bool {
	for i := 0; ; i++ {
		switch {
		case i < len(a) && a[i] == "**":
			return true
		case i < len(b) && b[i] == "**":
			return false
		case i == len(a) || i == len(b):
			return len(a) == len(b)
		case a[i] != "*" && a[i] != b[i]:
			return false
		}
	}
}

// landsLow looks for people who arrive below the level of their role while
// every server is up.
func landsLow(c *checker, sh foresee.Shape) {
	full := false
	for _, cs := range sh.Cases {
		full = full || cs.Who.Kind == foresee.Known && allUp(cs) && cs.Full()
	}
	for _, cs := range sh.Cases {
		if cs.Who.Kind != foresee.Known || !allUp(cs) || cs.Outcome != walk.OutcomeLow || cs.Raised >= cs.Promised {
			continue
		}
		f := Finding{Code: "lands-low", Devices: sh.Devices, Access: []string{cs.Way.Name()}}
		at, why, repair := tooLow(cs)
		f.Place = at
		f.Text = fmt.Sprintf("%s is granted level %d and arrives at level %d: %s.", cs.Who.Name, cs.Promised, cs.Level, why)
		f.Repair = repair
		if !full {
			f.Severity = Error
		}
		c.add(f)
	}
}

// tooLow says why somebody who is in arrives below their level, and what would
// raise it.
func tooLow(cs foresee.Case) (at site.Place, why, repair string) {
	list, step, login := cs.Way.Lists[site.Session], lastStep(cs, site.Session), lastStep(cs, site.Login)
	switch {
	case list == nil && login.Method.Kind == site.ByGroup && login.Method.Group.Protocol() == site.LDAP:
		return cs.Way.Place, fmt.Sprintf("a directory knows passwords and no levels, and this kind then gives level %d",
				cs.Level), "let the way in ask RADIUS or TACACS+ servers, which can ask the directory (directories: [NAME]); or " +
				"give " +
				"it an elevation list"
	case cs.Way.Access == site.Console && !cs.Device.Kind.Traits.ConsoleObeys:
		return cs.Way.Place, fmt.Sprintf("devices of the kind %s obey no session list on the console "+
				"(console-obeys-authorization: false), and then give level %d", cs.Device.Kind.Name, cs.Level),
			"give the console an elevation list, by which people raise their level"
	case list == nil:
		return cs.Way.Place, fmt.Sprintf("the way in has no session list, and this kind then gives level %d", cs.Level),
			"give it a session list that asks the servers"
	case step.Method.Kind != site.ByGroup:
		return list.Place, fmt.Sprintf("the session list %s ends at %s, which names no level", list.Name, step.Method),
			"ask the servers in the session list"
	}
	return list.Place, "what the session list " + list.Name + " gets back names no level that this kind reads",
		"look at level-from of the kind and send of the role"
}

// refusedThoughGranted looks for people whom a grant lets in and whose login is
// right, and who are refused after it while every server is up.
func refusedThoughGranted(c *checker, sh foresee.Shape) {
	in := map[*site.Way]bool{}
	for _, cs := range sh.Cases {
		in[cs.Way] = in[cs.Way] || cs.Who.Kind == foresee.Known && allUp(cs) && cs.Outcome != walk.OutcomeRefused
	}
	for _, cs := range sh.Cases {
		if cs.Who.Kind != foresee.Known || !allUp(cs) || cs.Outcome != walk.OutcomeRefused ||
			lastStep(cs, site.Login).Result != walk.Accepted {
			continue
		}
		role := c.reckoner.RoleOf(cs)
		if role == nil {
			continue
		}
		f := Finding{Code: "refused-though-granted", Devices: sh.Devices, Access: []string{cs.Way.Name()}}
		why := ""
		if cs.Reason == reason.BelowLevel {
			f.Place, why, f.Repair = belowLevel(cs, role)
		} else {
			f.Place, why, f.Repair = sessionRefuses(cs)
		}
		if f.Place == (site.Place{}) {
			continue // what refuses is found by another check
		}
		if in[cs.Way] {
			f.Severity = Warning
		}
		f.Text = fmt.Sprintf("%s has the role %s here, and is refused by %s although every server is up: %s.", cs.Who.Name,
			role.Name, cs.Way.Name(), why)
		c.add(f)
	}
}

// admitsADirectory looks for ways in that ask a directory, and so let in whomever
// it knows.
func admitsADirectory(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		login := lastStep(cs, site.Login)
		if cs.Who.Kind != foresee.Known || !allUp(cs) || cs.Outcome == walk.OutcomeRefused ||
			login.Method.Kind != site.ByGroup || login.Method.Group.Protocol() != site.LDAP || c.reckoner.RoleOf(cs) != nil {
			continue
		}
		f := Finding{Code: "admits-a-directory", Devices: sh.Devices, Access: []string{cs.Way.Name()},
			Place: login.Method.Place,
			Text: fmt.Sprintf("The list %s asks the directory %s, which knows passwords and no grants: %s gets in, at level %d.",
				login.List.Name, login.By, cs.Who.Name, cs.Raised),
			Repair: "ask RADIUS or TACACS+ servers, which decide by grants and can ask the directory (directories: [" +
				login.By +
				"]); or let find of the directory name only those who may get in, and accept this"}
		if cs.Full() {
			f.Severity = Error
		}
		c.add(f)
	}
}

// belowLevel says why a person does not reach the level that a way in needs.
func belowLevel(cs foresee.Case, role *site.Role) (at site.Place, why, repair string) {
	traits := cs.Device.Kind.Traits
	need, trait := traits.NeedsLevel(cs.Way.Access)
	list := cs.Way.Lists[site.Session]
	step := lastStep(cs, site.Session)
	switch {
	case role.Level < need:
		return role.Place, fmt.Sprintf("the role has level %d, and this kind needs %d there (%s)", role.Level, need, trait),
			fmt.Sprintf("give the role level %d, or say in the grant by which ways in it holds: through: [ssh]", need)
	case list == nil:
		return cs.Way.Place, fmt.Sprintf("the way in has no session list, this kind then gives level %d, and needs %d there "+
			"(%s)", traits.LevelWithoutSession, need, trait), "give it a session list that asks the servers"
	}
	return list.Place, fmt.Sprintf("the session list %s ends at %s, which names no level, and this kind needs %d there "+
		"(%s)",
		list.Name, step.Method, need, trait), "ask the servers in the session list"
}

// sessionRefuses says where a session list that asks no server leaves a person whom
// the servers know; the place is empty where it is not the list.
func sessionRefuses(cs foresee.Case) (at site.Place, why, repair string) {
	list, step := cs.Way.Lists[site.Session], lastStep(cs, site.Session)
	asks := func(m site.Method) bool { return m.Kind == site.ByGroup }
	if list == nil || step.Result == walk.Accepted || slices.ContainsFunc(list.Methods, asks) {
		return site.Place{}, "", ""
	}
	var groups []string
	for _, m := range cs.Way.Lists[site.Login].Methods {
		if asks(m) {
			groups = append(groups, m.String())
		}
	}
	for _, m := range list.Methods {
		groups = append(groups, m.String())
	}
	return list.Place, fmt.Sprintf("the session list %s ends at %s, which does not know them, and asks no server",
		list.Name, step.Method), "ask the servers in it, as the login does: methods: [" + strings.Join(groups, ", ") + "]"
}

func allUp(c foresee.Case) bool {
	return !slices.ContainsFunc(c.When, func(w foresee.Condition) bool { return w.State != foresee.Up })
}

// ruleWithoutEffect looks for people whose role has command rules that nothing
// asks about.
func ruleWithoutEffect(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		if cs.Who.Kind != foresee.Known || !allUp(cs) || cs.Outcome == walk.OutcomeRefused || cs.Outcome == walk.OutcomeOpen {
			continue
		}
		role := c.reckoner.RoleOf(cs)
		if role == nil || limitless(role) {
			continue
		}
		step := lastStep(cs, site.Commands)
		if step.Method.Kind == site.ByGroup && step.Result != walk.Unavailable {
			continue
		}
		why := "no list asks about commands there"
		if list := cs.Way.Lists[site.Commands]; list != nil {
			why = fmt.Sprintf("the list %s ends at %s", list.Name, step.Method)
			if step.List == nil {
				why = fmt.Sprintf("the list %s does not govern commands of level %d", list.Name, cs.Level)
			}
		}
		c.add(Finding{Code: "rule-without-effect", Devices: sh.Devices, Access: []string{cs.Way.Name()}, Place: role.Place,
			Text: fmt.Sprintf("The role %s limits commands, and on these devices %s may type any of level %d: %s.", role.Name,
				cs.Who.Name, cs.Level, why),
			Repair: "give the way in a command list that asks TACACS+ servers, or accept this for these devices"})
	}
}

// limitless reports whether a role allows every command.
func limitless(r *site.Role) bool {
	return len(r.Commands) > 0 && r.Commands[0].Allow && len(r.Commands[0].Words) == 1 && r.Commands[0].Words[0] == "**"
}

// templateMissing looks for people whose rights are those of a local account
// that the device does not have.
func templateMissing(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		if cs.Reason != reason.TemplateMissing {
			continue
		}
		role := c.reckoner.RoleOf(cs)
		if role == nil {
			continue
		}
		c.add(Finding{Code: "template-missing", Devices: sh.Devices, Access: []string{cs.Way.Name()},
			Place: role.Template.Place,
			Text: fmt.Sprintf("With the role %s people take on the rights of the local account %s, and these devices have "+
				"no such account: %s is refused.", role.Name, role.Template.Name, cs.Who.Name),
			Repair: "add " + role.Template.Name + " to accounts of the devices or their profile"})
	}
}

// notSupported looks for groups that a kind cannot ask at all.
func notSupported(c *checker, sh foresee.Shape) {
	d := sh.Devices[0]
	for _, cs := range sh.Cases {
		for _, step := range cs.Steps {
			if step.Reason != reason.NotSupported {
				continue
			}
			p := step.Method.Group.Protocol()
			f := Finding{Code: "not-supported", Devices: sh.Devices, Access: []string{cs.Way.Name()}, Place: step.Method.Place,
				Text: fmt.Sprintf("The list %s asks the group %s over %s, and devices of the kind %s do not speak it: the "+
					"group never answers.", listName(step.List), step.Method.Ref.Name, p, d.Kind.Name),
				Repair: "ask a group of another protocol, or mend speaks of the kind"}
			if d.Kind.Traits.Speaks(p) {
				f.Text = fmt.Sprintf("The devices reach their servers through the network %s, and devices of the kind %s can use "+
					"%s networks only: the group %s never answers.", d.Network, d.Kind.Name, d.Kind.Traits.Networks,
					step.Method.Ref.Name)
				f.Repair = "use another network, or mend networks of the kind"
				f.Place = d.Place
			}
			c.add(f)
		}
	}
}

// cannotVerify looks for people whose password a server cannot check in the
// form in which the device sends it. Every server of a list counts, also one that
// is asked only while others are silent, and one whose refusal lets the next
// method try.
func cannotVerify(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		if cs.Who.Kind != foresee.Known || cs.Who.Person() == nil {
			continue
		}
		for _, step := range cs.Steps {
			if step.Purpose != site.Login || step.Method.Kind != site.ByGroup || step.Result != walk.Refused {
				continue
			}
			f, found := c.unreadable(cs, step)
			if !found {
				continue
			}
			f.Code, f.Devices, f.Access = "cannot-verify", sh.Devices, []string{cs.Way.Name()}
			switch {
			case cs.Outcome != walk.OutcomeRefused: // another method lets the person in
				f.Severity = Warning
			case !allUp(cs):
				f.Severity = Warning
				f.Text += " The server decides " + when(cs) + "."
			}
			c.add(f)
		}
	}
}

// unreadable says why a server that refused a login cannot check a password in the
// form in which it came; it is false where the form is not why.
func (c *checker) unreadable(cs foresee.Case, step walk.Step) (f Finding, found bool) {
	kind, p := cs.Device.Kind, cs.Who.Person()
	form := kind.Traits.PasswordAs.Of(step.Method.Group.Protocol())
	server := c.reckoner.Site.Server(step.By)
	switch {
	case server != nil && len(server.Forms) > 0 && !slices.Contains(server.Forms, form):
		return Finding{Place: server.Place,
			Text: fmt.Sprintf("Devices of the kind %s send passwords as %s, and %s takes %s only: everybody is refused.",
				kind.Name, form, server.Name, strings.Join(server.Forms, ", ")),
			Repair: "add " + form + " to password-forms of the server, or change password-as of the kind"}, true
	case site.OneWay(form) || p.Password.Key != nil:
		return Finding{}, false
	case p.FromDirectory:
		return Finding{Place: kind.Place,
			Text: fmt.Sprintf("Devices of the kind %s send passwords as %s, and a directory that has the password can check "+
				"none in that form: %s is refused.", kind.Name, form, cs.Who.Name),
			Repair: "let the kind send pap (or ascii)"}, true
	}
	return Finding{Place: p.Password.Place,
		Text: fmt.Sprintf("Devices of the kind %s send passwords as %s, and the password of %s is a one-way hash: %s cannot "+
			"check it.", kind.Name, form, cs.Who.Name, step.By),
		Repair: "let the kind send pap (or ascii), or keep the password so that it can be read: password: key NAME"}, true
}

// labelSlips looks for a label that one device alone bears and that is a typing slip
// away from one that others bear, or that a grant asks for.
func labelSlips(c *checker) {
	s := c.reckoner.Site
	bear, asked := map[string]map[string][]*site.Device{}, map[string]map[string]bool{}
	for _, d := range s.Devices {
		for label, value := range d.Labels {
			if bear[label] == nil {
				bear[label] = map[string][]*site.Device{}
			}
			bear[label][value] = append(bear[label][value], d)
		}
	}
	for _, g := range s.Grants {
		for label, values := range g.Where {
			for _, v := range values {
				if asked[label] == nil {
					asked[label] = map[string]bool{}
				}
				asked[label][v] = true
			}
		}
	}
	for _, label := range slices.Sorted(maps.Keys(bear)) {
		for _, value := range slices.Sorted(maps.Keys(bear[label])) {
			if len(bear[label][value]) > 1 || asked[label][value] || len(value) < 4 {
				continue
			}
			for _, other := range slices.Sorted(maps.Keys(bear[label])) {
				if len(bear[label][other]) < 2 && !asked[label][other] || nearest.Slips(value, other) != 1 ||
					numbered(value, other) {
					continue
				}
				d := bear[label][value][0]
				c.add(Finding{Code: "label-slip", Devices: []*site.Device{d}, Place: d.Place,
					Text: fmt.Sprintf("%s has %s: %s, and %d other devices have %s: what holds for them does not hold for it.",
						d.Name, label, value, len(bear[label][other]), other),
					Repair: "write " + label + ": " + other + "; or accept this, if it is a name of its own"})
				break
			}
		}
	}
}

// numbered reports whether two names differ in digits only, as those of a row do.
func numbered(a, b string) bool {
	letters := func(c rune) rune {
		if c >= '0' && c <= '9' {
			return -1
		}
		return c
	}
	return strings.Map(letters, a) == strings.Map(letters, b)
}
