package tacacs

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// bodies are a decoder each, the smallest body that it takes, and one with every
// part, written out as RFC 8907 draws them.
var bodies = map[string]struct {
	decode       func([]byte) error
	least, whole []byte
}{
	"start": {func(b []byte) error { _, err := DecodeAuthenStart(b); return err },
		[]byte{1, 1, 2, 1, 0, 0, 0, 0}, []byte("\x01\x0f\x02\x01\x01\x02\x03\x04" + "u" + "pp" + "rrr" + "dddd")},
	"reply": {func(b []byte) error { _, err := DecodeAuthenReply(b); return err },
		[]byte{1, 0, 0, 0, 0, 0}, []byte("\x05\x01\x00\x03\x00\x02" + "mmm" + "dd")},
	"continue": {func(b []byte) error { _, err := DecodeAuthenContinue(b); return err },
		[]byte{0, 0, 0, 0, 0}, []byte("\x00\x03\x00\x02\x01" + "mmm" + "dd")},
	"author request": {func(b []byte) error { _, err := DecodeAuthorRequest(b); return err },
		[]byte{6, 1, 1, 1, 0, 0, 0, 0}, []byte("\x06\x01\x02\x01\x01\x02\x03\x02\x03\x00" + "u" + "pp" + "rrr" +
			"a=b")},
	"author response": {func(b []byte) error { _, err := DecodeAuthorResponse(b); return err },
		[]byte{1, 0, 0, 0, 0, 0}, []byte("\x01\x02\x00\x01\x00\x02\x03\x00" + "m" + "dd" + "a=b")},
	"acct request": {func(b []byte) error { _, err := DecodeAcctRequest(b); return err },
		[]byte{2, 6, 1, 1, 1, 0, 0, 0, 0}, []byte("\x04\x06\x01\x02\x01\x01\x02\x03\x01\x03" + "u" + "pp" + "rrr" +
			"a=b")},
	"acct reply": {func(b []byte) error { _, err := DecodeAcctReply(b); return err },
		[]byte{0, 0, 0, 0, 1}, []byte("\x00\x03\x00\x02\x02" + "mmm" + "dd")},
}

// A body is taken when its lengths use it up to the octet, and is ErrBody, not a
// panic, when it is an octet shorter or longer, or empty.
func TestBodiesAddUpToTheOctet(t *testing.T) {
	t.Parallel()
	for name, b := range bodies {
		for _, body := range [][]byte{b.least, b.whole} {
			require.NoError(t, b.decode(body), name)
			for n := range body {
				require.ErrorIs(t, b.decode(body[:n]), ErrBody, "%s: %d of %d octets", name, n, len(body))
			}
			require.ErrorIs(t, b.decode(append(bytes.Clone(body), 0)), ErrBody, name)
			require.ErrorIs(t, b.decode(append(bytes.Clone(body), 0, 0)), ErrBody, name)
		}
		require.ErrorIs(t, b.decode(nil), ErrBody, name)
	}
}

func TestBodiesHaveTheirPartsInOrder(t *testing.T) {
	t.Parallel()
	start, err := DecodeAuthenStart(bodies["start"].whole)
	require.NoError(t, err)
	require.Equal(t, AuthenStart{Action: ActionLogin, PrivLvl: 15, Type: PAP, Service: ServiceLogin, User: "u",
		Port:          "pp",
		RemoteAddress: "rrr", Data: "dddd"}, start)
	require.Equal(t, bodies["start"].whole, start.Append(nil))
	reply, err := DecodeAuthenReply(bodies["reply"].whole)
	require.NoError(t, err)
	require.Equal(t, AuthenReply{Status: AuthenGetPass, Flags: FlagNoEcho, Message: "mmm", Data: "dd"}, reply)
	require.Equal(t, bodies["reply"].whole, reply.Append(nil))
	more, err := DecodeAuthenContinue(bodies["continue"].whole)
	require.NoError(t, err)
	require.Equal(t, AuthenContinue{Flags: FlagAbort, Message: "mmm", Data: "dd"}, more)
	require.Equal(t, bodies["continue"].whole, more.Append(nil))
	request, err := DecodeAuthorRequest(bodies["author request"].whole)
	require.NoError(t, err)
	require.Equal(t, []string{"a=b", ""}, request.Args)
	require.Equal(t, []any{"u", "pp", "rrr", byte(1)},
		[]any{request.User, request.Port, request.RemoteAddress, request.PrivLvl})
	require.Equal(t, bodies["author request"].whole, request.Append(nil))
	response, err := DecodeAuthorResponse(bodies["author response"].whole)
	require.NoError(t, err)
	require.Equal(t, AuthorResponse{Status: AuthorPassAdd, Args: []string{"a=b", ""}, Message: "m", Data: "dd"},
		response)
	require.Equal(t, bodies["author response"].whole, response.Append(nil))
	acct, err := DecodeAcctRequest(bodies["acct request"].whole)
	require.NoError(t, err)
	require.Equal(t, []any{byte(AcctStop), "u", []string{"a=b"}}, []any{acct.Flags, acct.User, acct.Args})
	require.Equal(t, bodies["acct request"].whole, acct.Append(nil))
	kept, err := DecodeAcctReply(bodies["acct reply"].whole)
	require.NoError(t, err)
	require.Equal(t, AcctReply{Status: AcctError, Message: "mmm", Data: "dd"}, kept)
	require.Equal(t, bodies["acct reply"].whole, kept.Append(nil))
}

