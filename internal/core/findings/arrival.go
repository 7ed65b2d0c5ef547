package findings

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

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
		place, why, repair := tooLow(cs)
		f.Place = place
		f.Text = fmt.Sprintf("%s is granted level %d and arrives at level %d: %s.", cs.Who.Name, cs.Promised, cs.Level,
			why)
		f.Repair = repair
		if !full {
			f.Severity = Error
		}
		c.add(f)
	}
}

// tooLow says why somebody who is in arrives below their level, and what would
// raise it.
func tooLow(cs foresee.Case) (place site.Place, why, repair string) {
	list := cs.Way.Lists[site.Session]
	step := lastStep(cs, site.Session)
	login := lastStep(cs, site.Login)
	switch {
	case list == nil && login.Method.Protocol() == site.LDAP:
		return cs.Way.Place, fmt.Sprintf("a directory knows passwords and no levels, and this platform then gives "+
				"level %d",
				cs.Level), "let the way in ask RADIUS or TACACS+ servers, which can ask the directory " +
				"(directories: [NAME]); or give it an elevation list"
	case cs.Way.Access == site.Console && !cs.Device.Platform.Behaviour.ConsoleObeys:
		return cs.Way.Place, fmt.Sprintf("devices of the platform %s obey no session list on the console "+
				"(console-obeys-authorization: false), and then give level %d", cs.Device.Platform.Name, cs.Level),
			"give the console an elevation list, by which people raise their level"
	case list == nil:
		return cs.Way.Place, fmt.Sprintf("the way in has no session list, and this platform then gives level %d",
				cs.Level),
			"give it a session list that asks the servers"
	case step.Method.Kind != site.ByGroup:
		return list.Place, fmt.Sprintf("the session list %s ends at %s, which names no level", list.Name, step.Method),
			"ask the servers in the session list"
	}
	return list.Place, "what the session list " + list.Name + " gets back names no level that this platform reads",
		"look at level-attribute of the platform and send of the role"
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
		f.Text = fmt.Sprintf("%s has the role %s here, and is refused by %s although every server is up: %s.",
			cs.Who.Name,
			role.Name, cs.Way.Name(), why)
		c.add(f)
	}
}

// admitsADirectory looks for ways in that ask a directory, and so let in whomever it knows, and by the password
// alone.
func admitsADirectory(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		login := lastStep(cs, site.Login)
		if cs.Who.Kind != foresee.Known || !allUp(cs) || cs.Outcome == walk.OutcomeRefused ||
			login.Method.Protocol() != site.LDAP {
			continue
		}
		knows := "passwords and no grants: " + cs.Who.Name + " gets in"
		if p := cs.Who.Person(); c.reckoner.RoleOf(cs) != nil {
			if p == nil || p.OneTime == nil {
				continue
			}
			knows = "no one-time codes: " + cs.Who.Name + " gets in by the password alone"
		}
		f := Finding{Code: "admits-a-directory", Devices: sh.Devices, Access: []string{cs.Way.Name()},
			Place: login.Method.Place,
			Text: fmt.Sprintf("The list %s asks the directory %s, which knows %s, at level %d.",
				login.List.Name, login.By, knows, cs.Raised),
			Repair: "ask RADIUS or TACACS+ servers, which decide by grants and can ask the directory (directories: [" +
				login.By +
				"]); or let filter of the directory name only those who may get in, and accept this"}
		if cs.Full() {
			f.Severity = Error
		}
		c.add(f)
	}
}

// belowLevel says why a person does not reach the level that a way in needs.
func belowLevel(cs foresee.Case, role *site.Role) (place site.Place, why, repair string) {
	behaviour := cs.Device.Platform.Behaviour
	need, aspect := behaviour.NeedsLevel(cs.Way.Access)
	list := cs.Way.Lists[site.Session]
	step := lastStep(cs, site.Session)
	switch {
	case role.Level < need:
		return role.Place, fmt.Sprintf("the role has level %d, and this platform needs %d there (%s)", role.Level, need,
				aspect),
			fmt.Sprintf("give the role level %d, or say in the grant by which ways in it holds: access: [ssh]", need)
	case list == nil:
		return cs.Way.Place, fmt.Sprintf("the way in has no session list, this platform then gives level %d, and "+
				"needs "+
				"%d there (%s)", behaviour.LevelWithoutSession, need, aspect),
			"give it a session list that asks the servers"
	}
	return list.Place, fmt.Sprintf(
		"the session list %s ends at %s, which names no level, and this platform needs %d there (%s)",
		list.Name, step.Method, need, aspect), "ask the servers in the session list"
}

// sessionRefuses says where a session list that asks no server leaves a person whom
// the servers know; the place is empty where it is not the list.
func sessionRefuses(cs foresee.Case) (place site.Place, why, repair string) {
	list, step := cs.Way.Lists[site.Session], lastStep(cs, site.Session)
	asks := func(m site.Method) bool { return m.Kind == site.ByGroup }
	if list == nil || step.Result == walk.Accepted || slices.ContainsFunc(list.Methods, asks) {
		return site.Place{}, "", ""
	}
	var groups []string
	if login, named := cs.Device.LoginList(cs.Way, cs.Who.Typed()); named {
		for _, m := range login.Methods {
			if asks(m) {
				groups = append(groups, m.String())
			}
		}
	}
	repair = "ask the servers in it"
	if len(groups) > 0 {
		for _, m := range list.Methods {
			groups = append(groups, m.String())
		}
		repair += ", as the login does: methods: [" + strings.Join(groups, ", ") + "]"
	}
	return list.Place, fmt.Sprintf("the session list %s ends at %s, which does not know them, and asks no server",
		list.Name, step.Method), repair
}

