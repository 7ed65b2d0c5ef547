package standin

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/aaa"
)

// notebook is what a device writes down about itself, under the device's lock.
type notebook struct {
	counts   map[countKey]*Count
	down     map[string]bool // servers that gave no answer to the last question
	sessions map[int64]*visitor
	traced   map[string]bool    // kinds of trace that are on
	notes    []Note             // the newest last
	log      []evidence.LogLine // the newest last
}

// countKey is a server and a kind of question.
type countKey struct {
	server   string
	question site.Purpose
}

// Count is a counter with what makes the mean.
type Count struct {
	evidence.Count
	sum time.Duration
}

// Note is one line of the trace that can be switched on.
type Note struct {
	Time time.Time `json:"time"`
	Kind string    `json:"kind"` // authentication | authorization | accounting | packets
	Text string    `json:"text"`
}

// TraceKinds are the kinds of trace.
var TraceKinds = []string{"authentication", "authorization", "accounting", "packets"}

const (
	mostNotes = 500
	mostLog   = 500
)

func newBooks() notebook {
	return notebook{counts: map[countKey]*Count{}, down: map[string]bool{}, sessions: map[int64]*visitor{},
		traced: map[string]bool{}}
}

// counter returns the counter of a server and a kind of question. The device is
// locked.
func (d *Device) counter(server string, p site.Purpose) *Count {
	k := countKey{server: server, question: p}
	c := d.notebook.counts[k]
	if c == nil {
		c = &Count{Count: evidence.Count{Device: d.config.Device.Name, Server: server, Question: p.Question(),
			Lost: map[reason.Reason]int{}}}
		d.notebook.counts[k] = c
	}
	return c
}

// countedDialer counts what is opened for one kind of question, and closed.
type countedDialer struct {
	aaa.Dialer
	device   *Device
	server   string
	question site.Purpose
}

// Dial opens a connection.
func (c countedDialer) Dial(ctx context.Context, network string, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	conn, err := c.Dialer.Dial(ctx, network, from, to)
	if err != nil {
		return conn, err
	}
	c.device.mu.Lock()
	defer c.device.mu.Unlock()
	c.device.counter(c.server, c.question).Connections++
	return conn, nil
}

// count notes one transmission and the result of it.
func (d *Device) count(s *site.Server, p site.Purpose, r walk.Reply) {
	d.mu.Lock()
	defer d.mu.Unlock()
	c := d.counter(s.Name, p)
	c.Sent++
	switch r.Result {
	case walk.Accepted:
		c.Accepted++
	case walk.Refused:
		c.Refused++
	default:
		c.Lost[r.Reason]++
		d.note("packets", "%s, %s: no answer after %s (%s)", s.Name, p, r.Took.Round(time.Millisecond), r.Reason)
		return
	}
	took := r.Took.Seconds()
	if answers := c.Accepted + c.Refused; answers == 1 || took < c.Least {
		c.Least = took
	}
	c.sum += r.Took
	c.Most, c.Mean = max(c.Most, took), c.sum.Seconds()/float64(c.Accepted+c.Refused)
	d.note("packets", "%s, %s: %s after %s", s.Name, p, r.Result, r.Took.Round(10*time.Microsecond))
}

// Counts returns the counters, by server and kind of question.
func (d *Device) Counts() []evidence.Count {
	d.mu.Lock()
	defer d.mu.Unlock()
	keys := slices.SortedFunc(maps.Keys(d.notebook.counts), func(a, b countKey) int {
		if c := strings.Compare(a.server, b.server); c != 0 {
			return c
		}
		return int(a.question - b.question)
	})
	all := make([]evidence.Count, 0, len(keys))
	for _, k := range keys {
		c := d.notebook.counts[k].Count
		c.Lost = maps.Clone(c.Lost)
		all = append(all, c)
	}
	return all
}

// note writes a line of trace where that platform is on. The device is locked.
func (d *Device) note(kind, format string, args ...any) {
	if !d.notebook.traced[kind] {
		return
	}
	d.notebook.notes = keepLast(append(d.notebook.notes,
		Note{Time: d.config.Now(), Kind: kind, Text: fmt.Sprintf(format, args...)}), mostNotes)
}

// noteSteps writes what the walker did to the trace that is on for it.
func (d *Device) noteSteps(person string, steps []walk.Step) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, s := range steps {
		kind := "authentication"
		switch {
		case s.Purpose == site.Session || s.Purpose == site.Commands:
			kind = "authorization"
		case s.Purpose.Records():
			kind = "accounting"
		}
		text := fmt.Sprintf("%s, %s: %s %s", person, s.Purpose, s.Method, s.Result)
		if s.Reason != "" {
			text += " (" + string(s.Reason) + ")"
		}
		if s.By != "" && s.By != s.Method.String() {
			text += " by " + s.By
		}
		d.note(kind, "%s", text)
	}
}

func keepLast[T any](values []T, most int) []T {
	if len(values) > most {
		values = slices.Delete(values, 0, len(values)-most)
	}
	return values
}

// logs writes a line of the system log.
func (d *Device) logs(format string, args ...any) {
	d.log(evidence.LogLine{Text: fmt.Sprintf(format, args...)})
}

func (d *Device) log(l evidence.LogLine) {
	d.mu.Lock()
	l.Time, l.Device = d.config.Now(), d.current.Name
	d.notebook.log = keepLast(append(d.notebook.log, l), mostLog)
	d.mu.Unlock()
	d.config.Log(l)
}

