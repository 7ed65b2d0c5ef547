package evidence

import "time"

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
