package tacacs

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/wire/mschap"
)

// sample is a packet made by an independent implementation.
type sample struct {
	Protocol, Name, Key, Packet, Clear string
	SessionID                          uint32 `json:"session_id"`
	Version, Sequence, Flags           byte
	Fields                             json.RawMessage
}

func samples(t testing.TB) []sample {
	text, err := os.ReadFile("../testdata/packets.json")
	require.NoError(t, err)
	var all, ours []sample
	require.NoError(t, json.Unmarshal(text, &all))
	for _, s := range all {
		if s.Protocol == "tacacs" {
			ours = append(ours, s)
		}
	}
	require.GreaterOrEqual(t, len(ours), 20)
	return ours
}

func unhex(t testing.TB, s string) []byte {
	b, err := hex.DecodeString(s)
	require.NoError(t, err)
	return b
}

// recode decodes a body by the packet's type and direction and encodes it again.
func recode(h Header, body []byte) (any, []byte, error) {
	request := h.Sequence%2 == 1
	switch {
	case h.Type == Authentication && h.Sequence == 1:
		v, err := DecodeAuthenStart(body)
		return v, v.Append(nil), err
	case h.Type == Authentication && request:
		v, err := DecodeAuthenContinue(body)
		return v, v.Append(nil), err
	case h.Type == Authentication:
		v, err := DecodeAuthenReply(body)
		return v, v.Append(nil), err
	case h.Type == Authorization && request:
		v, err := DecodeAuthorRequest(body)
		return v, v.Append(nil), err
	case h.Type == Authorization:
		v, err := DecodeAuthorResponse(body)
		return v, v.Append(nil), err
	case request:
		v, err := DecodeAcctRequest(body)
		return v, v.Append(nil), err
	}
	v, err := DecodeAcctReply(body)
	return v, v.Append(nil), err
}

func TestIndependentPacketsDecodeAndEncodeToTheOctet(t *testing.T) {
	t.Parallel()
	for _, s := range samples(t) {
		t.Run(s.Name, func(t *testing.T) {
			packet := unhex(t, s.Packet)
			h, body, err := DecodePacket(packet, []byte(s.Key))
			require.NoError(t, err)
			require.Equal(t, Header{s.Version, h.Type, s.Sequence, s.Flags, s.SessionID}, h)
			require.Equal(t, s.Clear, hex.EncodeToString(body))
			_, again, err := recode(h, body)
			require.NoError(t, err)
			require.Equal(t, body, again)
			require.Equal(t, packet, AppendPacket(nil, h, again, []byte(s.Key)))
		})
	}
}

func TestIndependentPacketsHaveTheFieldsTheyClaim(t *testing.T) {
	t.Parallel()
	checked := 0
	for _, s := range samples(t) {
		var f struct {
			User, Port, Data string
			RemAddr          string `json:"rem_addr"`
			Status           *int
			ServerMsg        string `json:"server_msg"`
			UserMsg          string `json:"user_msg"`
			Args             []string
			Action           int
			AcctFlags        byte `json:"acct_flags"`
		}
		require.NoError(t, json.Unmarshal(s.Fields, &f))
		h, body, err := DecodePacket(unhex(t, s.Packet), []byte(s.Key))
		require.NoError(t, err)
		v, _, err := recode(h, body)
		require.NoError(t, err)
		switch v := v.(type) {
		case AuthenStart:
			require.Equal(t, []any{f.User, f.Port, f.RemAddr, Action(f.Action)},
				[]any{v.User, v.Port, v.RemoteAddress, v.Action}, s.Name)
			require.Equal(t, f.Data, hex.EncodeToString([]byte(v.Data)), s.Name)
		case AuthenReply:
			require.Equal(t, []any{*f.Status, f.ServerMsg, f.Data}, []any{int(v.Status), v.Message, v.Data}, s.Name)
		case AuthenContinue:
			require.Equal(t, []any{f.UserMsg, f.Data}, []any{v.Message, v.Data}, s.Name)
		case AuthorRequest:
			require.Equal(t, []any{f.User, f.Port, f.RemAddr, f.Args}, []any{v.User, v.Port, v.RemoteAddress, v.Args},
				s.Name)
		case AuthorResponse:
			require.Equal(t, []any{*f.Status, f.ServerMsg, f.Data}, []any{int(v.Status), v.Message, v.Data}, s.Name)
			require.ElementsMatch(t, f.Args, v.Args, s.Name)
		case AcctRequest:
			require.Equal(t, []any{f.AcctFlags, f.User, f.Args}, []any{v.Flags, v.User, v.Args}, s.Name)
		case AcctReply:
			require.Equal(t, []any{*f.Status, f.ServerMsg, f.Data}, []any{int(v.Status), v.Message, v.Data}, s.Name)
		}
		checked++
	}
	require.Positive(t, checked)
}

func TestBodiesUnderAnotherKeyDoNotAddUp(t *testing.T) {
	t.Parallel()
	bad := 0
	for _, s := range samples(t) {
		h, body, err := DecodePacket(unhex(t, s.Packet), []byte(s.Key+"x"))
		require.NoError(t, err)
		if _, _, err := recode(h, body); err != nil {
			require.ErrorIs(t, err, ErrBody)
			bad++
		}
	}
	require.Equal(t, len(samples(t)), bad)
}

