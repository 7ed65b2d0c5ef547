package evidence

import (
	"net/netip"
	"slices"
	"time"
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
	if at, err := netip.ParseAddrPort(place); err == nil {
		return at.Addr().String()
	}
	return place
}

// Unanswered reports whether an exchange came to nothing.
func (x Exchange) Unanswered() bool {
	if x.Hidden() {
		return false
	}
	return x.Answer == "none" || x.Answer == "unreadable" || x.Answer == Failed
}

// Hidden reports whether an exchange cannot be read for want of the key, and
// came to some answer.
func (x Exchange) Hidden() bool {
	return x.Answer == "unreadable" && slices.Contains(x.Marks, MarkHidden)
}
