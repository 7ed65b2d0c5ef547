package radius

import (
	"errors"

	"mellowgate/internal/wire/mschap"
)

// VendorMSCHAP is the enterprise number under which RFC 2548 carries MS-CHAPv2.
const VendorMSCHAP = 311

// Sub-attributes of VendorMSCHAP, RFC 2548 sections 2.1.2, 2.3.2 and 2.3.3.
const (
	MSCHAPChallenge Type = 11
	MSCHAP2Response Type = 25
	MSCHAP2Success  Type = 26
)

// ErrMSCHAP is an MS-CHAPv2 request whose attributes are missing or have other
// lengths than RFC 2548 gives them.
var ErrMSCHAP = errors.New("MS-CHAPv2 without a challenge of 16 and a response of 50 octets (RFC 2548, section 2.3.2)")

// MSCHAP2 reads an MS-CHAPv2 request: the exchange, the identifier, and the
// response of 24 octets. It is false when the packet has none.
func (p *Packet) MSCHAP2() (x mschap.Exchange, ident byte, response []byte, present bool, err error) {
	var challenge, answer []byte
	for _, a := range p.Attributes {
		if a.Type != VendorSpecific {
			continue
		}
		vendor, subs, err := DecodeVendor(a.Value)
		if err != nil || vendor != VendorMSCHAP {
			continue
		}
		for _, s := range subs {
			switch s.Type {
			case MSCHAPChallenge:
				challenge = s.Value
			case MSCHAP2Response:
				answer = s.Value
			}
		}
	}
	if answer == nil {
		return x, 0, nil, false, nil
	}
	if len(challenge) != 16 || len(answer) != 50 {
		return x, 0, nil, true, ErrMSCHAP
	}
	x = mschap.Exchange{User: p.Text(UserName), AuthenticatorChallenge: [16]byte(challenge),
		PeerChallenge: [16]byte(answer[2:18])}
	return x, answer[0], answer[26:50], true, nil
}

// AddMSCHAP2 appends the attributes of an MS-CHAPv2 request.
func (p *Packet) AddMSCHAP2(x mschap.Exchange, ident byte, password string) {
	response := x.NTResponse(password)
	answer := append([]byte{ident, 0}, x.PeerChallenge[:]...)
	answer = append(append(answer, make([]byte, 8)...), response[:]...)
	p.Add(VendorSpecific,
		AppendVendor(nil, VendorMSCHAP, Attribute{Type: MSCHAPChallenge, Value: x.AuthenticatorChallenge[:]}))
	p.Add(VendorSpecific, AppendVendor(nil, VendorMSCHAP, Attribute{Type: MSCHAP2Response, Value: answer}))
}
