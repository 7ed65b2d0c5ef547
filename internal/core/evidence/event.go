package evidence

import (
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

// Event is what a server noted about one question. It is one line of a file
// events.jsonl.
type Event struct {
	Time     time.Time     `json:"time"`
	Server   string        `json:"server"`
	Protocol site.Protocol `json:"protocol"`
	Client   string        `json:"client"` // the address the question came from
	Port     uint16        `json:"client_port,omitempty"`
	Device   string        `json:"device,omitempty"`
	Access   string        `json:"access,omitempty"`
	Person   string        `json:"person,omitempty"`
	Question site.Question `json:"question"`
	Command  string        `json:"command,omitempty"`
	Answer   Answer        `json:"answer"`
	Reason   reason.Reason `json:"reason"`
	Text     string        `json:"text,omitempty"`
	Place    string        `json:"place,omitempty"`
	Rule     string        `json:"rule,omitempty"` // the command rule that decided
	Level    *int          `json:"level,omitempty"`
	Returned string        `json:"returned,omitempty"` // the attributes that went back
	Key      string        `json:"key,omitempty"`      // while a key is being changed: the name of the one that was used
	// Cause and Repair are what the event alone shows of why a question failed, for who
	// reads the log of a service. They are no evidence.
	Cause  string `json:"cause,omitempty"`
	Repair string `json:"repair,omitempty"`
}

// FaultQuestion marks an event that is no question at all: a fault was set or
// lifted in a lab. Its Text says which.
const FaultQuestion site.Question = "fault"

// Answer is what became of a question, in a word.
type Answer string

// The answers. An event has the first six, a captured exchange all but Dropped.
const (
	Accepted   Answer = "accepted"
	Refused    Answer = "refused"
	Challenged Answer = "challenged" // a one-time code was asked for; the login goes on with it
	Failed     Answer = "error"      // the server said that it cannot answer
	Recorded   Answer = "recorded"
	Dropped    Answer = "dropped" // nothing was answered
	Alive      Answer = "alive"   // to a status question
	None       Answer = "none"    // no answer was seen
	Unreadable Answer = "unreadable"
	// FaultSet and FaultLifted are of an event that is no question.
	FaultSet    Answer = "set"
	FaultLifted Answer = "lifted"
)
