package cause

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Names of causes.
const (
	KeyDiffers              = "key-differs"
	AskerUnknown            = "asker-unknown"
	Unreachable             = "unreachable"
	ServerOff               = "server-off"
	WrongPassword           = "wrong-password"
	UnknownPerson           = "unknown-person"
	DisabledOrExpired       = "disabled-or-expired"
	NoGrant                 = "no-grant"
	NoRights                = "no-rights"
	SessionRefused          = "session-refused"
	CommandRefused          = "command-refused"
	CommandStuck            = "command-stuck"
	LocalWhileServerAnswers = "local-while-server-answers"
	FallbackUsed            = "fallback-used"
	NoFallback              = "no-fallback"
	TooSlow                 = "too-slow"
	TLSRefused              = "tls-refused"
	SecondFactor            = "second-factor"
	PasswordForm            = "password-form"
	TemplateMissing         = "template-missing"
	RecordNotKept           = "record-not-kept"
	WrongPort               = "wrong-port"
	Malformed               = "malformed"
	DirectoryDown           = "directory-down"
	DirectoryRefusesUs      = "directory-refuses-us"
	DirectoryNoEntry        = "directory-no-entry"
	ServerSaysError         = "server-error"
	NotKnown                = "not-known" // the evidence does not tell
)

// Cause is one thing that went wrong, with what speaks for it and against it.
type Cause struct {
	Cause      string   `json:"cause"`
	Where      string   `json:"where"`
	Layer      string   `json:"layer"` // network | transport | protocol | identity | rights | design
	Confidence float64  `json:"confidence"`
	Says       string   `json:"says"` // one sentence
	Evidence   []string `json:"evidence"`
	Against    []string `json:"against"`
	Repair     string   `json:"repair"`
}

// Verdict is what the evidence comes to.
type Verdict struct {
	Causes  []Cause `json:"causes"`
	Healthy bool    `json:"healthy"`
	Story   Story   `json:"-"`
	Found   bool    `json:"-"` // whether there was a login to judge
	// LaterHealthy is when the same person was on the same device again, and
	// all was well; nil when that was not seen.
	LaterHealthy *time.Time `json:"later_healthy,omitempty"`
}

// Explain judges the newest login that fits the symptom and went wrong, else
// the newest that fits.
func Explain(e Evidence, symptom Symptom) Verdict {
	var newest *Verdict
	all := stories(e)
	for _, s := range slices.Backward(all) {
		if !symptom.fits(s.Device, s.Person, s.Access) {
			continue
		}
		v := judge(e, s)
		if !v.Healthy {
			if newest != nil && newest.Story.Device == s.Device && newest.Story.Person == s.Person {
				v.LaterHealthy = &newest.Story.Time
			}
			return v
		}
		if newest == nil {
			newest = &v
		}
	}
	if newest != nil {
		return *newest
	}
	return Verdict{Causes: []Cause{}}
}

// judge weighs one story.
func judge(e Evidence, s Story) Verdict {
	j := &judging{evidence: e, story: s}
	if s.Login == nil {
		j.fromServers()
	} else {
		j.fromDevice()
	}
	v := Verdict{Causes: j.causes, Story: s, Found: true, Healthy: len(j.causes) == 0}
	if v.Causes == nil {
		v.Causes = []Cause{}
	}
	for i := range v.Causes {
		c := &v.Causes[i]
		if c.Evidence == nil {
			c.Evidence = []string{}
		}
		if c.Against == nil {
			c.Against = []string{}
		}
	}
	return v
}

type judging struct {
	evidence Evidence
	story    Story
	causes   []Cause
}

func (j *judging) add(c Cause) {
	for i, have := range j.causes {
		if have.Cause == c.Cause && have.Where == c.Where {
			j.causes[i].Evidence = append(j.causes[i].Evidence, c.Evidence...)
			return
		}
	}
	j.causes = append(j.causes, c)
}

// where names the device and way in of the story.
func (j *judging) where() string {
	if j.story.Access == "" {
		return j.story.Device
	}
	return j.story.Device + " by " + j.story.Access
}