// logServers writes to the log which servers gave no answer to the questions
// of some steps, and which answer again.
func (d *Device) logServers(person string, steps []walk.Step) {
	for _, s := range steps {
		for i, t := range s.Tries {
			if i+1 < len(s.Tries) && s.Tries[i+1].Server == t.Server {
				continue
			}
			name, lost := t.Server.Name, t.Reply.Result == walk.Unavailable
			d.mu.Lock()
			was := d.notebook.down[name]
			d.notebook.down[name] = lost
			d.mu.Unlock()
			switch {
			case lost:
				d.log(evidence.LogLine{What: evidence.LogNoAnswer, Person: person, Server: name,
					Asked:  s.Purpose.Question(),
					Reason: t.Reply.Reason,
					Text: fmt.Sprintf("%s gave no answer (%s) to a question about %s; attempts: %d", name,
						t.Reply.Reason, s.Purpose,
						t.N)})
			case was:
				d.log(evidence.LogLine{What: evidence.LogAgain, Server: name, Text: name + " answers again"})
			}
		}
	}
}

// joined and gone note the begin and the end of a session. hang ends it from
// outside.
func (d *Device) joined(v *visitor, hang func()) {
	v.id, v.hang = d.next.Add(1), hang
	d.mu.Lock()
	d.notebook.sessions[v.id] = v
	d.mu.Unlock()
	d.log(evidence.LogLine{What: evidence.LogIn, Person: v.person, Access: v.visit.Way.Name(), By: v.entry.By,
		Level: v.entry.Level,
		Text: fmt.Sprintf("%s is in by %s, line %s, from %s, at level %d, let in by %s", printed(v.person),
			v.visit.Way.Name(), v.line, v.from, v.entry.Level, v.entry.By)})
}

func (d *Device) gone(v *visitor) {
	d.mu.Lock()
	_, was := d.notebook.sessions[v.id]
	delete(d.notebook.sessions, v.id)
	d.mu.Unlock()
	if was {
		d.logs("%s is out of line %s after %s", printed(v.person), v.line,
			d.config.Now().Sub(v.entered).Round(time.Second))
	}
}

// refusedLogin notes a login that came to nothing.
func (d *Device) refusedLogin(v *visitor) {
	d.log(evidence.LogLine{What: evidence.LogRefused, Person: v.person, Access: v.visit.Way.Name(), By: v.entry.By,
		Reason: v.entry.Reason,
		Text: fmt.Sprintf("a login of %s by %s, line %s, from %s was refused: %s", printed(v.person),
			v.visit.Way.Name(),
			v.line, v.from, v.entry.Reason)})
}

// Session is one open session.
type Session struct {
	Person string    `json:"person"`
	Access string    `json:"access"`
	Line   string    `json:"line"`
	From   string    `json:"from"`
	Level  int       `json:"level"`
	By     string    `json:"by"`
	Since  time.Time `json:"since"`
}

// Sessions returns the open sessions, the oldest first.
func (d *Device) Sessions() []Session {
	d.mu.Lock()
	defer d.mu.Unlock()
	all := []Session{}
	for _, id := range slices.Sorted(maps.Keys(d.notebook.sessions)) {
		v := d.notebook.sessions[id]
		all = append(all, Session{Person: v.person, Access: v.visit.Way.Name(), Line: v.line, From: v.from,
			Level: v.level,
			By:    v.entry.By, Since: v.entered})
	}
	return all
}

// Notes returns the trace that was switched on, and Log the system log.
func (d *Device) Notes() []Note {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Clone(d.notebook.notes)
}

// Log returns the system log.
func (d *Device) Log() []evidence.LogLine {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Clone(d.notebook.log)
}

// Health is how a server is, as the device sees it.
type Health struct {
	Server string `json:"server"`
	// for how much longer it is left alone; 0: it is asked; -1: until all of its group rest
	Rests   float64          `json:"rests_seconds"`
	Counts  []evidence.Count `json:"counts"`
	Summary string           `json:"summary"`
}

// Servers returns how every server is that the device can ask.
func (d *Device) Servers() []Health {
	counts := d.Counts()
	servers := d.design().Servers()
	health := []Health{}
	for _, s := range servers {
		h := Health{Server: s.Name, Counts: []evidence.Count{}, Rests: d.restOf(s)}
		sent := 0
		answered := 0
		refused := 0
		lost := 0
		for _, c := range counts {
			if c.Server != s.Name {
				continue
			}
			h.Counts = append(h.Counts, c)
			sent = sent + c.Sent
			answered = answered + c.Accepted + c.Refused
			refused = refused + c.Refused
			for _, n := range c.Lost {
				lost += n
			}
		}
		h.Summary = fmt.Sprintf("asked %d, answered %d (refused %d), no answer %d", sent, answered, refused, lost)
		switch {
		case h.Rests < 0:
			h.Summary += ", rests until all do"
		case h.Rests > 0:
			h.Summary += fmt.Sprintf(", rests for %s more",
				time.Duration(h.Rests*float64(time.Second)).Round(time.Second))
		}
		health = append(health, h)
	}
	return health
}

// restOf returns for how long a server is still left alone, in seconds.
func (d *Device) restOf(s *site.Server) float64 {
	byTime := !d.design().Platform.Behaviour.RestEndsWithLast
	until, rests := d.rests.Until(s, d.now(), byTime)
	switch {
	case !rests:
		return 0
	case !byTime:
		return -1
	}
	return (until - d.now()).Seconds()
}

// SetTrace switches a kind of trace on or off. It is false for a platform that
// there is not.
func (d *Device) SetTrace(kind string, on bool) bool {
	if !slices.Contains(TraceKinds, kind) {
		return false
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.notebook.traced[kind] = on
	return true
}

// printed makes a name fit for lines that people read.
func printed(name string) string {
	if name == "" || strings.ContainsFunc(name, func(c rune) bool { return c < ' ' || c == 0x7f }) {
		return fmt.Sprintf("%q", name)
	}
	return name
}
