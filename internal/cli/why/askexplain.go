package why

import (
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
)

// explainQuestions are the questions that have an explanation, and what each is
// to the decision.
var explainQuestions = map[string]site.Purpose{"login": site.Login, "elevation": site.Login, "session": site.Session,
	"commands": site.Commands}

type explainStepJSON struct {
	Part   string `json:"part"`
	Place  string `json:"place"`
	Text   string `json:"text"`
	Result string `json:"result"`
	Why    string `json:"why"`
}

type explainJSON struct {
	Device     string             `json:"device"`
	Access     string             `json:"access"`
	Person     string             `json:"person"`
	Question   string             `json:"question"`
	Command    string             `json:"command"`
	At         time.Time          `json:"at"`
	Answer     evidence.Answer    `json:"answer"` // accepted | refused
	Reason     string             `json:"reason"`
	Text       string             `json:"text"`
	Level      *int               `json:"level"` // null for a refusal
	Steps      []explainStepJSON  `json:"steps"`
	Attributes []rights.Attribute `json:"attributes"`
}

// explainAnswer works out what a server of the site would answer, and why. It
// sends nothing.
func explainAnswer(c *call.Call, f *askFlags) error {
	purpose, known := explainQuestions[f.question]
	switch {
	case !known:
		return call.Usagef("-explain is for the questions login, elevation, session and commands; nobody decides "+
			"about %s",
			f.question)
	case f.as == "":
		return call.Usagef("-explain needs the device: name it with -as")
	}
	l, err := c.Load(false)
	if err != nil {
		return err
	}
	device, err := l.DeviceNamed(f.as)
	if err != nil {
		return err
	}
	moment := time.Now()
	if f.at != "" {
		if moment, err = call.Moment(f.at, moment); err != nil {
			return err
		}
	}
	q := rights.Question{Purpose: purpose, Device: device, Access: f.access, Person: f.person, Credential: rights.Right,
		Line: f.command}
	if f.from != "" {
		if q.From, err = netip.ParseAddr(f.from); err != nil {
			return call.Usagef("-from is %q; an address is wanted", f.from)
		}
	}
	if f.question == "elevation" {
		q.Wants = max(f.level, 1)
	}
	if f.teams != "" {
		if q.Known, err = assumed(l, f); err != nil {
			return err
		}
	}
	steps, d := rights.Explain(l.Site, q, moment)
	if d.Reason == reason.UnknownPerson {
		d.Text += rights.LikeName(l.Site, f.person)
		if len(l.Directories) > 0 && q.Known == nil {
			d.Text += "; a directory may know the name: say with -teams what it would say"
		}
		steps[0].Why = d.Text
	}
	if *c.AsJSON {
		err = show.JSON(c.Out, explained(l, f, q, d, steps, moment))
	} else {
		printExplained(c, l, q, d, steps, moment)
	}
	if err == nil && !d.Allow {
		return call.ErrVerdict
	}
	return err
}

// assumed makes up the person whom a directory would find.
func assumed(l call.Loaded, f *askFlags) (*site.Person, error) {
	if l.Person(f.person) != nil {
		return nil, call.Usagef("-teams is for people whom a directory knows, and %s stands in the site", f.person)
	}
	p := &site.Person{Ref: site.Ref{Name: f.person}}
	var all []string
	for _, g := range l.Grants {
		for _, w := range g.Who {
			if w.Team != "" {
				all = append(all, w.Team)
			}
		}
	}
	for team := range strings.SplitSeq(f.teams, ",") {
		team = strings.TrimSpace(team)
		if hint := nearest.Suggest(team, all); hint != "" && !slices.Contains(all, team) {
			return nil, call.Usagef("no grant names the team %q%s", team, hint)
		}
		p.Teams = append(p.Teams, team)
	}
	return p, nil
}