// fromDevice judges a login that the device noted.
func (j *judging) fromDevice() {
	t := j.story.Login
	last := TraceStep{}
	if len(t.Steps) > 0 {
		last = t.Steps[len(t.Steps)-1]
	}
	decided := decidingStep(t.Steps, t.Outcome)
	switch {
	case t.Outcome == "refused" && t.Reason == string(walk.GivesUpFirst):
		j.unanswered(t.Steps)
		j.add(Cause{Cause: TooSlow, Where: j.where(), Layer: "design", Confidence: 0.9,
			Says:     fmt.Sprintf("the login waited %.1f s, longer than the patience of the way in", t.Seconds),
			Evidence: []string{fmt.Sprintf("the device gave up after %.1f s", t.Seconds)},
			Repair:   "lower wait or tries of the silent servers, or give the kind a longer login-window"})
	case t.Outcome == "refused" && decided.Result == "refused" && decided.Purpose == "login":
		j.refused(decided)
	case t.Outcome == "refused" && last.Purpose == "session":
		j.sessionRefused(last)
	case t.Outcome == "refused" && t.Reason == string(walk.BelowLevel):
		j.add(Cause{Cause: NoRights, Where: j.where(), Layer: "rights", Confidence: 0.95,
			Says:     fmt.Sprintf("%s was let in by %s, and does not have the level that this way in needs", t.Person, t.By),
			Evidence: []string{"the device noted: " + t.Reason},
			Repair:   "give the person's role the level that the kind needs here (web-needs-level, api-needs-level), or another way in"})
	case t.Outcome == "refused" && t.Reason == string(walk.TemplateMissing):
		j.add(Cause{Cause: TemplateMissing, Where: j.where(), Layer: "rights", Confidence: 0.97,
			Says:     fmt.Sprintf("%s let %s in with the rights of a local account that is not on the device", t.By, t.Person),
			Evidence: []string{"the device noted: " + t.Reason},
			Repair:   "add that account to the device, or take account out of the person's role"})
	case t.Outcome == "refused" && t.Reason == string(walk.NotRecorded):
		j.add(Cause{Cause: RecordNotKept, Where: j.where(), Layer: "records", Confidence: 0.95,
			Says:     "the start of the session could not be recorded, and this kind of device then lets nobody in",
			Evidence: []string{"the device noted: " + t.Reason},
			Repair:   "bring a server back that takes records; or let the kind ignore it: record-failure: ignores"})
		j.unanswered(t.Steps)
	case t.Outcome == "refused" && t.Reason == string(walk.ListEnded):
		j.ended(last)
	case t.By == string(site.ByLocal):
		j.fallback()
	default:
		j.rights()
		j.unanswered(t.Steps) // in, and yet somebody waited
	}
	for _, c := range j.story.Commands {
		j.command(c)
	}
	if t.Outcome == "refused" && len(j.causes) == 0 {
		j.add(Cause{Cause: NotKnown, Where: j.where(), Layer: "protocol", Confidence: 0.1,
			Says:     "the login was refused, and the evidence does not tell why",
			Evidence: []string{fmt.Sprintf("the device noted: %s", t.Reason)},
			Repair:   "look at the servers' events and at the traffic: mellowgate listen -full"})
	}
}

const tlsRepair = "compare the two sides: both speak TLS on this port, each has a certificate, and each trusts the authority of the other"

// decidingStep gives the login step that said no, or the last one.
func decidingStep(steps []TraceStep, outcome string) TraceStep {
	for _, s := range steps {
		if s.Purpose == "login" && outcome == "refused" && s.Result == "refused" {
			return s
		}
	}
	return TraceStep{}
}

// refused judges an authentic no at the login.
func (j *judging) refused(step TraceStep) {
	if step.Method == string(site.ByLocal) {
		j.add(Cause{Cause: WrongPassword, Where: j.where(), Layer: "identity", Confidence: 0.95,
			Says:     fmt.Sprintf("the password given is not that of the local account %s", j.story.Person),
			Evidence: []string{"the device compared it with its own account, because no server answered"},
			Repair:   "use the local account's password; the person's own password works again when a server answers"})
		j.unanswered(j.story.Login.Steps)
		return
	}
	seen := fmt.Sprintf("the server %s said no", step.By)
	e, known := j.story.event(func(e Event) bool { return (e.Answer == Refuse || e.Answer == Challenged) && e.Question == "login" })
	if known {
		j.fromEvent(e, seen)
		return
	}
	if j.isLocal() {
		j.localWhile([]string{seen, fmt.Sprintf("%s is a local account of %s", j.story.Person, j.story.Device)}, 0.8)
		return
	}
	unsure := "only the server knows which; its events are not at hand"
	for _, c := range []Cause{
		{Cause: WrongPassword, Confidence: 0.5, Says: "the server refused: the password is wrong, or the name is not known there", Repair: "look at the events of " + step.By + ", then set the person's password anew"},
		{Cause: UnknownPerson, Confidence: 0.3, Says: "the server may not know this name", Repair: "look at the events of " + step.By},
		{Cause: NoGrant, Confidence: 0.15, Says: "the server may know the person and have no grant for this device", Repair: "look at the events of " + step.By},
	} {
		c.Where, c.Layer, c.Evidence, c.Against = j.where(), "identity", []string{seen}, []string{unsure}
		j.add(c)
	}
}

