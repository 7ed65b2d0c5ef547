package login

import (
	"errors"
	"fmt"
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
func (a Attempt) plain(conn net.Conn, what string) Seen {
	t := newTalk(a, conn, conn, conn)
	defer t.end()
	if text, err := t.asks(namePrompt.MatchString); err != nil {
		return Seen{Outcome: walk.OutcomeNoAnswer, Detail: what + " asked for no name" + saying(a.Real, text)}
	}
	t.send(a.Person)
	if text, err := t.read(passwordPrompt.MatchString, a.Patience, 0); err != nil {
		return Seen{Outcome: walk.OutcomeNoAnswer, Detail: what + " asked for no password" + saying(a.Real, text)}
	}
	began := time.Now()
	t.send(a.Password.Reveal())
	if a.Real {
		return t.verdict(began, what)
	}
	refused := regexp.MustCompile(plainRefusal)
	text, err := t.until(regexp.MustCompile(plainRefusal + `|` + a.Prompt.String()))
	took := time.Since(began)
	switch {
	case err != nil:
		return Seen{Outcome: walk.OutcomeRefused, Took: took, Detail: what + " hung up while the password was checked"}
	case refused.MatchString(text):
		return Seen{Outcome: walk.OutcomeRefused, Took: took}
	}
	t.pending = text
	seen, _ := t.commands(Seen{Outcome: walk.OutcomeIn, Took: took})
	return seen
}

// never takes no text: what is read then ends with a pause.
func never(string) bool { return false }

// asks waits for a question. A console, and some lines, say nothing before Enter is
// pressed.
func (t *talk) asks(question func(string) bool) (text string, err error) {
	if !t.Real {
		return t.read(question, t.Patience, 0)
	}
	for n := range 3 {
		if text, err = t.settle(never, unasks); err != nil || question(text) {
			return text, err
		}
		if n < 2 {
			t.send("")
		}
	}
	more, err := t.read(question, t.Patience, 0)
	return text + more, err
}

func saying(real bool, text string) string {
	if text = strings.TrimSpace(text); !real || text == "" {
		return ""
	}
	return fmt.Sprintf("; it says %q", show(text))
}

// verdict finds out what a real device says to a password: who is asked again, or hung up
// on, is refused; who is not is in. A banner may have any words in it: what counts is how
// it ends.
func (t *talk) verdict(began time.Time, what string) Seen {
	text, err := "", error(nil)
	for {
		var more string
		more, err = t.settle(func(more string) bool { return t.Prompt != nil && t.Prompt.MatchString(text+more) },
			t.Patience-time.Since(began))
		text += more
		line := lastLine(text)
		took := t.at.Sub(began)
		switch {
		case demandsChange.MatchString(line):
			return Seen{Outcome: walk.OutcomeRefused, Took: took, Detail: demandsText}
		case t.Prompt != nil && t.Prompt.MatchString(text):
		case namePrompt.MatchString(line), passwordPrompt.MatchString(line):
			return Seen{Outcome: walk.OutcomeRefused, Took: took}
		case errors.Is(err, errClosed):
			return Seen{Outcome: walk.OutcomeRefused, Took: time.Since(began),
				Detail: what + " hung up while the password was checked" + saying(true, text)}
		case err != nil || time.Since(began) > t.Patience:
			return Seen{Outcome: walk.OutcomeNoAnswer, Took: time.Since(began),
				Detail: what + " came to no answer" + saying(true, text)}
		case strings.TrimSpace(line) == "": // it still asks, or is about to ask again
			continue
		}
		t.pending = text
		seen, _ := t.commands(Seen{Outcome: walk.OutcomeIn, Level: UnknownLevel, Raised: UnknownLevel, Took: took})
		return seen
	}
}
