// Package walk holds how a device decides: how it walks a method list, asks
// the servers of a group, rests them, falls back, and what a login is from
// knock to goodbye. Nothing else decides. The walker is given its answers and
// the time: `foresee` imagines the answers, a stand-in device gets them from
// packets.
package walk

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
)

// Result is what one method, or a whole list, comes to.
type Result string

const (
	Accepted    Result = "accepted"
	Refused     Result = "refused"
	Unavailable Result = "unavailable"
)

// Question is what a device asks a server.
type Question struct {
	Purpose site.Purpose
	Device  *site.Device
	Way     *site.Way
	Person  string
	Level   int    // the level the person has now
	Line    string // the command, for Commands and RecordCommands
	Start   bool   // for records: a start, not a stop
	Update  bool   // for records of sessions: the session goes on
	Elapsed time.Duration
	Method  site.MethodKind // by which method the person was let in
}

// Reply is the result of one transmission to one server.
type Reply struct {
	Result     Result // Unavailable when there was no valid answer
	Reason     reason.Reason
	Message    string // the server's message, or what went wrong
	Answer     Said   // what the server said, "" for nothing
	Took       time.Duration
	Attributes []rights.Attribute
}

// Exchange is one question on its way to one server. Try sends it for the nth
// time, from 1, and waits for the answer at most the server's wait.
type Exchange interface {
	Try(n int) Reply
	Close()
}

// World is where a walk gets its answers.
type World interface {
	// Begin starts an exchange with a server.
	Begin(s *site.Server, q Question) Exchange
	// PasswordIs tells whether the password given is that of the account.
	PasswordIs(a *site.Account) bool
	// SecretIs tells whether the secret given for an elevation is the right one.
	SecretIs(e *site.ElevationSecret) bool
}

// Try is one transmission as it went.
type Try struct {
	Server *site.Server
	N      int
	Reply  Reply
}

// Step is one method of a list as it went.
type Step struct {
	Purpose site.Purpose
	List    *site.List // nil: the built-in login
	Method  site.Method
	Result  Result
	Reason  reason.Reason
	By      string // who answered: a server's name, or the method
	Took    time.Duration
	Tries   []Try
	Rested  []*site.Server // servers passed over because they rest
	reply   Reply
}

// Visit is one person at one way in of one device, from knock to goodbye.
// Its methods stand in the order in which they happen.
type Visit struct {
	Device *site.Device
	Way    *site.Way
	World  World
	Rests  *Rests
	Now    time.Duration // the time, since any fixed moment
	Person string
	From   netip.Addr // where the person comes from; the zero Addr where that is not known
	Steps  []Step     // everything that has happened

	consulted []site.Aspect // in the order in which they first mattered
	elapsed   time.Duration
	entry     Entry
	limited   bool // the answer that gave the rights carries command rules too
	rules     []site.Rule
	given     string // by whom
}

// Consulted returns the behaviour of the platform that what happened so far hangs on, in the
// order in which they came to matter: with other values of all others it had gone the same.
func (v *Visit) Consulted() []site.Aspect { return v.consulted }

// Consult notes that what happens next hangs on an aspect, and returns the aspects.
func (v *Visit) Consult(t site.Aspect) *site.Behaviour {
	if !slices.Contains(v.consulted, t) {
		v.consulted = append(v.consulted, t)
	}
	return &v.Device.Platform.Behaviour
}

// late reports whether a login has taken longer than the way in waits.
func (v *Visit) late() bool {
	return v.elapsed > 0 && v.elapsed > v.Consult(site.AspectLoginWindow).LoginWindow
}

// Entry is how a login came out.
type Entry struct {
	In     bool
	Open   bool // let in by none: without valid credentials being asked for
	Level  int
	By     string          // who let the person in, or refused
	Method site.MethodKind // by which method
	Reason reason.Reason   // why not
	// Wait is the time from the password to the prompt, or to the refusal: at most the
	// patience of the way in. Needs is how long the walk takes without that.
	Wait, Needs time.Duration
}

