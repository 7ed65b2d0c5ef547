package tacacs

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
)

// kept passes octets through a veil, some at a time, and decodes what comes out.
func kept(t *testing.T, v *Veil, fromClient bool, b []byte, step int) []byte {
	var whole []byte
	for len(b) > 0 {
		n := min(step, len(b))
		whole = append(whole, v.Pass(fromClient, b[:n])...)
		b = b[n:]
	}
	return whole
}

func TestAVeiledConversationTellsNoPasswordAndAllElse(t *testing.T) {
	t.Parallel()
	key := []byte("key of both")
	packet := func(h Header, body []byte) []byte {
		h.Version = 0xc0
		h.SessionID = 9
		h.Type = Authentication
		return AppendPacket(nil, h, body, key)
	}
	body := func(b []byte) []byte {
		_, body, err := DecodePacket(b, key)
		require.NoError(t, err)
		return body
	}
	start := AuthenStart{Action: ActionLogin, Type: ASCII, Port: "tty1", RemoteAddress: "192.0.2.9"}
	for _, step := range []int{1, 7, 1000} {
		v := NewVeil([][]byte{[]byte("an old key"), key})
		b := packet(Header{Sequence: 1}, start.Append(nil))
		require.Equal(t, b, kept(t, v, true, b, step))
		b = packet(Header{Sequence: 2}, AuthenReply{Status: AuthenGetUser, Message: "Name: "}.Append(nil))
		require.Equal(t, b, kept(t, v, false, b, step))
		b = packet(Header{Sequence: 3}, AuthenContinue{Message: "ines.marsh"}.Append(nil))
		require.Equal(t, b, kept(t, v, true, b, step), "a name is no secret")
		b = packet(Header{Sequence: 4},
			AuthenReply{Status: AuthenGetPass, Flags: FlagNoEcho, Message: "Password: "}.Append(nil))
		require.Equal(t, b, kept(t, v, false, b, step))
		b = packet(Header{Sequence: 5}, AuthenContinue{Message: "right", Data: "why"}.Append(nil))
		got, err := DecodeAuthenContinue(body(kept(t, v, true, b, step)))
		require.NoError(t, err)
		require.Equal(t, AuthenContinue{Message: "*****", Data: "why"}, got)
		b = packet(Header{Sequence: 6}, AuthenReply{Status: AuthenGetData, Flags: FlagNoEcho, Message: "Code: "}.Append(
			nil))
		require.Equal(t, b, kept(t, v, false, b, step))
		b = packet(Header{Sequence: 7}, AuthenContinue{Message: "123456"}.Append(nil))
		got, err = DecodeAuthenContinue(body(kept(t, v, true, b, step)))
		require.NoError(t, err)
		require.Equal(t, "******", got.Message)
	}
}

func TestPacketsThatOthersMadeAreVeiled(t *testing.T) {
	t.Parallel()
	passwords := 0
	for _, s := range samples(t) {
		b := unhex(t, s.Packet)
		h, body, err := DecodePacket(b, []byte(s.Key))
		if err != nil {
			require.Equal(t, b, NewVeil([][]byte{[]byte(s.Key)}).Pass(h.Sequence%2 == 1, b), s.Name)
			continue
		}
		veiled := NewVeil([][]byte{[]byte(s.Key)}).Pass(h.Sequence%2 == 1, b)
		require.Len(t, veiled, len(b))
		_, now, err := DecodePacket(veiled, []byte(s.Key))
		require.NoError(t, err)
		if h.Type == Authentication && h.Sequence == 1 {
			start, err := DecodeAuthenStart(body)
			require.NoError(t, err)
			got, err := DecodeAuthenStart(now)
			require.NoError(t, err)
			switch start.Type {
			case PAP:
				require.Equal(t, string(bytes.Repeat([]byte("*"), len(start.Data))), got.Data)
				passwords++
			case CHAP:
				n := len(start.Data) - 16
				require.Equal(t, start.Data[:n]+string(make([]byte, 16)), got.Data)
				passwords++
			case MSCHAPv2:
				require.Equal(t, start.Data[:17]+string(make([]byte, 49)), got.Data)
				passwords++
			}
			start.Data, got.Data = "", ""
			require.Equal(t, start, got)
		} else if h.Type != Authentication || h.Sequence%2 == 0 {
			require.Equal(t, body, now, s.Name)
		}
		require.Equal(t, b, NewVeil([][]byte{[]byte("a key of somebody else")}).Pass(h.Sequence%2 == 1, b),
			"what no key opens stays: it shows that keys differ")
	}
	require.GreaterOrEqual(t, passwords, 2)
}

func TestOctetsThatAreNoTACACSPassAtOnce(t *testing.T) {
	t.Parallel()
	v := NewVeil([][]byte{[]byte("key")})
	require.Empty(t, v.Pass(true, []byte("GET / H")))
	require.Equal(t, "GET / HTTP/1.1\r\n\r\n", string(v.Pass(true, []byte("TTP/1.1\r\n\r\n"))))
	require.Equal(t, "more", string(v.Pass(true, []byte("more"))))
	require.Empty(t, v.Pass(false, []byte("x")), "the other direction is looked at for itself")
}

func TestASecretIsVeiledThoughItsQuestionIsForgotten(t *testing.T) {
	t.Parallel()
	key := []byte("key")
	v := NewVeil([][]byte{key})
	h := Header{Version: 0xc0, Type: Authentication, Sequence: 5, SessionID: 3}
	b := v.Pass(true, AppendPacket(nil, h, AuthenContinue{Message: "right"}.Append(nil), key))
	_, body, err := DecodePacket(b, key)
	require.NoError(t, err)
	require.NotContains(t, string(body), "right")
	for id := range uint32(3000) {
		h.SessionID, h.Sequence = id, 2
		v.Pass(false, AppendPacket(nil, h, AuthenReply{Status: AuthenGetPass}.Append(nil), key))
		h.Sequence = 1
		v.Pass(true, AppendPacket(nil, h, AuthenStart{Type: ASCII}.Append(nil), key))
	}
	require.LessOrEqual(t, len(v.asked), 1025)
}
