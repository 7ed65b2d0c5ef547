package radius

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// sample is a packet made by an independent implementation, or one that an
// RFC prints.
type sample struct {
	Protocol, Name, Key, Packet, Password string
	RequestAuthenticator                  string `json:"request_authenticator"`
	Fields                                struct {
		User, Password, Success string
		StatusType              uint32 `json:"status_type"`
		Level                   *int   `json:"management_privilege_level"`
		Policy                  string `json:"management_policy_id"`
	}
}

func read(t testing.TB, file string) []sample {
	text, err := os.ReadFile("../testdata/" + file)
	require.NoError(t, err)
	var samples, ours []sample
	require.NoError(t, json.Unmarshal(text, &samples))
	for _, s := range samples {
		if s.Packet != "" && s.Protocol != "tacacs" {
			ours = append(ours, s)
		}
	}
	require.NotEmpty(t, ours)
	return ours
}

func unhex(t testing.TB, s string) []byte {
	b, err := hex.DecodeString(s)
	require.NoError(t, err)
	return b
}

func authenticator(t testing.TB, s string) (a [16]byte) {
	copy(a[:], unhex(t, s))
	return a
}

func TestAllPacketsDecodeAndEncodeToTheOctet(t *testing.T) {
	t.Parallel()
	for _, file := range []string{"packets.json", "rfc-examples.json"} {
		for _, s := range read(t, file) {
			t.Run(s.Name, func(t *testing.T) {
				b, key := unhex(t, s.Packet), []byte(s.Key)
				p, err := Decode(b)
				require.NoError(t, err)
				again, err := p.Append(nil)
				require.NoError(t, err)
				require.Equal(t, b, again)
				switch p.Code {
				case AccessAccept, AccessReject, AccessChallenge:
					request := authenticator(t, s.RequestAuthenticator)
					require.True(t, CheckResponse(b, request, key))
					require.False(t, CheckResponse(b, request, append(key, 'x')))
					require.NotEqual(t, Invalid, CheckMessageAuthenticator(b, request, key))
					if strings.Contains(s.Name, "with Message-Authenticator") {
						require.Equal(t, Valid, CheckMessageAuthenticator(b, request, key))
					}
				case AccountingRequest:
					require.True(t, CheckAccountingRequest(b, key))
					require.False(t, CheckAccountingRequest(b, append(key, 'x')))
				case AccessRequest, StatusServer:
					require.NotEqual(t, Invalid, CheckMessageAuthenticator(b, p.Authenticator, key))
				}
			})
		}
	}
}

func TestPasswordsAreRevealedAndHiddenAgain(t *testing.T) {
	t.Parallel()
	seen := 0
	for _, file := range []string{"packets.json", "rfc-examples.json"} {
		for _, s := range read(t, file) {
			p, err := Decode(unhex(t, s.Packet))
			require.NoError(t, err)
			want := s.Password + s.Fields.Password
			if hidden, ok := p.Get(UserPassword); ok {
				clear, err := RevealPassword(hidden, p.Authenticator, []byte(s.Key))
				require.NoError(t, err)
				require.Equal(t, want, clear, s.Name)
				again, err := HidePassword(clear, p.Authenticator, []byte(s.Key))
				require.NoError(t, err)
				require.Equal(t, hidden, again)
				seen++
			}
			if chap, ok := p.Get(CHAPPassword); ok {
				challenge, given := p.Get(CHAPChallenge)
				if !given {
					challenge = p.Authenticator[:]
				}
				require.True(t, CheckCHAP(chap, challenge, want), s.Name)
				require.False(t, CheckCHAP(chap, challenge, want+"x"), s.Name)
				seen++
			}
		}
	}
	require.GreaterOrEqual(t, seen, 8)
}

func TestFieldsOfIndependentPackets(t *testing.T) {
	t.Parallel()
	for _, s := range read(t, "packets.json") {
		p, err := Decode(unhex(t, s.Packet))
		require.NoError(t, err)
		if s.Fields.User != "" {
			require.Equal(t, s.Fields.User, p.Text(UserName))
		}
		if s.Fields.StatusType != 0 {
			n, ok := p.Integer(AcctStatusType)
			require.True(t, ok)
			require.Equal(t, s.Fields.StatusType, n)
		}
		if s.Fields.Level != nil {
			n, _ := p.Integer(ManagementPrivilegeLevel)
			require.EqualValues(t, *s.Fields.Level, n)
			require.Equal(t, s.Fields.Policy, p.Text(ManagementPolicyID))
		}
	}
}

