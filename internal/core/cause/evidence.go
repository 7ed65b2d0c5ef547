// Package cause goes from evidence to causes: from what a device and the
// servers noted about a login to the names of what went wrong, each with what
// speaks for it and against it, and the repair.
//
// To add a cause: add a judge to judges in explain.go that looks at a Story
// and returns it with its evidence.
package cause

import "time"

// Trace is what a device noted of one login, or of one command. It is one line
// of a file traces/DEVICE.jsonl.
type Trace struct {
	Time    time.Time   `json:"time"`
	Device  string      `json:"device"`
	Access  string      `json:"access"`
	Line    string      `json:"line,omitempty"`
	Person  string      `json:"person"`
	From    string      `json:"from,omitempty"`
	Kind    string      `json:"kind"` // login | command | goodbye
	Command string      `json:"command,omitempty"`
	Outcome string      `json:"outcome"` // in | refused, for a command allowed | refused
	Level   int         `json:"level"`
	By      string      `json:"by,omitempty"`
	Reason  string      `json:"reason,omitempty"`
	Seconds float64     `json:"seconds"`
	Steps   []TraceStep `json:"steps"`
}

// TraceStep is one method of a list as the device walked it.
type TraceStep struct {
	Purpose string     `json:"purpose"`
	List    string     `json:"list,omitempty"`
	Method  string     `json:"method"`
	Result  string     `json:"result"` // accepted | refused | unavailable
	Reason  string     `json:"reason,omitempty"`
	By      string     `json:"by,omitempty"`
	Seconds float64    `json:"seconds"`
	Rested  []string   `json:"rested,omitempty"`
	Tries   []TraceTry `json:"tries,omitempty"`
}

// TraceTry is one transmission to one server.
type TraceTry struct {
	Server  string  `json:"server"`
	Try     int     `json:"try"`
	Result  string  `json:"result"`
	Reason  string  `json:"reason,omitempty"`
	Message string  `json:"message,omitempty"`
	Seconds float64 `json:"seconds"`
}

// Kinds of traces.
const (
	TraceLogin   = "login"
	TraceCommand = "command"
	TraceGoodbye = "goodbye"
)

// Event is what a server noted about one question. It is one line of a file
// events.jsonl.
type Event struct {
	Time     time.Time `json:"time"`
	Server   string    `json:"server"`
	Protocol string    `json:"protocol"`
	Client   string    `json:"client"` // the address the question came from
	Device   string    `json:"device,omitempty"`
	Access   string    `json:"access,omitempty"`
	Person   string    `json:"person,omitempty"`
	Question string    `json:"question"` // login | session | commands | record-sessions | record-commands
	Command  string    `json:"command,omitempty"`
	Answer   string    `json:"answer"` // accept | refuse | challenge | error | recorded | dropped
	Reason   string    `json:"reason"`
	Text     string    `json:"text,omitempty"`
	Place    string    `json:"place,omitempty"`
	Rule     string    `json:"rule,omitempty"` // the command rule that decided
	Level    *int      `json:"level,omitempty"`
	Key      string    `json:"key,omitempty"` // while a key is being changed: the name of the one that was used
}

// FaultQuestion marks an event that is no question at all: a fault was set or
// lifted in a lab. Its Text says which.
const FaultQuestion = "fault"

// Answers of an Event.
const (
	Accept   = "accept"
	Refuse   = "refuse"
	Failed   = "error"
	Recorded = "recorded"
	Dropped  = "dropped"
	// Challenged: a one-time code was asked for; the login goes on with it.
	Challenged = "challenge"
)
