package findings

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// mostStates bounds how many servers of one device are combined in full.
const mostStates = 10

// outages returns the combinations of silent servers to look at, all up first:
// every one for up to mostStates servers, else each server alone, each server
// as the only one up, and none up.
func outages(servers []*site.Server) []map[*site.Server]bool {
	var all []map[*site.Server]bool
	if len(servers) <= mostStates {
		for bits := 0; bits < 1<<len(servers); bits++ {
			o := map[*site.Server]bool{}
			for i, s := range servers {
				o[s] = bits&(1<<i) != 0
			}
			all = append(all, o)
		}
	} else {
		all = append(all, map[*site.Server]bool{})
		for _, server := range servers {
			only := map[*site.Server]bool{}
			for _, s := range servers {
				only[s] = s != server
			}
			all = append(all, map[*site.Server]bool{server: true}, only)
		}
		dark := map[*site.Server]bool{}
		for _, s := range servers {
			dark[s] = true
		}
		all = append(all, dark)
	}
	slices.SortStableFunc(all, func(a, b map[*site.Server]bool) int { return silentIn(a) - silentIn(b) })
	return all
}

func silentIn(o map[*site.Server]bool) int {
	n := 0
	for _, silent := range o {
		if silent {
			n++
		}
	}
	return n
}

// lockedOut looks for an outage in which nobody has full rights by any way, or
// by any way but the console.
func lockedOut(c *checker, sh foresee.Shape) {
	servers := sh.Servers()
	var nobody, consoleOnly map[*site.Server]bool
	for _, o := range outages(servers) {
		console := false
		remote := false
		remoteWays := false
		for _, cs := range sh.Cases {
			remoteWays = remoteWays || cs.Way.Access != site.Console
			if !cs.Full() || !cs.Holds(o) {
				continue
			}
			if cs.Way.Access == site.Console {
				console = true
			} else {
				remote = true
			}
		}
		switch {
		case !console && !remote && nobody == nil:
			nobody = o
		case console && !remote && remoteWays && consoleOnly == nil:
			consoleOnly = o
		}
	}
	d := sh.Devices[0]
	if nobody != nil {
		why, repair := c.shutBy(sh, nobody, "")
		c.add(Finding{Code: "locked-out", Devices: sh.Devices, Place: placeOf(d), always: silentIn(nobody) == 0,
			Text: fmt.Sprintf("%s nobody with full rights gets in by any way: %s.",
				upper(outageText(servers, nobody)), why),
			Repair: repair})
	}
	if consoleOnly != nil {
		why, repair := c.shutBy(sh, consoleOnly, site.Console)
		c.add(Finding{Code: "locked-out-remotely", Devices: sh.Devices, Place: placeOf(d),
			Text: fmt.Sprintf("%s full rights are left on the console only, so someone must go there: %s.",
				upper(outageText(servers, consoleOnly)), why),
			Repair: repair})
	}
}

const recordsRepair = "let another server keep records too, in a second group of the list; or let one way in, such " +
	"as the console, keep no records of sessions"

// recordsShutOut looks for devices on which nobody gets in while servers answer
// logins and keep no records, because the platform refuses whose record is not kept.
func recordsShutOut(c *checker, sh foresee.Shape) {
	d := sh.Devices[0]
	if !d.Platform.Behaviour.RecordFailureBlocks {
		return
	}
	r := c.reckoner
	r.Records = true
	var losing []*site.Server
	states, open := map[*site.Server]foresee.State{}, false
	cases := slices.Collect(r.Each([]*site.Device{d}))[0].Cases
	for _, cs := range cases {
		for _, w := range cs.When {
			if w.State == foresee.NoRecords && states[w.Server] == "" {
				states[w.Server] = foresee.NoRecords
				losing = append(losing, w.Server)
			}
		}
	}
	shut, place := map[string]bool{}, site.Place{}
	for _, cs := range cases {
		switch {
		case !cs.In(states):
		case cs.Full():
			open = true
		case cs.Reason == reason.NotRecorded:
			shut[cs.Way.Name()], place = true, cs.Way.Lists[site.RecordSessions].Place
		}
	}
	if open || len(shut) == 0 {
		return
	}
	lose := join(serverNames(losing)) + " answers logins and keeps no records"
	if len(losing) > 1 {
		lose = join(serverNames(losing)) + " answer logins and keep no records"
	}
	c.add(Finding{Code: "records-shut-out", Devices: sh.Devices, Access: slices.Sorted(maps.Keys(shut)), Place: place,
		Text: fmt.Sprintf("While %s, nobody with full rights gets in by any way: devices of the platform %s refuse a "+
			"session whose start is not recorded (accounting-failure: blocks).", lose, d.Platform.Name),
		Repair: recordsRepair})
}

