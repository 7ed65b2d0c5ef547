package evidence

import (
	"net/netip"
	"slices"
	"time"

	"mellowgate/internal/core/site"
)

// Exchange is one captured question and what became of it.
type Exchange struct {
	Time            time.Time     `json:"time"`
	Protocol        string        `json:"protocol"` // radius | tacacs | tls
	Client          string        `json:"client"`   // address:port
	ServerAddress   string        `json:"server_address"`
	Device          string        `json:"device"` // "" when the site does not know the address
	Server          string        `json:"server"`
	Person          string        `json:"person"`
	Question        site.Question `json:"question"`
	Command         string        `json:"command"`
	Answer          Answer        `json:"answer"`
	Seconds         float64       `json:"seconds"`
	Retransmissions int           `json:"retransmissions"`
	Key             KeyFit        `json:"key"`                // of the question
	AnswerKey       KeyFit        `json:"answer_key"`         // of the answer: each direction by itself
	KeyUsed         string        `json:"key_used,omitempty"` // where the key differs: which one was used, in words
	Remarks         []string      `json:"remarks"`
	Marks           []Mark        `json:"marks"` // the remarks as words for programs
	Request         []NameValue   `json:"request"`
	Response        []NameValue   `json:"response"`
	// Form is in which form a question carries a password, "" where it carries none.
	Form string `json:"-"`
	// First is how many seconds the first answer took, of a talk of several; 0 where
	// none came.
	First float64 `json:"-"`
	// Says is the remark of each mark.
	Says map[Mark]string `json:"-"`
}

// Has reports whether an exchange bears a mark.
func (x Exchange) Has(m Mark) bool { return slices.Contains(x.Marks, m) }

// NameValue is an attribute or an argument in readable form.
type NameValue struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// KeyFit is what a capture shows of the key with which an exchange was made.
type KeyFit string

// What it can show.
const (
	KeyFits    KeyFit = "fits"
	KeyUnfit   KeyFit = "differs"
	KeyUnknown KeyFit = "unknown"
)

// Mark is a remark on an exchange in a word.
type Mark string

// The marks.
const (
	MarkMalformed     Mark = "malformed"
	MarkUnverified    Mark = "unverified-answer" // an answer came that the key did not make
	MarkForged        Mark = "forged-answer"     // and beside it one that the key did make
	MarkStray         Mark = "stray-answer"      // an answer to nothing
	MarkReused        Mark = "identifier-reused"
	MarkPortClosed    Mark = "port-closed" // the port refuses, or ICMP says so
	MarkNoWay         Mark = "no-way"      // ICMP: host or net unreachable
	MarkNoSynAck      Mark = "no-connection"
	MarkEndedEarly    Mark = "ended-before-answer"
	MarkStillOpen     Mark = "still-open" // the capture ends before the answer, or the end of the connection
	MarkTLSOnClear    Mark = "tls-on-clear"
	MarkClearOnTLS    Mark = "clear-on-tls"
	MarkMixed         Mark = "other-protocol" // RADIUS on a TACACS+ port, or the other way round
	MarkLegacyPort    Mark = "legacy-port"    // 1645 or 1646
	MarkLate          Mark = "late-answer"    // after the question had been sent again
	MarkNoServer      Mark = "no-server-port" // a server's address, and none of its ports
	MarkClientUnknown Mark = "client-unknown" // no device of the site has the address
	MarkJoined        Mark = "joined"         // the capture begins in the middle
	MarkClearBody     Mark = "clear-body"
	MarkHidden        Mark = "key-not-known" // answered or not, its content cannot be read here
	// What shows who heard what.
	MarkAskedAgain Mark = "asked-again"            // the same was asked anew before the answer came
	MarkUnheard    Mark = "asked-after-its-answer" // sent again though its answer is in the capture
	MarkElsewhere  Mark = "answer-from-elsewhere"  // the answer came from another address or port
	MarkUnsigned   Mark = "unsigned-answer"        // without the Message-Authenticator that the site requires
	MarkUnacked    Mark = "never-acknowledged"     // TCP octets of the client that the server's host never had
	MarkBigLost    Mark = "large-segments-lost"    // small segments pass, and larger ones do not
	MarkTooBig     Mark = "too-big-for-the-path"   // ICMP says so
	MarkCutOff     Mark = "cut-off"                // the connection ended in the middle of a talk
	MarkAborted    Mark = "aborted"                // by who asked
	MarkCut        Mark = "cut-by-the-capture"     // the capture keeps a part of each packet only
	MarkNoHost     Mark = "no-neighbour"           // nobody on the network has the address
	MarkTLSAlert   Mark = "tls-alert"
	// What captures of two places show together.
	MarkLostThere  Mark = "question-lost"
	MarkLostBack   Mark = "answer-lost"
	MarkDirRefuses Mark = "directory-refuses-us"
	MarkDirNoBase  Mark = "directory-no-base"
	MarkDirNoEntry Mark = "directory-no-entry"
)

// AskedBy names who asked: the device, or the address where the site knows none.
func (x Exchange) AskedBy() string {
	if x.Device != "" {
		return x.Device
	}
	return Host(x.Client)
}

// AskedOf names the server: by the site, or by its address.
func (x Exchange) AskedOf() string {
	if x.Server != "" {
		return x.Server
	}
	return Host(x.ServerAddress)
}

// Host returns the address of an address with a port, and anything else as it
// is.
func Host(place string) string {
	if endpoint, err := netip.ParseAddrPort(place); err == nil {
		return endpoint.Addr().String()
	}
	return place
}

// Unanswered reports whether an exchange came to nothing.
func (x Exchange) Unanswered() bool {
	if x.Hidden() {
		return false
	}
	return x.Answer == None || x.Answer == Unreadable || x.Answer == Failed
}

// Hidden reports whether an exchange cannot be read for want of the key, and
// came to some answer.
func (x Exchange) Hidden() bool {
	return x.Answer == Unreadable && slices.Contains(x.Marks, MarkHidden)
}
