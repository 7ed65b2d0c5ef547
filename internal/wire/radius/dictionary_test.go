package radius

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The numbers that IANA gives to the names of the RFCs.
const assigned = `1 User-Name, 2 User-Password, 3 CHAP-Password, 4 NAS-IP-Address, 5 NAS-Port, 6 Service-Type,
7 Framed-Protocol, 8 Framed-IP-Address, 9 Framed-IP-Netmask, 10 Framed-Routing, 11 Filter-Id, 12 Framed-MTU,
13 Framed-Compression, 14 Login-IP-Host, 15 Login-Service, 16 Login-TCP-Port, 18 Reply-Message, 19 Callback-Number,
20 Callback-Id, 22 Framed-Route, 24 State, 25 Class, 26 Vendor-Specific, 27 Session-Timeout, 28 Idle-Timeout,
29 Termination-Action, 30 Called-Station-Id, 31 Calling-Station-Id, 32 NAS-Identifier, 33 Proxy-State,
40 Acct-Status-Type, 41 Acct-Delay-Time, 42 Acct-Input-Octets, 43 Acct-Output-Octets, 44 Acct-Session-Id,
45 Acct-Authentic, 46 Acct-Session-Time, 47 Acct-Input-Packets, 48 Acct-Output-Packets, 49 Acct-Terminate-Cause,
50 Acct-Multi-Session-Id, 51 Acct-Link-Count, 52 Acct-Input-Gigawords, 53 Acct-Output-Gigawords, 55 Event-Timestamp,
60 CHAP-Challenge, 61 NAS-Port-Type, 62 Port-Limit, 76 Prompt, 77 Connect-Info, 79 EAP-Message,
80 Message-Authenticator, 85 Acct-Interim-Interval, 87 NAS-Port-Id, 88 Framed-Pool, 95 NAS-IPv6-Address,
96 Framed-Interface-Id, 97 Framed-IPv6-Prefix, 98 Login-IPv6-Host, 101 Error-Cause, 133 Framed-Management-Protocol,
134 Management-Transport-Protection, 135 Management-Policy-Id, 136 Management-Privilege-Level`

// The words of their values.
const words = `Service-Type: 1 Login, 2 Framed, 3 Callback-Login, 4 Callback-Framed, 5 Outbound, 6 Administrative,
7 NAS-Prompt, 8 Authenticate-Only, 9 Callback-NAS-Prompt, 10 Call-Check, 11 Callback-Administrative, 18 Framed-Management
Framed-Protocol: 1 PPP, 2 SLIP
Login-Service: 0 Telnet, 1 Rlogin, 2 TCP-Clear
Termination-Action: 0 Default, 1 RADIUS-Request
Acct-Status-Type: 1 Start, 2 Stop, 3 Interim-Update, 7 Accounting-On, 8 Accounting-Off
Acct-Authentic: 1 RADIUS, 2 Local, 3 Remote
Acct-Terminate-Cause: 1 User-Request, 2 Lost-Carrier, 3 Lost-Service, 4 Idle-Timeout, 5 Session-Timeout,
6 Admin-Reset, 7 Admin-Reboot, 8 Port-Error, 9 NAS-Error, 10 NAS-Request, 11 NAS-Reboot
NAS-Port-Type: 0 Async, 1 Sync, 2 ISDN-Sync, 5 Virtual, 15 Ethernet, 19 Wireless-802.11
Prompt: 0 No-Echo, 1 Echo
Error-Cause: 201 Residual-Session-Context-Removed, 401 Unsupported-Attribute, 402 Missing-Attribute,
403 NAS-Identification-Mismatch, 404 Invalid-Request, 405 Unsupported-Service, 406 Unsupported-Extension,
407 Invalid-Attribute-Value, 501 Administratively-Prohibited, 502 Request-Not-Routable, 503 Session-Context-Not-Found,
504 Session-Context-Not-Removable, 505 Other-Proxy-Processing-Error, 506 Resources-Unavailable, 507 Request-Initiated,
508 Multiple-Session-Selection-Unsupported
Framed-Management-Protocol: 1 SNMP, 2 Web-based, 3 NETCONF, 4 FTP, 5 TFTP, 6 SFTP, 7 RCP, 8 SCP
Management-Transport-Protection: 1 No-Protection, 2 Integrity-Protection, 3 Integrity-Confidentiality-Protection`

func TestNumbersAndWordsAreThoseOfTheRegistry(t *testing.T) {
	t.Parallel()
	var have, values []string
	for _, e := range dictionary {
		have = append(have, fmt.Sprintf("%d %s", e.Type, e.Name))
		require.Regexp(t, `^RFC (2865|2866|2869|3162|3579|5176|5607), section [0-9.]+$`, e.Section, e.Name)
		if e.Values == nil {
			continue
		}
		var some []string
		for _, n := range slices.Sorted(maps.Keys(e.Values)) {
			some = append(some, fmt.Sprintf("%d %s", n, e.Values[n]))
		}
		values = append(values, e.Name+": "+strings.Join(some, ", "))
	}
	require.Equal(t, strings.ReplaceAll(assigned, ",\n", ", "), strings.Join(have, ", "))
	require.Equal(t, strings.ReplaceAll(words, ",\n", ", "), strings.Join(values, "\n"))
}

