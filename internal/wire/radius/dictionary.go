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
	SessionTimeout           Type = 27
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
	EventTimestamp           Type = 55
	CHAPChallenge            Type = 60
	NASPortType              Type = 61
	MessageAuthenticator     Type = 80
	NASPortID                Type = 87
	NASIPv6Address           Type = 95
	ErrorCause               Type = 101
	ManagementPolicyID       Type = 135
	ManagementPrivilegeLevel Type = 136
)

// SessionContextNotFound is the Error-Cause of a device that has no such session,
// RFC 5176 section 3.5.
const SessionContextNotFound = 503

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
	{Type: UserName, Name: "User-Name", Form: Text, Section: "RFC 2865, section 5.1", Values: nil},
	{Type: UserPassword, Name: "User-Password", Form: Hidden, Section: "RFC 2865, section 5.2", Values: nil},
	{Type: CHAPPassword, Name: "CHAP-Password", Form: Hidden, Section: "RFC 2865, section 5.3", Values: nil},
	{Type: NASIPAddress, Name: "NAS-IP-Address", Form: Address, Section: "RFC 2865, section 5.4", Values: nil},
	{Type: NASPort, Name: "NAS-Port", Form: Integer, Section: "RFC 2865, section 5.5", Values: nil},
	{Type: ServiceType, Name: "Service-Type", Form: Integer, Section: "RFC 2865, section 5.6",
		Values: map[uint32]string{1: "Login", 2: "Framed", 3: "Callback-Login", 4: "Callback-Framed", 5: "Outbound",
			6: "Administrative", 7: "NAS-Prompt", 8: "Authenticate-Only", 9: "Callback-NAS-Prompt", 10: "Call-Check",
			11: "Callback-Administrative", 18: "Framed-Management"}},
	{Type: 7, Name: "Framed-Protocol", Form: Integer, Section: "RFC 2865, section 5.7",
		Values: map[uint32]string{1: "PPP", 2: "SLIP"}},
	{Type: 8, Name: "Framed-IP-Address", Form: Address, Section: "RFC 2865, section 5.8", Values: nil},
	{Type: 9, Name: "Framed-IP-Netmask", Form: Address, Section: "RFC 2865, section 5.9", Values: nil},
	{Type: 10, Name: "Framed-Routing", Form: Integer, Section: "RFC 2865, section 5.10", Values: nil},
	{Type: 11, Name: "Filter-Id", Form: Text, Section: "RFC 2865, section 5.11", Values: nil},
	{Type: 12, Name: "Framed-MTU", Form: Integer, Section: "RFC 2865, section 5.12", Values: nil},
	{Type: 13, Name: "Framed-Compression", Form: Integer, Section: "RFC 2865, section 5.13", Values: nil},
	{Type: 14, Name: "Login-IP-Host", Form: Address, Section: "RFC 2865, section 5.14", Values: nil},
	{Type: 15, Name: "Login-Service", Form: Integer, Section: "RFC 2865, section 5.15",
		Values: map[uint32]string{0: "Telnet", 1: "Rlogin", 2: "TCP-Clear"}},
	{Type: 16, Name: "Login-TCP-Port", Form: Integer, Section: "RFC 2865, section 5.16", Values: nil},
	{Type: ReplyMessage, Name: "Reply-Message", Form: Text, Section: "RFC 2865, section 5.18", Values: nil},
	{Type: 19, Name: "Callback-Number", Form: Text, Section: "RFC 2865, section 5.19", Values: nil},
	{Type: 20, Name: "Callback-Id", Form: Text, Section: "RFC 2865, section 5.20", Values: nil},
	{Type: 22, Name: "Framed-Route", Form: Text, Section: "RFC 2865, section 5.22", Values: nil},
	{Type: State, Name: "State", Form: Octets, Section: "RFC 2865, section 5.24", Values: nil},
	{Type: Class, Name: "Class", Form: Octets, Section: "RFC 2865, section 5.25", Values: nil},
	{Type: VendorSpecific, Name: "Vendor-Specific", Form: Octets, Section: "RFC 2865, section 5.26", Values: nil},
	{Type: SessionTimeout, Name: "Session-Timeout", Form: Integer, Section: "RFC 2865, section 5.27", Values: nil},
	{Type: 28, Name: "Idle-Timeout", Form: Integer, Section: "RFC 2865, section 5.28", Values: nil},
	{Type: 29, Name: "Termination-Action", Form: Integer, Section: "RFC 2865, section 5.29",
		Values: map[uint32]string{0: "Default", 1: "RADIUS-Request"}},
	{Type: 30, Name: "Called-Station-Id", Form: Text, Section: "RFC 2865, section 5.30", Values: nil},
	{Type: CallingStationID, Name: "Calling-Station-Id", Form: Text, Section: "RFC 2865, section 5.31", Values: nil},
	{Type: NASIdentifier, Name: "NAS-Identifier", Form: Text, Section: "RFC 2865, section 5.32", Values: nil},
	{Type: ProxyState, Name: "Proxy-State", Form: Octets, Section: "RFC 2865, section 5.33", Values: nil},
	{Type: AcctStatusType, Name: "Acct-Status-Type", Form: Integer, Section: "RFC 2866, section 5.1",
		Values: map[uint32]string{1: "Start", 2: "Stop", 3: "Interim-Update", 7: "Accounting-On", 8: "Accounting-Off"}},
	{Type: AcctDelayTime, Name: "Acct-Delay-Time", Form: Integer, Section: "RFC 2866, section 5.2", Values: nil},
	{Type: 42, Name: "Acct-Input-Octets", Form: Integer, Section: "RFC 2866, section 5.3", Values: nil},
	{Type: 43, Name: "Acct-Output-Octets", Form: Integer, Section: "RFC 2866, section 5.4", Values: nil},
	{Type: AcctSessionID, Name: "Acct-Session-Id", Form: Text, Section: "RFC 2866, section 5.5", Values: nil},
	{Type: AcctAuthentic, Name: "Acct-Authentic", Form: Integer, Section: "RFC 2866, section 5.6",
		Values: map[uint32]string{1: "RADIUS", 2: "Local", 3: "Remote"}},
	{Type: AcctSessionTime, Name: "Acct-Session-Time", Form: Integer, Section: "RFC 2866, section 5.7", Values: nil},
	{Type: 47, Name: "Acct-Input-Packets", Form: Integer, Section: "RFC 2866, section 5.8", Values: nil},
	{Type: 48, Name: "Acct-Output-Packets", Form: Integer, Section: "RFC 2866, section 5.9", Values: nil},
	{Type: AcctTerminateCause, Name: "Acct-Terminate-Cause", Form: Integer, Section: "RFC 2866, section 5.10",
		Values: map[uint32]string{1: "User-Request", 2: "Lost-Carrier", 3: "Lost-Service", 4: "Idle-Timeout",
			5: "Session-Timeout", 6: "Admin-Reset", 7: "Admin-Reboot", 8: "Port-Error", 9: "NAS-Error",
			10: "NAS-Request",
			11: "NAS-Reboot"}},
	{Type: 50, Name: "Acct-Multi-Session-Id", Form: Text, Section: "RFC 2866, section 5.11", Values: nil},
	{Type: 51, Name: "Acct-Link-Count", Form: Integer, Section: "RFC 2866, section 5.12", Values: nil},
	{Type: 52, Name: "Acct-Input-Gigawords", Form: Integer, Section: "RFC 2869, section 5.1", Values: nil},
	{Type: 53, Name: "Acct-Output-Gigawords", Form: Integer, Section: "RFC 2869, section 5.2", Values: nil},
	{Type: EventTimestamp, Name: "Event-Timestamp", Form: Integer, Section: "RFC 2869, section 5.3", Values: nil},
	{Type: CHAPChallenge, Name: "CHAP-Challenge", Form: Octets, Section: "RFC 2865, section 5.40", Values: nil},
	{Type: NASPortType, Name: "NAS-Port-Type", Form: Integer, Section: "RFC 2865, section 5.41",
		Values: map[uint32]string{0: "Async", 1: "Sync", 2: "ISDN-Sync", 5: "Virtual", 15: "Ethernet",
			19: "Wireless-802.11"}},
	{Type: 62, Name: "Port-Limit", Form: Integer, Section: "RFC 2865, section 5.42", Values: nil},
	{Type: 76, Name: "Prompt", Form: Integer, Section: "RFC 2869, section 5.10",
		Values: map[uint32]string{0: "No-Echo", 1: "Echo"}},
	{Type: 77, Name: "Connect-Info", Form: Text, Section: "RFC 2869, section 5.11", Values: nil},
	{Type: 79, Name: "EAP-Message", Form: Octets, Section: "RFC 3579, section 3.1", Values: nil},
	{Type: MessageAuthenticator, Name: "Message-Authenticator", Form: Octets, Section: "RFC 3579, section 3.2",
		Values: nil},
	{Type: 85, Name: "Acct-Interim-Interval", Form: Integer, Section: "RFC 2869, section 5.16", Values: nil},
	{Type: NASPortID, Name: "NAS-Port-Id", Form: Text, Section: "RFC 2869, section 5.17", Values: nil},
	{Type: 88, Name: "Framed-Pool", Form: Text, Section: "RFC 2869, section 5.18", Values: nil},
	{Type: NASIPv6Address, Name: "NAS-IPv6-Address", Form: Address6, Section: "RFC 3162, section 2.1", Values: nil},
	{Type: 96, Name: "Framed-Interface-Id", Form: Octets, Section: "RFC 3162, section 2.2", Values: nil},
	{Type: 97, Name: "Framed-IPv6-Prefix", Form: Octets, Section: "RFC 3162, section 2.3", Values: nil},
	{Type: 98, Name: "Login-IPv6-Host", Form: Address6, Section: "RFC 3162, section 2.4", Values: nil},
	{Type: ErrorCause, Name: "Error-Cause", Form: Integer, Section: "RFC 5176, section 3.5",
		Values: map[uint32]string{201: "Residual-Session-Context-Removed", 401: "Unsupported-Attribute",
			402: "Missing-Attribute", 403: "NAS-Identification-Mismatch", 404: "Invalid-Request",
			405: "Unsupported-Service", 406: "Unsupported-Extension", 407: "Invalid-Attribute-Value",
			501: "Administratively-Prohibited", 502: "Request-Not-Routable",
			SessionContextNotFound: "Session-Context-Not-Found",
			504:                    "Session-Context-Not-Removable", 505: "Other-Proxy-Processing-Error",
			506: "Resources-Unavailable",
			507: "Request-Initiated", 508: "Multiple-Session-Selection-Unsupported"}},
	{Type: 133, Name: "Framed-Management-Protocol", Form: Integer, Section: "RFC 5607, section 6.1",
		Values: map[uint32]string{1: "SNMP", 2: "Web-based", 3: "NETCONF", 4: "FTP", 5: "TFTP", 6: "SFTP", 7: "RCP",
			8: "SCP"}},
	{Type: 134, Name: "Management-Transport-Protection", Form: Integer, Section: "RFC 5607, section 6.2",
		Values: map[uint32]string{1: "No-Protection", 2: "Integrity-Protection",
			3: "Integrity-Confidentiality-Protection"}},
	{Type: ManagementPolicyID, Name: "Management-Policy-Id", Form: Text, Section: "RFC 5607, section 6.3", Values: nil},
	{Type: ManagementPrivilegeLevel, Name: "Management-Privilege-Level", Form: Integer,
		Section: "RFC 5607, section 6.4",
		Values:  nil},
}

