package login

import (
	"context"
	"errors"
	"fmt"
	"net"
	"regexp"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
	"mellowgate/internal/routine"
)

// Line is the open command line of a device of a make: lines are typed at it, and what it
// says is read up to its next prompt. It is not safe for concurrent use.
type Line struct {
	talk  *talk
	words *phrase.Talk
	host  string
	close []func()
	shows *phrase.Prompt
}

// ErrRefused is a login that was refused.
var ErrRefused = errors.New("the login was refused")

// Refused is a line that a device did not take.
type Refused struct {
	Line string // what was typed, without its secrets
	Says string
}

func (r Refused) Error() string {
	return fmt.Sprintf("the device refused %q: it says %q", r.Line, r.Says)
}

// Open logs in over SSH, telnet or at a console, and waits for the first prompt of the make.
// host is the name of the device, which its prompts show. The error is ErrRefused where the
// device lets nobody in by this name and password.
func Open(ctx context.Context, a Attempt, words *phrase.Talk, host string) (*Line, error) {
	if a.Patience == 0 {
		a.Patience = 30 * time.Second
	}
	if a.Dial == nil {
		a.Dial = Through(nil, a.Patience)
	}
	a.Prompt = promptsOf(words, host)
	conn, err := a.Dial(ctx, a.Address)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be reached: %w", a.Address, err)
	}
	l := &Line{words: words, host: host}
	stop := routine.OnDone(ctx, func() { _ = conn.Close() })
	l.close = append(l.close, func() { stop(); _ = conn.Close() })
	if a.Access == site.SSH {
		err = l.overSSH(a, conn)
	} else {
		err = l.plain(a, conn)
	}
	if err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// overSSH opens a shell. It asks for no terminal: nothing is echoed, and no line is broken.
func (l *Line) overSSH(a Attempt, conn net.Conn) error {
	proof := &proving{Attempt: a}
	late := routine.AfterFunc(a.Patience, func() { _ = conn.Close() })
	defer late.Stop()
	client, channels, requests, err := ssh.NewClientConn(conn, a.Address, &ssh.ClientConfig{User: a.Person,
		HostKeyAlgorithms: algorithmsOf(a.HostKey), Auth: proof.methods(), HostKeyCallback: ssh.FixedHostKey(a.HostKey)})
	switch {
	case err != nil && strings.Contains(err.Error(), "unable to authenticate"):
		return ErrRefused
	case err != nil:
		return fmt.Errorf("no login was possible at %s: %w", a.Address, err)
	}
	c := ssh.NewClient(client, channels, requests)
	session, err := c.NewSession()
	if err != nil {
		return fmt.Errorf("the device gives no session: %w", err)
	}
	in, err1 := session.StdinPipe()
	out, err2 := session.StdoutPipe()
	if err := errors.Join(err1, err2, session.Shell()); err != nil {
		return fmt.Errorf("the device gives no shell: %w", err)
	}
	l.talk = newTalk(a, conn, in, out)
	return l.begin("")
}

// plain logs in where name and password are asked for in plain text.
func (l *Line) plain(a Attempt, conn net.Conn) error {
	through := conn
	if a.Access == site.Telnet {
		through = &telnet{Conn: conn}
	}
	l.talk = newTalk(a, through, through, through)
	if _, err := l.talk.asks(namePrompt.MatchString); err != nil {
		return fmt.Errorf("it asked for no name: %w", err)
	}
	l.talk.send(a.Person)
	if _, err := l.talk.read(passwordPrompt.MatchString, a.Patience, 0); err != nil {
		return fmt.Errorf("it asked for no password: %w", err)
	}
	l.talk.send(a.Password.Reveal())
	refused := regexp.MustCompile(plainRefusal)
	text, err := l.talk.until(regexp.MustCompile(plainRefusal + `|` + a.Prompt.String()))
	switch {
	case refused.MatchString(text), errors.Is(err, errClosed):
		return ErrRefused
	case err != nil:
		return err
	}
	return l.begin(text)
}

// begin waits for the first prompt.
func (l *Line) begin(text string) error {
	l.talk.pending = text
	text, err := l.talk.until(l.talk.Prompt)
	if err != nil {
		return fmt.Errorf("no prompt of the make came (%w): the phrasebook's prompts are those of the command line, with "+
			"<host> for %s; it says %q", err, l.host, show(lastLine(text)))
	}
	l.shows = l.words.At(text, l.host)
	return nil
}

// Configuring reports whether the device is where it is configured.
func (l *Line) Configuring() bool { return l.shows != nil && l.shows.Configuring }

// Do types a line, answers what the device asks and presses on where its page is full, and
// returns what it says. shown is the line without its secrets. The error is Refused where
// the device did not take the line.
func (l *Line) Do(line, shown string) (says []string, err error) {
	l.talk.send(line)
	said := ""
	for {
		text, err := l.talk.read(func(text string) bool {
			last := strings.TrimRight(lastLine(text), " ")
			_, asks := l.words.Answer(last)
			return l.talk.Prompt.MatchString(text) || asks || l.words.Page != "" && strings.HasSuffix(last, l.words.Page)
		}, l.talk.Patience, 0)
		if err != nil {
			return nil, fmt.Errorf("after %q: %w", shown, err)
		}
		last := strings.TrimRight(lastLine(text), " ")
		answer, asks := l.words.Answer(last)
		switch {
		case l.talk.Prompt.MatchString(text):
			said += text[:len(text)-len(lastLine(text))]
			l.shows = l.words.At(text, l.host)
			return l.told(said, line, shown)
		case asks:
			said += text + "\n"
			l.talk.send(answer)
		default:
			said += strings.TrimSuffix(text, lastLine(text))
			if _, err := l.talk.in.Write([]byte(l.words.Press)); err != nil {
				return nil, fmt.Errorf("after %q: %w", shown, errClosed)
			}
			l.talk.pending = ""
		}
	}
}

// told parts what the device said into lines, and finds a refusal in it.
func (l *Line) told(said, line, shown string) (says []string, err error) {
	for i, one := range strings.Split(strings.TrimRight(said, "\n"), "\n") {
		if i == 0 && strings.TrimSpace(one) == strings.TrimSpace(line) { // an echo
			continue
		}
		if strings.TrimSpace(one) == "" && strings.TrimSpace(said) == "" {
			continue
		}
		if l.words.Refuses(one) {
			return nil, Refused{Line: shown, Says: show(strings.ReplaceAll(one, line, shown))}
		}
		says = append(says, one)
	}
	return says, nil
}

// Close ends the connection.
func (l *Line) Close() {
	for _, f := range l.close {
		f()
	}
	if l.talk != nil {
		l.talk.end()
	}
}

// promptsOf returns what the prompts of a make look like at the end of a text.
func promptsOf(words *phrase.Talk, host string) *regexp.Regexp {
	var prompts []string
	for _, p := range words.Prompts {
		prompts = append(prompts, regexp.QuoteMeta(strings.TrimSpace(strings.ReplaceAll(p.Shows, "<host>", host))))
	}
	return regexp.MustCompile(`(?m)^[ \t]*(?:` + strings.Join(prompts, "|") + `)[ \t]*\z`)
}