func TestAttributesAreFoundByNumberAndByName(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"Framed-MTU", "framed-mtu", "FRAMED-MTU"} {
		e, ok := Find(name)
		require.True(t, ok, name)
		require.Equal(t, Type(12), e.Type)
	}
	_, ok := Find("Framed-MT")
	require.False(t, ok)
	e, ok := Lookup(136)
	require.True(t, ok)
	require.Equal(t, "Management-Privilege-Level", e.Name)
	_, ok = Lookup(200)
	require.False(t, ok)
}

// Values are shown by their form where they fit it, and as octets where not; and
// what is shown is read back.
func TestValuesAreShownAndRead(t *testing.T) {
	t.Parallel()
	six := netip.MustParseAddr("2001:db8::7").As16()
	for _, c := range []struct {
		t     Type
		value []byte
		shown string
		back  bool
	}{
		{UserName, []byte("ines"), "ines", true},
		{UserName, []byte{0xff, 0xfe}, "0xfffe", false},
		{UserName, nil, "", true},
		{UserPassword, []byte("0123456789abcdef"), "(16 octets, not shown)", false},
		{CHAPPassword, make([]byte, 17), "(17 octets, not shown)", false},
		{NASIPAddress, []byte{192, 0, 2, 1}, "192.0.2.1", true},
		{NASIPAddress, []byte{192, 0, 2}, "0xc00002", false},
		{NASIPAddress, six[:], "0x20010db8000000000000000000000007", false},
		{NASIPv6Address, six[:], "2001:db8::7", true},
		{NASIPv6Address, []byte{192, 0, 2, 1}, "0xc0000201", false},
		{ServiceType, []byte{0, 0, 0, 6}, "Administrative", true},
		{ServiceType, []byte{0, 0, 0, 99}, "99", true},
		{ServiceType, []byte{0, 0, 6}, "0x000006", false},
		{State, []byte{1, 2}, "0x0102", true},
		{200, []byte{1}, "0x01", false},
	} {
		name, shown := Format(Attribute{Type: c.t, Value: c.value})
		require.Equal(t, c.shown, shown, "%d %v", c.t, c.value)
		if c.back {
			a, err := Make(strings.ToLower(name), shown)
			require.NoError(t, err, name)
			require.Equal(t, c.t, a.Type)
			require.True(t, bytes.Equal(c.value, a.Value), "%s %v %v", name, c.value, a.Value)
		}
	}
	name, _ := Format(Attribute{Type: 200})
	require.Equal(t, "Attribute-200", name)
	for of, value := range map[string]string{"Service-Type": "Admin", "NAS-IP-Address": "192.0.2", "NAS-Port": "-1",
		"NAS-IPv6-Address": "192.0.2.1", "Session-Timeout": "4294967296", "No-Such": "1", "State": "0x0"} {
		_, err := Make(of, value)
		require.Error(t, err, "%s = %s", of, value)
	}
	a, err := Make("Session-Timeout", "4294967295")
	require.NoError(t, err)
	require.Equal(t, uint32(4294967295), binary.BigEndian.Uint32(a.Value))
}

func TestVendorsHaveAttributesOfTheirOwn(t *testing.T) {
	t.Parallel()
	d := Dictionary{Vendors: []Vendor{
		{Name: "one", Number: 32473,
			Attributes: []Entry{{Type: 1, Name: "One-Level", Form: Integer}, {Type: 2, Name: "One-Text", Form: Text}}},
		{Name: "two", Number: 32474, Attributes: []Entry{{Type: 1, Name: "Two-Text", Form: Text}}}}}
	level, err := d.Make("one-level", "7")
	require.NoError(t, err)
	require.Equal(t, []byte{0, 0, 0x7e, 0xd9, 1, 6, 0, 0, 0, 7}, level.Value)
	require.Equal(t, []Named{{Name: "One-Level", Value: "7"}}, d.Names(level))
	both := AppendVendor(nil, 32473, Attribute{Type: 1, Value: []byte{0, 0, 0, 7}},
		Attribute{Type: 9, Value: []byte{1}},
		Attribute{Type: 2, Value: []byte("x")})
	require.Equal(t, []Named{{Name: "One-Level", Value: "7"}, {Name: "one-9", Value: "0x01"},
		{Name: "One-Text", Value: "x"}},
		d.Names(Attribute{Type: VendorSpecific, Value: both}))
	two, err := d.Make("Two-Text", "x")
	require.NoError(t, err)
	require.Equal(t, []Named{{Name: "Two-Text", Value: "x"}}, d.Names(two), "one of another maker with the same number")
	for _, odd := range [][]byte{nil, {0, 0, 0x7e}, {0, 0, 0x7e, 0xd9}, {0, 0, 0x7e, 0xd9, 1}, {0, 0, 0x7e, 0xd9, 1, 1},
		{0, 0, 0x7e, 0xd9, 1, 4, 1}, {0, 0, 0, 1, 1, 3, 1}} {
		shown := d.Names(Attribute{Type: VendorSpecific, Value: odd})
		require.Len(t, shown, 1)
		require.Equal(t, "Vendor-Specific", shown[0].Name, "%v", odd)
	}
	_, _, err = DecodeVendor([]byte{0, 0, 1})
	require.ErrorIs(t, err, ErrVendor)
	number, subs, err := DecodeVendor([]byte{0, 0, 1, 2})
	require.NoError(t, err)
	require.EqualValues(t, 258, number)
	require.Empty(t, subs)
	_, err = d.Make("One-Text", strings.Repeat("x", 248))
	require.ErrorContains(t, err, "at most 247 octets")
	_, err = d.Make("One-Text", strings.Repeat("x", 247))
	require.NoError(t, err)
}
