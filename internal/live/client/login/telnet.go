package login

import (
	"io"
	"net"
	"regexp"
	"strings"
	"time"

	"mellowgate/internal/core/walk"
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

// NamePrompt and PasswordPrompt are what the questions for name and password
// end like, in whatever words.
var (
	namePrompt     = regexp.MustCompile(`(?i)(name|login|user)[^\n]*: ?$`)
	passwordPrompt = regexp.MustCompile(`(?i)pass[^\n]*: ?$`)
	plainRefusal   = `(?i)(refused|failed|denied|incorrect|invalid)[^\n]*\n`
)

// plain logs in where name and password are asked for in plain text: over
// telnet, and at a console.
func (a Attempt) plain(conn net.Conn, what string) (Seen, error) {
	t := &talk{Attempt: a, conn: conn, in: conn, out: conn}
	if _, err := t.until(namePrompt); err != nil {
		return Seen{Outcome: walk.OutcomeNoAnswer, Detail: what + " asked for no name"}, nil
	}
	t.send(a.Person)
	if _, err := t.until(passwordPrompt); err != nil {
		return Seen{Outcome: walk.OutcomeNoAnswer, Detail: what + " asked for no password"}, nil
	}
	began := time.Now()
	t.send(a.Password.Reveal())
	refused := regexp.MustCompile(plainRefusal)
	text, err := t.until(regexp.MustCompile(plainRefusal + `|` + a.Prompt.String()))
	took := time.Since(began)
	switch {
	case err != nil:
		return Seen{Outcome: walk.OutcomeRefused, Took: took, Detail: what + " hung up while the password was checked"}, nil
	case refused.MatchString(text):
		return Seen{Outcome: walk.OutcomeRefused, Took: took}, nil
	}
	t.pending = text
	return t.commands(Seen{Outcome: walk.OutcomeIn, Took: took})
}
