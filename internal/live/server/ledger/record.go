package ledger

import (
	"crypto/sha256"
	"encoding/hex"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
)

// Kind is what a record is about.
type Kind string

const (
	Login        Kind = "login"
	Elevation    Kind = "elevation" // a higher level was asked for
	SessionStart Kind = "session-start"
	SessionStop  Kind = "session-stop"
	Update       Kind = "session-update" // a session goes on
	Command      Kind = "command"
	System       Kind = "system" // what a device says of itself
	Decision     Kind = "decision"
	Gap          Kind = "gap" // decisions that could not be written, and are missing
)

// Kinds returns every kind of record.
func Kinds() []string {
	return []string{string(Login), string(Elevation), string(SessionStart), string(SessionStop), string(Update),
		string(Command), string(System), string(Decision), string(Gap)}
}

// Record is one record. Chain, Sequence and Hash are given by the
// ledger.
type Record struct {
	Time     time.Time       `json:"time"`
	Node     string          `json:"node"` // the server that wrote it
	Kind     Kind            `json:"kind"`
	Person   string          `json:"person"`
	Device   string          `json:"device"`
	Access   string          `json:"access"`
	From     string          `json:"from"` // where the person came from
	Level    int             `json:"level"`
	Result   evidence.Answer `json:"result"`
	Command  string          `json:"command"`
	Reason   string          `json:"reason"`
	Session  string          `json:"session"`
	Protocol string          `json:"protocol"`
	Chain    string          `json:"chain"` // the run of records that it belongs to: one for each place that writes
	Sequence int64           `json:"sequence"`
	Hash     string          `json:"hash"`
}

// Hash returns the hash of a record that follows the one with the hash before:
// SHA-256 over that hash and every field of the record but its own hash, each
// with its length before it, in the order of the struct.
func Hash(before string, r Record) string {
	b := make([]byte, 0, 512)
	for _, field := range []string{before, strconv.FormatInt(r.Time.UnixNano(), 10), r.Node, string(r.Kind), r.Person,
		r.Device, r.Access, r.From,
		strconv.Itoa(r.Level), string(r.Result), r.Command, r.Reason, r.Session, r.Protocol,
		strconv.FormatInt(r.Sequence, 10)} {
		b = strconv.AppendInt(b, int64(len(field)), 10)
		b = append(append(b, ':'), field...)
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// text makes a text fit for every database: valid UTF-8 without NUL.
func text(s string) string {
	if !strings.ContainsRune(s, 0) {
		return strings.ToValidUTF8(s, "\uFFFD")
	}
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

// tidy makes all texts of a record fit for every database.
func (r Record) tidy() Record {
	for _, field := range []*string{&r.Node, &r.Person, &r.Device, &r.Access, &r.From, &r.Command, &r.Reason, &r.Session,
		&r.Protocol} {
		*field = text(*field)
	}
	r.Result = evidence.Answer(text(string(r.Result)))
	return r
}
