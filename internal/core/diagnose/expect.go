package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// foreseenKey is what one foreseen login is of.
type foreseenKey struct{ device, way, person string }

// foreseen returns how the site says that the login of the story goes while every
// server answers and the password is right; nil where the site does not know.
// Where the way in is not known, it is the one that gives least, of those that ask
// servers: what is below that is too little by every way.
func (j *assessment) foreseen() *foresee.Case {
	if w := j.way(); w != nil {
		return j.foreseenBy(w)
	}
	if s := j.evidence.Site; s == nil || j.story.Access != "" || s.Device(j.story.Device) == nil {
		return nil
	}
	var least *foresee.Case
	for _, w := range j.evidence.Site.Device(j.story.Device).Ways {
		if c := j.foreseenBy(w); c != nil && (least == nil || c.Level < least.Level) &&
			(w.Lists[site.Session] != nil || c.Level > 1) {
			least = c
		}
	}
	return least
}

func (j *assessment) foreseenBy(w *site.Way) *foresee.Case {
	if j.story.Person == "" {
		return nil
	}
	key := foreseenKey{device: j.story.Device, way: w.Name(), person: j.story.Person}
	if c, known := j.index.foreseen[key]; known {
		return c
	}
	now := j.story.Time
	if now.IsZero() {
		now = time.Unix(0, 0)
	}
	r := foresee.Forecaster{Site: j.evidence.Site, Keys: j.evidence.Keys, Now: now}
	d := j.evidence.Site.Device(j.story.Device)
	var found *foresee.Case
	if who, known := r.Find(d, j.story.Person); known {
		cases := r.Cases(d, w, who)
		if i := slices.IndexFunc(cases, allUp); i >= 0 {
			found = &cases[i]
		}
	}
	j.index.foreseen[key] = found
	return found
}

func allUp(c foresee.Case) bool { return len(c.Servers(foresee.Down)) == 0 }

// promised returns the level that the site promises to who logs in, and how it
// says so. Where people reach it by an elevation, the login itself gives less.
func (j *assessment) promised() (level int, text string, known bool) {
	c := j.foreseen()
	if c == nil || c.Outcome == walk.OutcomeRefused || c.By == string(site.ByLocal) {
		return 0, "", false
	}
	if level = c.Promised; c.Raised >= c.Promised && c.Level < c.Promised {
		level = c.Level
	}
	return level, fmt.Sprintf("the site promises %s level %d here", j.story.Person, level), true
}

// givenBy returns the level that an answer gives, false where it carries none that
// can be read.
func givenBy(x evidence.Exchange) (level int, known bool) {
	for _, a := range x.Response {
		switch a.Name {
		case "Management-Privilege-Level", "priv-lvl":
			if n, err := strconv.Atoi(a.Value); err == nil {
				return n, true
			}
		}
	}
	for _, a := range x.Response {
		if a.Name == "Service-Type" {
			switch {
			case strings.HasPrefix(a.Value, "Administrative"):
				return 15, true
			case strings.HasPrefix(a.Value, "NAS-Prompt"):
				return 1, true
			}
		}
	}
	return 0, false
}

// lowGiven finds an answer that lets somebody in below what the site promises.
func (j *assessment) lowGiven(x evidence.Exchange) {
	given, known := givenBy(x)
	promised, text, said := j.promised()
	if !known || !said || given >= promised || x.Protocol == "radius" && j.ownLevelFrom() {
		return
	}
	j.point(failurePoint{kind: lowPoint, server: x.AskedOf(), signs: signs{
		{What: levelBelow, From: evidence.FromCapture, Time: x.Time, Server: x.AskedOf(),
			Text: fmt.Sprintf("%s: %s gives level %d", clock(x.Time), x.AskedOf(), given)},
		{What: levelPromised, From: evidence.FromSite, Server: x.AskedOf(), Text: text}}})
}

// ownLevelFrom reports whether the kind of the device reads levels from an
// attribute of its own.
func (j *assessment) ownLevelFrom() bool {
	if j.evidence.Site == nil {
		return false
	}
	d := j.evidence.Site.Device(j.story.Device)
	return d != nil && (d.Platform.Behaviour.LevelFrom != "" || d.Platform.Behaviour.AccountFrom != "")
}

// seen is how far the evidence shows a login.
type seen struct {
	in      bool   // to its end: the person is in
	left    bool   // the person went away before the end
	some    bool   // a part of it
	missing string // what is not there, in words
}

// walked goes along what a login must show, as far as the evidence reaches: the
// answer to the login, then that about the session where the way in asks for one.
func (j *assessment) walked() seen {
	s := j.story
	if s.Login != nil {
		return seen{in: s.Login.Outcome == walk.OutcomeIn, some: true, missing: "the end of the login"}
	}
	yes := map[site.Question]bool{}
	var v seen
	for _, e := range s.Events {
		v.some = true
		yes[e.Question] = yes[e.Question] || e.Answer == evidence.Accepted
	}
	for _, x := range s.Exchanges {
		v.some = true
		v.left = x.Has(evidence.MarkAborted)
		yes[x.Question] = yes[x.Question] || x.Answer == evidence.Accepted && !x.Has(evidence.MarkUnheard) &&
			!x.Has(evidence.MarkLate)
	}
	for _, l := range s.Lines {
		v.some = true
		v.in = v.in || l.What == evidence.LogIn
	}
	switch {
	case v.in:
	case v.left && !yes[site.AskLogin]:
	case !yes[site.AskLogin]:
		v.missing = "an answer to the login"
	case j.asksSession() && !yes[site.AskSession]:
		v.missing = "the authorization of the session, which the way in asks for"
	default:
		v.in = true
	}
	return v
}