// Enter walks a login: the login list, the session list, the level, what the
// way in needs, and the start of the record.
func (v *Visit) Enter(person string) Entry {
	v.Person = person
	if !v.Way.Takes(v.From) {
		return v.leaveWith(reason.NotFromHere)
	}
	login := v.login()
	v.entry = Entry{By: login.By, Method: login.Method.Kind, Reason: login.Reason}
	if login.Result != Accepted {
		return v.leaveWith(login.Reason)
	}
	v.entry.Open = login.Method.Kind == site.ByNone
	if v.late() {
		return v.leaveWith(reason.GivesUpFirst)
	}
	level, session := v.session(login)
	if session.Result == Refused || session.Result == Unavailable {
		v.entry.By = session.By
		return v.leaveWith(session.Reason)
	}
	v.entry.Level = level
	if v.belowNeeded(level) && !v.Consult(site.AspectBelowLevel).BelowLevelReads {
		return v.leaveWith(reason.BelowLevel)
	}
	if !v.record(site.RecordSessions, Question{Start: true}) {
		return v.leaveWith(reason.NotRecorded)
	}
	if v.late() {
		return v.leaveWith(reason.GivesUpFirst)
	}
	v.entry.In, v.entry.Reason = true, ""
	v.entry.Wait, v.entry.Needs = v.elapsed, v.elapsed
	return v.entry
}

func (v *Visit) leaveWith(r reason.Reason) Entry {
	v.entry.In = false
	v.entry.Level = 0
	v.entry.Reason = r
	v.entry.Wait, v.entry.Needs = v.elapsed, v.elapsed
	if v.late() {
		v.entry.Wait = v.Device.Platform.Behaviour.LoginWindow
	}
	return v.entry
}

// belowNeeded reports whether a level is below what the way in needs.
func (v *Visit) belowNeeded(level int) bool {
	switch v.Way.Access {
	case site.Web:
		return level < v.Consult(site.AspectWebNeedsLevel).WebNeedsLevel
	case site.API:
		return level < v.Consult(site.AspectAPINeedsLevel).APINeedsLevel
	}
	return false
}

func (v *Visit) login() Step {
	list, named := v.Device.LoginList(v.Way, v.Person)
	if !named {
		by := v.Consult(site.AspectBuiltInLogin).BuiltInLogin
		built := &site.List{Purpose: site.Login, Methods: []site.Method{{Kind: by}}}
		step := v.list(built, Question{Purpose: site.Login})
		v.Steps[len(v.Steps)-1].List = nil
		return step
	}
	return v.list(list, Question{Purpose: site.Login})
}

// session works out the level: by the session list, or without one.
func (v *Visit) session(login Step) (int, Step) {
	platform := v.Device.Platform
	if v.Way.Rules() {
		v.Consult(site.AspectConsoleObeys)
	}
	list := v.Way.Lists[site.Session]
	if list == nil {
		if level, step, decided := v.withLogin(login); decided {
			return level, step
		}
		if a := v.Device.Account(v.Person); a != nil && (login.Method.Kind == site.ByLocal || a.Login != nil) &&
			!v.Consult(site.AspectLocalLevelNeedsSession).LocalLevelNeedsSession {
			return a.Level, Step{Result: Accepted}
		}
		return v.Consult(site.AspectLevelWithoutSession).LevelWithoutSession,
			Step{Result: Accepted, Reason: reason.NoList}
	}
	step := v.list(list, Question{Purpose: site.Session, Method: login.Method.Kind})
	if step.Result != Accepted {
		return 0, step
	}
	v.holds(step)
	if name := rights.Template(step.reply.Attributes, platform); name != "" {
		a := v.Device.Account(name)
		if a == nil {
			step.Result, step.Reason = Refused, reason.TemplateMissing
			return 0, step
		}
		return a.Level, step
	}
	if level, ok := v.level(step); ok {
		return level, step
	}
	if a := v.own(step); a != nil {
		return a.Level, step
	}
	if a := v.Device.Account(v.Person); step.Method.Kind == site.ByLocal && a != nil {
		return a.Level, step
	}
	return 1, step // no level given
}

