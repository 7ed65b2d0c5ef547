package tacacs

import "encoding/binary"

// Action is what an authentication is for, RFC 8907 section 5.1.
type Action byte

const (
	ActionLogin    Action = 1
	ActionChange   Action = 2
	ActionSendAuth Action = 4
)

// AuthenType is the form of the credential, RFC 8907 section 5.1.
type AuthenType byte

const (
	ASCII    AuthenType = 1
	PAP      AuthenType = 2
	CHAP     AuthenType = 3
	MSCHAPv2 AuthenType = 6
)

// Service is what the person wants, RFC 8907 section 5.1.
type Service byte

const (
	ServiceNone   Service = 0
	ServiceLogin  Service = 1
	ServiceEnable Service = 2 // elevation
)

// AuthenStart begins an authentication, RFC 8907 section 5.1.
type AuthenStart struct {
	Action        Action
	PrivLvl       byte
	Type          AuthenType
	Service       Service
	User          string
	Port          string
	RemoteAddress string
	Data          string // the password, for PAP
}

// DecodeAuthenStart reads the body of a START.
func DecodeAuthenStart(b []byte) (AuthenStart, error) {
	if len(b) < 8 {
		return AuthenStart{}, ErrBody
	}
	s := AuthenStart{Action: Action(b[0]), PrivLvl: b[1], Type: AuthenType(b[2]), Service: Service(b[3])}
	f := fields{rest: b[8:]}
	s.User = f.take(int(b[4]))
	s.Port = f.take(int(b[5]))
	s.RemoteAddress = f.take(int(b[6]))
	s.Data = f.take(int(b[7]))
	return s, f.end()
}

// Append encodes the body. Texts are cut at 255 octets.
func (s AuthenStart) Append(dst []byte) []byte {
	user := cut(s.User, most8)
	port := cut(s.Port, most8)
	remote := cut(s.RemoteAddress, most8)
	data := cut(s.Data, most8)
	dst = append(dst, byte(s.Action), s.PrivLvl, byte(s.Type), byte(s.Service),
		byte(len(user)), byte(len(port)), byte(len(remote)), byte(len(data)))
	return append(append(append(append(dst, user...), port...), remote...), data...)
}

// AuthenStatus is the answer to an authentication, RFC 8907 section 5.2.
type AuthenStatus byte

const (
	AuthenPass    AuthenStatus = 1
	AuthenFail    AuthenStatus = 2
	AuthenGetData AuthenStatus = 3
	AuthenGetUser AuthenStatus = 4
	AuthenGetPass AuthenStatus = 5
	AuthenRestart AuthenStatus = 6
	AuthenError   AuthenStatus = 7
	AuthenFollow  AuthenStatus = 0x21
)

func (s AuthenStatus) String() string {
	return map[AuthenStatus]string{AuthenPass: "PASS", AuthenFail: "FAIL", AuthenGetData: "GETDATA",
		AuthenGetUser: "GETUSER",
		AuthenGetPass: "GETPASS", AuthenRestart: "RESTART", AuthenError: "ERROR", AuthenFollow: "FOLLOW"}[s]
}

// FlagNoEcho tells the client not to show what is typed, RFC 8907 section 5.2.
const FlagNoEcho = 0x01

// AuthenReply answers a START or a CONTINUE, RFC 8907 section 5.2.
type AuthenReply struct {
	Status  AuthenStatus
	Flags   byte
	Message string // for the person
	Data    string // for the administrator
}

// DecodeAuthenReply reads the body of a REPLY.
func DecodeAuthenReply(b []byte) (AuthenReply, error) {
	if len(b) < 6 {
		return AuthenReply{}, ErrBody
	}
	r := AuthenReply{Status: AuthenStatus(b[0]), Flags: b[1]}
	f := fields{rest: b[6:]}
	r.Message = f.take(int(binary.BigEndian.Uint16(b[2:])))
	r.Data = f.take(int(binary.BigEndian.Uint16(b[4:])))
	return r, f.end()
}

// Append encodes the body.
func (r AuthenReply) Append(dst []byte) []byte {
	message, data := cut(r.Message, most16), cut(r.Data, most16)
	dst = append(dst, byte(r.Status), r.Flags)
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(message)))
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(data)))
	return append(append(dst, message...), data...)
}

// FlagAbort ends an authentication from the client's side, RFC 8907 section 5.3.
const FlagAbort = 0x01

// AuthenContinue answers a prompt, RFC 8907 section 5.3.
type AuthenContinue struct {
	Flags   byte
	Message string // what the person typed
	Data    string // with FlagAbort: why
}

// DecodeAuthenContinue reads the body of a CONTINUE.
func DecodeAuthenContinue(b []byte) (AuthenContinue, error) {
	if len(b) < 5 {
		return AuthenContinue{}, ErrBody
	}
	c := AuthenContinue{Flags: b[4]}
	f := fields{rest: b[5:]}
	c.Message = f.take(int(binary.BigEndian.Uint16(b)))
	c.Data = f.take(int(binary.BigEndian.Uint16(b[2:])))
	return c, f.end()
}

// Append encodes the body.
func (c AuthenContinue) Append(dst []byte) []byte {
	message, data := cut(c.Message, most16), cut(c.Data, most16)
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(message)))
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(data)))
	dst = append(dst, c.Flags)
	return append(append(dst, message...), data...)
}
