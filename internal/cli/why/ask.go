package why

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/attributes"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/state"
)

func AskCommand() *call.Command {
	return &call.Command{
		Name: "ask", Args: "[SITE]", Short: "one question to a server, or to a group as a device would put it",
		Long: `Sends real packets: a login in any form, the authorization of a session or of a command, an
accounting record, or a status question. With -as the question is put as that device would put it: from its
address, with the key that it holds, as often and as long as the site says. It prints every try, the answer in
words, and the attributes by name.

With -explain nothing is sent and no password is needed: the answer is worked out from the site, with every
grant and rule that was looked at, where it stands, and the one that decided or came nearest.

Where a lab or serve runs here, its state folder says where the servers are; else the site's addresses are
asked. With -count the question is asked many times, at a bounded rate, and the times are summed up.

Exit status 1 when the answer is no, 3 when there was none.`,
		Examples: []call.Example{
			{Call: "mellowgate ask -server tern -as north-sw-1 -person ines.marsh -password-file " +
				"demo/as-reviewed/passwords/ines.marsh", Shows: "a login, in a lab of the demo site"},
			{Call: "mellowgate ask -group shore -as north-sw-1 -person tobin.reed -question commands -command " +
				"'look secrets'",
				Shows: "may this person use this command?"},
			{Call: "mellowgate ask -explain -as north-sw-1 -person tobin.reed -question commands -command 'look " +
				"secrets' demo/as-reviewed", Shows: "which rule decides? No packet, no password"},
			{Call: "mellowgate ask -server sanderling -as mv-avocet-rtr -question status -count 200",
				Shows: "is it alive, and how fast?"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			f := &askFlags{}
			c.Flags.StringVar(&f.state, "state", "",
				"the state `folder` of a lab or serve (default "+call.DefaultState+", where there is one)")
			c.Flags.StringVar(&f.server, "server", "", "the `server` to ask")
			c.Flags.StringVar(&f.group, "group", "", "the `group` to ask, its servers in order")
			c.Flags.StringVar(&f.as, "as", "", "ask as this `device`")
			c.Flags.StringVar(&f.question, "question", "login", "the `question`: "+strings.Join(questions, ", "))
			c.Flags.StringVar(&f.person, "person", "", "the `name` of the person")
			c.Flags.StringVar(&f.form, "form", "",
				"how a password is sent: pap, chap or mschapv2; with TACACS+ also ascii, by prompts, the usual "+
					"`form` there")
			c.Flags.StringVar(&f.command, "command", "", "the `command`, for commands and records")
			c.Flags.IntVar(&f.level, "level", 1,
				"the `level` that the person has, from 0 to 15, for records and commands, or wants, for an elevation")
			c.Flags.StringVar(&f.access, "access", site.SSH,
				"the `access` that the device names: "+strings.Join(site.Accesses(), ", "))
			c.Flags.StringVar(&f.from, "from", "", "the `address` that the person comes from")
			c.Flags.Var(&f.attributes, "attribute",
				"a RADIUS attribute to send too, as `NAME=VALUE`; may be given several times")
			c.Flags.IntVar(&f.count, "count", 1, "ask `N` times, at most 100000")
			c.Flags.IntVar(&f.rate, "rate", 20, "with -count: at most `N` questions a second, 2000 at most")
			c.Flags.StringVar(&f.certificate, "certificate", "",
				"for a server over TLS: the `file` with the certificate to show")
			c.Flags.StringVar(&f.certificateKey, "certificate-key", "", "the `file` with its key")
			c.Flags.StringVar(&f.authorities, "authorities", "",
				"the `file` with the authorities that the server's certificate must come from")
			c.Flags.BoolVar(&f.makeCode, "make-code", false,
				"answer a question for a one-time code with one made from the person's key in the site; it is then "+
					"used up")
			c.Flags.BoolVar(&f.explain, "explain", false,
				"send nothing: say from the site what the answer would be, and why, rule by rule")
			c.Flags.StringVar(&f.at, "at", "", "with -explain: at this `time`, such as 03:00 or 2026-11-23T03:00 "+
				"(default now)")
			c.Flags.StringVar(&f.teams, "teams", "",
				"with -explain: the `teams` that a directory would give, where the site has nobody of that name")
			f.password = c.PasswordFlags()
			return func() error { return runAsk(c, f) }
		},
	}
}

var questions = []string{"login", "elevation", "session", "commands", "record-start", "record-update", "record-stop",
	"record-on", "record-off", "status"}

type askFlags struct {
	state, server, group, as, question, person, form, command, access, from string
	certificate, certificateKey, authorities                                string
	level, count, rate                                                      int
	attributes                                                              call.Names
	makeCode, explain                                                       bool
	at, teams                                                               string
	password                                                                func(string) (site.Secret, error)
}

func (f *askFlags) check() error {
	switch {
	case !f.explain && (f.at != "" || f.teams != ""):
		return call.Usagef("-at and -teams go with -explain: a server has its own clock, and asks its own directories")
	case !f.explain && (f.server == "") == (f.group == ""):
		return call.Usagef("ask needs -server or -group, one of them\nusage: %s", call.Usage(AskCommand()))
	case !slices.Contains(questions, f.question):
		return call.Usagef("there is no question %q%s; they are %s", f.question, nearest.Suggest(f.question, questions),
			strings.Join(questions, ", "))
	case !slices.Contains([]string{"status", "record-on", "record-off"}, f.question) && f.person == "":
		return call.Usagef("this question is about a person: name one with -person")
	case f.question == "commands" && strings.TrimSpace(f.command) == "":
		return call.Usagef("-question commands needs the -command")
	case f.question == "commands" && !closed(f.command):
		return call.Usagef("a quote in -command is not closed, so it is not known where its words end")
	case f.level < 0 || f.level > 15:
		return call.Usagef("-level is from 0 to 15")
	case !slices.Contains(site.Accesses(), f.access):
		return call.Usagef("there is no way in %q%s; they are %s", f.access, nearest.Suggest(f.access, site.Accesses()),
			strings.Join(site.Accesses(), ", "))
	case f.from != "" && !isAddress(f.from):
		return call.Usagef("-from is %q; an IP address is wanted, such as 198.51.100.7", f.from)
	case f.count < 1 || f.count > 100000:
		return call.Usagef("-count is from 1 to 100000")
	case f.rate < 1 || f.rate > 2000:
		return call.Usagef("-rate is from 1 to 2000 a second")
	}
	return nil
}

// asking is a question ready to be put.
type asking struct {
	group  *site.Group
	device *site.Device
	world  aaa.World
	q      walk.Question
	way    *site.Way
	name   string // of the question
}

func runAsk(c *call.Call, f *askFlags) error {
	if err := f.check(); err != nil {
		return err
	}
	if f.explain {
		return explainAnswer(c, f)
	}
	places, inLab, err := f.places(c)
	if err != nil {
		return err
	}
	path := c.SitePath()
	if len(c.Args) == 0 && inLab {
		path = places.SitePath
	}
	l, err := c.LoadFrom(path, true)
	if err != nil {
		return err
	}
	a, err := f.prepare(c, l, places, inLab)
	if err != nil {
		return err
	}
	if f.count > 1 {
		return askMany(c, a, f.count, f.rate)
	}
	result := a.once()
	if *c.AsJSON {
		err = show.JSON(c.Out, result)
	} else {
		printAnswer(c, result)
		if result.Answer == walk.SaidChallenge {
			c.Say("  type the answer at a terminal, or let it be made from the site's key with -make-code\n")
		}
		if f.as == "" && result.By == "" {
			c.Say("asked from this host, which the server may not know; ask as a device of the site with -as\n")
		}
	}
	if err != nil {
		return err
	}
	return answerStatus(result.Answer)
}

// answerStatus is the exit status of an answer.
func answerStatus(answer walk.Said) error {
	switch answer {
	case walk.SaidAccept, walk.SaidPass, walk.SaidRecorded, walk.SaidAlive:
		return nil
	case "silent", "error":
		return call.ErrCannot
	}
	return call.ErrVerdict
}

// places reads where a lab or serve listens, if there is one.
func (f *askFlags) places(c *call.Call) (evidence.Places, bool, error) {
	folder, err := state.Open(f.folder())
	if err != nil {
		if f.state != "" {
			return evidence.Places{}, false, call.UsageError(err)
		}
		return evidence.Places{}, false, nil
	}
	p, err := folder.Places()
	if err == nil && p.Control != nil {
		_, err = c.AskLab(f.folder(), p, lab.Change{})
		if err != nil && f.state == "" && len(c.Args) > 0 { // a site of its own is named
			c.Note("a lab ran here and has ended; the servers of the site itself are asked")
			return evidence.Places{}, false, nil
		}
	}
	return p, err == nil, err
}

// prepare finds the servers, the device and the password.
func (f *askFlags) prepare(c *call.Call, l call.Loaded, p evidence.Places, lab bool) (*asking, error) {
	a := &asking{name: f.question, way: &site.Way{Access: f.access}}
	a.device = &site.Device{Ref: site.Ref{Name: "mellowgate"}, Profile: &site.Profile{},
		Platform: &site.Platform{Behaviour: site.DefaultBehaviour()}}
	var err error
	if f.as != "" {
		if a.device, err = l.DeviceNamed(f.as); err != nil {
			return nil, err
		}
	}
	if a.group, err = f.servers(l); err != nil {
		return nil, err
	}
	a.world = aaa.World{Context: c.Context, Targets: map[*site.Server]aaa.Target{}, Status: f.question == "status",
		Asker: aaa.Asker{Device: a.device.Name, Port: a.device.Platform.Behaviour.PortNames.Port(f.access, 0),
			From:    f.from,
			Session: "ask", Form: f.form}}
	for _, s := range a.group.Servers {
		if err := f.fits(s); err != nil {
			return nil, err
		}
		if f.form == "" { // as the device does; the servers of a group speak one protocol
			a.world.Asker.Form = a.device.Platform.Behaviour.PasswordAs.Of(s.Protocol)
		}
		if a.world.Targets[s], err = f.target(c, l, a.device, s, p, lab); err != nil {
			return nil, err
		}
	}
	for _, text := range f.attributes {
		name, value, _ := strings.Cut(text, "=")
		attribute, err := attributes.Of(l.Site).Make(name, value)
		if err != nil {
			return nil, call.Usagef("-attribute %s: %v", name, err)
		}
		a.world.Asker.Extra = append(a.world.Asker.Extra, attribute)
	}
	a.q = f.walkQuestion()
	if f.question == "elevation" {
		a.world.Asker.Elevate = max(f.level, 1)
	}
	if f.question == "login" || f.question == "elevation" {
		password, err := f.password(f.person)
		if err != nil {
			return nil, err
		}
		a.world.Asker.Password = password.Reveal()
		if a.world.Asker.Code, err = f.code(c, l); err != nil {
			return nil, err
		}
	}
	return a, nil
}

// code returns who answers a question for a one-time code: the site's key of the
// person, whoever sits at the terminal, or nobody.
func (f *askFlags) code(c *call.Call, l call.Loaded) (func(string) (string, bool), error) {
	if !f.makeCode {
		return c.TypedCode(), nil
	}
	p := l.Person(f.person)
	if p == nil || p.OneTime == nil {
		return nil, call.Usagef("-make-code needs a person with a one-time-code in the site, and %s has none there",
			f.person)
	}
	return func(string) (string, bool) {
		code, err := secrets.Code(l.Keys[p.OneTime.Name], secrets.CodeStepAt(time.Now()))
		return code, err == nil
	}, nil
}

func (f *askFlags) walkQuestion() walk.Question {
	q := walk.Question{Person: f.person, Level: f.level, Line: f.command, Method: site.ByGroup,
		Start: f.question == "record-start" || f.question == "record-on", Update: f.question == "record-update"}
	switch f.question {
	case "session":
		q.Purpose = site.Session
	case "commands":
		q.Purpose = site.Commands
	case "record-on", "record-off":
		q.Purpose = site.RecordSystem
	case "record-start", "record-update", "record-stop":
		q.Purpose = site.RecordSessions
		if f.command != "" {
			q.Purpose = site.RecordCommands
		}
	}
	return q
}

type tryJSON struct {
	Server  string  `json:"server"`
	Seconds float64 `json:"seconds"`
	Result  string  `json:"result"`
	Reason  string  `json:"reason"`
	Message string  `json:"message"`
}

type askJSON struct {
	Server     string             `json:"server"`
	Protocol   site.Protocol      `json:"protocol"`
	Question   string             `json:"question"`
	Answer     walk.Said          `json:"answer"`
	By         string             `json:"by"`
	Attributes []rights.Attribute `json:"attributes"`
	Seconds    float64            `json:"seconds"`
	Tries      []tryJSON          `json:"tries"`
	Message    string             `json:"message"`
}

// once puts the question and gives what came back.
func (a *asking) once() askJSON {
	visit := &walk.Visit{Device: a.device, Way: a.way, World: a.world, Rests: new(walk.Rests), Person: a.q.Person}
	step := visit.Ask(a.group, a.q)
	r := askJSON{Server: a.group.Name, Protocol: a.group.Protocol(), Question: a.name, Answer: walk.SaidNothing,
		By:         step.By,
		Attributes: []rights.Attribute{}, Seconds: step.Took.Seconds(), Tries: []tryJSON{}}
	for _, t := range step.Tries {
		r.Tries = append(r.Tries, tryJSON{Server: t.Server.Name, Seconds: t.Reply.Took.Seconds(),
			Result: string(t.Reply.Result), Reason: string(t.Reply.Reason), Message: t.Reply.Message})
		r.Message = t.Reply.Message
		if t.Reply.Answer != "" {
			r.Answer = t.Reply.Answer
		} else if t.Reply.Reason == reason.ServerError {
			r.Answer = walk.SaidError
		}
		if len(t.Reply.Attributes) > 0 {
			r.Attributes = t.Reply.Attributes
		}
	}
	return r
}

// answerWords puts what a server said into words.
var answerWords = map[walk.Said]string{walk.SaidAccept: "accepted", walk.SaidPass: "accepted",
	walk.SaidReject: "refused",
	walk.SaidFail:   "refused", walk.SaidRecorded: "recorded", walk.SaidAlive: "alive",
	walk.SaidChallenge: "asked for more",
	walk.SaidError:     "cannot answer", walk.SaidNothing: "no answer"}

// answerTones are how it is shown; the rest is careful.
var answerTones = map[walk.Said]show.Tone{walk.SaidAccept: show.Good, walk.SaidPass: show.Good,
	walk.SaidRecorded: show.Good,
	walk.SaidAlive:    show.Good, walk.SaidNothing: show.Bad, walk.SaidError: show.Bad}

func printAnswer(c *call.Call, r askJSON) {
	style := c.Style()
	tone := answerTones[r.Answer]
	if tone == show.Plain {
		tone = show.Careful
	}
	by := ""
	if r.By != "" {
		by = " by " + r.By
	}
	c.Say("%s%s after %s (%s, %s)\n", style.Paint(tone, answerWords[r.Answer]), by, call.Milliseconds(r.Seconds),
		r.Question,
		r.Protocol)
	if r.Message != "" && r.By != "" {
		c.Say("  the server says: %s\n", show.Safe(r.Message))
	}
	for _, a := range r.Attributes {
		if a.Name != "Message-Authenticator" { // it was checked; it says nothing to a reader
			c.Say("  %s = %s\n", a.Name, show.Safe(a.Value))
		}
	}
	if r.By == "" || len(r.Tries) > 1 {
		for i, t := range r.Tries {
			why := t.Result
			if t.Reason != "" {
				why = t.Reason
			}
			if t.Message != "" {
				why += ": " + t.Message
			}
			c.Say("  try %d  %-12s %8s  %s\n", i+1, t.Server, call.Milliseconds(t.Seconds), show.Safe(why))
		}
	}
}

// isAddress reports whether a text is an IP address.
func isAddress(text string) bool {
	_, err := netip.ParseAddr(text)
	return err == nil
}

// closed reports whether every quote of a command line is closed.
func closed(line string) bool {
	_, whole := rights.SplitLine(line)
	return whole
}
