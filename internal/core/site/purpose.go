package site

// Purpose is what a method list is for.
type Purpose int

const (
	Login Purpose = iota
	Elevation
	Session
	Commands
	RecordSessions
	RecordCommands
	RecordSystem
	PurposeCount
)

// Question is a question to a server in a word: the purpose that it is asked
// for, or what only an event or a capture knows of.
type Question string

// The questions.
const (
	AskLogin          Question = "login"
	AskElevation      Question = "elevation"
	AskSession        Question = "session"
	AskCommands       Question = "commands"
	AskRecordSessions Question = "record-sessions"
	AskRecordCommands Question = "record-commands"
	AskRecordSystem   Question = "record-system"
	AskStatus         Question = "status"    // is the server alive (RFC 5997)
	AskConnect        Question = "connect"   // a connection, whatever was to follow
	AskDirectory      Question = "directory" // of a server to its directory
)

// Records reports whether a question is a record to keep.
func (q Question) Records() bool {
	return q == AskRecordSessions || q == AskRecordCommands || q == AskRecordSystem
}

var questions = [PurposeCount]Question{AskLogin, AskElevation, AskSession, AskCommands, AskRecordSessions,
	AskRecordCommands, AskRecordSystem}

// Question returns the word for a purpose, "" for what is none.
func (p Purpose) Question() Question {
	if p < 0 || p >= PurposeCount {
		return ""
	}
	return questions[p]
}

// PurposeOf returns the purpose of a name; false for what is none.
func PurposeOf(name string) (p Purpose, known bool) {
	for p = range PurposeCount {
		if p.String() == name {
			return p, true
		}
	}
	return PurposeCount, false
}

func (p Purpose) String() string { return string(p.Question()) }

// Service returns which of the three services of AAA a purpose belongs to:
// authentication, authorization or accounting.
func (p Purpose) Service() string {
	switch {
	case p == Login || p == Elevation:
		return "authentication"
	case p.Records():
		return "accounting"
	}
	return "authorization"
}

// Records reports whether lists of this purpose keep records rather than decide.
func (p Purpose) Records() bool {
	return p == RecordSessions || p == RecordCommands || p == RecordSystem
}
