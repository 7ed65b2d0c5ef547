package diagnose

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
)

// Cause is one thing that went wrong, with what speaks for it and against it.
type Cause struct {
	Cause      string   `json:"cause"`
	Where      string   `json:"where"`
	Server     string   `json:"server"` // the server that it is about, "" for none
	Layer      string   `json:"layer"`  // network | transport | protocol | identity | rights | records | design
	Confidence float64  `json:"confidence"`
	Says       string   `json:"says"` // one sentence
	Evidence   []string `json:"evidence"`
	Against    []string `json:"against"`
	Repair     string   `json:"repair"`
	Next       []string `json:"next"` // what to look at, where this is not sure
	// Follows is set on what follows from another cause of the verdict.
	Follows bool `json:"follows"`
	// Instead is set on a cause that it may be in place of the one before.
	Instead bool `json:"instead"`
}

// Verdict is what the evidence shows.
type Verdict struct {
	Causes  []Cause  `json:"causes"`
	Healthy bool     `json:"healthy"`
	Clocks  []string `json:"clocks,omitempty"` // clocks that differ, and by how much
	Story   Story    `json:"-"`
	Found   bool     `json:"-"` // whether there was a login to judge
	// LaterHealthy is when the same person was on the same device again, and
	// all was well; nil when that was not seen.
	LaterHealthy *time.Time `json:"later_healthy,omitempty"`
	// Unseen is set where nothing went wrong in what is at hand, and the login is
	// not in it to its end, or not as it was seen by eye.
	Unseen bool `json:"-"`
}

// Explain judges the newest login that fits the symptom and went wrong, else
// the newest that fits.
func Explain(e evidence.Evidence, symptom Symptom) Verdict {
	e, clocks := aligned(e)
	var newest, unseen, stranger *Verdict
	x := newIndex(e)
	for _, s := range slices.Backward(stories(e, x)) {
		if !symptom.fits(s) {
			continue
		}
		v := judge(e, x, s, symptom)
		v.Clocks = clocks
		switch {
		case v.Unseen && unseen == nil:
			unseen = &v
		case v.Healthy && newest == nil:
			newest = &v
		case !v.Healthy && !v.Unseen && symptom.Device == "" && isStranger(e, s):
			if stranger == nil {
				stranger = &v
			}
		case !v.Healthy && !v.Unseen:
			if newest != nil && newest.Story.Device == s.Device && newest.Story.Person == s.Person {
				v.LaterHealthy = &newest.Story.Time
			}
			return v
		}
	}
	switch {
	case newest != nil:
		return *newest
	case stranger != nil:
		return *stranger
	case unseen != nil:
		return *unseen
	case len(e.Traces)+len(e.Events)+len(e.Exchanges)+len(e.Log) == 0 || len(e.Probes) > 0:
		// Counters know no single login: where logins were noted, and none is meant,
		// they say nothing.
		return withoutStory(e, symptom)
	}
	return Verdict{Causes: []Cause{}}
}

// isStranger reports whether a story is of an address that is nothing to the site,
// and that does not say it is a device of it: what it gets from a server is no fault
// of a device's login.
func isStranger(e evidence.Evidence, s Story) bool {
	if e.Site == nil || s.Login != nil || e.Site.Device(s.Device) != nil {
		return false
	}
	j := &assessment{evidence: e}
	return !slices.ContainsFunc(s.Exchanges, func(x evidence.Exchange) bool {
		d, _ := j.namesDevice(x)
		return d != "" || x.Key == evidence.KeyFits
	})
}

// OfEvent returns the cause that an event alone shows and its repair, "" for one of
// which nothing went wrong.
func OfEvent(e evidence.Event, s *site.Site) (cause, repair string) {
	switch e.Answer {
	case evidence.Refused, evidence.Dropped, evidence.Failed:
	default:
		return "", ""
	}
	v := Explain(evidence.Evidence{Events: []evidence.Event{e}, Site: s}, Symptom{})
	if len(v.Causes) == 0 || v.Causes[0].Cause == NotKnown {
		return "", ""
	}
	return v.Causes[0].Cause, v.Causes[0].Repair
}

// judge weighs one story.
func judge(e evidence.Evidence, x *index, s Story, symptom Symptom) Verdict {
	j := &assessment{evidence: e, index: x, story: s, symptom: symptom}
	if s.Login == nil {
		j.fromOthers()
	} else {
		j.fromDevice()
	}
	return j.verdict()
}