// shutBy says why the ways in, except one, are shut in an outage for those
// who should be the way back in, and what would open them.
func (c *checker) shutBy(sh foresee.Shape, o map[*site.Server]bool, but string) (why, repair string) {
	all, ways := c.obstacles(sh, o, but, foresee.Local)
	answered := !slices.ContainsFunc(all, func(is obstacle) bool { return is.text != onlyServers.text })
	if people, by := c.obstacles(sh, o, but, foresee.Known); len(all) == 0 || answered &&
		!slices.ContainsFunc(people, func(is obstacle) bool { return is.rank == none.rank || is.rank == unanswered }) {
		all, ways = people, by // while a server answers they are to get in, and not the accounts
	}
	slices.SortStableFunc(all, func(a, b obstacle) int { return a.rank - b.rank })
	for i, is := range all {
		if i > 0 && is.rank == none.rank {
			break // others come nearer to full rights
		}
		if why != "" {
			why += "; "
		}
		if is.rank != none.rank {
			why += "by " + join(ways[is.text]) + " "
		}
		why += is.text
		if repair == "" {
			repair = is.repair
		}
	}
	if why == "" {
		return none.text, none.repair
	}
	return why, repair
}

// obstacles returns what keeps some from full rights by the ways in, except one, in
// an outage, and by which ways each does.
func (c *checker) obstacles(sh foresee.Shape, o map[*site.Server]bool, but string,
	kind foresee.WhoKind) (all []obstacle,
	ways map[string][]string) {
	ways = map[string][]string{}
	for _, cs := range sh.Cases {
		if cs.Who.Kind != kind || !cs.Holds(o) || cs.Way.Access == but {
			continue
		}
		is := c.obstacle(cs)
		if !slices.ContainsFunc(all, func(other obstacle) bool { return other.text == is.text }) {
			all = append(all, is)
		}
		if name := cs.Way.Name(); !slices.Contains(ways[is.text], name) {
			ways[is.text] = append(ways[is.text], name)
		}
	}
	return all, ways
}

// unanswered is the rank of the obstacle of those whom no server answers.
const unanswered = 3

// onlyServers is the obstacle of a local account where a server has the word.
var onlyServers = obstacle{6, "only a server that knows the local account would let it in",
	"give somebody a grant with level 15 here"}

// obstacle is what keeps somebody from full rights. Of several, the one of the
// lowest rank is told and mended first.
type obstacle struct {
	rank         int
	text, repair string
}

// none is the obstacle where nobody is meant to have full rights.
var none = obstacle{rank: 9, text: "no person has a grant of level 15 here, and the device has no account of level 15",
	repair: "give somebody a grant with level 15, end the login list with local, and give the device an account of " +
		"level 15"}

// obstacle returns what keeps somebody from full rights in a case.
func (c *checker) obstacle(cs foresee.Case) obstacle {
	role, login := c.reckoner.RoleOf(cs), lastStep(cs, site.Login)
	known := cs.Who.Kind == foresee.Known
	switch {
	case cs.Reason == reason.GivesUpFirst:
		return obstacle{1, "the way in gives up before the fallback",
			"lower timeout or attempts of these servers, or give the platform a longer login-timeout"}
	case login.Reason == reason.NoAccounts:
		return obstacle{2, "the device has no local account",
			"name an account of level 15 in accounts of the device or its profile"}
	case cs.Reason == reason.ListEnded:
		return obstacle{unanswered, "a list ends with servers", "end the login and session lists with local"}
	case cs.Reason == reason.NotRecorded:
		return obstacle{4, "a session whose start no server records is refused (accounting-failure: blocks)",
			recordsRepair}
	case known && (role == nil || role.Level < 15):
		return none
	case cs.Reason == reason.TemplateMissing && role != nil && role.Template.Name != "":
		return obstacle{4, fmt.Sprintf("the role %s gives the rights of the account %s, which the device does not have",
			role.Name, role.Template.Name), "add " + role.Template.Name + " to accounts of the device or its profile"}
	case cs.Reason == reason.BelowLevel && known:
		_, text, repair := belowLevel(cs, role)
		return obstacle{5, text, repair}
	case cs.Reason == reason.RefusedByServer && known && login.Result != walk.Accepted:
		// the server that refused need not be the last that was asked: the next method may have tried
		form := cs.Device.Platform.Behaviour.PasswordAs.Of(refusing(cs).Method.Protocol())
		return obstacle{6, "the servers cannot check a password that the device sends as " + form,
			"change password-form of the platform, or password-forms of the servers; cannot-verify says which"}
	case cs.Reason == reason.RefusedByServer && !known && login.Result == walk.Accepted:
		return obstacle{5, "a server that does not know the local account refuses its session",
			"let the login list ask the servers that the session list asks"}
	case cs.Reason == reason.RefusedByServer && !known:
		return onlyServers
	case cs.Outcome == walk.OutcomeRefused && known:
		if _, text, repair := sessionRefuses(cs); text != "" {
			return obstacle{5, text, repair}
		}
	case cs.Outcome != walk.OutcomeRefused && known:
		_, text, repair := tooLow(cs)
		return obstacle{7, text, repair}
	case cs.Outcome != walk.OutcomeRefused:
		return obstacle{7, "those who get in do not reach level 15",
			"give the session list, or the local account, level 15"}
	}
	return none
}

