package diagnose

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
)

// failurePoint is one thing that went wrong, before it is known why.
type failurePoint struct {
	until   time.Time // when a rest ends, zero where that is not known
	kind    pointKind
	server  string
	asked   site.Question
	list    string
	command string
	wait    float64 // seconds
	follows bool    // from a point before it
	signs   signs
}

// weighed is one candidate at a point.
type weighed struct {
	knowledge
	score      float64
	confidence float64
}

// weigh returns the causes that a point can have, the most likely first: the sum
// of what the signs count for each, on top of its prior, made into shares.
func weigh(p failurePoint) []weighed {
	var weighedCauses []weighed
	for _, k := range catalogue {
		if k.at != p.kind || k.cause == AccountingPort && !p.asked.Records() {
			continue
		}
		w := weighed{knowledge: k, score: k.prior}
		counted := map[Shows]bool{}
		for _, s := range p.signs {
			if !counted[s.What] {
				counted[s.What] = true
				w.score += k.signs[s.What] + elsewhere(k, s)
			}
		}
		weighedCauses = append(weighedCauses, w)
	}
	slices.SortStableFunc(weighedCauses, func(a, b weighed) int {
		switch {
		case a.score > b.score:
			return -1
		case a.score < b.score:
			return 1
		}
		return 0
	})
	sum := 1.0 // that it is none of them
	for _, w := range weighedCauses {
		sum += math.Exp(w.score)
	}
	for i := range weighedCauses {
		weighedCauses[i].confidence = math.Exp(weighedCauses[i].score) / sum
	}
	return oneOfEach(weighedCauses)
}

// oneOfEach keeps of each cause the likeliest of its forms, which stands for all of
// them. The list is in order.
func oneOfEach(weighedCauses []weighed) []weighed {
	var some []weighed
	for _, w := range weighedCauses {
		i := slices.IndexFunc(some, func(have weighed) bool { return have.cause == w.cause })
		if i < 0 {
			some = append(some, w)
			continue
		}
		some[i].confidence += w.confidence
	}
	for i := range some {
		some[i].confidence = min(0.99, some[i].confidence)
	}
	slices.SortStableFunc(some, func(a, b weighed) int { return cmp.Compare(b.confidence, a.confidence) })
	return some
}

// elsewhere is how much it counts against a cause that the server itself noted
// another one. A local account's name is unknown to the server.
func elsewhere(k knowledge, s Sign) float64 {
	if k.at != refusedPoint || k.signs[s.What] > 0 || k.cause == LocalWhileServerAnswers &&
		(s.What == saidUnknown || s.What == saidNoEntry) {
		return 0
	}
	for _, decided := range decidedBy {
		if s.What == decided {
			return -proof
		}
	}
	return 0
}

// sure is from which confidence on one cause stands alone.
const sure = 0.6

// faint is below which confidence nothing is named.
const faint = 0.2

// alternatives is how many causes of a point are given where none is sure.
const alternatives = 3

// chosen returns the causes of a point that are worth saying.
func chosen(p failurePoint) []weighed {
	weighedCauses := weigh(p)
	switch {
	case len(weighedCauses) == 0:
		return nil
	case weighedCauses[0].confidence >= sure:
		return weighedCauses[:1]
	}
	some := weighedCauses[:min(alternatives, len(weighedCauses))]
	return slices.DeleteFunc(slices.Clone(some), func(w weighed) bool { return w.confidence < 0.08 })
}

// cause makes a weighed candidate into a Cause: the text filled in, the signs
// for and against it as its evidence.
func (j *assessment) cause(p failurePoint, w weighed) Cause {
	c := Cause{Cause: w.cause, Server: p.server, Layer: w.layer, Confidence: math.Round(w.confidence*100) / 100,
		Evidence: []string{}, Against: []string{}}
	strongest, weight := Sign{}, math.Inf(-1)
	for _, s := range p.signs {
		n := w.signs[s.What]
		switch {
		case n < 0:
			c.Against = appendNew(c.Against, s.Text)
		case n > 0:
			c.Evidence = appendNew(c.Evidence, s.Text)
		}
		if n > weight || n == weight && rank[s.From] < rank[strongest.From] {
			strongest, weight = s, n
		}
	}
	if len(c.Evidence) == 0 {
		for _, s := range p.signs {
			if w.signs[s.What] == 0 {
				c.Evidence = appendNew(c.Evidence, s.Text)
			}
		}
	}
	if w.confidence < sure {
		c.Against = appendNew(c.Against, "what is at hand does not tell it from what else it can be")
	}
	fill := j.filler(p, strongest)
	where := w.place
	if where == "" && p.server != "" && (p.kind == unheardPoint || p.kind == restedPoint) {
		where = "{device} to server {server}"
	} else if where == "" {
		where = "{device} by {way}"
		if s, ok := p.signs.of(decidedBy[w.cause]); ok && s.Server != "" {
			where += ", server " + s.Server
		}
	}
	if j.story.Access == "" {
		where = strings.ReplaceAll(where, " by {way}", "")
	}
	says := w.says
	if w.guess != "" && (strongest.Text == "" || weight < ownWords) {
		says = w.guess
	}
	c.Where = fill(where)
	c.Says = fill(says)
	c.Repair = fill(w.repair)
	j.detail(&c, p, w, strongest)
	c.Next = j.next(w)
	return c
}