// isLocal tells whether the name is known to be a local account of the device.
func (j *judging) isLocal() bool {
	if s := j.evidence.Site; s != nil {
		if d := s.Device(j.story.Device); d != nil {
			return d.Account(j.story.Person) != nil
		}
	}
	return slices.ContainsFunc(j.story.Before, func(t Trace) bool {
		return t.Person == j.story.Person && t.By == string(site.ByLocal) && t.Outcome == "in"
	})
}

func (j *judging) localWhile(evidence []string, confidence float64) {
	j.add(Cause{Cause: LocalWhileServerAnswers, Where: j.where(), Layer: "design", Confidence: confidence,
		Says:     fmt.Sprintf("%s is a local account, and a server answered: then only the server decides, and it does not know that name", j.story.Person),
		Evidence: evidence,
		Repair:   "this is as designed: use a personal account while servers answer; the local one works when none does"})
}

// fromEvent judges by the reason that a server noted.
func (j *judging) fromEvent(e Event, more ...string) {
	noted := fmt.Sprintf("%s noted at %s: %s", e.Server, e.Time.Format("15:04:05"), e.Text)
	if e.Place != "" {
		noted += " (" + e.Place + ")"
	}
	c := Cause{Where: j.where() + ", server " + e.Server, Layer: "identity", Confidence: 0.97, Evidence: append(more, noted), Says: e.Text}
	switch rights.Reason(e.Reason) {
	case rights.UnknownPerson:
		if j.isLocal() {
			j.localWhile(append(more, noted), 0.97)
			return
		}
		c.Cause = UnknownPerson
		c.Repair = "check the spelling, or add the person to the site: people: - name: " + j.story.Person
	case rights.WrongPassword:
		c.Cause, c.Repair = WrongPassword, "type it again with care; if it is lost, give the person a new password in the site"
	case rights.Disabled:
		c.Cause, c.Repair = DisabledOrExpired, "if the person is to come back: take disabled or until out of the site"
	case rights.NoGrant:
		c.Cause, c.Layer, c.Repair = NoGrant, "rights", "if the person is to get in: widen that grant, or add one"
	case rights.CommandRefused:
		c.Cause, c.Layer, c.Repair = CommandRefused, "rights", "if the command is to be allowed: add an allow rule to the role"
		if e.Rule != "" {
			c.Repair = "if the command is to be allowed: add an allow rule before this one"
		}
	case rights.CodeAsked:
		c.Cause, c.Says = SecondFactor, e.Server+" asked for a one-time code, and none was given"
		c.Repair = "answer with the code; if the device cannot ask for one, type it right after the password"
	case rights.SecondFactor:
		c.Cause, c.Repair = SecondFactor, "type the newest code right after the password; if it is refused again, compare the clock of what makes the codes"
	case rights.PasswordForm:
		c.Cause, c.Layer, c.Repair = PasswordForm, "protocol", "let the device send the password as PAP or by prompts, or keep this person's password so that it can be read: password: key NAME"
	case rights.NoEntry:
		if j.isLocal() {
			j.localWhile(append(more, noted), 0.97)
			return
		}
		c.Cause, c.Repair = DirectoryNoEntry, "check the spelling, and base and find of the directory; or add the person to the site"
	case rights.DirectoryDown:
		c.Cause, c.Layer, c.Repair = DirectoryDown, "network", "look at the directory itself, and at the path from this server to it"
	case rights.DirectoryRefuses:
		c.Cause, c.Layer, c.Repair = DirectoryRefusesUs, "identity", "give the directory the right name and password of who searches: bind: {as: DN, key: NAME}"
	case RecordNotKept:
		c.Cause, c.Layer, c.Repair = RecordNotKept, "records", "look at the disk of "+e.Server+": records are answered only once they are safe"
	case WrongPort:
		c.Cause, c.Layer, c.Repair = WrongPort, "transport", "compare the device's ports for "+e.Server+" with the site's: authentication and accounting each have one"
	case Malformed:
		c.Cause, c.Layer, c.Repair = Malformed, "protocol", "capture the exchange and look at it: mellowgate listen -full -capture FILE"
	case KeyDiffers:
		j.keyDiffers(e.Server, append(more, noted), nil, 0.97)
		return
	case "tls":
		c.Cause, c.Layer, c.Repair = TLSRefused, "transport", tlsRepair
	case AskerUnknown:
		c.Cause, c.Layer, c.Where = AskerUnknown, "protocol", "server "+e.Server+", asker "+e.Client
		c.Repair = "give the device that source address in the site, or add the device"
	default:
		return
	}
	j.add(c)
}

// ended judges a login list that ended without yes or no.
func (j *judging) ended(last TraceStep) {
	j.unanswered(j.story.Login.Steps)
	if last.Method == string(site.ByLocal) || last.Reason == string(walk.NoSuchAccount) {
		return // it fell back to local, and the person has no account there: the servers are the cause
	}
	if strings.HasPrefix(last.Method, "group ") {
		j.add(Cause{Cause: NoFallback, Where: fmt.Sprintf("%s, list %s", j.where(), last.List), Layer: "design", Confidence: 0.95,
			Says:     fmt.Sprintf("no server answered, and the list %s ends with servers", last.List),
			Evidence: []string{fmt.Sprintf("the last method, %s, was unavailable", last.Method)},
			Repair:   "end the list with local, and give the device a local account"})
	}
}