func explained(l call.Loaded, f *askFlags, q rights.Question, d rights.Decision, steps []rights.Step,
	moment time.Time) explainJSON {
	r := explainJSON{Device: q.Device.Name, Access: q.Access, Person: q.Person, Question: f.question, Command: q.Line,
		At: moment, Answer: evidence.Refused,
		Reason: string(d.Reason), Text: d.Text, Steps: []explainStepJSON{}, Attributes: []rights.Attribute{}}
	if d.Allow {
		r.Answer, r.Level = evidence.Accepted, &d.Role.Level
		r.Attributes = append(r.Attributes, answerAttributes(q, d)...)
	}
	for _, s := range steps {
		r.Steps = append(r.Steps,
			explainStepJSON{Part: s.Part, Place: l.Where(s.Place), Text: s.Text, Result: s.Result, Why: s.Why})
	}
	return r
}

// answerAttributes are what an accepting answer carries: a login over RADIUS, a
// session over TACACS+.
func answerAttributes(q rights.Question, d rights.Decision) []rights.Attribute {
	if q.Wants > 0 {
		return nil
	}
	protocol := site.TACACS
	if q.Purpose == site.Login {
		protocol = site.RADIUS
	}
	return rights.Attributes(protocol, q.Purpose, d, q.Device.Platform)
}

func printExplained(c *call.Call, l call.Loaded, q rights.Question, d rights.Decision, steps []rights.Step,
	moment time.Time) {
	style := c.Style()
	if d.Allow {
		c.Say("%s\n", style.Paint(show.Good, "accepted: "+show.Safe(d.Text)))
	} else {
		c.Say("%s\n", style.Paint(show.Careful, "refused ("+string(d.Reason)+"): "+show.Safe(d.Text)))
	}
	c.Say("worked out from the site for %s; nothing was sent\n\n", moment.Format("Mon 2006-01-02 15:04 MST"))
	var rows [][]string
	for _, s := range steps {
		rows = append(rows, []string{s.Part, l.Where(s.Place), show.Safe(s.Text),
			style.Paint(stepTone[s.Result], stepWords[s.Result]), show.Safe(s.Why)})
	}
	style.Table(c.Out, []string{"part", "place", "what it says", "here it", "because"}, rows, 2, 4)
	if carried := answerAttributes(q, d); len(carried) > 0 {
		which := "the login's answer over RADIUS carries"
		if q.Purpose != site.Login {
			which = "the answer over TACACS+ carries"
		}
		c.Say("\n%s\n", which)
		for _, a := range carried {
			c.Say("  %s = %s\n", a.Name, show.Safe(a.Value))
		}
		if rules, limited := rights.CarriedCommands(carried, q.Device.Platform); limited {
			c.Say("\nfor commands the device takes that as\n  %s\n", call.RulesText(rules))
			if command, allowed := rights.MiscarriedCommand(d.Role, q.Device.Platform); command != "" {
				verdict := map[bool]string{true: "allows", false: "refuses"}
				c.Say("%s\n", style.Paint(show.Careful,
					fmt.Sprintf("it %s %q, which the role %s", verdict[allowed], command,
						verdict[!allowed])))
			}
		}
	}
}

// stepWords puts what a step did into words.
var stepWords = map[string]string{rights.Holds: "holds", rights.Fails: "does not fit", rights.Nearest: "comes nearest",
	rights.Decides: "decides", rights.NotReached: "is not reached"}

var stepTone = map[string]show.Tone{rights.Holds: show.Good, rights.Decides: show.Strong, rights.Nearest: show.Careful}

// WriteSteps writes an explanation in lines, for what runs.
func WriteSteps(w io.Writer, where func(site.Place) string, steps []rights.Step) {
	for _, s := range steps {
		line := fmt.Sprintf("  %-7s %s %s", s.Part, show.Safe(s.Text), stepWords[s.Result])
		if s.Why != "" && s.Result != rights.Fails {
			line += ": " + show.Safe(s.Why)
		}
		if at := where(s.Place); at != "" {
			line += " (" + at + ")"
		}
		_, _ = fmt.Fprintln(w, line)
	}
}
