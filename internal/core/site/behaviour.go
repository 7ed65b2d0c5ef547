package site

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Behaviour is how a make of device behaves. The zero value is not usable; start
// from DefaultTraits.
type Behaviour struct {
	RefusalTriesNext    bool // refusal: a refusal goes on to the next method (RFC 7317 devices)
	UnknownAccountEnds  bool // unknown-account: a name without a local account is refused at once
	AllRestingPasses    bool // all-dead: a group whose servers all rest is passed over, not asked
	RestEndsWithLast    bool // dead-time-ends: rests end when all of the group rest, not by time
	HeedsICMP           bool // notices-closed-port: a closed RADIUS port is noticed at once
	LevelWithoutSession int  // level-without-session: the level when no session list gives one
	// local-level-needs-session: a local account's level counts only by a session list
	LocalLevelNeedsSession bool
	ConsoleObeys           bool          // console-obeys-authorization: session and command lists hold on the console
	WebNeedsLevel          int           // web-needs-level
	APINeedsLevel          int           // api-needs-level
	BelowLevelReads        bool          // below-level: below the needed level the pages can be read
	LoginWindow            time.Duration // login-timeout: the patience of a way in
	// WindowAtLeast is above 0 where only that is known of the patience: login-timeout: at-least 12s
	WindowAtLeast time.Duration
	BuiltInLogin  MethodKind // default-login: what a way in without a login list does
	LoginTries    int        // login-tries: passwords asked for on one connection
	// level-attribute: the RADIUS attribute that carries the level, "" for those of the RFCs
	LevelFrom string
	// LevelForm is the form of its value, with {level} in the place of the level; "" for
	// the level alone.
	LevelForm string
	// account-attribute: the attribute that names a local account whose rights hold, "" for none
	AccountFrom   string
	AccountByName bool // account-by-name: the rights of the person's own name, where no attribute comes
	// rights-with-login: what RADIUS gives with the login counts without a session list
	RightsWithLogin     bool
	RecordFailureBlocks bool          // accounting-failure: without the record of its start a session is refused
	Unspoken            []Protocol    // speaks: the protocols that the platform does not speak
	PasswordAs          PasswordForms // password-form
	PortNames           PortNames     // port-names: nil where the platform does not say
	Networks            string        // networks: any, default-only or default-and-management
	Lines               Range         // lines: those that ssh and telnet have together
	LegacyPorts         bool          // default-ports: a RADIUS server without ports is asked at 1645 and 1646
	// command-rules-over-radius: rules that the device holds are chosen by a returned name
	CommandRulesOverRADIUS bool
	// commands-from: the vendor in whose form RADIUS carries the commands of a role, "" for none
	CommandsFrom   Ref
	RecordsSecrets bool     // secrets-in-accounting: records of commands hold secrets in clear
	LacksModels    []string // models: those of Models that the platform does not have
	// DisconnectPort is the UDP port at which the platform takes a Disconnect-Request
	// (RFC 5176, section 2), 0 where it takes none: disconnect-port.
	DisconnectPort int
	// SwitchedOn: central logins are off until they are switched on as a whole: aaa-switch
	SwitchedOn bool
	// PagesRestart: pages take other lists only after they are started again: pages-take-lists
	PagesRestart bool
	// RESTCONF: its API is RESTCONF (RFC 8040) too: restconf
	RESTCONF  bool
	TakesBack string // rollback: how the platform takes a change back by itself, one of the words below
}

// The forms in which a password reaches a server.
const (
	ASCII    = "ascii" // the prompts of TACACS+, RFC 8907 section 5.4.2.1
	PAP      = "pap"
	CHAP     = "chap"
	MSCHAPv2 = "mschapv2"
)

// FormsOf returns the forms of a protocol, the usual one first.
func FormsOf(p Protocol) []string {
	switch p {
	case TACACS:
		return []string{ASCII, PAP, CHAP, MSCHAPv2}
	case RADIUS:
		return []string{PAP, CHAP, MSCHAPv2}
	}
	return []string{PAP} // a directory is bound to with the password itself
}

// PasswordForms is the form in which a device sends a password, by protocol.
type PasswordForms struct{ RADIUS, TACACS string }

// Of returns the form for a protocol; LDAP has one only.
func (f PasswordForms) Of(p Protocol) string {
	switch p {
	case RADIUS:
		return f.RADIUS
	case TACACS:
		return f.TACACS
	}
	return PAP
}