// placeOf points at what devices alike have in common.
func placeOf(d *site.Device) site.Place { return d.Place }

func upper(s string) string { return string(s[0]-'a'+'A') + s[1:] }

func outageText(servers []*site.Server, o map[*site.Server]bool) string {
	var silent []*site.Server
	for _, s := range servers {
		if o[s] {
			silent = append(silent, s)
		}
	}
	if len(silent) == 0 {
		return "even when every server is up"
	}
	return are(serverNames(silent), "silent")
}

// hasLocal reports whether some local account of a device gets in by a way in: its
// login list asks for local accounts, wherever it ends, and is for its name.
func hasLocal(d *site.Device, w *site.Way) bool {
	return slices.ContainsFunc(d.Logins(), func(a *site.Account) bool {
		l, named := d.LoginList(w, a.Name)
		return named && l.For(a.Name) &&
			slices.ContainsFunc(l.Methods, func(m site.Method) bool { return m.Kind == site.ByLocal })
	})
}

// deadEnds looks for lists that leave someone at a dead end: login lists that
// end with servers, fallbacks without an account, and logins that fall back to
// a session or commands that do not.
func deadEnds(c *checker, sh foresee.Shape) {
	for _, cs := range sh.Cases {
		f := Finding{Devices: sh.Devices, Access: []string{cs.Way.Name()}}
		last := lastStep(cs, site.Login)
		switch {
		case cs.Who.Kind == foresee.Local && last.Result == walk.Accepted && cs.Outcome == walk.OutcomeRefused &&
			cs.Reason == reason.ListEnded:
			list := cs.Way.Lists[site.Session]
			f.Code, f.Place = "session-stuck", lastMethod(list)
			f.Text = fmt.Sprintf("%s a local account passes the login, and then its session is refused: the list "+
				"%s needs a server.", upper(when(cs)), list.Name)
			f.Repair = "end the list with local: " + methodsText(list, "local")
		case cs.Outcome == walk.OutcomeRefused && last.Result == walk.Unavailable && last.Method.Kind == site.ByGroup &&
			!hasLocal(cs.Device, cs.Way):
			list := last.List
			f.Code, f.Place = "no-way-back", lastMethod(list)
			f.Text = fmt.Sprintf("%s nobody gets in: the list %s ends with servers.", upper(when(cs)), list.Name)
			f.Repair = "end the list with local: " + methodsText(list, "local")
		case last.Reason == reason.NoAccounts:
			f.Code, f.Place = "no-account", placeOf(cs.Device)
			f.Text = fmt.Sprintf("%s the login falls back to local, and the device has no local account.",
				upper(when(cs)))
			f.Repair = "name an account of level 15 in accounts of the device or its profile"
		case cs.Stuck && cs.StuckWhy == reason.ListEnded &&
			(cs.Outcome == walk.OutcomeIn || cs.Outcome == walk.OutcomeLow):
			list := cs.Way.Lists[site.Commands]
			f.Code, f.Place = "commands-stuck", lastMethod(list)
			f.Text = fmt.Sprintf("%s people get in (%s for one) and no command works: the list %s needs a server.",
				upper(when(cs)), whoText(cs.Who), list.Name)
			f.Repair = "end the list with signed-in, for whoever has got in: " + methodsText(list, "signed-in")
		case cs.RaiseWhy == reason.ListEnded && (cs.Outcome == walk.OutcomeIn || cs.Outcome == walk.OutcomeLow):
			list := cs.Way.Lists[site.Elevation]
			f.Code, f.Place = "elevation-stuck", lastMethod(list)
			f.Text = fmt.Sprintf("%s people get in at level %d (%s for one) and cannot reach a higher one: the "+
				"list %s needs a server.", upper(when(cs)), cs.Level, whoText(cs.Who), list.Name)
			f.Repair = "end the list with a secret: " + methodsText(list, "secret NAME")
		default:
			continue
		}
		c.add(f)
	}
}

