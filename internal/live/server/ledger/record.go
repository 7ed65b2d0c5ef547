package ledger

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
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
	Gap          Kind = "gap"      // decisions that could not be written, and are missing
	Released     Kind = "released" // older records that are not kept here any more
)

// Kinds returns every kind of record.
func Kinds() []string {
	return []string{string(Login), string(Elevation), string(SessionStart), string(SessionStop), string(Update),
		string(Command), string(System), string(Decision), string(Gap), string(Released)}
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
	Rule     string          `json:"rule"`     // what of the site decided, with its line
	Returned string          `json:"returned"` // the attributes that went back
	Chain    string          `json:"chain"`    // the run of records that it belongs to: one for each place that writes
	Sequence int64           `json:"sequence"`
	Hash     string          `json:"hash"`
}

// Hash returns the hash of a record that follows the one with the hash before:
// SHA-256 over that hash and every field of the record but its own hash, each
// with its length before it, in the order in which they are written.
func Hash(before string, r Record) string {
	b := make([]byte, 0, 512)
	return hashOf(appendBody(appendField(b, before), r))
}

func hashOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// appendField appends a text with its length before it.
func appendField(b []byte, text string) []byte {
	b = strconv.AppendInt(b, int64(len(text)), 10)
	return append(append(b, ':'), text...)
}

// appendNumber appends a number as a text is appended.
func appendNumber(b []byte, n int64) []byte {
	var digits [20]byte
	text := strconv.AppendInt(digits[:0], n, 10)
	b = strconv.AppendInt(b, int64(len(text)), 10)
	return append(append(b, ':'), text...)
}

// appendBody appends every field of a record but its hash. Rule and Returned stand at
// the end where one of them has something: records of before there were any have none.
func appendBody(b []byte, r Record) []byte {
	b = appendNumber(b, r.Time.UnixNano())
	for _, field := range [...]string{r.Node, string(r.Kind), r.Person, r.Device, r.Access, r.From} {
		b = appendField(b, field)
	}
	b = appendNumber(b, int64(r.Level))
	for _, field := range [...]string{string(r.Result), r.Command, r.Reason, r.Session, r.Protocol} {
		b = appendField(b, field)
	}
	b = appendNumber(b, r.Sequence)
	if r.Rule != "" || r.Returned != "" {
		b = appendField(appendField(b, r.Rule), r.Returned)
	}
	return b
}

// errNoRecord is an entry of a ledger that cannot be read.
var errNoRecord = errors.New("it is no record that this program can read")

// leastFields is the number of fields of a record as it is written: with its hash at the end, and without Rule and
// Returned.
const leastFields = 15

// decode reads a record as it is written: its body and its hash.
func decode(entry []byte) (Record, error) {
	all, err := splitFields(string(entry)) // one string that the fields are parts of
	if err != nil || len(all) != leastFields && len(all) != leastFields+2 {
		return Record{}, errNoRecord
	}
	at, err1 := strconv.ParseInt(all[0], 10, 64)
	level, err2 := strconv.Atoi(all[7])
	sequence, err3 := strconv.ParseInt(all[13], 10, 64)
	if err := errors.Join(err1, err2, err3); err != nil {
		return Record{}, errNoRecord
	}
	r := Record{Time: time.Unix(0, at).UTC(), Node: all[1], Kind: Kind(all[2]), Person: all[3], Device: all[4],
		Access: all[5], From: all[6], Level: level, Result: evidence.Answer(all[8]), Command: all[9], Reason: all[10],
		Session: all[11], Protocol: all[12], Sequence: sequence, Hash: all[len(all)-1]}
	if len(all) > leastFields {
		r.Rule, r.Returned = all[14], all[15]
	}
	return r, nil
}

// timeOf reads only the time of a record as it is written, in nanoseconds since 1970.
func timeOf(entry []byte) (int64, error) {
	digits, rest, found := bytes.Cut(entry[:min(len(entry), 32)], []byte(":"))
	n, err := strconv.Atoi(string(digits))
	if !found || err != nil || n < 0 || n > len(rest) {
		return 0, errNoRecord
	}
	at, err := strconv.ParseInt(string(rest[:n]), 10, 64)
	if err != nil {
		return 0, errNoRecord
	}
	return at, nil
}

// splitFields takes texts apart that have their lengths before them, at most as many as
// a record has.
func splitFields(text string) ([]string, error) {
	fields := make([]string, 0, leastFields+2)
	for text != "" && len(fields) < cap(fields) {
		digits, _, found := strings.Cut(text[:min(len(text), 8)], ":")
		n, err := strconv.Atoi(digits)
		if !found || err != nil || n < 0 || len(digits)+1+n > len(text) {
			return nil, errNoRecord
		}
		fields = append(fields, text[len(digits)+1:len(digits)+1+n])
		text = text[len(digits)+1+n:]
	}
	if text != "" {
		return nil, errNoRecord
	}
	return fields, nil
}

// head is what the first frame of a file of records says.
type head struct {
	chain  string
	first  int64  // the number of the first record in it
	before string // the hash of the one before, "" where that is the first of the chain
}

// formOfHead names the form of the file; another one is of another version of this
// program.
const formOfHead = "mellowgate records 1"

func (h head) encode() []byte {
	b := appendField(nil, formOfHead)
	b = appendField(b, h.chain)
	b = appendNumber(b, h.first)
	return appendField(b, h.before)
}

func decodeHead(frame []byte) (head, error) {
	all, err := splitFields(string(frame))
	if err != nil || len(all) == 0 || all[0] != formOfHead || len(all) != 4 {
		return head{}, errors.New("it was written by another version of this program; use that one")
	}
	first, err := strconv.ParseInt(all[2], 10, 64)
	return head{chain: all[1], first: first, before: all[3]}, err
}

// mostField is the most of a field of a record: what is longer is cut, and says so.
const mostField = 64 << 10

// text makes a text fit for every database: valid UTF-8 without NUL.
func text(s string) string {
	if len(s) > mostField {
		s = s[:mostField] + " (cut)"
	}
	if !strings.ContainsRune(s, 0) {
		return strings.ToValidUTF8(s, "\uFFFD")
	}
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

// tidy makes all texts of a record fit for every database.
func (r Record) tidy() Record {
	for _, field := range []*string{&r.Node, &r.Person, &r.Device, &r.Access, &r.From, &r.Command, &r.Reason,
		&r.Session,
		&r.Protocol, &r.Rule, &r.Returned} {
		*field = text(*field)
	}
	r.Result = evidence.Answer(text(string(r.Result)))
	return r
}