func (j *assessment) verdict() Verdict {
	v := Verdict{Causes: []Cause{}, Story: j.story, Found: true}
	for i := range j.points {
		j.look(&j.points[i])
	}
	slices.SortStableFunc(j.points, func(a, b failurePoint) int { // what others forge makes the rest doubtful
		return strings.Compare(forgedFirst[b.signs.has(forgedSign)], forgedFirst[a.signs.has(forgedSign)])
	})
	roots := 0
	for _, p := range j.points {
		some := chosen(p)
		if len(some) > 0 && some[0].confidence < faint {
			j.unclear++
			continue
		}
		for i, w := range some {
			c := j.cause(p, w)
			c.Follows, c.Instead = (follows[p.kind] || p.follows) && roots > 0, i > 0
			v.Causes = append(v.Causes, c)
		}
		roots++
	}
	v.Causes = mergeCauses(v.Causes)
	if len(v.Causes) == 0 && (j.unclear > 0 || j.hidden > 0 && !j.walked().in) {
		v.Causes = append(v.Causes, j.notKnown())
	}
	if len(v.Causes) == 0 {
		if c := j.notSeen(); c != nil {
			v.Causes, v.Unseen = append(v.Causes, *c), c.Cause == NotKnown
		}
	}
	v.Healthy = len(v.Causes) == 0
	return v
}

var forgedFirst = map[bool]string{true: "forged"}

// notKnown is what is said where the evidence does not tell.
func (j *assessment) notKnown() Cause {
	c := Cause{Cause: NotKnown, Where: j.where(), Layer: "protocol", Confidence: 0.1,
		Says:     "something went wrong, and what is at hand does not tell why",
		Evidence: []string{j.inWords()}, Against: []string{}, Repair: "nothing to repair yet: look further first",
		Next: j.missing()}
	if j.unclear == 0 {
		c.Says, c.Evidence = "what was asked and answered cannot be read without the key",
			[]string{fmt.Sprintf("questions whose content the key hides: %d", j.hidden)}
		c.Next = []string{"the same with the keys: name the site, or give -key-file FILE"}
		if j.evidence.Site != nil {
			c.Next = []string{"the files of the keys: mellowgate keys list SITE says which are not there"}
		}
	}
	return c
}

// missing says what to look at next, of what is not at hand.
func (j *assessment) missing() []string {
	have, some := j.evidence.Sources(), []string{}
	for _, from := range nextOrder[unheardPoint] {
		if !have[from] && len(some) < 2 {
			some = append(some, strings.ReplaceAll(next[from], "{device}", j.story.Device))
		}
	}
	return some
}

// follows are points that come of others.
var follows = map[pointKind]bool{endedPoint: true, patiencePoint: true, recordPoint: true}

// mergeCauses joins causes that are the same at the same place.
func mergeCauses(causes []Cause) []Cause {
	joined := []Cause{}
	for _, c := range causes {
		i := slices.IndexFunc(joined, func(have Cause) bool { return have.Cause == c.Cause && have.Where == c.Where })
		if i < 0 {
			joined = append(joined, c)
			continue
		}
		for _, text := range c.Evidence {
			joined[i].Evidence = appendNew(joined[i].Evidence, text)
		}
		joined[i].Instead = joined[i].Instead && c.Instead
		joined[i].Confidence = max(joined[i].Confidence, c.Confidence)
	}
	return joined
}

type assessment struct {
	evidence evidence.Evidence
	index    *index
	story    Story
	symptom  Symptom
	points   []failurePoint
	unclear  int                 // a refusal that no point explains
	hidden   int                 // packets that cannot be read without the key
	overTLS  bool                // a talk over TLS that went to its end
	cut      bool                // the capture keeps only a part of what was asked
	waiting  []evidence.Exchange // questions that may yet be answered
	unended  []evidence.Exchange // questions that the capture ends before
}

// point adds a point, or more signs to one that there is.
func (j *assessment) point(p failurePoint) *failurePoint {
	for i := range j.points {
		have := &j.points[i]
		if have.kind == p.kind && have.server == p.server && have.asked.Records() == p.asked.Records() &&
			have.command == p.command {
			have.signs = append(have.signs, p.signs...)
			return have
		}
	}
	j.points = append(j.points, p)
	return &j.points[len(j.points)-1]
}

// where names the device and way in of the story.
func (j *assessment) where() string {
	if j.story.Access == "" {
		return j.story.Device
	}
	return j.story.Device + " by " + j.story.Access
}

func (j *assessment) inWords() string {
	if j.story.Login == nil {
		return "there is a refusal without a reason"
	}
	return "the device noted: " + string(j.story.Login.Reason)
}

// said returns what a device noted of a try beyond that there was no answer.
func said(message string) string {
	if message == "" || message == "no answer" {
		return ""
	}
	return ": " + message
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

func clock(t time.Time) string { return t.Format("15:04:05") }