func TestHeadersThatAreNoneAreRefused(t *testing.T) {
	t.Parallel()
	good := []byte{0xc0, 1, 1, 0, 1, 2, 3, 4, 0, 0, 0, 0}
	for name, change := range map[string]func([]byte){
		"major version": func(b []byte) { b[0] = 0x16 },
		"minor version": func(b []byte) { b[0] = 0xc2 },
		"type":          func(b []byte) { b[1] = 9 },
		"sequence 0":    func(b []byte) { b[2] = 0 },
		"length":        func(b []byte) { b[9] = 2 },
	} {
		b := bytes.Clone(good)
		change(b)
		_, _, err := ReadPacket(bytes.NewReader(b), []byte("k"))
		require.ErrorIs(t, err, ErrHeader, name)
	}
	clear := bytes.Clone(good)
	clear[3] = FlagUnencrypted
	_, _, err := ReadPacket(bytes.NewReader(clear), []byte("k"))
	require.ErrorIs(t, err, ErrClear)
}

func FuzzBodies(f *testing.F) {
	for _, s := range samples(f) {
		h, body, _ := DecodePacket(unhex(f, s.Packet), []byte(s.Key))
		f.Add(byte(h.Type), h.Sequence, body)
	}
	f.Fuzz(func(t *testing.T, typ, sequence byte, body []byte) {
		h := Header{Type: Type(typ), Sequence: sequence}
		if _, again, err := recode(h, body); err == nil {
			_, twice, err := recode(h, again)
			require.NoError(t, err)
			require.Equal(t, again, twice)
		}
	})
}

func FuzzReadPacket(f *testing.F) {
	for _, s := range samples(f) {
		f.Add(unhex(f, s.Packet))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		h, body, err := ReadPacket(bytes.NewReader(b), []byte("key"))
		if err == nil {
			require.Equal(t, b[:headerSize+len(body)], AppendPacket(nil, h, body, []byte("key")))
		}
	})
}

func TestCHAPOfAnIndependentPacket(t *testing.T) {
	t.Parallel()
	seen := 0
	for _, s := range samples(t) {
		_, password, ok := strings.Cut(s.Name, "CHAP, password ")
		if !ok {
			continue
		}
		_, body, err := DecodePacket(unhex(t, s.Packet), []byte(s.Key))
		require.NoError(t, err)
		start, err := DecodeAuthenStart(body)
		require.NoError(t, err)
		require.True(t, CheckCHAP(start.Data, password))
		require.False(t, CheckCHAP(start.Data, password+"x"))
		n := len(start.Data) - 16
		require.Equal(t, start.Data, CHAPData(start.Data[0], []byte(start.Data[1:n]), password))
		seen++
	}
	require.Positive(t, seen)
	require.False(t, CheckCHAP("short", "x"))
}

func TestMSCHAP2DataFitsItsPassword(t *testing.T) {
	t.Parallel()
	x := mschap.Exchange{User: "ines", AuthenticatorChallenge: [16]byte{1, 2}, PeerChallenge: [16]byte{3, 4}}
	data := MSCHAP2Data(7, x, "right")
	require.Len(t, data, 66)
	require.True(t, CheckMSCHAP2("ines", data, "right"))
	require.False(t, CheckMSCHAP2("ines", data, "wrong"))
	require.False(t, CheckMSCHAP2("other", data, "right"))
	require.False(t, CheckMSCHAP2("ines", data[1:], "right"))
}

// An echo of many sessions on one connection, answered out of order.
func TestManySessionsShareAConnection(t *testing.T) {
	t.Parallel()
	here, there := net.Pipe()
	key := []byte("a-key-for-this-test")
	const most = 20
	served := make(chan struct{})
	go func() {
		defer close(served)
		type packet struct {
			h    Header
			body []byte
		}
		var waiting []packet
		for range most {
			h, body, err := ReadPacket(there, key)
			if err != nil {
				return
			}
			waiting = append(waiting, packet{h, body})
		}
		for _, p := range slices.Backward(waiting) {
			start, _ := DecodeAuthenStart(p.body)
			p.h.Sequence, p.h.Flags = 2, p.h.Flags&FlagSingleConnect
			_, _ = there.Write(AppendPacket(nil, p.h, AuthenReply{Status: AuthenPass, Message: start.User}.Append(nil),
				key))
		}
		_, _, _ = ReadPacket(there, key) // until the end
		_ = there.Close()
	}()
	shared := Share(here, key)
	var wait sync.WaitGroup
	for i := range most {
		wait.Go(func() {
			user := fmt.Sprint("person-", i)
			reply, err := shared.Client().Authenticate(AuthenStart{User: user}, PAP, "x")
			require.NoError(t, err)
			require.Equal(t, user, reply.Message)
		})
	}
	wait.Wait()
	require.True(t, shared.Agreed())
	require.NoError(t, shared.Close())
	_, err := shared.Client().Authorize(AuthorRequest{})
	require.ErrorIs(t, err, ErrEnded)
	<-served
}
