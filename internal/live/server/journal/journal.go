// Package journal tells the outside what a service does: in lines for a person,
// in structured lines for a log, and as syslog messages. It holds up nobody:
// what a slow receiver does not take is counted and said.
package journal

import (
	"context"
	"io"
	"log/slog"
	"time"

	"mellowgate/internal/core/evidence"
)

// Forms of a log.
const (
	Plain = "plain" // what an administrator should know, as sentences; no events
	Text  = "text"  // everything, as key=value
	JSON  = "json"  // everything, an object a line
)

// Forms returns the forms, the usual one first.
func Forms() []string { return []string{Plain, Text, JSON} }

// Journal takes what happens. The zero value drops it.
//
// It is safe for use by several goroutines, and owns none. Its syslog is closed
// by whoever made it.
type Journal struct {
	plain  func(string)
	log    *slog.Logger
	syslog *Syslog
}

// New makes a journal in a form, written to w; the plain one is given to plain,
// sentence by sentence. Syslog may be nil.
func New(form string, w io.Writer, plain func(string), syslog *Syslog) *Journal {
	j := &Journal{plain: plain, syslog: syslog}
	switch form {
	case Text:
		j.log = slog.New(slog.NewTextHandler(w, nil))
	case JSON:
		j.log = slog.New(slog.NewJSONHandler(w, nil))
	}
	return j
}

// Say tells something about the service itself.
func (j *Journal) Say(text string) {
	switch {
	case j.log != nil:
		j.log.Info(text)
	case j.plain != nil:
		j.plain(text)
	}
	if j.syslog != nil {
		j.syslog.send(time.Now(), info, "service", nil, text)
	}
}

// Fact tells something for a log, and not for a person: names and values by turns.
func (j *Journal) Fact(what string, fields ...string) {
	var attrs []slog.Attr
	for i := 0; i+1 < len(fields); i += 2 {
		attrs = append(attrs, slog.String(fields[i], fields[i+1]))
	}
	if j.log != nil {
		j.log.LogAttrs(context.Background(), slog.LevelInfo, what, attrs...)
	}
	if j.syslog != nil {
		j.syslog.fields(time.Now(), info, what, attrs)
	}
}

// TellsEvents reports whether anybody takes events.
func (j *Journal) TellsEvents() bool { return j.log != nil || j.syslog != nil }

// Event tells one decision, or what was dropped.
func (j *Journal) Event(e evidence.Event) {
	if j.log != nil {
		attributes := attributesOf(e)
		j.log.LogAttrs(context.Background(), levels[e.Answer], "event", attributes...)
	}
	if j.syslog != nil {
		j.syslog.event(e)
	}
}

// levels is how grave an answer is in a log; 0 is Info.
var levels = map[evidence.Answer]slog.Level{evidence.Refused: slog.LevelWarn, evidence.Dropped: slog.LevelWarn,
	evidence.Failed: slog.LevelError}

// attributesOf returns the fields of an event that say something, in the order of
// its JSON form, without its time.
func attributesOf(e evidence.Event) []slog.Attr {
	var attrs []slog.Attr
	for _, f := range e.Fields() {
		if f.Value != "" {
			attrs = append(attrs, slog.String(f.Name, f.Value))
		}
	}
	return attrs
}