// accountTooLow looks for devices whose local accounts get in, and none of them
// to full rights, when every server is silent.
func accountTooLow(c *checker, sh foresee.Shape) {
	in := foresee.Case{}
	for _, cs := range sh.Cases {
		if cs.Who.Kind != foresee.Local || len(cs.When) == 0 ||
			slices.ContainsFunc(cs.When, func(w foresee.Condition) bool { return w.State == foresee.Up }) {
			continue
		}
		if cs.Full() {
			return
		}
		if cs.Outcome == walk.OutcomeIn || cs.Outcome == walk.OutcomeLow {
			in = cs
		}
	}
	if in.Device == nil {
		return
	}
	a := in.Device.Account(in.Who.Typed())
	f := Finding{Code: "account-too-low", Devices: sh.Devices, Place: a.Place,
		Text: fmt.Sprintf("%s the account %s gets in, and reaches level %d at most: nobody can mend the device "+
			"without a server.", upper(when(in)), a.Name, in.Raised),
		Repair: "give the account level 15, and end the session list with local; or end an elevation list with a " +
			"secret"}
	if a.Level == 15 {
		f.Repair = "end the session list with local, or give the way in one that does; or end an elevation list " +
			"with a secret"
	}
	c.add(f)
}

func whoText(w foresee.Who) string {
	if w.Kind == foresee.Local {
		return "the account " + w.Name
	}
	return w.Name
}

// lastStep returns the last step of a purpose.
func lastStep(c foresee.Case, p site.Purpose) walk.Step {
	for _, s := range slices.Backward(c.Steps) {
		if s.Purpose == p {
			return s
		}
	}
	return walk.Step{}
}

// refusing returns the last step of the login in which a server refused.
func refusing(c foresee.Case) walk.Step {
	for _, s := range slices.Backward(c.Steps) {
		if s.Purpose == site.Login && s.Result == walk.Refused && s.Method.Protocol() != "" {
			return s
		}
	}
	return walk.Step{}
}

func lastMethod(l *site.List) site.Place { return l.Methods[len(l.Methods)-1].Place }

// givesUpFirst looks for logins that would succeed after the way in has lost
// its patience.
func givesUpFirst(c *checker, sh foresee.Shape) {
	worst := map[*site.Way]foresee.Case{}
	for _, cs := range sh.Cases {
		if cs.Reason == reason.GivesUpFirst && cs.Needs > worst[cs.Way].Needs {
			worst[cs.Way] = cs
		}
	}
	for _, w := range sh.Devices[0].Ways {
		cs, found := worst[w]
		if !found {
			continue
		}
		window := cs.Device.Platform.Behaviour.LoginWindow
		f := Finding{Code: "gives-up-first", Devices: sh.Devices, Access: []string{w.Name()},
			Place: firstWait(cs, w.Place),
			Text: fmt.Sprintf("%s the login waits %s, and the way in gives up after %s: the fallback is never "+
				"reached (%s).",
				upper(when(cs)), seconds(cs.Needs), seconds(window), waitSum(cs)),
			Repair: "lower timeout or attempts of these servers, or give the platform a longer login-timeout"}
		c.add(f)
	}
}

// firstWait points at the first server that a login waits for, else at other.
func firstWait(c foresee.Case, other site.Place) site.Place {
	for _, s := range c.Steps {
		for _, t := range s.Tries {
			if t.Reply.Took > 0 {
				return t.Server.Place
			}
		}
	}
	return other
}

// waitSum shows how the waiting adds up: "sanderling 2 tries x 10s + ...".
func waitSum(c foresee.Case) string {
	sum := ""
	for _, s := range c.Steps {
		if s.Purpose == site.Commands || s.Purpose == site.RecordCommands {
			break // these come after the prompt
		}
		for i, t := range s.Tries {
			if t.Reply.Took == 0 || i+1 < len(s.Tries) && s.Tries[i+1].Server == t.Server {
				continue
			}
			if sum != "" {
				sum += " + "
			}
			sum += fmt.Sprintf("%s %d x %s", t.Server.Name, t.N, seconds(t.Reply.Took))
		}
	}
	return sum
}

// seconds shows a wait: "20 s", "1.5 s".
func seconds(d time.Duration) string {
	return fmt.Sprintf("%g s", d.Round(100*time.Millisecond).Seconds())
}
