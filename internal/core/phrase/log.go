package phrase

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/phrase/pattern"
	"mellowgate/internal/core/reason"
)

// What there is to tell: of one login or question, and of many.
const (
	Event About = "event" // a line of a log, or of debug output
	Count About = "count" // a line of counters
)

// events are what an event can be, in the words of the evidence.
var events = []string{string(evidence.LogIn), string(evidence.LogRefused), string(evidence.LogNoAnswer),
	string(evidence.LogAgain), "asked", "answered"}

// unanswered is how many questions had no answer.
const unanswered = string(reason.NoAnswer)

// tellFields are what can be told, by what it is of.
var tellFields = map[About][]string{
	Event: {"event", "time", "device", "person", "access", "line", "from", "server", "asked", "reason", "by", "level",
		"case", "times"},
	Count: {"server", "asked", "sent", "accepted", "refused", unanswered, "time"},
}

// Told is what a line of a log says, or several of one case.
type Told struct {
	Line  int // the first of them
	About About
	Time  time.Time // zero where no line says it
	Facts map[string]string
	Times int // how often it came: 1, and more where the log says "repeated"
}

// String says it in a line, without the time.
func (t Told) String() string {
	var parts []string
	for _, f := range tellFields[t.About] {
		if v := t.Facts[f]; v != "" && f != "event" && f != "time" && f != "case" && f != "times" {
			parts = append(parts, f+" "+v)
		}
	}
	text := strings.Join(parts, ", ")
	if t.Times > 1 {
		text += fmt.Sprintf(", %d times", t.Times)
	}
	return text
}

// Log is what a log says.
type Log struct {
	Told  []Told
	Lines int
	Read  int // lines that a phrase reads
	Notes []Note
}

// Moment is when and where a log was saved: its times may have no year and no zone.
type Moment struct {
	Now  time.Time
	Zone *time.Location
}

// mostCases bounds the cases of several lines that are open at a time.
const mostCases = 10000

// ReadLog reads a log, debug output or counters by what the phrasebook says of them. Each line
// stands for itself, or adds to the case that it names. The error is that of the reader.
func (b *Book) ReadLog(text io.Reader, moment Moment) (*Log, error) {
	r := &telling{book: b, log: &Log{}, at: moment, cases: map[string]int{}}
	plain := layout{sections: byPaths, anyCase: b.layout.anyCase}
	err := eachLine(text, func(text string) {
		r.log.Lines++
		line, what := readable(strings.TrimSuffix(text, "\r"))
		if what != "" {
			r.note("it cannot be read: %s", what)
			return
		}
		r.words, _ = plain.words(line, r.words[:0], nil)
		if b.layout.cell != "" && strings.Contains(line, b.layout.cell) {
			r.words = (&lines{layout: b.layout}).row(line).words
		}
		r.line()
	})
	if err != nil {
		return nil, err
	}
	r.log.Told = slices.DeleteFunc(r.log.Told, func(t Told) bool { // cases of which no line says what came of them
		gone := t.About == Event && t.Facts["event"] == ""
		if gone {
			r.log.Notes = append(r.log.Notes, Note{Line: t.Line, What: fmt.Sprintf("no line says what came of case %s",
				t.Facts["case"])})
		}
		return gone
	})
	return r.log, nil
}

type telling struct {
	book  *Book
	log   *Log
	at    Moment
	words []string
	cases map[string]int // places in Told
}

func (r *telling) note(format string, args ...any) {
	r.log.Notes = append(r.log.Notes, Note{Line: r.log.Lines, What: fmt.Sprintf(format, args...)})
}

// line reads a line by the first phrase that fits it.
func (r *telling) line() {
	for _, p := range r.book.logPatterns {
		have, fits := r.book.match(p.say, r.words)
		if !fits {
			continue
		}
		t, ok := r.told(p, have)
		if !ok {
			continue
		}
		p.used++
		r.log.Read++
		r.add(t)
		return
	}
}

// told returns what a phrase says in a line; false where a value is none.
func (r *telling) told(p *phrase, have []pattern.Bound) (Told, bool) {
	t := Told{Line: r.log.Lines, About: p.about, Facts: map[string]string{}, Times: 1}
	for _, h := range have {
		if h.Hole == "" {
			continue
		}
		v, ok := r.book.value(h.As, h.Words)
		if h.As == "" {
			v, ok = Value{Text: strings.Join(h.Words, " ")}, true
		}
		switch {
		case h.Hole == "time":
			t.Time, ok = r.time(h.As, strings.Join(h.Words, " "))
		case h.Hole == "times":
			t.Times, _ = strconv.Atoi(v.Text)
			ok = ok && t.Times > 0
		case slices.Contains(numbersTold, h.Hole):
			ok = ok && number(v.Text)
		}
		if !ok {
			return t, false
		}
		if h.Hole != "time" {
			t.Facts[h.Hole] = v.Text
		}
	}
	for field, values := range p.where {
		if got, found := t.Facts[field]; found && !slices.Contains(values, got) {
			return t, false
		}
		t.Facts[field] = cmp.Or(t.Facts[field], values[0])
	}
	return t, true
}

var numbersTold = []string{"level", "sent", "accepted", "refused", unanswered}

// time reads a time; what it does not have, year and zone, is that of the moment: the last
// such time before it.
func (r *telling) time(as, text string) (time.Time, bool) {
	t := r.book.types[as]
	if t == nil || t.time == "" {
		return time.Time{}, false
	}
	zone := r.at.Zone
	if zone == nil {
		zone = time.UTC
	}
	moment, err := time.ParseInLocation(t.time, text, zone)
	if err != nil {
		return moment, false
	}
	if moment.Year() == 0 {
		now := r.at.Now.In(zone)
		moment = moment.AddDate(now.Year(), 0, 0)
		if moment.After(now.Add(24 * time.Hour)) {
			moment = moment.AddDate(-1, 0, 0)
		}
	}
	return moment, true
}

// add adds what a line says: to the case that it names, to the event before it that it
// repeats, or as one of its own.
func (r *telling) add(t Told) {
	told := r.log.Told
	if t.Facts["times"] != "" && t.Facts["event"] == "" {
		if len(told) == 0 {
			r.note("it repeats a line, and there is none before it")
			return
		}
		told[len(told)-1].Times += t.Times
		return
	}
	id := t.Facts["case"]
	if index, open := r.cases[id]; open && id != "" {
		have := &told[index]
		for field, v := range t.Facts {
			have.Facts[field] = v
		}
		if have.Time.IsZero() {
			have.Time = t.Time
		}
		return
	}
	r.log.Told = append(told, t)
	if id != "" {
		if len(r.cases) >= mostCases {
			clear(r.cases)
		}
		r.cases[id] = len(r.log.Told) - 1
	}
}

// timeLayout turns a form such as "MMM D hh:mm:ss" into the one of Go; false for a form that
// has no hour.
func timeLayout(form string) (string, bool) {
	layout := strings.NewReplacer("YYYY", "2006", "YY", "06", "MMM", "Jan", "MM", "01", "DDD", "Mon", "DD", "02",
		"D", "_2", "hh", "15", "mm", "04", "ss", "05", "fff", "000", "zone", "Z07:00", "ZZZ", "MST").Replace(form)
	return layout, strings.Contains(layout, "15")
}