// withLogin works out the level by what came with the login, where a platform obeys that
// without a session list: RADIUS carries the rights in its answer (RFC 2865,
// section 5.6).
func (v *Visit) withLogin(login Step) (level int, step Step, decided bool) {
	platform := v.Device.Platform
	if login.Method.Protocol() != site.RADIUS || !v.Consult(site.AspectRightsWithLogin).RightsWithLogin {
		return 0, Step{}, false
	}
	v.holds(login)
	if name := rights.Template(login.reply.Attributes, platform); name != "" {
		a := v.Device.Account(name)
		if a == nil {
			return 0, Step{Result: Refused, Reason: reason.TemplateMissing, By: login.By}, true
		}
		return a.Level, Step{Result: Accepted}, true
	}
	if level, ok := v.level(login); ok {
		return level, Step{Result: Accepted}, true
	}
	if a := v.own(login); a != nil {
		return a.Level, Step{Result: Accepted}, true
	}
	return 0, Step{}, false
}

// level returns the level that an answer carries, false where it carries none.
func (v *Visit) level(by Step) (int, bool) {
	if by.Method.Protocol() == site.RADIUS {
		v.Consult(site.AspectLevelFrom)
	}
	return rights.Level(by.reply.Attributes, v.Device.Platform)
}

// holds takes the command rules that an answer of RADIUS carries, where a platform has a
// form for them: the device holds them for the session.
func (v *Visit) holds(by Step) {
	if by.Method.Protocol() == site.RADIUS {
		v.rules, v.limited = rights.CarriedCommands(by.reply.Attributes, v.Device.Platform)
		v.given = by.By
	}
}

// Rules returns the command rules that the device holds for the session, and whether it
// holds any.
func (v *Visit) Rules() ([]site.Rule, bool) { return v.rules, v.limited }

// passes compares a command with the rules that the device holds.
func (v *Visit) passes(line string) Verdict {
	allowed, rule := rights.Passes(v.rules, line)
	step := Step{Purpose: site.Commands, Method: site.Method{Kind: site.ByRules}, Result: Accepted, By: v.given}
	verdict := Verdict{Allowed: allowed, By: v.given}
	if !allowed {
		step.Result = Refused
		step.Reason = reason.CommandRefused
		verdict.Reason = reason.CommandRefused
		verdict.Message = fmt.Sprintf("the rule %q that came with the login refuses it", rule.Text)
	}
	v.Steps = append(v.Steps, step)
	return verdict
}

// own returns the account of the person's own name, where a platform gives its rights
// to whom a server has let in and said no more of, or where the account is tied to
// a list; nil for none.
func (v *Visit) own(by Step) *site.Account {
	a := v.Device.Account(v.Person)
	if a == nil || by.Method.Kind != site.ByGroup ||
		a.Login == nil && !v.Consult(site.AspectAccountByName).AccountByName {
		return nil
	}
	return a
}

// Verdict is how a command came out.
type Verdict struct {
	Allowed bool
	By      string
	Reason  reason.Reason
	Message string
	Wait    time.Duration
}

// Command walks the command list for a line whose own level is level, and
// keeps the record of a command that is allowed.
func (v *Visit) Command(now time.Duration, line string, level int) Verdict {
	v.Now = now
	before := v.elapsed
	verdict := Verdict{Allowed: true}
	if v.limited {
		verdict = v.passes(line)
	}
	if list := v.Way.Lists[site.Commands]; verdict.Allowed && list != nil && list.Levels.Has(level) {
		step := v.list(list, Question{Purpose: site.Commands, Level: v.entry.Level, Line: line, Method: v.entry.Method})
		verdict = Verdict{Allowed: step.Result == Accepted, By: step.By, Reason: step.Reason,
			Message: step.reply.Message}
	}
	if list := v.Way.Lists[site.RecordCommands]; verdict.Allowed && list != nil && list.Levels.Has(level) {
		kept := true
		if list.Start {
			kept = v.record(site.RecordCommands, Question{Line: line, Start: true})
		}
		if !v.record(site.RecordCommands, Question{Line: line}) || !kept {
			verdict.Allowed, verdict.Reason = false, reason.NotRecorded
		}
	}
	verdict.Wait = v.elapsed - before
	return verdict
}

// Elevate walks the elevation list for a higher level, and returns what came of
// it. Without such a list the level stays.
func (v *Visit) Elevate(now time.Duration, level int) Verdict {
	v.Now = now
	list := v.Way.Lists[site.Elevation]
	if list == nil {
		return Verdict{Reason: reason.NoList}
	}
	before := v.elapsed
	step := v.list(list, Question{Purpose: site.Elevation, Level: level, Method: v.entry.Method})
	if step.Result == Accepted {
		v.entry.Level = max(v.entry.Level, level)
	}
	return Verdict{Allowed: step.Result == Accepted, By: step.By, Reason: step.Reason, Message: step.reply.Message,
		Wait: v.elapsed - before}
}

