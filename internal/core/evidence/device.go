package evidence

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

// Count is what came of a device's asking a server one kind of question.
type Count struct {
	Device   string         `json:"device"`
	Server   string         `json:"server"`
	Question string         `json:"question"`
	Sent     int            `json:"sent"`     // transmissions
	Accepted int            `json:"accepted"` // answers
	Refused  int            `json:"refused"`
	Lost     map[string]int `json:"lost"`  // no answer, by reason
	Opens    int            `json:"opens"` // connections, and for RADIUS ports of its own, that were opened
	Closes   int            `json:"closes"`
	Least    float64        `json:"least_seconds"`
	Mean     float64        `json:"mean_seconds"`
	Most     float64        `json:"most_seconds"` // round-trip times of the answers
	Rests    float64        `json:"rests_seconds,omitempty"`
}

// LogLine is one line of a device's system log. What it is about stands beside
// the text.
type LogLine struct {
	Time   time.Time `json:"time"`
	Device string    `json:"device,omitempty"`
	What   string    `json:"what,omitempty"` // in | refused | no-answer | answers-again, "" for the rest
	Person string    `json:"person,omitempty"`
	Access string    `json:"access,omitempty"`
	Server string    `json:"server,omitempty"`
	Asked  string    `json:"asked,omitempty"` // the purpose, for no-answer
	Reason string    `json:"reason,omitempty"`
	By     string    `json:"by,omitempty"`
	Level  int       `json:"level,omitempty"`
	Text   string    `json:"text"`
}

// Words for LogLine.What.
const (
	LogIn       = "in"
	LogRefused  = "refused"
	LogNoAnswer = "no-answer"
	LogAgain    = "answers-again"
)
