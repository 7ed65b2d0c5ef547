// Package radius has the packets of RADIUS: RFC 2865 (access) and RFC 2866
// (accounting), with the Message-Authenticator of RFC 3579 section 3.2. It
// turns bytes into values and back and checks authenticators; it opens no
// socket and knows nothing of any site.
//
// A new attribute is one line of the table in dictionary.go.
package radius

import (
	"crypto/md5"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Code is the kind of a packet, RFC 2865 section 3.
type Code byte

const (
	AccessRequest      Code = 1
	AccessAccept       Code = 2
	AccessReject       Code = 3
	AccountingRequest  Code = 4
	AccountingResponse Code = 5
	AccessChallenge    Code = 11
	StatusServer       Code = 12 // RFC 5997
	// RFC 5176, section 2: the server asks, the device answers.
	DisconnectRequest Code = 40
	DisconnectACK     Code = 41
	DisconnectNAK     Code = 42
)

func (c Code) String() string {
	names := map[Code]string{AccessRequest: "Access-Request", AccessAccept: "Access-Accept",
		AccessReject:      "Access-Reject",
		AccountingRequest: "Accounting-Request", AccountingResponse: "Accounting-Response",
		AccessChallenge: "Access-Challenge", StatusServer: "Status-Server", DisconnectRequest: "Disconnect-Request",
		DisconnectACK: "Disconnect-ACK", DisconnectNAK: "Disconnect-NAK"}
	if n, ok := names[c]; ok {
		return n
	}
	return fmt.Sprintf("Code-%d", byte(c))
}

// Sizes of a packet, RFC 2865 section 3.
const (
	headerSize = 20
	MaxSize    = 4096
)

// Attribute is one attribute as it stands in a packet: its type and its value
// of 0 to 253 octets.
type Attribute struct {
	Type  Type
	Value []byte
}

// Packet is one RADIUS packet. After Decode its attributes point into the
// bytes that were decoded.
type Packet struct {
	Code          Code
	ID            byte
	Authenticator [16]byte
	Attributes    []Attribute
}

// Errors of Decode. A packet with one of them is dropped without an answer.
var (
	ErrShort    = errors.New("shorter than its header or its Length field says (RFC 2865, section 3)")
	ErrLength   = errors.New("its Length field is below 20 or above 4096 (RFC 2865, section 3)")
	ErrOverrun  = errors.New("an attribute is shorter than 2 octets or runs over the end (RFC 2865, section 5)")
	ErrTooLarge = errors.New("more than 4096 octets, or an attribute of more than 253 (RFC 2865, section 3)")
)

// Decode reads a packet. Octets beyond the Length field are ignored.
func Decode(b []byte) (*Packet, error) {
	if len(b) < headerSize {
		return nil, ErrShort
	}
	length := int(binary.BigEndian.Uint16(b[2:]))
	if length < headerSize || length > MaxSize {
		return nil, ErrLength
	}
	if length > len(b) {
		return nil, ErrShort
	}
	p := &Packet{Code: Code(b[0]), ID: b[1], Attributes: make([]Attribute, 0, 12)}
	copy(p.Authenticator[:], b[4:headerSize])
	for rest := b[headerSize:length]; len(rest) > 0; {
		if len(rest) < 2 || rest[1] < 2 || int(rest[1]) > len(rest) {
			return nil, ErrOverrun
		}
		n := int(rest[1])
		p.Attributes = append(p.Attributes, Attribute{Type: Type(rest[0]), Value: rest[2:n:n]})
		rest = rest[n:]
	}
	return p, nil
}

// ReadPacket reads the octets of one packet from a stream, as RADIUS over TLS
// sends them (RFC 6614, section 2.2): the Length field tells where it ends.
func ReadPacket(r io.Reader) ([]byte, error) {
	b := make([]byte, headerSize, 256)
	if _, err := io.ReadFull(r, b); err != nil {
		return nil, err
	}
	n := int(binary.BigEndian.Uint16(b[2:]))
	if n < headerSize || n > MaxSize {
		return nil, ErrLength
	}
	b = append(b, make([]byte, n-headerSize)...)
	_, err := io.ReadFull(r, b[headerSize:])
	return b, err
}

// Append encodes the packet and appends it to dst.
func (p *Packet) Append(dst []byte) ([]byte, error) { return p.append(dst, false) }

// append encodes the packet as it is or, signed, with an empty
// Message-Authenticator in front, in place of any that it has.
func (p *Packet) append(dst []byte, signed bool) ([]byte, error) {
	start := len(dst)
	dst = append(dst, byte(p.Code), p.ID, 0, 0)
	dst = append(dst, p.Authenticator[:]...)
	if signed {
		dst = append(dst, byte(MessageAuthenticator), 18)
		dst = append(dst, make([]byte, 16)...)
	}
	for _, a := range p.Attributes {
		if signed && a.Type == MessageAuthenticator {
			continue
		}
		if len(a.Value) > 253 {
			return dst[:start], ErrTooLarge
		}
		dst = append(dst, byte(a.Type), byte(len(a.Value)+2))
		dst = append(dst, a.Value...)
	}
	n := len(dst) - start
	if n > MaxSize {
		return dst[:start], ErrTooLarge
	}
	binary.BigEndian.PutUint16(dst[start+2:], uint16(n))
	return dst, nil
}

// Get returns the value of the first attribute of a type, or nil and false.
func (p *Packet) Get(t Type) ([]byte, bool) {
	for _, a := range p.Attributes {
		if a.Type == t {
			return a.Value, true
		}
	}
	return nil, false
}

// Text returns the value of the first attribute of a type as text, or "".
func (p *Packet) Text(t Type) string {
	v, _ := p.Get(t)
	return string(v)
}

// Add appends an attribute.
func (p *Packet) Add(t Type, value []byte) {
	p.Attributes = append(p.Attributes, Attribute{Type: t, Value: value})
}

// AddText appends an attribute of text, cut at 253 octets.
func (p *Packet) AddText(t Type, s string) {
	if len(s) > 253 {
		s = s[:253]
	}
	p.Add(t, []byte(s))
}

// AddInteger appends an attribute of type integer, RFC 8044 section 3.1.
func (p *Packet) AddInteger(t Type, n uint32) { p.Add(t, binary.BigEndian.AppendUint32(nil, n)) }

// Integer returns the first attribute of a type as an integer.
func (p *Packet) Integer(t Type) (uint32, bool) {
	v, ok := p.Get(t)
	if !ok || len(v) != 4 {
		return 0, false
	}
	return binary.BigEndian.Uint32(v), true
}

// EncodeRequest encodes an Access-Request or Status-Server with its
// Message-Authenticator first, RFC 3579 section 3.2. The Authenticator field
// is the caller's, and must be random.
func (p *Packet) EncodeRequest(key []byte) ([]byte, error) {
	b, err := p.append(make([]byte, 0, 256), true)
	if err != nil {
		return nil, err
	}
	sign(b, p.Authenticator, key)
	return b, nil
}

// EncodeAccountingRequest encodes an Accounting-Request and fills in its
// Authenticator, RFC 2866 section 3.
func (p *Packet) EncodeAccountingRequest(key []byte) ([]byte, error) {
	p.Authenticator = [16]byte{}
	b, err := p.Append(nil)
	if err != nil {
		return nil, err
	}
	p.Authenticator = hashWith(b, [16]byte{}, key)
	copy(b[4:], p.Authenticator[:])
	return b, nil
}

// EncodeDisconnectRequest encodes a Disconnect-Request with its
// Message-Authenticator first and fills in its Authenticator, which is made as
// that of an Accounting-Request: RFC 5176, sections 2.3 and 3.4.
func (p *Packet) EncodeDisconnectRequest(key []byte) ([]byte, error) {
	p.Authenticator = [16]byte{}
	b, err := p.append(nil, true)
	if err != nil {
		return nil, err
	}
	sign(b, p.Authenticator, key)
	p.Authenticator = hashWith(b, [16]byte{}, key)
	copy(b[4:], p.Authenticator[:])
	return b, nil
}

// CheckDisconnectRequest reports whether the Authenticator of a
// Disconnect-Request is of a key, and its Message-Authenticator, where it has
// one: RFC 5176, sections 2.3 and 3.4.
func CheckDisconnectRequest(b []byte, key []byte) bool {
	return checkHash(b, [16]byte{}, key) && CheckMessageAuthenticator(b, [16]byte{}, key) != Invalid
}

// EncodeResponse encodes an answer to a request with the given Authenticator:
// with a Message-Authenticator first unless it is an Accounting-Response, and
// with the Response Authenticator, RFC 2865 section 3.
func (p *Packet) EncodeResponse(request [16]byte, key []byte) ([]byte, error) {
	b, err := p.append(make([]byte, 0, 128), p.Code != AccountingResponse)
	if err != nil {
		return nil, err
	}
	copy(b[4:], request[:])
	if p.Code != AccountingResponse {
		sign(b, request, key)
	}
	p.Authenticator = hashWith(b, request, key)
	copy(b[4:], p.Authenticator[:])
	return b, nil
}

// sign fills the Message-Authenticator that stands first in b.
func sign(b []byte, authenticator [16]byte, key []byte) {
	mac := messageAuthenticator(b, authenticator, headerSize+2, key)
	copy(b[headerSize+2:], mac[:])
}

// messageAuthenticator is HMAC-MD5 (RFC 2104) over the packet with the given
// authenticator in its header and zeros for the 16 octets at at. It is written
// out here because it is half the cost of an answer, and this way a packet of
// common size is hashed without an allocation.
func messageAuthenticator(b []byte, authenticator [16]byte, index int, key []byte) [16]byte {
	var pad [md5.BlockSize]byte
	if len(key) > md5.BlockSize {
		sum := md5.Sum(key)
		copy(pad[:], sum[:])
	} else {
		copy(pad[:], key)
	}
	var small [md5.BlockSize + mostSmall]byte
	room := small[:]
	if len(b) > mostSmall {
		room = make([]byte, md5.BlockSize+len(b))
	}
	for i, k := range pad {
		room[i] = k ^ 0x36
	}
	n := md5.BlockSize + copy(room[md5.BlockSize:], b)
	copy(room[md5.BlockSize+4:], authenticator[:])
	clear(room[md5.BlockSize+index : md5.BlockSize+index+16])
	inner := md5.Sum(room[:n])
	for i, k := range pad {
		room[i] = k ^ 0x5c
	}
	copy(room[md5.BlockSize:], inner[:])
	return md5.Sum(room[:md5.BlockSize+md5.Size])
}

// mostSmall is the size of a packet up to which hashing it allocates nothing.
const mostSmall = 512

// Check is what comparing an authenticator gave.
type Check int

const (
	Absent Check = iota // there is none
	Valid
	Invalid
)

// CheckMessageAuthenticator compares the Message-Authenticator of a packet in
// b. For a request, authenticator is its own; for an answer, the request's.
func CheckMessageAuthenticator(b []byte, authenticator [16]byte, key []byte) Check {
	if len(b) < headerSize {
		return Invalid
	}
	length := int(binary.BigEndian.Uint16(b[2:]))
	if length < headerSize || length > len(b) || length > MaxSize {
		return Invalid
	}
	b = b[:length]
	for index := headerSize; index+2 <= length && b[index+1] >= 2; index += int(b[index+1]) {
		if Type(b[index]) != MessageAuthenticator {
			continue
		}
		if b[index+1] != 18 || index+18 > length {
			return Invalid
		}
		mac := messageAuthenticator(b, authenticator, index+2, key)
		if subtle.ConstantTimeCompare(mac[:], b[index+2:index+18]) == 1 {
			return Valid
		}
		return Invalid
	}
	return Absent
}

// CheckResponse compares the Response Authenticator of an answer in b to a
// request with the given Authenticator, RFC 2865 section 3.
func CheckResponse(b []byte, request [16]byte, key []byte) bool { return checkHash(b, request, key) }

// CheckAccountingRequest compares the Authenticator of an Accounting-Request,
// RFC 2866 section 3.
func CheckAccountingRequest(b []byte, key []byte) bool { return checkHash(b, [16]byte{}, key) }

func checkHash(b []byte, in [16]byte, key []byte) bool {
	if len(b) < headerSize {
		return false
	}
	length := int(binary.BigEndian.Uint16(b[2:]))
	if length < headerSize || length > len(b) || length > MaxSize {
		return false
	}
	sum := hashWith(b[:length], in, key)
	return subtle.ConstantTimeCompare(sum[:], b[4:headerSize]) == 1
}

// hashWith is MD5 over a packet with the given authenticator in its header, and
// then the key.
func hashWith(b []byte, in [16]byte, key []byte) [16]byte {
	var room [mostSmall + 128]byte
	data := append(append(room[:0], b...), key...)
	copy(data[4:headerSize], in[:])
	return md5.Sum(data)
}