func TestArgumentsAreSplitAtTheFirstMark(t *testing.T) {
	t.Parallel()
	for text, want := range map[string][]any{"cmd=look": {"cmd", "look", true},
		"idletime*20": {"idletime", "20", false},
		"a=b*c":       {"a", "b*c", true}, "a*b=c": {"a", "b=c", false}, "=": {"", "", true}, "*": {"", "", false},
		"none": {"none", "", true}, "": {"", "", true}} {
		name, value, mandatory := Arg(text)
		require.Equal(t, want, []any{name, value, mandatory}, text)
	}
}

func TestStatesHaveTheNamesOfTheRFC(t *testing.T) {
	t.Parallel()
	for s, want := range map[AuthenStatus]string{1: "PASS", 2: "FAIL", 3: "GETDATA", 4: "GETUSER", 5: "GETPASS",
		6: "RESTART",
		7: "ERROR", 0x21: "FOLLOW", 9: ""} {
		require.Equal(t, want, s.String())
	}
	for s, want := range map[AuthorStatus]string{1: "PASS_ADD", 2: "PASS_REPL", 0x10: "FAIL", 0x11: "ERROR",
		0x21: "FOLLOW"} {
		require.Equal(t, want, s.String())
	}
	for s, want := range map[AcctStatus]string{1: "SUCCESS", 2: "ERROR", 0x21: "FOLLOW"} {
		require.Equal(t, want, s.String())
	}
	for s, want := range map[Type]string{1: "authentication", 2: "authorization", 3: "accounting", 4: ""} {
		require.Equal(t, want, s.String())
	}
}

func TestHeadersAreWholeAndWithinBounds(t *testing.T) {
	t.Parallel()
	key := []byte("a key")
	good := AppendPacket(nil, Header{Version: 0xc1, Type: Authentication, Sequence: 1, SessionID: 7}, []byte("body"),
		key)
	for n := range good {
		_, _, err := DecodePacket(good[:n], key)
		require.ErrorIs(t, err, io.ErrUnexpectedEOF, "%d octets", n)
		_, _, err = ReadPacket(bytes.NewReader(good[:n]), key)
		require.Error(t, err)
	}
	h, body, err := DecodePacket(append(bytes.Clone(good), "the next one"...), key)
	require.NoError(t, err)
	require.Equal(t, "body", string(body))
	require.Equal(t, byte(1), h.Minor())
	for at, values := range map[int][]byte{0: {0x00, 0xb0, 0xc2, 0xd0}, 1: {0, 4, 255}, 2: {0}} {
		for _, v := range values {
			bad := bytes.Clone(good)
			bad[at] = v
			_, _, err := DecodePacket(bad, key)
			require.ErrorIs(t, err, ErrHeader, "octet %d is %d", at, v)
		}
	}
	for n, want := range map[uint32]error{MaxBody: io.ErrUnexpectedEOF, MaxBody + 1: ErrTooLong,
		1<<32 - 1: ErrTooLong} {
		bad := bytes.Clone(good)
		binary.BigEndian.PutUint32(bad[8:], n)
		_, _, err := DecodePacket(bad, key)
		require.ErrorIs(t, err, want, "a length of %d", n)
	}
	clear := bytes.Clone(good)
	clear[3] |= FlagUnencrypted
	_, _, err = DecodePacket(clear, key)
	require.ErrorIs(t, err, ErrClear)
	_, _, err = DecodePacket(good, nil)
	require.ErrorIs(t, err, ErrObfuscated)
	empty := AppendPacket(nil, Header{Version: 0xc0, Type: Accounting, Sequence: 1}, nil, key)
	_, body, err = DecodePacket(empty, key)
	require.NoError(t, err)
	require.Empty(t, body)
	require.False(t, Readable(Header{Type: Accounting}, body))
}

func TestCredentialsThatAreTooShortAreRefused(t *testing.T) {
	t.Parallel()
	for _, password := range []string{"", "right"} {
		for _, challenge := range [][]byte{{1}, make([]byte, 16)} {
			data := CHAPData(7, challenge, password)
			require.True(t, CheckCHAP(data, password))
			require.False(t, CheckCHAP(data, password+"x"))
			for n := range data {
				require.False(t, CheckCHAP(data[:n], password), "%d of %d octets", n, len(data))
			}
		}
	}
	require.False(t, CheckCHAP(CHAPData(7, nil, "right"), "right"), "without a challenge anybody could say it again")
	for _, n := range []int{0, 1, 65, 67} {
		require.False(t, CheckMSCHAP2("ines", strings.Repeat("x", n), "right"))
	}
}