// ownWords is from which weight on a sign says the cause in its own words.
const ownWords = 2.5

// decidedBy is the sign whose server decided, for causes of the person.
var decidedBy = map[string]Shows{WrongPassword: saidWrongPassword, UnknownPerson: saidUnknown,
	DisabledOrExpired: saidDisabled, SecondFactor: saidSecondFactor,
	PasswordExpired: saidExpired, NoGrant: saidNoGrant, PasswordForm: saidForm, DirectoryNoEntry: saidNoEntry,
	CommandRefused: saidCommand}

// rank orders sources by how near they are to the reason.
var rank = map[evidence.Source]int{evidence.FromEvents: 0, evidence.FromProbe: 1, evidence.FromTrace: 2,
	evidence.FromCapture: 3, evidence.FromLog: 4, evidence.FromSite: 5, evidence.FromCounters: 6}

func appendNew(all []string, text string) []string {
	if text == "" || slices.Contains(all, text) {
		return all
	}
	return append(all, text)
}

// introduced is how many parts stand before what a sign says: who noted it, when,
// of what question.
var introduced = map[evidence.Source]int{evidence.FromEvents: 1, evidence.FromLog: 1, evidence.FromCapture: 2}

// filler fills in the places of a text.
func (j *assessment) filler(p failurePoint, strongest Sign) func(string) string {
	server, person := p.server, j.story.Person
	if server == "" {
		server = strongest.Server
	}
	if server == "" {
		server = "the server"
	}
	if person == "" {
		person = "somebody"
	}
	text := strongest.Text
	for range introduced[strongest.From] {
		if _, said, cut := strings.Cut(text, ": "); cut {
			text = said // who noted it and when stands in the evidence
		}
	}
	key := "that the site names"
	if s := j.evidence.Site; s != nil && s.Server(server) != nil && s.Server(server).KeyRef.Name != "" {
		key = s.Server(server).KeyRef.Name
	}
	list := p.list
	if list == "" {
		list = "for this"
	}
	until := " for now"
	if !p.until.IsZero() {
		until = " until " + clock(p.until)
		if now := j.evidence.Now; now.After(p.until) {
			until = ", until " + clock(p.until) + ", which is over by now"
		}
	}
	used := ""
	for _, sign := range p.signs {
		if (sign.What == unfitSign || sign.What == answerUnfitSign) && sign.Key != "" {
			used = ": what was sent was made with " + sign.Key
		}
	}
	r := strings.NewReplacer("{used}", used, "{until}", until, "{device}", j.story.Device, "{server}", server,
		"{person}",
		person, "{way}",
		j.story.Access,
		"{list}", list,
		"{command}", p.command, "{asked}", string(p.asked), "{wait}", fmt.Sprintf("%.1f s", p.wait), "{text}", text,
		"{key}",
		key)
	return func(text string) string { return strings.TrimSuffix(r.Replace(text), ": ") }
}

// next says what to look at when a cause is not sure: the kinds of evidence
// that are not at hand and tell most about it.
func (j *assessment) next(w weighed) []string {
	if w.confidence >= 0.9 {
		return []string{}
	}
	have := j.evidence.Sources()
	var some []string
	for _, from := range nextOrder[w.at] {
		if !have[from] && len(some) < 2 {
			some = append(some, strings.ReplaceAll(next[from], "{device}", j.story.Device))
		}
	}
	return some
}

// nextOrder is which evidence tells most at a kind of point.
var nextOrder = map[pointKind][]evidence.Source{
	unheardPoint: {evidence.FromEvents, evidence.FromProbe, evidence.FromCapture, evidence.FromTrace},
	refusedPoint: {evidence.FromEvents, evidence.FromSite, evidence.FromTrace},
	localPoint:   {evidence.FromTrace, evidence.FromSite},
	sessionPoint: {evidence.FromEvents, evidence.FromTrace},
	lowPoint:     {evidence.FromTrace, evidence.FromSite, evidence.FromEvents},
	commandPoint: {evidence.FromEvents, evidence.FromTrace}, endedPoint: {evidence.FromSite},
	restedPoint: {evidence.FromProbe, evidence.FromEvents},
}