// asksSession reports whether the site says that the session is a question of its
// own, to a server of TACACS+.
func (j *assessment) asksSession() bool {
	w := j.way()
	if w == nil || w.Lists[site.Session] == nil {
		return false
	}
	servers := w.Lists[site.Session].Servers()
	return len(servers) > 0 && servers[0].Protocol == site.TACACS
}

// notSeen is what is said where nothing went wrong in what is at hand, and it does
// not show the login to its end; nil where it does.
func (j *assessment) notSeen() *Cause {
	v := j.walked()
	c := Cause{Cause: NotKnown, Where: j.where(), Layer: "protocol", Confidence: 0.1, Evidence: []string{},
		Against: []string{}, Repair: "nothing to repair yet: look further first", Next: j.missing()}
	switch {
	case j.cut:
		c.Cause, c.Confidence = CaptureCut, 0.9
		c.Says = "the capture keeps only a part of each packet, so nothing can be said of what is in them"
		c.Repair = "capture again with whole packets: tcpdump -s 0, or mellowgate listen -interface NAME -capture FILE"
		c.Next = []string{}
	case v.left:
		return nil
	case v.in:
		return j.contradicted(c)
	case len(j.waiting) > 0:
		x := j.waiting[len(j.waiting)-1]
		c.Says = fmt.Sprintf("the login is under way: %s was asked %.1f s ago, and %s waits %.1f s for it", x.AskedOf(),
			j.evidence.Now.Sub(x.Time).Seconds(), j.story.Device, j.patience(x.AskedOf()).Seconds())
		c.Next = []string{"the same again in a moment"}
	case len(j.unended) > 0:
		x := j.unended[len(j.unended)-1]
		c.Says = fmt.Sprintf("the capture ends %.1f s after a question to %s, before it was answered", x.Seconds,
			x.AskedOf())
		c.Next = append([]string{"a capture that goes on for longer"}, c.Next...)
	case j.overTLS:
		c.Says = "the talk with the server is over TLS and went to its end: what was asked and answered cannot be " +
			"read here"
	case !v.some:
		c.Says = "no login is in what is at hand, so nothing can be said of one"
		c.Evidence = j.atHand()
	default:
		c.Says = "nothing went wrong in what is at hand, and it does not show the login to its end"
		c.Evidence = []string{"not seen: " + v.missing}
	}
	return &c
}

// atHand says what there is, where no login is in it.
func (j *assessment) atHand() []string {
	some := []string{}
	for _, n := range j.evidence.Counts {
		if n.Device != "" && n.Device != j.story.Device {
			continue
		}
		some = append(some, fmt.Sprintf("the counters: %s answered %s questions (%s)", n.Server,
			portion(n.Accepted+n.Refused, n.Sent), n.Question))
	}
	for _, b := range j.evidence.Probes {
		some = append(some, "asked now: "+b.Text)
	}
	if j.evidence.Site != nil && len(some) == 0 {
		some = append(j.checked(), "the site: nothing in the design keeps this login out while the servers answer")
	}
	return some
}

// contradicted weighs a login that went well against what was seen of it by eye.
func (j *assessment) contradicted(c Cause) *Cause {
	switch j.symptom.Saw {
	case "refused":
		if j.story.Login != nil {
			return nil // the device itself says in: the login that was meant is another
		}
		c.Says = fmt.Sprintf("%s was accepted, and you saw a refusal: what the device did with the answer is not "+
			"in what is at hand", j.story.Person)
	case "slow", "no-prompt":
		longest := j.longest()
		if longest >= slowAfter || j.story.Login != nil {
			return nil
		}
		c.Says = fmt.Sprintf("nothing in what is at hand took long (%.1f s at most): the waiting was elsewhere",
			longest)
	case "low-level":
		return j.lowBySight(c)
	default:
		return nil
	}
	return &c
}

// longest is the longest time that anything of the story took, in seconds.
func (j *assessment) longest() float64 {
	most := 0.0
	for _, x := range j.story.Exchanges {
		most = max(most, x.Seconds)
	}
	return most
}

// lowBySight is a login that a person found below the level that was meant.
func (j *assessment) lowBySight(c Cause) *Cause {
	given, by := -1, ""
	for _, e := range j.story.Events {
		if e.Answer == evidence.Accepted && e.Level != nil {
			given, by = *e.Level, e.Server
		}
	}
	for _, x := range j.story.Exchanges {
		if n, known := givenBy(x); known && x.Answer == evidence.Accepted {
			given, by = n, x.AskedOf()
		}
	}
	switch {
	case given < 0:
		c.Says = fmt.Sprintf("%s was accepted, and which level was given is not in what is at hand",
			cmp.Or(j.story.Person, "somebody"))
	default:
		c.Cause = NoRights
		c.Layer = "rights"
		c.Confidence = 0.7
		c.Server = by
		c.Says = fmt.Sprintf("%s gave level %d, and the device let %s in below it: the device does not read the "+
			"level, or asks for no session", by, given, j.story.Person)
		if promised, text, known := j.promised(); known && given <= promised && given < 15 {
			c.Says = fmt.Sprintf("%s gave level %d, which is what the design means for %s", by, given, j.story.Person)
			c.Evidence = []string{text}
			c.Repair = "if more is meant, give the person a role of a higher level in the site"
			return &c
		}
		c.Repair = "give the way in a session list (on a console the platform must also obey it: " +
			"console-obeys-authorization); with RADIUS compare level-attribute with the attribute that the server sends"
	}
	return &c
}
