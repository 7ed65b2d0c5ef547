package tacacs

import "encoding/binary"

// Method is how a person was authenticated, RFC 8907 section 6.1.
type Method byte

const (
	MethodNotSet Method = 0
	MethodNone   Method = 1
	MethodLine   Method = 3 // a password that many share
	MethodEnable Method = 4 // the same, for a level
	MethodLocal  Method = 5
	MethodTACACS Method = 6
	MethodGuest  Method = 8
	MethodRADIUS Method = 0x10
)

// AuthorRequest asks whether a person may do something, RFC 8907 section 6.1.
type AuthorRequest struct {
	Method        Method
	PrivLvl       byte
	Type          AuthenType
	Service       Service
	User          string
	Port          string
	RemoteAddress string
	Args          []string // "name=value" is mandatory, "name*value" optional
}

// DecodeAuthorRequest reads the body of an authorization REQUEST.
func DecodeAuthorRequest(b []byte) (AuthorRequest, error) {
	if len(b) < 8 {
		return AuthorRequest{}, ErrBody
	}
	r := AuthorRequest{Method: Method(b[0]), PrivLvl: b[1], Type: AuthenType(b[2]), Service: Service(b[3])}
	f := fields{rest: b[8:]}
	lengths := f.take(int(b[7]))
	r.User = f.take(int(b[4]))
	r.Port = f.take(int(b[5]))
	r.RemoteAddress = f.take(int(b[6]))
	r.Args = f.args(lengths)
	return r, f.end()
}

// Append encodes the body. Texts and arguments are cut at 255 octets, and at
// most 255 arguments are sent.
func (r AuthorRequest) Append(dst []byte) []byte {
	user := cut(r.User, most8)
	port := cut(r.Port, most8)
	remote := cut(r.RemoteAddress, most8)
	args := r.Args[:min(len(r.Args), most8)]
	dst = append(dst, byte(r.Method), r.PrivLvl, byte(r.Type), byte(r.Service),
		byte(len(user)), byte(len(port)), byte(len(remote)), byte(len(args)))
	dst = appendLengths(dst, args)
	dst = append(append(append(dst, user...), port...), remote...)
	return appendArgs(dst, args)
}

// AuthorStatus is the answer to an authorization, RFC 8907 section 6.2.
type AuthorStatus byte

const (
	AuthorPassAdd  AuthorStatus = 0x01
	AuthorPassRepl AuthorStatus = 0x02
	AuthorFail     AuthorStatus = 0x10
	AuthorError    AuthorStatus = 0x11
	AuthorFollow   AuthorStatus = 0x21
)

func (s AuthorStatus) String() string {
	return map[AuthorStatus]string{AuthorPassAdd: "PASS_ADD", AuthorPassRepl: "PASS_REPL", AuthorFail: "FAIL",
		AuthorError: "ERROR", AuthorFollow: "FOLLOW"}[s]
}

// AuthorResponse answers an authorization, RFC 8907 section 6.2.
type AuthorResponse struct {
	Status  AuthorStatus
	Args    []string
	Message string
	Data    string
}

// DecodeAuthorResponse reads the body of an authorization RESPONSE.
func DecodeAuthorResponse(b []byte) (AuthorResponse, error) {
	if len(b) < 6 {
		return AuthorResponse{}, ErrBody
	}
	r := AuthorResponse{Status: AuthorStatus(b[0])}
	f := fields{rest: b[6:]}
	lengths := f.take(int(b[1]))
	r.Message = f.take(int(binary.BigEndian.Uint16(b[2:])))
	r.Data = f.take(int(binary.BigEndian.Uint16(b[4:])))
	r.Args = f.args(lengths)
	return r, f.end()
}

// Append encodes the body.
func (r AuthorResponse) Append(dst []byte) []byte {
	message, data := cut(r.Message, most16), cut(r.Data, most16)
	args := r.Args[:min(len(r.Args), most8)]
	dst = append(dst, byte(r.Status), byte(len(args)))
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(message)))
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(data)))
	dst = appendLengths(dst, args)
	return appendArgs(append(append(dst, message...), data...), args)
}

func (f *fields) args(lengths string) []string {
	if len(lengths) == 0 {
		return nil
	}
	args := make([]string, 0, len(lengths))
	for _, n := range []byte(lengths) {
		args = append(args, f.take(int(n)))
	}
	return args
}

func appendLengths(dst []byte, args []string) []byte {
	for _, a := range args {
		dst = append(dst, byte(min(len(a), most8)))
	}
	return dst
}

func appendArgs(dst []byte, args []string) []byte {
	for _, a := range args {
		dst = append(dst, cut(a, most8)...)
	}
	return dst
}

// Arg splits an argument at its first "=" or "*", RFC 8907 section 6.1.
func Arg(s string) (name, value string, mandatory bool) {
	for i := range len(s) {
		if s[i] == '=' || s[i] == '*' {
			return s[:i], s[i+1:], s[i] == '='
		}
	}
	return s, "", true
}