// Lookup returns the dictionary's entry for a number.
func Lookup(t Type) (Entry, bool) {
	for _, e := range dictionary {
		if e.Type == t {
			return e, true
		}
	}
	return Entry{}, false
}

// Find returns the dictionary's entry for a name, in any case.
func Find(name string) (Entry, bool) {
	for i := range dictionary { // nearly always it is written as it stands here
		if dictionary[i].Name == name {
			return dictionary[i], true
		}
	}
	for i := range dictionary {
		if strings.EqualFold(dictionary[i].Name, name) {
			return dictionary[i], true
		}
	}
	return Entry{}, false
}

// Vendor is a maker's own attributes, by its IANA private enterprise number.
type Vendor struct {
	Name       string
	Number     uint32
	Attributes []Entry // Type counts within the vendor
}

// Dictionary is the attributes known by name: those of the RFCs, and those of
// the vendors added. The zero value has the RFCs' alone.
type Dictionary struct{ Vendors []Vendor }

// Named is an attribute in readable form.
type Named struct{ Name, Value string }

// Names returns an attribute in readable form: one name and value, or one for
// each sub-attribute of a Vendor-Specific of a vendor that is known.
func (d Dictionary) Names(a Attribute) []Named {
	if a.Type == VendorSpecific {
		number, subs, err := DecodeVendor(a.Value)
		for _, v := range d.Vendors {
			if err == nil && v.Number == number && len(subs) > 0 {
				return v.names(subs)
			}
		}
	}
	name, value := Format(a)
	return []Named{{Name: name, Value: value}}
}