func TestEncodedPacketsVerify(t *testing.T) {
	t.Parallel()
	key := []byte("a key for this test")
	request := &Packet{Code: AccessRequest, ID: 7, Authenticator: [16]byte{1, 2, 3}}
	request.AddText(UserName, "ines.marsh")
	b, err := request.EncodeRequest(key)
	require.NoError(t, err)
	require.Equal(t, Valid, CheckMessageAuthenticator(b, request.Authenticator, key))
	require.Equal(t, byte(MessageAuthenticator), b[20], "it stands first")

	answer := &Packet{Code: AccessAccept, ID: 7}
	answer.AddInteger(ServiceType, 6)
	b, err = answer.EncodeResponse(request.Authenticator, key)
	require.NoError(t, err)
	require.True(t, CheckResponse(b, request.Authenticator, key))
	require.Equal(t, Valid, CheckMessageAuthenticator(b, request.Authenticator, key))
	b[len(b)-1] ^= 1
	require.False(t, CheckResponse(b, request.Authenticator, key))
	require.Equal(t, Invalid, CheckMessageAuthenticator(b, request.Authenticator, key))

	record := &Packet{Code: AccountingRequest, ID: 8}
	record.AddInteger(AcctStatusType, 1)
	b, err = record.EncodeAccountingRequest(key)
	require.NoError(t, err)
	require.True(t, CheckAccountingRequest(b, key))
}

func TestBrokenPacketsAreDropped(t *testing.T) {
	t.Parallel()
	good := unhex(t, read(t, "packets.json")[0].Packet)
	for n := range good {
		_, err := Decode(good[:n])
		require.ErrorIs(t, err, ErrShort, "cut at %d", n)
	}
	longer, err := Decode(append(good[:len(good):len(good)], 9, 9, 9))
	require.NoError(t, err, "octets beyond Length are ignored")
	again, _ := longer.Append(nil)
	require.Equal(t, good, again)
	for _, length := range []byte{0, 1} {
		bad := append([]byte(nil), good...)
		bad[21] = length
		_, err := Decode(bad)
		require.ErrorIs(t, err, ErrOverrun)
	}
	bad := append([]byte(nil), good...)
	bad[2], bad[3] = 0xff, 0xff
	_, err = Decode(bad)
	require.ErrorIs(t, err, ErrLength)
}

func TestAttributesByName(t *testing.T) {
	t.Parallel()
	for name, value := range map[string]string{"Service-Type": "Administrative", "Management-Privilege-Level": "15",
		"NAS-IP-Address": "192.0.2.1", "NAS-IPv6-Address": "2001:db8::1", "Reply-Message": "höhe", "Class": "0x0102",
		"NAS-Port-Type": "Virtual"} {
		a, err := Make(name, value)
		require.NoError(t, err)
		n, v := Format(a)
		require.Equal(t, []string{name, value}, []string{n, v})
	}
	for name, value := range map[string]string{"Nothing": "1", "Service-Type": "x", "NAS-IP-Address": "::1"} {
		_, err := Make(name, value)
		require.Error(t, err)
	}
	_, shown := Format(Attribute{UserPassword, []byte("0123456789abcdef")})
	require.Equal(t, "(16 octets, not shown)", shown)
}

func FuzzDecode(f *testing.F) {
	for _, s := range read(f, "packets.json") {
		f.Add(unhex(f, s.Packet))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		CheckMessageAuthenticator(b, [16]byte{}, []byte("k"))
		CheckResponse(b, [16]byte{}, []byte("k"))
		p, err := Decode(b)
		if err != nil {
			return
		}
		again, err := p.Append(nil)
		require.NoError(t, err)
		require.Equal(t, b[:len(again)], again)
		for _, a := range p.Attributes {
			Format(a)
		}
		if hidden, ok := p.Get(UserPassword); ok {
			_, _ = RevealPassword(hidden, p.Authenticator, []byte("k"))
		}
	})
}

