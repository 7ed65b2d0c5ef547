package tacacs

import "encoding/binary"

// Flags of an accounting REQUEST, RFC 8907 section 7.1.
const (
	AcctStart    = 0x02
	AcctStop     = 0x04
	AcctWatchdog = 0x08
)

// AcctRequest is one accounting record, RFC 8907 section 7.1.
type AcctRequest struct {
	Flags byte
	AuthorRequest
}

// DecodeAcctRequest reads the body of an accounting REQUEST: a flags octet,
// and then the fields of an authorization REQUEST.
func DecodeAcctRequest(b []byte) (AcctRequest, error) {
	if len(b) < 9 {
		return AcctRequest{}, ErrBody
	}
	author, err := DecodeAuthorRequest(b[1:])
	return AcctRequest{Flags: b[0], AuthorRequest: author}, err
}

// Append encodes the body.
func (r AcctRequest) Append(dst []byte) []byte {
	return r.AuthorRequest.Append(append(dst, r.Flags))
}

// AcctStatus is the answer to an accounting record, RFC 8907 section 7.2.
type AcctStatus byte

const (
	AcctSuccess AcctStatus = 0x01
	AcctError   AcctStatus = 0x02
	AcctFollow  AcctStatus = 0x21
)

func (s AcctStatus) String() string {
	return map[AcctStatus]string{AcctSuccess: "SUCCESS", AcctError: "ERROR", AcctFollow: "FOLLOW"}[s]
}

// AcctReply answers an accounting record, RFC 8907 section 7.2.
type AcctReply struct {
	Status  AcctStatus
	Message string
	Data    string
}

// DecodeAcctReply reads the body of an accounting REPLY.
func DecodeAcctReply(b []byte) (AcctReply, error) {
	if len(b) < 5 {
		return AcctReply{}, ErrBody
	}
	r := AcctReply{Status: AcctStatus(b[4])}
	f := fields{rest: b[5:]}
	r.Message = f.take(int(binary.BigEndian.Uint16(b)))
	r.Data = f.take(int(binary.BigEndian.Uint16(b[2:])))
	return r, f.end()
}

// Append encodes the body.
func (r AcctReply) Append(dst []byte) []byte {
	message, data := cut(r.Message, most16), cut(r.Data, most16)
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(message)))
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(data)))
	return append(append(append(dst, byte(r.Status)), message...), data...)
}
