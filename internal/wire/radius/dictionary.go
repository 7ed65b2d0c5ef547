package radius

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Type is an attribute's number.
type Type byte

const (
	UserName                 Type = 1
	UserPassword             Type = 2
	CHAPPassword             Type = 3
	NASIPAddress             Type = 4
	NASPort                  Type = 5
	ServiceType              Type = 6
	ReplyMessage             Type = 18
	State                    Type = 24
	Class                    Type = 25
	VendorSpecific           Type = 26
	CallingStationID         Type = 31
	NASIdentifier            Type = 32
	ProxyState               Type = 33
	AcctStatusType           Type = 40
	AcctDelayTime            Type = 41
	AcctSessionID            Type = 44
	AcctAuthentic            Type = 45
	AcctSessionTime          Type = 46
	AcctTerminateCause       Type = 49
	CHAPChallenge            Type = 60
	NASPortType              Type = 61
	MessageAuthenticator     Type = 80
	NASPortID                Type = 87
	NASIPv6Address           Type = 95
	ManagementPolicyID       Type = 135
	ManagementPrivilegeLevel Type = 136
)

// Form is the data type of an attribute, RFC 8044.
type Form int

const (
	Octets Form = iota
	Text
	Integer
	Address
	Address6
	Hidden // never shown
)

// Entry is an attribute of the dictionary.
type Entry struct {
	Type    Type
	Name    string
	Form    Form
	Section string
	Values  map[uint32]string // names of values, for Integer
}

// dictionary lists the attributes known by name.
var dictionary = []Entry{
	{UserName, "User-Name", Text, "RFC 2865, section 5.1", nil},
	{UserPassword, "User-Password", Hidden, "RFC 2865, section 5.2", nil},
	{CHAPPassword, "CHAP-Password", Hidden, "RFC 2865, section 5.3", nil},
	{NASIPAddress, "NAS-IP-Address", Address, "RFC 2865, section 5.4", nil},
	{NASPort, "NAS-Port", Integer, "RFC 2865, section 5.5", nil},
	{ServiceType, "Service-Type", Integer, "RFC 2865, section 5.6", map[uint32]string{
		1: "Login", 2: "Framed", 5: "Outbound", 6: "Administrative", 7: "NAS-Prompt", 8: "Authenticate-Only"}},
	{ReplyMessage, "Reply-Message", Text, "RFC 2865, section 5.18", nil},
	{State, "State", Octets, "RFC 2865, section 5.24", nil},
	{Class, "Class", Octets, "RFC 2865, section 5.25", nil},
	{VendorSpecific, "Vendor-Specific", Octets, "RFC 2865, section 5.26", nil},
	{CallingStationID, "Calling-Station-Id", Text, "RFC 2865, section 5.31", nil},
	{NASIdentifier, "NAS-Identifier", Text, "RFC 2865, section 5.32", nil},
	{ProxyState, "Proxy-State", Octets, "RFC 2865, section 5.33", nil},
	{AcctStatusType, "Acct-Status-Type", Integer, "RFC 2866, section 5.1", map[uint32]string{
		1: "Start", 2: "Stop", 3: "Interim-Update", 7: "Accounting-On", 8: "Accounting-Off"}},
	{AcctDelayTime, "Acct-Delay-Time", Integer, "RFC 2866, section 5.2", nil},
	{AcctSessionID, "Acct-Session-Id", Text, "RFC 2866, section 5.5", nil},
	{AcctAuthentic, "Acct-Authentic", Integer, "RFC 2866, section 5.6", map[uint32]string{1: "RADIUS", 2: "Local", 3: "Remote"}},
	{AcctSessionTime, "Acct-Session-Time", Integer, "RFC 2866, section 5.7", nil},
	{AcctTerminateCause, "Acct-Terminate-Cause", Integer, "RFC 2866, section 5.10", map[uint32]string{1: "User-Request", 4: "Idle-Timeout"}},
	{CHAPChallenge, "CHAP-Challenge", Octets, "RFC 2865, section 5.40", nil},
	{NASPortType, "NAS-Port-Type", Integer, "RFC 2865, section 5.41", map[uint32]string{0: "Async", 5: "Virtual", 15: "Ethernet"}},
	{MessageAuthenticator, "Message-Authenticator", Octets, "RFC 3579, section 3.2", nil},
	{NASPortID, "NAS-Port-Id", Text, "RFC 2869, section 5.17", nil},
	{NASIPv6Address, "NAS-IPv6-Address", Address6, "RFC 3162, section 2.1", nil},
	{ManagementPolicyID, "Management-Policy-Id", Text, "RFC 5607, section 7.3", nil},
	{ManagementPrivilegeLevel, "Management-Privilege-Level", Integer, "RFC 5607, section 7.4", nil},
}