func (v Vendor) names(subs []Attribute) []Named {
	var values []Named
	for _, s := range subs {
		e := Entry{Type: s.Type, Name: fmt.Sprintf("%s-%d", v.Name, s.Type)}
		for _, known := range v.Attributes {
			if known.Type == s.Type {
				e = known
			}
		}
		values = append(values, Named{Name: e.Name, Value: e.format(s.Value)})
	}
	return values
}

// Make builds an attribute from its name and its value in readable form.
func (d Dictionary) Make(name, value string) (Attribute, error) {
	for _, v := range d.Vendors {
		for _, e := range v.Attributes {
			if strings.EqualFold(e.Name, name) {
				b, err := e.parse(value)
				if err == nil && len(b) > 247 {
					err = fmt.Errorf("%s has at most 247 octets", e.Name)
				}
				return Attribute{Type: VendorSpecific,
					Value: AppendVendor(nil, v.Number, Attribute{Type: e.Type, Value: b})}, err
			}
		}
	}
	e, known := Find(name)
	if !known {
		return Attribute{}, fmt.Errorf("no RADIUS attribute is called %q here", name)
	}
	b, err := e.parse(value)
	return Attribute{Type: e.Type, Value: b}, err
}

// Format returns an attribute's name and its value in readable form. A hidden
// value is not shown.
func Format(a Attribute) (name, value string) {
	e, known := Lookup(a.Type)
	if !known {
		e = Entry{Type: a.Type, Name: fmt.Sprintf("Attribute-%d", a.Type)}
	}
	return e.Name, e.format(a.Value)
}

