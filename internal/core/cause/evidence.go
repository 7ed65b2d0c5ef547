// Package cause goes from evidence to causes: from whatever is at hand of a
// login (what a device and the servers noted, captured packets, counters, log
// lines, the site, answers to questions put on purpose) to the names of what
// went wrong, each with what speaks for it and against it, and the repair.
//
// Evidence is read into signs (read_*.go), each with its source and time. A
// story has points: things that went wrong. For each point the causes of the
// catalogue are weighed by the signs. To add a cause: an entry in catalogue.go.
// To add a kind of evidence: a reader that gives signs.
package cause

import (
	"time"

	"mellowgate/internal/core/site"
)

// Evidence is everything known about some logins. Any part may be missing.
type Evidence struct {
	Traces    []Trace
	Events    []Event
	Exchanges []Exchange
	Counts    []Count
	Log       []LogLine
	Probes    []Probe
	Site      *site.Site // nil when not known
	Keys      site.Keys  // the values of its keys, as far as they are known
	Now       time.Time  // for what ends by time; zero: the time of the story
}

// Source is a kind of evidence.
type Source string

// The kinds of evidence.
const (
	FromTrace    Source = "trace"
	FromEvents   Source = "events"
	FromCapture  Source = "capture"
	FromCounters Source = "counters"
	FromLog      Source = "log"
	FromSite     Source = "site"
	FromProbe    Source = "probe"
)

// Sources tells which kinds of evidence are at hand.
func (e Evidence) Sources() map[Source]bool {
	return map[Source]bool{FromTrace: len(e.Traces) > 0, FromEvents: len(e.Events) > 0, FromCapture: len(e.Exchanges) > 0,
		FromCounters: len(e.Counts) > 0, FromLog: len(e.Log) > 0, FromSite: e.Site != nil, FromProbe: len(e.Probes) > 0}
}

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

// Exchange is one captured question and what became of it.
type Exchange struct {
	Time            time.Time   `json:"time"`
	Protocol        string      `json:"protocol"` // radius | tacacs | tls
	Client          string      `json:"client"`   // address:port
	ServerAddress   string      `json:"server_address"`
	Device          string      `json:"device"` // "" when the site does not know the address
	Server          string      `json:"server"`
	Person          string      `json:"person"`
	Question        string      `json:"question"` // login | session | commands | record-sessions | record-commands | status | connect
	Command         string      `json:"command"`
	Answer          string      `json:"answer"` // accept | refuse | challenge | error | recorded | alive | none | unreadable
	Seconds         float64     `json:"seconds"`
	Retransmissions int         `json:"retransmissions"`
	Key             string      `json:"key"` // fits | differs | unknown
	Remarks         []string    `json:"remarks"`
	Marks           []string    `json:"marks"` // the remarks as words for programs
	Request         []NameValue `json:"request"`
	Response        []NameValue `json:"response"`
}

// NameValue is an attribute or an argument in readable form.
type NameValue struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Words for Exchange.Key.
const (
	KeyFits    = "fits"
	KeyUnfit   = "differs"
	KeyUnknown = "unknown"
)

// Words for Exchange.Marks.
const (
	MarkMalformed    = "malformed"
	MarkUnverified   = "unverified-answer" // an answer came that the key did not make
	MarkForged       = "forged-answer"     // and beside it one that the key did make
	MarkStray        = "stray-answer"      // an answer to nothing
	MarkReused       = "identifier-reused"
	MarkPortClosed   = "port-closed" // the port refuses, or ICMP says so
	MarkNoWay        = "no-way"      // ICMP: host or net unreachable
	MarkNoSynAck     = "no-connection"
	MarkEndedEarly   = "ended-before-answer"
	MarkTLSOnClear   = "tls-on-clear"
	MarkClearOnTLS   = "clear-on-tls"
	MarkMixed        = "other-protocol" // RADIUS on a TACACS+ port, or the other way round
	MarkLegacyPort   = "legacy-port"    // 1645 or 1646
	MarkLate         = "late-answer"    // after the question had been sent again
	MarkNoServer     = "no-server-port" // a server's address, and none of its ports
	MarkUnknownAsker = "unknown-asker"  // no device of the site has the address
	MarkJoined       = "joined"         // the capture begins in the middle
	MarkClearBody    = "clear-body"
	MarkHidden       = "key-not-known" // answered or not, its content cannot be read here
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

// Probe is what came of one question put on purpose.
type Probe struct {
	Time   time.Time `json:"time"`
	Server string    `json:"server"`
	As     string    `json:"as"`   // the device whose address and key were used, "" for this host
	Kind   string    `json:"kind"` // reach | status | accounting-status | login
	Result string    `json:"result"`
	Text   string    `json:"text"`
}

// Kinds of probes: is the port open, is RADIUS alive, a login with a name that
// nobody has.
const (
	ProbeReach            = "reach"
	ProbeStatus           = "status"
	ProbeAccountingStatus = "accounting-status"
	ProbeLogin            = "login"
)

// Results of probes.
const (
	ProbeOpen    = "open"
	ProbeClosed  = "closed"
	ProbeSilent  = "silent"
	ProbeNoWay   = "no-way"
	ProbeAlive   = "alive"
	ProbeRefused = "refused" // an authentic no: the key fits and the server knows who asks
	ProbeUnfit   = "key-differs"
	ProbeUnknown = "asker-unknown"
	ProbeError   = "error"
	ProbeTLS     = "tls"
)

// After gives the part of the evidence that is from a time on; counters have
// none, and stay.
func (e Evidence) After(since time.Time) Evidence {
	e.Traces = after(e.Traces, since, func(v Trace) time.Time { return v.Time })
	e.Events = after(e.Events, since, func(v Event) time.Time { return v.Time })
	e.Exchanges = after(e.Exchanges, since, func(v Exchange) time.Time { return v.Time })
	e.Log = after(e.Log, since, func(v LogLine) time.Time { return v.Time })
	return e
}

func after[T any](all []T, since time.Time, at func(T) time.Time) []T {
	var some []T
	for _, v := range all {
		if !at(v).Before(since) {
			some = append(some, v)
		}
	}
	return some
}