// OneWay reports whether a form can be checked against a one-way hash.
func OneWay(form string) bool { return form != CHAP && form != MSCHAPv2 }

// Speaks reports whether devices of the platform speak a protocol.
func (t Behaviour) Speaks(p Protocol) bool { return !slices.Contains(t.Unspoken, p) }

// NeedsLevel returns the level that a way in of the platform needs, by its access, and
// the aspect that says so, "" where none does.
func (t Behaviour) NeedsLevel(access string) (level int, aspect string) {
	switch access {
	case Web:
		return t.WebNeedsLevel, "web-needs-level"
	case API:
		return t.APINeedsLevel, "api-needs-level"
	}
	return 0, ""
}

// Networks that a platform can send its requests through.
const (
	AnyNetwork        = "any"
	DefaultOnly       = "default-only"
	DefaultAndOneMore = "default-and-management"
)

// Near reports whether a routing instance is the one that every platform can use.
func Near(network string) bool { return network == "" || network == "default" }

// Reaches reports whether the platform can use servers through a routing instance.
func (t Behaviour) Reaches(network string) bool {
	switch {
	case Near(network) || t.Networks == AnyNetwork:
		return true
	case t.Networks == DefaultAndOneMore:
		return network == "management"
	}
	return false
}

// Models are the open models by which a platform may be configured.
var Models = []string{"ietf-system", "ietf-system-tacacs-plus", "openconfig-system"}

// How a platform takes a change of its configuration back by itself.
const (
	ConfirmedCommit      = "confirmed-commit"       // RFC 6241, section 8.4
	FirstConfirmedCommit = "first-confirmed-commit" // of RFC 4741: it cannot be told to
	TakesNothingBack     = "nothing"                // there is a candidate, and that is all
	NoCandidate          = "no-candidate"           // what is written runs at once
)

// HasModel reports whether devices of the platform have a model.
func (t Behaviour) HasModel(name string) bool { return !slices.Contains(t.LacksModels, name) }

// Platform is a make of device.
type Platform struct {
	Ref
	Phrasebook Ref // the file of its phrasebook, from the site's folder; "" for none
	Behaviour  Behaviour
	Commands   *CommandRights // by its aspect commands-from; nil for none
	said       aspectSet      // the aspects that the site says, of those that a login can show
	// TraitsAt is where the mapping of its aspects begins, and FormsAt that of password-form in it.
	BehaviourAt, FormsAt Place
}

// DefaultBehaviour returns the behaviour of a platform that says nothing: each is what an
// open standard says or, where none speaks of it, what is safe to assume. What a
// make really does is for its platform to say.
func DefaultBehaviour() Behaviour {
	return Behaviour{
		// RFC 7317, user-authentication-order: "If authentication with one method
		// fails, the next method is used." The same in the OpenConfig model of AAA.
		RefusalTriesNext: true,
		// The same: a name without a local account is a method that fails.
		UnknownAccountEnds: false,
		// No standard. Safe: it is waited for the servers, which may be up again.
		AllRestingPasses: false,
		// No standard. Safe: a dead-time ends as late as it says.
		RestEndsWithLast: false,
		// RFC 1122, section 4.1.3.3, lets an application see it, and asks for no more.
		// Safe: the device waits all its attempts.
		HeedsICMP: false,
		// RFC 8907, section 9: TAC_PLUS_PRIV_LVL_USER is 1, the least that a user has.
		LevelWithoutSession: 1,
		// RFC 7317 has no list for sessions: an account has its own rights.
		LocalLevelNeedsSession: false,
		// RFC 8907 makes no exception for a console.
		ConsoleObeys: true,
		// No standard asks for a level on pages: who is let in may look, and the role
		// decides the rest.
		WebNeedsLevel: 0, APINeedsLevel: 0, BelowLevelReads: false,
		// No standard for all ways in (RFC 4252, section 4, recommends ten minutes for
		// SSH). Safe: a short patience is found where waiting could be longer.
		LoginWindow: 30 * time.Second,
		// RFC 7317: without an order, local users are authenticated.
		BuiltInLogin: ByLocal,
		// No standard below the 20 of RFC 4252, section 4. Safe: few.
		LoginTries: 3,
		// RFC 5607, section 6.4, and RFC 2865, section 5.6.
		LevelFrom: "", AccountFrom: "",
		// RFC 2866 and RFC 8907 let a session begin without its record.
		RecordFailureBlocks: false,
		// RFC 2865, section 2: PAP; RFC 8907, section 5.4.2.1: ASCII.
		PasswordAs: PasswordForms{RADIUS: PAP, TACACS: ASCII},
		Networks:   AnyNetwork,
		// No standard. Ten sessions at a time.
		Lines: Range{Low: 0, High: 9},
		// RFC 2865, section 3: 1645 is of old, 1812 is right.
		LegacyPorts: false,
		// RFC 5176 is for those who have it. Safe: nothing is sent.
		DisconnectPort: 0,
		// RFC 6241, section 8.4.
		TakesBack: ConfirmedCommit,
	}
}

