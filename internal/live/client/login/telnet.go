package login

import (
	"io"
	"net"
	"strings"
)

// Commands and options of telnet, RFC 854.
const (
	telnetSE   = 240
	telnetSB   = 250
	telnetWill = 251
	telnetDo   = 253
	telnetDont = 254
	telnetIAC  = 255
)

// telnet is the text of a telnet connection: it lets the device echo, and
// refuses every other option.
type telnet struct {
	net.Conn
	pending []byte // a command that has not come whole
}

// Read returns text.
func (t *telnet) Read(b []byte) (int, error) {
	buffer := make([]byte, len(b))
	for {
		n, err := t.Conn.Read(buffer)
		text := t.text(append(t.pending, buffer[:n]...))
		if len(text) > 0 || err != nil {
			return copy(b, text), err
		}
	}
}

// text takes the commands out of what came, and answers them.
func (t *telnet) text(in []byte) []byte {
	var out []byte
	t.pending = nil
	for i := 0; i < len(in); {
		if in[i] != telnetIAC {
			if in[i] != 0 { // CR NUL is a return
				out = append(out, in[i])
			}
			i++
			continue
		}
		rest := in[i:]
		switch {
		case len(rest) < 2, rest[1] >= telnetWill && rest[1] <= telnetDont && len(rest) < 3:
			t.pending = append([]byte(nil), rest...)
			return out
		case rest[1] == telnetIAC:
			out = append(out, telnetIAC)
			i += 2
		case rest[1] == telnetSB:
			end := strings.Index(string(rest), string([]byte{telnetIAC, telnetSE}))
			if end < 0 {
				if len(rest) < 4096 {
					t.pending = append([]byte(nil), rest...)
				}
				return out
			}
			i += end + 2
		case rest[1] >= telnetWill && rest[1] <= telnetDont:
			t.answer(rest[1], rest[2])
			i += 3
		default:
			i += 2
		}
	}
	return out
}

func (t *telnet) answer(command, option byte) {
	const echo, noGoAheads = 1, 3
	switch {
	case command == telnetWill && (option == echo || option == noGoAheads):
		_, _ = t.Conn.Write([]byte{telnetIAC, telnetDo, option})
	case command == telnetWill:
		_, _ = t.Conn.Write([]byte{telnetIAC, telnetDont, option})
	case command == telnetDo:
		_, _ = t.Conn.Write([]byte{telnetIAC, telnetWill + 1, option})
	}
}

// Write sends text; line ends are CR LF.
func (t *telnet) Write(b []byte) (int, error) {
	_, err := io.WriteString(t.Conn, strings.NewReplacer("\n", "\r\n", "\xff", "\xff\xff").Replace(string(b)))
	return len(b), err
}