func allUp(c foresee.Case) bool {
	return !slices.ContainsFunc(c.When, func(w foresee.Condition) bool { return w.State != foresee.Up })
}

// ruleWithoutEffect looks for people whose role has command rules that nothing
// asks about.
func ruleWithoutEffect(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		if cs.Who.Kind != foresee.Known || !allUp(cs) || cs.Outcome == walk.OutcomeRefused ||
			cs.Outcome == walk.OutcomeOpen {
			continue
		}
		role := c.reckoner.RoleOf(cs)
		if role == nil || limitless(role) {
			continue
		}
		if cs.Rules != nil {
			miscarried(c, sh, cs, role)
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
		c.add(Finding{Code: "rule-without-effect", Devices: sh.Devices, Access: []string{cs.Way.Name()},
			Place: role.Place,
			Text: fmt.Sprintf("The role %s limits commands, and on these devices %s may type any of level %d: %s.",
				role.Name,
				cs.Who.Name, cs.Level, why),
			Repair: "give the way in a command list that asks TACACS+ servers, or accept this for these devices"})
	}
}

// miscarried looks for commands about which a role, and the rules that the device is
// given for it, differ.
func miscarried(c *checker, sh foresee.Shape, cs foresee.Case, role *site.Role) {
	command, allowed := rights.MiscarriedCommand(role, cs.Device.Platform)
	if command == "" {
		return
	}
	f := Finding{Code: "commands-miscarried", Severity: Warning, Devices: sh.Devices, Access: []string{cs.Way.Name()},
		Place: role.Place,
		Text: fmt.Sprintf("The role %s allows %q, and the rules that these devices are given for it over RADIUS "+
			"refuse it: the order of the rules, or the form of one, is lost on the way.", role.Name, command),
		Repair: "let no command fit both an allow and a refuse rule of the role; what these devices are given " +
			"shows: mellowgate ask -explain"}
	if allowed {
		f.Severity = Error
		f.Text = fmt.Sprintf("The role %s refuses %q, and the rules that these devices are given for it over "+
			"RADIUS allow it: the order of the rules, or the form of one, is lost on the way.", role.Name, command)
	}
	c.add(f)
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
			Text: fmt.Sprintf("With the role %s people take on the rights of the local account %s, and these "+
				"devices have no such account: %s is refused.", role.Name, role.Template.Name, cs.Who.Name),
			Repair: "add " + role.Template.Name + " to accounts of the devices or their profile"})
	}
}

// notSupported looks for groups that a platform cannot ask at all.
func notSupported(c *checker, sh foresee.Shape) {
	d := sh.Devices[0]
	for _, cs := range sh.Cases {
		for _, step := range cs.Steps {
			if step.Reason != reason.NotSupported {
				continue
			}
			p := step.Method.Protocol()
			f := Finding{Code: "not-supported", Devices: sh.Devices, Access: []string{cs.Way.Name()},
				Place: step.Method.Place,
				Text: fmt.Sprintf("The list %s asks the group %s over %s, and devices of the platform %s do not speak "+
					"it: the group never answers.", listName(step.List), step.Method.Ref.Name, p, d.Platform.Name),
				Repair: "ask a group of another protocol, or mend speaks of the platform"}
			if d.Platform.Behaviour.Speaks(p) {
				f.Text = fmt.Sprintf("The devices reach their servers through the network %s, and devices of the "+
					"platform %s can use %s networks only: the group %s never answers.",
					d.Path(step.Method.Servers()[0]).Network,
					d.Platform.Name,
					d.Platform.Behaviour.Networks, step.Method.Ref.Name)
				f.Repair = "use another network, or mend networks of the platform"
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
			f.Code = "cannot-verify"
			f.Devices = sh.Devices
			f.Access = []string{cs.Way.Name()}
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
	platform, p := cs.Device.Platform, cs.Who.Person()
	form := platform.Behaviour.PasswordAs.Of(step.Method.Protocol())
	server := c.reckoner.Site.Server(step.By)
	switch {
	case server != nil && len(server.Forms) > 0 && !slices.Contains(server.Forms, form):
		return Finding{Place: server.Place,
			Text: fmt.Sprintf("Devices of the platform %s send passwords as %s, and %s takes %s only: everybody is "+
				"refused.",
				platform.Name, form, server.Name, strings.Join(server.Forms, ", ")),
			Repair: "add " + form + " to password-forms of the server, or change password-form of the platform"}, true
	case site.OneWay(form) || p.Password.Key != nil:
		return Finding{}, false
	case p.FromDirectory:
		return Finding{Place: platform.Place,
			Text: fmt.Sprintf("Devices of the platform %s send passwords as %s, and a directory that has the password "+
				"can check none in that form: %s is refused.", platform.Name, form, cs.Who.Name),
			Repair: "let the platform send pap (or ascii)"}, true
	}
	return Finding{Place: p.Password.Place,
			Text: fmt.Sprintf("Devices of the platform %s send passwords as %s, and the password of %s is a one-way "+
				"hash: %s cannot check it.", platform.Name, form, cs.Who.Name, step.By),
			Repair: "let the platform send pap (or ascii), or keep the password so that it can be read: password: " +
				"key " +
				"NAME"},
		true
}