func TestMSCHAPv2OfAnIndependentPacket(t *testing.T) {
	t.Parallel()
	seen := 0
	for _, s := range read(t, "packets.json") {
		p, err := Decode(unhex(t, s.Packet))
		require.NoError(t, err)
		m, ident, response, present, err := p.MSCHAP2()
		if !present {
			continue
		}
		require.NoError(t, err)
		require.True(t, m.Check(response, s.Fields.Password))
		require.False(t, m.Check(response, s.Fields.Password+"x"))
		require.Equal(t, s.Fields.Success, m.Success(s.Fields.Password))
		again := &Packet{Code: p.Code, ID: p.ID, Authenticator: p.Authenticator}
		again.AddText(UserName, s.Fields.User)
		again.AddMSCHAP2(m, ident, s.Fields.Password)
		m2, _, response2, _, err := again.MSCHAP2()
		require.NoError(t, err)
		require.Equal(t, []any{m, response}, []any{m2, response2})
		seen++
	}
	require.Positive(t, seen)
	short := &Packet{}
	short.Add(VendorSpecific, AppendVendor(nil, VendorMSCHAP, Attribute{MSCHAP2Response, make([]byte, 20)}))
	_, _, _, present, err := short.MSCHAP2()
	require.True(t, present)
	require.ErrorIs(t, err, ErrMSCHAP)
}

func TestVendorSpecificHoldsSeveralSubAttributes(t *testing.T) {
	t.Parallel()
	value := AppendVendor(nil, 32473, Attribute{1, []byte{0, 0, 0, 15}}, Attribute{2, []byte("north")})
	number, subs, err := DecodeVendor(value)
	require.NoError(t, err)
	require.EqualValues(t, 32473, number)
	require.Equal(t, []Attribute{{1, []byte{0, 0, 0, 15}}, {2, []byte("north")}}, subs)
	for _, bad := range [][]byte{nil, {1, 2, 3}, {0, 0, 0, 1, 1}, {0, 0, 0, 1, 1, 1}, {0, 0, 0, 1, 1, 9, 1}} {
		_, _, err := DecodeVendor(bad)
		require.ErrorIs(t, err, ErrVendor)
	}
}

func FuzzDecodeVendor(f *testing.F) {
	f.Add(AppendVendor(nil, 32473, Attribute{1, []byte{0, 0, 0, 15}}))
	f.Fuzz(func(t *testing.T, b []byte) {
		if number, subs, err := DecodeVendor(b); err == nil {
			require.Equal(t, b, AppendVendor(nil, number, subs...))
		}
	})
}

func TestAVendorsAttributesAreKnownByNameOnceAdded(t *testing.T) {
	t.Parallel()
	d := Dictionary{Vendors: []Vendor{{Name: "example", Number: 32473,
		Attributes: []Entry{{Type: 1, Name: "Example-Level", Form: Integer},
			{Type: 2, Name: "Example-Place", Form: Text}}}}}
	a, err := d.Make("example-level", "15")
	require.NoError(t, err)
	require.Equal(t, []Named{{"Example-Level", "15"}}, d.Names(a))
	require.Equal(t, []Named{{"Vendor-Specific", "0x00007ed901060000000f"}}, Dictionary{}.Names(a))
	for _, s := range read(t, "packets.json") {
		p, err := Decode(unhex(t, s.Packet))
		require.NoError(t, err)
		for _, a := range p.Attributes {
			if a.Type == VendorSpecific && s.Fields.Level != nil {
				require.Equal(t, []Named{{"Example-Level", "15"}}, d.Names(a))
			}
		}
	}
	two := Attribute{VendorSpecific, AppendVendor(nil, 32473, Attribute{2, []byte("north")}, Attribute{9, []byte{1}})}
	require.Equal(t, []Named{{"Example-Place", "north"}, {"example-9", "0x01"}}, d.Names(two))
	_, err = d.Make("Example-Level", "high")
	require.Error(t, err)
	_, err = d.Make("Example-Place", string(make([]byte, 250)))
	require.ErrorContains(t, err, "at most 247 octets")
}

func FuzzReadPacket(f *testing.F) {
	f.Add([]byte{1, 2, 0, 20, 19: 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		if packet, err := ReadPacket(bytes.NewReader(b)); err == nil {
			require.Equal(t, b[:len(packet)], packet)
		}
	})
}
