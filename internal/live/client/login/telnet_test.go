package login

import (
	"io"
	"net"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/phrase/talk"
)

// heard is a connection that says what it says in pieces of a size, and keeps what is answered.
type heard struct {
	net.Conn
	io.Reader
	answered []byte
}

func (h *heard) Read(b []byte) (int, error) { return h.Reader.Read(b) }
func (h *heard) Write(b []byte) (int, error) {
	h.answered = append(h.answered, b...)
	return len(b), nil
}

type pieces struct {
	rest string
	size int
}

func (t *pieces) Read(b []byte) (int, error) {
	if t.rest == "" {
		return 0, io.EOF
	}
	n := copy(b, t.rest[:min(t.size, len(t.rest))])
	t.rest = t.rest[n:]
	return n, nil
}

// Wherever the text is cut into pieces, commands are taken out and answered (RFC 854), and the text stays.
func TestTelnetCommandsAreAnsweredAndNoText(t *testing.T) {
	t.Parallel()
	for says, want := range map[string][2]string{
		"plain text":                         {"plain text", ""},
		"a\x00b\xff\xffc":                    {"ab\xffc", ""},
		"\xff\xfb\x01\xff\xfb\x03user: ":     {"user: ", "\xff\xfd\x01\xff\xfd\x03"},
		"\xff\xfb\x18user: ":                 {"user: ", "\xff\xfe\x18"},
		"\xff\xfd\x18user: ":                 {"user: ", "\xff\xfc\x18"},
		"\xff\xfc\x01\xff\xfe\x01user: ":     {"user: ", ""},
		"\xff\xfa\x18\x01a sub\xff\xf0user:": {"user:", ""},
		"a\xff\xf1b":                         {"ab", ""},
		"a\xff\xfa\x18 without an end":       {"a", ""},
		"a\xff":                              {"a", ""},
	} {
		for size := 1; size <= len(says); size++ {
			conn := &heard{Reader: &pieces{rest: says, size: size}}
			came, err := io.ReadAll(&telnet{Conn: conn})
			require.NoError(t, err)
			require.Equal(t, want, [2]string{string(came), string(conn.answered)}, "%q in pieces of %d", says, size)
		}
	}
	_, err := (&telnet{Conn: &heard{Reader: iotest.ErrReader(io.ErrClosedPipe)}}).Read(make([]byte, 9))
	require.ErrorIs(t, err, io.ErrClosedPipe)
}

func TestWhatIsTypedOverTelnetHasItsLineEnds(t *testing.T) {
	t.Parallel()
	conn := &heard{}
	n, err := (&telnet{Conn: conn}).Write([]byte("ines\n\xff\n"))
	require.NoError(t, err)
	require.Equal(t, 7, n)
	require.Equal(t, "ines\r\n\xff\xff\r\n", string(conn.answered))
}

// The prompts of a make are told from other lines, and show the level where they have one.
func TestAPromptIsToldByTheWordsOfTheMake(t *testing.T) {
	t.Parallel()
	p := prompt{shows: promptsOf(&talk.Talk{Prompts: []talk.Prompt{{Shows: "<host>>"}, {Shows: "[<host>]# "}}}, "sw.1")}
	for line, is := range map[string]bool{"sw.1>": true, " [sw.1]# ": true, "sw-1>": false, "at sw.1>": false,
		"": false} {
		require.Equal(t, is, p.is(line), line)
		require.Equal(t, UnknownLevel, p.level(line))
	}
	require.False(t, prompt{}.is("sw> "))
	require.Equal(t, 7, prompt{shows: standInPrompt}.level("[sw level 7] "))
	require.Equal(t, UnknownLevel, prompt{shows: standInPrompt}.level("[sw level 99999999999999999999] "))
}
