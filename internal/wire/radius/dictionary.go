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
	{ServiceType, "Service-Type", Integer, "RFC 2865, section 5.6", map[uint32]string{1: "Login", 2: "Framed", 3: "Callback-Login", 4: "Callback-Framed", 5: "Outbound", 6: "Administrative", 7: "NAS-Prompt", 8: "Authenticate-Only", 9: "Callback-NAS-Prompt", 10: "Call-Check", 11: "Callback-Administrative", 18: "Framed-Management"}},
	{7, "Framed-Protocol", Integer, "RFC 2865, section 5.7", map[uint32]string{1: "PPP", 2: "SLIP"}},
	{8, "Framed-IP-Address", Address, "RFC 2865, section 5.8", nil},
	{9, "Framed-IP-Netmask", Address, "RFC 2865, section 5.9", nil},
	{10, "Framed-Routing", Integer, "RFC 2865, section 5.10", nil},
	{11, "Filter-Id", Text, "RFC 2865, section 5.11", nil},
	{12, "Framed-MTU", Integer, "RFC 2865, section 5.12", nil},
	{13, "Framed-Compression", Integer, "RFC 2865, section 5.13", nil},
	{14, "Login-IP-Host", Address, "RFC 2865, section 5.14", nil},
	{15, "Login-Service", Integer, "RFC 2865, section 5.15", map[uint32]string{0: "Telnet", 1: "Rlogin", 2: "TCP-Clear"}},
	{16, "Login-TCP-Port", Integer, "RFC 2865, section 5.16", nil},
	{ReplyMessage, "Reply-Message", Text, "RFC 2865, section 5.18", nil},
	{19, "Callback-Number", Text, "RFC 2865, section 5.19", nil},
	{20, "Callback-Id", Text, "RFC 2865, section 5.20", nil},
	{22, "Framed-Route", Text, "RFC 2865, section 5.22", nil},
	{State, "State", Octets, "RFC 2865, section 5.24", nil},
	{Class, "Class", Octets, "RFC 2865, section 5.25", nil},
	{VendorSpecific, "Vendor-Specific", Octets, "RFC 2865, section 5.26", nil},
	{SessionTimeout, "Session-Timeout", Integer, "RFC 2865, section 5.27", nil},
	{28, "Idle-Timeout", Integer, "RFC 2865, section 5.28", nil},
	{29, "Termination-Action", Integer, "RFC 2865, section 5.29", map[uint32]string{0: "Default", 1: "RADIUS-Request"}},
	{30, "Called-Station-Id", Text, "RFC 2865, section 5.30", nil},
	{CallingStationID, "Calling-Station-Id", Text, "RFC 2865, section 5.31", nil},
	{NASIdentifier, "NAS-Identifier", Text, "RFC 2865, section 5.32", nil},
	{ProxyState, "Proxy-State", Octets, "RFC 2865, section 5.33", nil},
	{AcctStatusType, "Acct-Status-Type", Integer, "RFC 2866, section 5.1", map[uint32]string{1: "Start", 2: "Stop", 3: "Interim-Update", 7: "Accounting-On", 8: "Accounting-Off"}},
	{AcctDelayTime, "Acct-Delay-Time", Integer, "RFC 2866, section 5.2", nil},
	{42, "Acct-Input-Octets", Integer, "RFC 2866, section 5.3", nil},
	{43, "Acct-Output-Octets", Integer, "RFC 2866, section 5.4", nil},
	{AcctSessionID, "Acct-Session-Id", Text, "RFC 2866, section 5.5", nil},
	{AcctAuthentic, "Acct-Authentic", Integer, "RFC 2866, section 5.6", map[uint32]string{1: "RADIUS", 2: "Local", 3: "Remote"}},
	{AcctSessionTime, "Acct-Session-Time", Integer, "RFC 2866, section 5.7", nil},
	{47, "Acct-Input-Packets", Integer, "RFC 2866, section 5.8", nil},
	{48, "Acct-Output-Packets", Integer, "RFC 2866, section 5.9", nil},
	{AcctTerminateCause, "Acct-Terminate-Cause", Integer, "RFC 2866, section 5.10", map[uint32]string{1: "User-Request", 2: "Lost-Carrier", 3: "Lost-Service", 4: "Idle-Timeout", 5: "Session-Timeout", 6: "Admin-Reset", 7: "Admin-Reboot", 8: "Port-Error", 9: "NAS-Error", 10: "NAS-Request", 11: "NAS-Reboot"}},
	{50, "Acct-Multi-Session-Id", Text, "RFC 2866, section 5.11", nil},
	{51, "Acct-Link-Count", Integer, "RFC 2866, section 5.12", nil},
	{52, "Acct-Input-Gigawords", Integer, "RFC 2869, section 5.1", nil},
	{53, "Acct-Output-Gigawords", Integer, "RFC 2869, section 5.2", nil},
	{55, "Event-Timestamp", Integer, "RFC 2869, section 5.3", nil},
	{CHAPChallenge, "CHAP-Challenge", Octets, "RFC 2865, section 5.40", nil},
	{NASPortType, "NAS-Port-Type", Integer, "RFC 2865, section 5.41", map[uint32]string{0: "Async", 1: "Sync", 2: "ISDN-Sync", 5: "Virtual", 15: "Ethernet", 19: "Wireless-802.11"}},
	{62, "Port-Limit", Integer, "RFC 2865, section 5.42", nil},
	{76, "Prompt", Integer, "RFC 2869, section 5.10", map[uint32]string{0: "No-Echo", 1: "Echo"}},
	{77, "Connect-Info", Text, "RFC 2869, section 5.11", nil},
	{79, "EAP-Message", Octets, "RFC 3579, section 3.1", nil},
	{MessageAuthenticator, "Message-Authenticator", Octets, "RFC 3579, section 3.2", nil},
	{85, "Acct-Interim-Interval", Integer, "RFC 2869, section 5.16", nil},
	{NASPortID, "NAS-Port-Id", Text, "RFC 2869, section 5.17", nil},
	{88, "Framed-Pool", Text, "RFC 2869, section 5.18", nil},
	{NASIPv6Address, "NAS-IPv6-Address", Address6, "RFC 3162, section 2.1", nil},
	{96, "Framed-Interface-Id", Octets, "RFC 3162, section 2.2", nil},
	{97, "Framed-IPv6-Prefix", Octets, "RFC 3162, section 2.3", nil},
	{98, "Login-IPv6-Host", Address6, "RFC 3162, section 2.4", nil},
	{133, "Framed-Management-Protocol", Integer, "RFC 5607, section 6.1", map[uint32]string{1: "SNMP", 2: "Web-based", 3: "NETCONF", 4: "FTP", 5: "TFTP", 6: "SFTP", 7: "RCP", 8: "SCP"}},
	{134, "Management-Transport-Protection", Integer, "RFC 5607, section 6.2", map[uint32]string{1: "No-Protection", 2: "Integrity-Protection", 3: "Integrity-Confidentiality-Protection"}},
	{ManagementPolicyID, "Management-Policy-Id", Text, "RFC 5607, section 6.3", nil},
	{ManagementPrivilegeLevel, "Management-Privilege-Level", Integer, "RFC 5607, section 6.4", nil},
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
	return []Named{{name, value}}
}

func (v Vendor) names(subs []Attribute) []Named {
	var all []Named
	for _, s := range subs {
		e := Entry{Type: s.Type, Name: fmt.Sprintf("%s-%d", v.Name, s.Type)}
		for _, known := range v.Attributes {
			if known.Type == s.Type {
				e = known
			}
		}
		all = append(all, Named{e.Name, e.format(s.Value)})
	}
	return all
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
				return Attribute{VendorSpecific, AppendVendor(nil, v.Number, Attribute{e.Type, b})}, err
			}
		}
	}
	e, known := Find(name)
	if !known {
		return Attribute{}, fmt.Errorf("no RADIUS attribute is called %q here", name)
	}
	b, err := e.parse(value)
	return Attribute{e.Type, b}, err
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