// sessionRefused judges a login that passed and a session that did not.
func (j *judging) sessionRefused(last TraceStep) {
	if e, ok := j.story.event(func(e Event) bool { return e.Answer == Refuse && e.Question == "session" }); ok {
		j.fromEvent(e, "the login was accepted, and the session then refused")
		return
	}
	j.unanswered(j.story.Login.Steps)
	j.add(Cause{Cause: SessionRefused, Where: fmt.Sprintf("%s, list %s", j.where(), last.List), Layer: "rights", Confidence: 0.8,
		Says:     "the login was accepted, and the authorization of the session was not",
		Evidence: []string{fmt.Sprintf("session: %s was %s (%s)", last.Method, last.Result, last.Reason)},
		Repair:   "end the session list with local, as the login list does"})
}

// fallback judges a login by the local account.
func (j *judging) fallback() {
	asked := false
	for _, s := range j.story.Login.Steps {
		asked = asked || s.Purpose == "login" && strings.HasPrefix(s.Method, "group ") && s.Result == string(walk.Unavailable)
	}
	if !asked {
		return // the list has local first: as designed
	}
	j.add(Cause{Cause: FallbackUsed, Where: j.where(), Layer: "design", Confidence: 0.99,
		Says:     fmt.Sprintf("%s got in by the device's own account, because no server answered", j.story.Person),
		Evidence: []string{fmt.Sprintf("the device waited %.1f s for the servers first", j.story.Login.Seconds)},
		Repair:   "this is the way back in, as designed; find out below why no server answered"})
	j.unanswered(j.story.Login.Steps)
}

// rights judges whether someone who got in got their level.
func (j *judging) rights() {
	t := j.story.Login
	e, ok := j.story.event(func(e Event) bool { return e.Answer == Accept && e.Level != nil })
	if !ok || *e.Level <= t.Level {
		return
	}
	c := Cause{Cause: NoRights, Where: j.where(), Layer: "rights", Confidence: 0.9,
		Says:     fmt.Sprintf("%s is in at level %d, and the site gives level %d", t.Person, t.Level, *e.Level),
		Evidence: []string{fmt.Sprintf("%s accepted with level %d: %s", e.Server, *e.Level, e.Text)}}
	if !slices.ContainsFunc(t.Steps, func(s TraceStep) bool { return s.Purpose == "session" }) {
		c.Evidence = append(c.Evidence, "the device asked for no session authorization")
		c.Repair = "give the way in a session list; on a console the kind must also obey it (console-obeys-authorization)"
	} else {
		c.Confidence = 0.75
		c.Repair = "the session's answer carried no level that the device reads; compare the role and the session list"
	}
	j.add(c)
}

// command judges a refused command.
func (j *judging) command(t Trace) {
	last := TraceStep{}
	for _, s := range t.Steps {
		if s.Purpose == "commands" {
			last = s
		}
	}
	if last.Result == string(walk.Refused) {
		seen := fmt.Sprintf("%s refused %q to %s", last.By, t.Command, t.Person)
		if e, ok := j.story.event(func(e Event) bool {
			return e.Answer == Refuse && e.Question == "commands" && e.Command == t.Command
		}); ok {
			j.fromEvent(e, seen)
			return
		}
		j.add(Cause{Cause: CommandRefused, Where: j.where(), Layer: "rights", Confidence: 0.85,
			Says:     fmt.Sprintf("the server %s does not allow %q", last.By, t.Command),
			Evidence: []string{seen}, Against: []string{"the server's events, which name the rule, are not at hand"},
			Repair: "look at the command rules of the person's role"})
		return
	}
	j.add(Cause{Cause: CommandStuck, Where: fmt.Sprintf("%s, list %s", j.where(), last.List), Layer: "design", Confidence: 0.95,
		Says:     fmt.Sprintf("%q was not allowed because no server answered and the list %s has no fallback for this person", t.Command, last.List),
		Evidence: []string{fmt.Sprintf("the last method, %s, was unavailable", last.Method)},
		Repair:   "end the list of commands with local, or with signed-in"})
	j.unanswered(t.Steps)
}

// fromServers judges what servers alone noted.
func (j *judging) fromServers() {
	for i, e := range j.story.Events {
		left := e.Answer == Challenged && i == len(j.story.Events)-1 // nobody answered it
		if left || e.Answer == Refuse || e.Answer == Dropped || e.Answer == Failed {
			j.fromEvent(e)
		}
	}
}