// Make builds an attribute of the RFCs from its name and value.
func Make(name, value string) (Attribute, error) { return Dictionary{}.Make(name, value) }

// format shows a value by the entry's form; one that does not fit the form, as
// octets.
func (e Entry) format(b []byte) string {
	switch {
	case e.Form == Hidden:
		return fmt.Sprintf("(%d octets, not shown)", len(b))
	case e.Form == Text && utf8.Valid(b):
		return string(b)
	case e.Form == Integer && len(b) == 4:
		n := binary.BigEndian.Uint32(b)
		if word, ok := e.Values[n]; ok {
			return word
		}
		return strconv.FormatUint(uint64(n), 10)
	case e.Form == Address && len(b) == 4, e.Form == Address6 && len(b) == 16:
		ip, _ := netip.AddrFromSlice(b)
		return ip.String()
	}
	return "0x" + hex.EncodeToString(b)
}

// parse reads a value as format shows it.
func (e Entry) parse(value string) ([]byte, error) {
	switch e.Form {
	case Integer:
		for n, word := range e.Values {
			if strings.EqualFold(word, value) {
				return binary.BigEndian.AppendUint32(nil, n), nil
			}
		}
		n, err := strconv.ParseUint(value, 10, 32)
		if err != nil {
			return nil, fmt.Errorf("%s is a number or one of its words, not %q (%s)", e.Name, value, e.Section)
		}
		return binary.BigEndian.AppendUint32(nil, uint32(n)), nil
	case Address, Address6:
		ip, err := netip.ParseAddr(value)
		if err != nil || ip.Is4() != (e.Form == Address) {
			return nil, fmt.Errorf("%s is an address, not %q (%s)", e.Name, value, e.Section)
		}
		return ip.AsSlice(), nil
	case Octets:
		if rest, ok := strings.CutPrefix(value, "0x"); ok {
			b, err := hex.DecodeString(rest)
			if err != nil {
				return nil, fmt.Errorf("%s is octets as 0x and pairs of hexadecimal digits, not %q", e.Name, value)
			}
			value = string(b)
		}
	}
	if len(value) > 253 {
		return nil, fmt.Errorf("%s has at most 253 octets (%s)", e.Name, e.Section)
	}
	return []byte(value), nil
}