// Leave keeps the record of the end of the session.
func (v *Visit) Leave(now, elapsed time.Duration) {
	v.Now = now
	if v.entry.In {
		v.record(site.RecordSessions, Question{Elapsed: elapsed})
	}
}

// System keeps the record that the device itself has started, or stops. It is
// false when the device has no list for that.
func (v *Visit) System(now time.Duration, start bool) bool {
	v.Now = now
	if v.Way.Lists[site.RecordSystem] == nil {
		return false
	}
	v.record(site.RecordSystem, Question{Start: start})
	return true
}

// record walks a list of records. It is false when nothing was recorded and
// the platform insists on it.
func (v *Visit) record(p site.Purpose, q Question) bool {
	list := v.Way.Lists[p]
	if list == nil || p != site.RecordSystem && (q.Start && !list.Start || !q.Start && list.NoStop) {
		return true
	}
	q.Purpose = p
	q.Level = v.entry.Level
	q.Method = v.entry.Method
	step := v.list(list, q)
	return step.Result == Accepted || !v.Consult(site.AspectRecordFailure).RecordFailureBlocks
}

// list walks the methods of a list in order: the first yes or no ends it.
func (v *Visit) list(l *site.List, q Question) Step {
	q.Device = v.Device
	q.Way = v.Way
	q.Person = v.Person
	var refused *Step
	var last Step
	if !l.For(v.Person) {
		step := Step{Purpose: l.Purpose, List: l, Method: site.Method{Kind: site.ByOnly}, Result: Refused,
			Reason: reason.NotListed}
		v.Steps = append(v.Steps, step)
		return step
	}
	for i, m := range l.Methods {
		step := v.method(m, q)
		step.Purpose = l.Purpose
		step.List = l
		step.Method = m
		v.Now += step.Took
		v.elapsed += step.Took
		v.Steps = append(v.Steps, step)
		last = step
		if step.Result == Accepted {
			return step
		}
		if step.Result == Refused {
			refused = &step
			if i == len(l.Methods)-1 || !v.Consult(site.AspectRefusal).RefusalTriesNext {
				break
			}
		}
	}
	if refused != nil {
		return *refused
	}
	last.Result = Unavailable
	last.Reason = reason.ListEnded
	last.By = ""
	return last
}

func (v *Visit) method(m site.Method, q Question) Step {
	if g, ok := m.Group(); ok {
		return v.group(g, q)
	}
	switch m.Kind {
	case site.ByGroup: // a name that leads nowhere
		return Step{Result: Unavailable, Reason: reason.NotSupported}
	case site.ByLocal:
		return v.local(q)
	case site.BySecret:
		if secret, ok := m.Secret(); ok && v.World.SecretIs(secret) && q.Level <= secret.Level {
			return Step{Result: Accepted, By: m.String()}
		}
		return Step{Result: Refused, Reason: reason.WrongSecret, By: m.String()}
	case site.LinePassword:
		return Step{Result: Refused, Reason: reason.LinePassword, By: string(m.Kind)}
	}
	return Step{Result: Accepted, By: string(m.Kind)} // none, and signed-in: whoever asks has logged in
}

func (v *Visit) local(q Question) Step {
	step := Step{By: string(site.ByLocal)}
	a := v.Device.Account(v.Person)
	switch {
	case !slices.ContainsFunc(v.Device.Accounts, func(a *site.Account) bool { return !a.Password.None }):
		step.Result, step.Reason = Unavailable, reason.NoAccounts
	case a == nil && v.Consult(site.AspectUnknownAccount).UnknownAccountEnds:
		step.Result, step.Reason = Refused, reason.NoSuchAccount
	case a == nil:
		step.Result, step.Reason = Unavailable, reason.NoSuchAccount
	case (q.Purpose == site.Login || q.Purpose == site.Elevation) && !v.World.PasswordIs(a):
		step.Result, step.Reason = Refused, reason.WrongPassword
	case q.Purpose == site.Elevation && a.Level < q.Level:
		step.Result, step.Reason = Refused, reason.BelowLevel
	default:
		step.Result = Accepted
	}
	return step
}