// scripted answers a client's packets with bodies, and returns what it was sent.
func scripted(t *testing.T, key []byte, change func(h *Header), answers ...[]byte) (*Client, func() [][]byte) {
	ours, theirs := net.Pipe()
	done := make(chan [][]byte, 1)
	go func() {
		var got [][]byte
		defer func() { done <- got }()
		for _, a := range append(answers, nil) {
			h, body, err := ReadPacket(theirs, key)
			if err != nil {
				return
			}
			got = append(got, body)
			if a == nil {
				return
			}
			h.Sequence++
			if change != nil {
				change(&h)
			}
			if _, err := theirs.Write(AppendPacket(nil, h, a, key)); err != nil {
				return
			}
		}
	}()
	t.Cleanup(func() { _ = ours.Close(); _ = theirs.Close() })
	return &Client{Conn: ours, Key: key}, func() [][]byte { _ = ours.Close(); return <-done }
}

func TestAClientAnswersEveryPrompt(t *testing.T) {
	t.Parallel()
	reply := func(s AuthenStatus, text string) []byte { return AuthenReply{Status: s, Message: text}.Append(nil) }
	typed := func(b []byte) string {
		c, err := DecodeAuthenContinue(b)
		require.NoError(t, err)
		if c.Flags&FlagAbort != 0 {
			return "abort: " + c.Data
		}
		return c.Message
	}
	code := func(prompt string) (string, bool) { return "code for " + prompt, true }
	none := func(string) (string, bool) { return "", false }
	for name, c := range map[string]struct {
		answers [][]byte
		more    func(string) (string, bool)
		status  AuthenStatus
		typed   []string // after each START
	}{
		"all": {[][]byte{reply(AuthenGetUser, ""), reply(AuthenGetPass, ""), reply(AuthenGetData, "code?"),
			reply(AuthenPass, "")}, code, AuthenPass, []string{"ines", "right", "code for code?"}},
		"no code": {[][]byte{reply(AuthenGetPass, ""), reply(AuthenGetData, "code?")}, none, AuthenGetData,
			[]string{"right", "abort: no answer to this prompt"}},
		"nobody to ask": {[][]byte{reply(AuthenGetData, "code?")}, nil, AuthenGetData,
			[]string{"abort: no answer to this prompt"}},
		"restart": {[][]byte{reply(AuthenRestart, ""), reply(AuthenGetPass, ""), reply(AuthenFail, "")}, nil,
			AuthenFail, []string{"start", "right"}},
		"twice": {[][]byte{reply(AuthenRestart, ""), reply(AuthenRestart, "")}, nil, AuthenRestart,
			[]string{"start"}},
	} {
		client, sent := scripted(t, []byte("a key"), nil, c.answers...)
		got, err := client.AuthenticateASCII(AuthenStart{Service: ServiceLogin, User: "ines"}, "right", c.more)
		require.NoError(t, err, name)
		require.Equal(t, c.status, got.Status, name)
		var all []string
		for i, b := range sent() {
			if i == 0 {
				continue
			}
			if s, err := DecodeAuthenStart(b); err == nil && s.User == "ines" && s.Service == ServiceLogin {
				all = append(all, "start")
				continue
			}
			all = append(all, typed(b))
		}
		require.Equal(t, c.typed, all, name)
	}
}

func TestAClientTakesNoAnswerToAnotherSession(t *testing.T) {
	t.Parallel()
	pass := AuthenReply{Status: AuthenPass}.Append(nil)
	for name, change := range map[string]func(*Header){
		"another session":  func(h *Header) { h.SessionID++ },
		"another type":     func(h *Header) { h.Type = Accounting },
		"another sequence": func(h *Header) { h.Sequence += 2 },
	} {
		client, sent := scripted(t, []byte("a key"), change, pass)
		_, err := client.Authenticate(AuthenStart{User: "ines"}, PAP, "right")
		require.ErrorIs(t, err, ErrHeader, name)
		sent()
	}
	for name, ask := range map[string]func(*Client) error{
		"login":   func(c *Client) error { _, err := c.Authenticate(AuthenStart{}, PAP, ""); return err },
		"prompts": func(c *Client) error { _, err := c.AuthenticateASCII(AuthenStart{}, "", nil); return err },
		"session": func(c *Client) error { _, err := c.Authorize(AuthorRequest{}); return err },
		"record":  func(c *Client) error { _, err := c.Account(AcctRequest{}); return err },
	} {
		client, sent := scripted(t, []byte("a key"), nil, []byte{1})
		require.ErrorIs(t, ask(client), ErrBody, name)
		sent()
		client, sent = scripted(t, []byte("a key"), nil)
		sent()
		require.Error(t, ask(client), name)
	}
}