// aspect reads its value from text into t, and back, and says what it takes.
type aspect struct {
	takes string
	set   func(t *Behaviour, text string) bool
	get   func(t Behaviour) string
}

// choice makes an aspect of two words: the first is the zero behaviour.
func choice(first, second string, at func(*Behaviour) *bool) aspect {
	return aspect{takes: first + " or " + second, set: func(t *Behaviour, text string) bool {
		*at(t) = text == second
		return text == first || text == second
	}, get: func(t Behaviour) string {
		if *at(&t) {
			return second
		}
		return first
	}}
}

func yesNo(at func(*Behaviour) *bool) aspect {
	return aspect{takes: "true or false", set: func(t *Behaviour, text string) bool {
		on, known := truth[strings.ToLower(text)]
		*at(t) = on
		return known
	}, get: func(t Behaviour) string { return strconv.FormatBool(*at(&t)) }}
}

func number(low, high int, at func(*Behaviour) *int) aspect {
	return aspect{takes: fmt.Sprintf("a whole number from %d to %d", low, high),
		set: func(t *Behaviour, text string) bool {
			n, err := strconv.Atoi(text)
			*at(t) = n
			return err == nil && n >= low && n <= high
		}, get: func(t Behaviour) string { return strconv.Itoa(*at(&t)) }}
}

