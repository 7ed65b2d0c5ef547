// Package tacacs has the packets of TACACS+, RFC 8907: the header, the
// obfuscation of bodies, and one file for the bodies of authentication,
// authorization and accounting. It turns bytes into values and back on
// connections that it is given; it opens none and knows nothing of any site.
//
// A body is a struct with decode and append; both read the body's layout from
// top to bottom as its section of the RFC shows it.
package tacacs

import (
	"crypto/md5"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Type is the kind of a packet, RFC 8907 section 4.1.
type Type byte

const (
	Authentication Type = 1
	Authorization  Type = 2
	Accounting     Type = 3
)

func (t Type) String() string {
	return map[Type]string{Authentication: "authentication", Authorization: "authorization",
		Accounting: "accounting"}[t]
}

// Flags of the header, RFC 8907 section 4.1.
const (
	FlagUnencrypted   = 0x01
	FlagSingleConnect = 0x04
)

const (
	headerSize   = 12
	majorVersion = 0xc
	// MaxBody bounds a body: lengths are 16-bit fields, and nothing that is
	// asked here comes near. RFC 8907 section 4.1 lets a server set a bound.
	MaxBody = 1 << 16
)

// Header is the header of a packet, in the clear on the wire.
type Header struct {
	Version   byte // 0xc0 or 0xc1: major version 12, minor 0 or 1
	Type      Type
	Sequence  byte
	Flags     byte
	SessionID uint32
}

// Minor is the minor version, 0 or 1.
func (h Header) Minor() byte { return h.Version & 0x0f }

// Errors of reading. Those that wrap ErrHeader mean that the peer does not
// speak TACACS+ as it should.
var (
	ErrHeader  = errors.New("this is no TACACS+ header (RFC 8907, section 4.1)")
	ErrTooLong = fmt.Errorf("%w: the body is longer than 65536 octets", ErrHeader)
	// ErrBody is a body whose lengths do not add up. Nearly always the keys
	// of the two sides differ, RFC 8907 section 4.6.
	ErrBody = errors.New("the lengths in the body do not add up; the keys of the two sides differ (RFC 8907, " +
		"section 4.6)")
	// ErrClear is a body without obfuscation outside TLS, which section 4.5
	// has the receiver refuse.
	ErrClear = errors.New("the body is not obfuscated (RFC 8907, section 4.5)")
	// ErrObfuscated is a body with obfuscation over TLS (RFC 9887, section 4).
	ErrObfuscated = fmt.Errorf("%w: the body is obfuscated, and over TLS it must not be (RFC 9887)", ErrHeader)
)

// ReadPacket reads one packet and removes the obfuscation from its body. A nil
// key is a connection over TLS, where bodies are in clear (RFC 9887).
func ReadPacket(r io.Reader, key []byte) (Header, []byte, error) {
	var b [headerSize]byte
	if _, err := io.ReadFull(r, b[:]); err != nil {
		return Header{}, nil, err
	}
	h, n, err := decodeHeader(b[:])
	if err != nil {
		return h, nil, err
	}
	body := make([]byte, n)
	if _, err := io.ReadFull(r, body); err != nil {
		if errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
		return h, nil, err
	}
	return uncover(h, body, key)
}

// uncover removes the obfuscation, and refuses a body that is not as the
// connection wants it.
func uncover(h Header, body, key []byte) (Header, []byte, error) {
	clear := h.Flags&FlagUnencrypted != 0
	switch {
	case key == nil && !clear:
		return h, nil, ErrObfuscated
	case key != nil && clear:
		return h, nil, ErrClear
	case key != nil:
		Obfuscate(h, body, key)
	}
	return h, body, nil
}

// DecodePacket reads one packet from b, as ReadPacket does from a stream. The
// octets of b are left as they are.
func DecodePacket(b, key []byte) (Header, []byte, error) {
	if len(b) < headerSize {
		return Header{}, nil, io.ErrUnexpectedEOF
	}
	h, n, err := decodeHeader(b)
	if err != nil {
		return h, nil, err
	}
	if len(b) < headerSize+n {
		return h, nil, io.ErrUnexpectedEOF
	}
	return uncover(h, append([]byte{}, b[headerSize:headerSize+n]...), key)
}

func decodeHeader(b []byte) (Header, int, error) {
	h := Header{Version: b[0], Type: Type(b[1]), Sequence: b[2], Flags: b[3], SessionID: binary.BigEndian.Uint32(b[4:])}
	n := binary.BigEndian.Uint32(b[8:])
	switch {
	case h.Version>>4 != majorVersion || h.Minor() > 1:
		return h, 0, fmt.Errorf("%w: version 0x%02x", ErrHeader, h.Version)
	case h.Type < Authentication || h.Type > Accounting:
		return h, 0, fmt.Errorf("%w: type %d", ErrHeader, h.Type)
	case h.Sequence == 0:
		return h, 0, fmt.Errorf("%w: sequence number 0", ErrHeader)
	case n > MaxBody:
		return h, 0, ErrTooLong
	}
	return h, int(n), nil
}

// AppendPacket encodes a packet with an obfuscated body and appends it to dst.
// With a nil key, over TLS, the body stays in clear and the header says so.
func AppendPacket(dst []byte, h Header, body, key []byte) []byte {
	if key == nil {
		h.Flags |= FlagUnencrypted
	}
	dst = append(dst, h.Version, byte(h.Type), h.Sequence, h.Flags)
	dst = binary.BigEndian.AppendUint32(dst, h.SessionID)
	dst = binary.BigEndian.AppendUint32(dst, uint32(len(body)))
	index := len(dst)
	dst = append(dst, body...)
	if key != nil {
		Obfuscate(h, dst[index:], key)
	}
	return dst
}

// Obfuscate turns a clear body into an obfuscated one, or back, in place,
// RFC 8907 section 4.5.
func Obfuscate(h Header, body, key []byte) {
	seed := make([]byte, 0, 6+len(key)+md5.Size)
	seed = binary.BigEndian.AppendUint32(seed, h.SessionID)
	seed = append(seed, key...)
	seed = append(seed, h.Version, h.Sequence)
	n := len(seed)
	for index := 0; index < len(body); index += md5.Size {
		pad := md5.Sum(seed)
		for i := 0; i < md5.Size && index+i < len(body); i++ {
			body[index+i] ^= pad[i]
		}
		seed = append(seed[:n], pad[:]...)
	}
}

// Readable reports whether the lengths in the first body of a session add up: with
// another key they nearly never do (RFC 8907, section 4.6).
func Readable(h Header, body []byte) bool {
	var err error
	switch h.Type {
	case Authentication:
		_, err = DecodeAuthenStart(body)
	case Authorization:
		_, err = DecodeAuthorRequest(body)
	default:
		_, err = DecodeAcctRequest(body)
	}
	return err == nil
}

// fields cuts a body into parts of given lengths. It reports ErrBody when the
// lengths do not use up the body to the octet.
type fields struct {
	rest []byte
	bad  bool
}

func (f *fields) take(n int) string {
	if f.bad || n > len(f.rest) {
		f.bad = true
		return ""
	}
	s := string(f.rest[:n])
	f.rest = f.rest[n:]
	return s
}

func (f *fields) end() error {
	if f.bad || len(f.rest) > 0 {
		return ErrBody
	}
	return nil
}

// cut returns s with at most 255, or 65535, octets: what its length field holds.
func cut(s string, most int) string { return s[:min(len(s), most)] }

const (
	most8  = 255
	most16 = 65535
)
