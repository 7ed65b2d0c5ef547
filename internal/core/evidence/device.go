package evidence

import (
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Trace is what a device noted of one login, or of one command. It is one line
// of a file traces/DEVICE.jsonl.
type Trace struct {
	Time    time.Time     `json:"time"`
	Device  string        `json:"device"`
	Access  string        `json:"access"`
	Line    string        `json:"line,omitempty"`
	Person  string        `json:"person"`
	From    string        `json:"from,omitempty"`
	Kind    TraceKind     `json:"kind"`
	Command string        `json:"command,omitempty"`
	Outcome walk.Outcome  `json:"outcome"` // in | refused, for a command allowed | refused
	Level   int           `json:"level"`
	By      string        `json:"by,omitempty"`
	Reason  reason.Reason `json:"reason,omitempty"`
	Seconds float64       `json:"seconds"`
	Steps   []TraceStep   `json:"steps"`
}

// TraceStep is one method of a list as the device walked it.
type TraceStep struct {
	Purpose site.Question `json:"purpose"`
	List    string        `json:"list,omitempty"`
	Method  string        `json:"method"`
	Result  walk.Result   `json:"result"`
	Reason  reason.Reason `json:"reason"`
	By      string        `json:"by"`
	Seconds float64       `json:"seconds"`
	Rested  []string      `json:"rested,omitempty"`
	Tries   []TraceTry    `json:"tries,omitempty"`
}

// TraceTry is one transmission to one server.
type TraceTry struct {
	Server  string        `json:"server"`
	Try     int           `json:"try"`
	Result  walk.Result   `json:"result"`
	Reason  reason.Reason `json:"reason,omitempty"`
	Message string        `json:"message,omitempty"`
	Seconds float64       `json:"seconds"`
}

// TraceKind is what a trace is of.
type TraceKind string

// Kinds of traces.
const (
	TraceLogin   TraceKind = "login"
	TraceCommand TraceKind = "command"
	TraceRaise   TraceKind = "elevation"
	TraceGoodbye TraceKind = "goodbye"
)

// Count is the result of a device's asking a server one kind of question.
type Count struct {
	Device   string                `json:"device"`
	Server   string                `json:"server"`
	Question site.Question         `json:"question"`
	Sent     int                   `json:"sent"`     // transmissions
	Accepted int                   `json:"accepted"` // answers
	Refused  int                   `json:"refused"`
	Lost     map[reason.Reason]int `json:"lost"` // no answer, by reason
	// Connections is how many were opened: for RADIUS, ports of the device.
	Connections int     `json:"connections"`
	Least       float64 `json:"least_seconds"`
	Mean        float64 `json:"mean_seconds"`
	Most        float64 `json:"most_seconds"` // round-trip times of the answers
	Rests       float64 `json:"rests_seconds,omitempty"`
}

// LogLine is one line of a device's system log. What it is about stands beside
// the text.
type LogLine struct {
	Time   time.Time     `json:"time"`
	Device string        `json:"device,omitempty"`
	What   LogEvent      `json:"what,omitempty"` // "" where the line is about something else
	Person string        `json:"person,omitempty"`
	Access string        `json:"access,omitempty"`
	Server string        `json:"server,omitempty"`
	Asked  site.Question `json:"asked,omitempty"` // for no-answer
	Reason reason.Reason `json:"reason,omitempty"`
	By     string        `json:"by,omitempty"`
	Level  int           `json:"level,omitempty"`
	Text   string        `json:"text"`
	Raw    bool          `json:"raw,omitempty"` // as the device sent it: what it says is left to a phrasebook
}

// LogEvent is what a line of a device's log is about.
type LogEvent string

// What a line can be about.
const (
	LogIn       LogEvent = "in"
	LogRefused  LogEvent = "refused"
	LogNoAnswer LogEvent = "no-answer"
	LogAgain    LogEvent = "answers-again"
)