var behaviour = map[string]aspect{
	"refusal": choice("ends-list", "tries-next", func(t *Behaviour) *bool { return &t.RefusalTriesNext }),
	"unknown-account": choice("tries-next", "ends-list",
		func(t *Behaviour) *bool { return &t.UnknownAccountEnds }),
	"all-dead": choice("asks-first", "passes",
		func(t *Behaviour) *bool { return &t.AllRestingPasses }),
	"dead-time-ends": choice("by-time", "with-last",
		func(t *Behaviour) *bool { return &t.RestEndsWithLast }),
	"below-level":                 choice("refused", "reads", func(t *Behaviour) *bool { return &t.BelowLevelReads }),
	"notices-closed-port":         yesNo(func(t *Behaviour) *bool { return &t.HeedsICMP }),
	"local-level-needs-session":   yesNo(func(t *Behaviour) *bool { return &t.LocalLevelNeedsSession }),
	"account-by-name":             yesNo(func(t *Behaviour) *bool { return &t.AccountByName }),
	"rights-with-login":           yesNo(func(t *Behaviour) *bool { return &t.RightsWithLogin }),
	"console-obeys-authorization": yesNo(func(t *Behaviour) *bool { return &t.ConsoleObeys }),
	"restconf":                    yesNo(func(t *Behaviour) *bool { return &t.RESTCONF }),
	"level-without-session":       number(0, 15, func(t *Behaviour) *int { return &t.LevelWithoutSession }),
	"web-needs-level":             number(0, 15, func(t *Behaviour) *int { return &t.WebNeedsLevel }),
	"api-needs-level":             number(0, 15, func(t *Behaviour) *int { return &t.APINeedsLevel }),
	"login-tries":                 number(1, 10, func(t *Behaviour) *int { return &t.LoginTries }),
	"disconnect-port":             number(0, 65535, func(t *Behaviour) *int { return &t.DisconnectPort }),
	"login-timeout": {takes: "a duration such as 30s, up to 10m, or at-least and a duration", set: func(t *Behaviour,
		text string) bool {
		text, least := strings.CutPrefix(text, atLeast)
		d, err := time.ParseDuration(text)
		t.LoginWindow, t.WindowAtLeast = d, 0
		if least {
			t.LoginWindow, t.WindowAtLeast = max(d, DefaultBehaviour().LoginWindow), d
		}
		return err == nil && d > 0 && d <= 10*time.Minute
	}, get: func(t Behaviour) string { return ShortTime(t.LoginWindow) }},
	"accounting-failure": choice("ignores", "blocks",
		func(t *Behaviour) *bool { return &t.RecordFailureBlocks }),
	"default-ports": choice("modern", "legacy", func(t *Behaviour) *bool { return &t.LegacyPorts }),
	"command-rules-over-radius": choice("none", "by-name",
		func(t *Behaviour) *bool { return &t.CommandRulesOverRADIUS }),
	"aaa-switch": choice("none", "once", func(t *Behaviour) *bool { return &t.SwitchedOn }),
	"pages-take-lists": choice("at-once", "after-restart",
		func(t *Behaviour) *bool { return &t.PagesRestart }),
	"secrets-in-accounting": choice("masked", "in-clear", func(t *Behaviour) *bool { return &t.RecordsSecrets }),
	"level-attribute": {takes: "radius-standard, or the name of an attribute and, after a blank, the form of its " +
		"value " +
		"such as text={level}", set: func(t *Behaviour, text string) bool {
		name, form, formed := strings.Cut(text, " ")
		t.LevelFrom, t.LevelForm = name, strings.TrimSpace(form)
		if name == "radius-standard" {
			t.LevelFrom = ""
			return !formed
		}
		return isName(name) && (!formed || strings.Count(t.LevelForm, levelPlace) == 1)
	}, get: func(t Behaviour) string {
		return strings.TrimSpace(cmp.Or(t.LevelFrom, "radius-standard") + " " + t.LevelForm)
	}},
	"account-attribute": attributeAspect("none", func(t *Behaviour) *string { return &t.AccountFrom }),
	"networks": {takes: "any, default-only or default-and-management", set: func(t *Behaviour, text string) bool {
		t.Networks = text
		return text == AnyNetwork || text == DefaultOnly || text == DefaultAndOneMore
	}, get: func(t Behaviour) string { return t.Networks }},
	"lines": {takes: "a range such as 0-9", set: func(t *Behaviour, text string) bool {
		var ok bool
		t.Lines, ok = parseRange(text, mostLine)
		return ok
	}, get: func(t Behaviour) string { return t.Lines.String() }},
	"rollback": {takes: ConfirmedCommit + ", " + FirstConfirmedCommit + ", " + TakesNothingBack + " or " +
		NoCandidate,
		set: func(t *Behaviour, text string) bool {
			t.TakesBack = text
			return slices.Contains([]string{ConfirmedCommit, FirstConfirmedCommit, TakesNothingBack, NoCandidate}, text)
		}, get: func(t Behaviour) string { return t.TakesBack }},
	"default-login": {takes: "local, none or line-password", set: func(t *Behaviour, text string) bool {
		t.BuiltInLogin = MethodKind(text)
		return t.BuiltInLogin == ByLocal || t.BuiltInLogin == ByNone || t.BuiltInLogin == LinePassword
	}, get: func(t Behaviour) string { return string(t.BuiltInLogin) }},
}

// atLeast begins a value of login-timeout that is only a bound.
const atLeast = "at-least "

// levelPlace stands for the level in the form of an attribute's value.
const levelPlace = "{level}"

// LevelText returns a level as the platform's attribute carries it.
func (t Behaviour) LevelText(level int) string {
	if t.LevelForm == "" {
		return strconv.Itoa(level)
	}
	return strings.Replace(t.LevelForm, levelPlace, strconv.Itoa(level), 1)
}

// LevelIn reads the level from a value of the platform's attribute; false where it is
// none from 0 to 15 in that form.
func (t Behaviour) LevelIn(value string) (int, bool) {
	before, after, _ := strings.Cut(t.LevelForm, levelPlace)
	text, has := strings.CutPrefix(value, before)
	text, ends := strings.CutSuffix(text, after)
	n, err := strconv.Atoi(text)
	return n, has && ends && err == nil && n >= 0 && n <= 15
}

// attributeAspect makes an aspect that is an attribute's name, or a word for none.
func attributeAspect(none string, at func(*Behaviour) *string) aspect {
	return aspect{takes: none + ", or the name of an attribute", set: func(t *Behaviour, text string) bool {
		*at(t) = text
		if text == none {
			*at(t) = ""
		}
		return isName(text)
	}, get: func(t Behaviour) string { return cmp.Or(*at(&t), none) }}
}