// Lookup gives the dictionary's entry for a number.
func Lookup(t Type) (Entry, bool) {
	for _, e := range dictionary {
		if e.Type == t {
			return e, true
		}
	}
	return Entry{}, false
}

// Named gives the dictionary's entry for a name, in any case.
func Named(name string) (Entry, bool) {
	for _, e := range dictionary {
		if strings.EqualFold(e.Name, name) {
			return e, true
		}
	}
	return Entry{}, false
}

// Format gives an attribute's name and its value in readable form. A hidden
// value is not shown.
func Format(a Attribute) (name, value string) {
	e, known := Lookup(a.Type)
	if !known {
		return fmt.Sprintf("Attribute-%d", a.Type), "0x" + hex.EncodeToString(a.Value)
	}
	switch {
	case e.Form == Hidden:
		return e.Name, fmt.Sprintf("(%d octets, not shown)", len(a.Value))
	case e.Form == Text && utf8.Valid(a.Value):
		return e.Name, string(a.Value)
	case e.Form == Integer && len(a.Value) == 4:
		n := binary.BigEndian.Uint32(a.Value)
		if word, ok := e.Values[n]; ok {
			return e.Name, word
		}
		return e.Name, strconv.FormatUint(uint64(n), 10)
	case e.Form == Address && len(a.Value) == 4, e.Form == Address6 && len(a.Value) == 16:
		ip, _ := netip.AddrFromSlice(a.Value)
		return e.Name, ip.String()
	}
	return e.Name, "0x" + hex.EncodeToString(a.Value)
}

// Make builds an attribute from its name and its value in readable form.
func Make(name, value string) (Attribute, error) {
	e, known := Named(name)
	if !known {
		return Attribute{}, fmt.Errorf("no RADIUS attribute is called %q here", name)
	}
	switch e.Form {
	case Integer:
		for n, word := range e.Values {
			if strings.EqualFold(word, value) {
				return Attribute{e.Type, binary.BigEndian.AppendUint32(nil, n)}, nil
			}
		}
		n, err := strconv.ParseUint(value, 10, 32)
		if err != nil {
			return Attribute{}, fmt.Errorf("%s is a number or one of its words, not %q (%s)", e.Name, value, e.Section)
		}
		return Attribute{e.Type, binary.BigEndian.AppendUint32(nil, uint32(n))}, nil
	case Address, Address6:
		ip, err := netip.ParseAddr(value)
		if err != nil || ip.Is4() != (e.Form == Address) {
			return Attribute{}, fmt.Errorf("%s is an address, not %q (%s)", e.Name, value, e.Section)
		}
		return Attribute{e.Type, ip.AsSlice()}, nil
	case Octets:
		if rest, ok := strings.CutPrefix(value, "0x"); ok {
			b, err := hex.DecodeString(rest)
			return Attribute{e.Type, b}, err
		}
	}
	if len(value) > 253 {
		return Attribute{}, fmt.Errorf("%s has at most 253 octets (%s)", e.Name, e.Section)
	}
	return Attribute{e.Type, []byte(value)}, nil
}
