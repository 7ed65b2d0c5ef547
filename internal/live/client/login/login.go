// Package login logs in to a device as an ordinary client would, over SSH or
// at a console, tries commands, and says what was seen.
package login

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Attempt is one login to make.
type Attempt struct {
	Access   string // ssh or console
	Address  string // address:port
	Person   string
	Password site.Secret
	Commands []string
	HostKey  ssh.PublicKey // for ssh; nil is an error of the caller
	// Trusted are the authorities of the device's certificate, for the web and
	// the API, and ServerName the name that it must bear.
	Trusted    *x509.CertPool
	ServerName string
	Patience   time.Duration  // for the login and for each command; default 2 minutes
	Prompt     *regexp.Regexp // what a prompt looks like; its first group, if any, is the level
	Refusal    *regexp.Regexp // what the output of a refused command begins with
	// Raise asks for a higher level once in, before the commands; nil: not. At web
	// pages, an API and NETCONF there is no such question.
	Raise *Raise
}

// Raise is an elevation to try.
type Raise struct {
	Level    int
	Password site.Secret
	Command  string // what asks for it; default: that of the stand-ins
}

// Default patterns: those of the stand-ins.
var (
	standInPrompt  = regexp.MustCompile(`\[\S+ level (\d+)\] $`)
	standInRefusal = regexp.MustCompile(`^refused: `)
)

// Command is one command as it went.
type Command struct {
	Command string       `json:"command"`
	Result  walk.Outcome `json:"result"` // allowed | refused
	Output  string       `json:"output"`
}

// Seen is the result of an attempt.
type Seen struct {
	Outcome  walk.Outcome
	Level    int
	Raised   int           // the level after an elevation that was tried; else Level
	Took     time.Duration // from the password to the answer
	Commands []Command
	Detail   string // why there was no answer
}

// Has reports whether a way in can be tried from here.
func Has(access string) bool {
	return slices.Contains([]string{site.SSH, site.Console, site.Telnet, site.Web, site.API, site.NETCONF}, access)
}

// Do makes an attempt. Its error is a call that cannot be made at all; what
// the device answers is in Seen.
func Do(ctx context.Context, a Attempt) (Seen, error) {
	if a.Patience == 0 {
		a.Patience = 2 * time.Minute
	}
	if a.Prompt == nil {
		a.Prompt = standInPrompt
	}
	if a.Refusal == nil {
		a.Refusal = standInRefusal
	}
	seen, err := a.do(ctx)
	if !site.HasShell(a.Access) || a.Raise == nil {
		seen.Raised = seen.Level
	}
	return seen, err
}

func (a Attempt) do(ctx context.Context) (Seen, error) {
	switch a.Access {
	case site.Web:
		return a.web(ctx)
	case site.API:
		return a.api(ctx)
	}
	conn, err := (&net.Dialer{Timeout: a.Patience}).DialContext(ctx, "tcp", a.Address)
	if err != nil {
		return Seen{Outcome: walk.OutcomeNoAnswer, Detail: fmt.Sprintf("%s cannot be reached: %v", a.Address, err)}, nil
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	defer func() { _ = conn.Close() }()
	var seen Seen
	switch a.Access {
	case site.Console:
		seen, err = a.plain(conn, "the console")
	case site.Telnet:
		seen, err = a.plain(&telnet{Conn: conn}, "the device")
	default:
		seen, err = a.ssh(conn)
	}
	if ctx.Err() != nil {
		return seen, ctx.Err()
	}
	return seen, err
}

// ErrHostKey is a device that shows another SSH key than expected.
var ErrHostKey = errors.New("the device shows another SSH host key than expected")

func (a Attempt) ssh(conn net.Conn) (Seen, error) {
	if a.HostKey == nil {
		return Seen{}, errors.New("no SSH host key to compare with")
	}
	var asked time.Time
	config := &ssh.ClientConfig{
		User:              a.Person,
		HostKeyAlgorithms: []string{a.HostKey.Type()},
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if key.Type() != a.HostKey.Type() || string(key.Marshal()) != string(a.HostKey.Marshal()) {
				return ErrHostKey
			}
			return nil
		},
		Auth: []ssh.AuthMethod{ssh.PasswordCallback(func() (string, error) {
			asked = time.Now()
			return a.Password.Reveal(), nil
		})},
	}
	_ = conn.SetDeadline(time.Now().Add(a.Patience))
	client, channels, requests, err := ssh.NewClientConn(conn, a.Address, config)
	took := time.Since(asked)
	switch {
	case errors.Is(err, ErrHostKey):
		return Seen{}, fmt.Errorf("%s: %w; if the device was renewed on purpose, give its new key", a.Address, ErrHostKey)
	case err != nil && asked.IsZero():
		return Seen{Outcome: walk.OutcomeNoAnswer, Detail: "the device hung up before it asked for a password"}, nil
	case err != nil && strings.Contains(err.Error(), "unable to authenticate"):
		return Seen{Outcome: walk.OutcomeRefused, Took: took}, nil
	case err != nil:
		return Seen{Outcome: walk.OutcomeRefused, Took: took, Detail: "the device hung up while the password was checked"},
			nil
	}
	_ = conn.SetDeadline(time.Time{})
	c := ssh.NewClient(client, channels, requests)
	defer func() { _ = c.Close() }()
	if a.Access == site.NETCONF {
		return a.netconf(c, Seen{Outcome: walk.OutcomeIn, Took: took})
	}
	session, err := c.NewSession()
	if err != nil {
		return Seen{Outcome: walk.OutcomeIn, Took: took, Detail: "the device gives no session"}, nil
	}
	in, err := session.StdinPipe()
	if err != nil {
		return Seen{}, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return Seen{}, err
	}
	if err := session.Shell(); err != nil {
		return Seen{Outcome: walk.OutcomeIn, Took: took, Detail: "the device gives no shell"}, nil
	}
	talk := &talk{Attempt: a, conn: conn, in: in, out: out}
	return talk.commands(Seen{Outcome: walk.OutcomeIn, Took: took})
}

// talk is a conversation with a shell.
type talk struct {
	Attempt
	conn    net.Conn
	in      io.Writer
	out     io.Reader
	pending string // read and not yet used
}

func (t *talk) send(line string) { _, _ = io.WriteString(t.in, line+"\n") }

// mostOutput bounds what one command may print.
const mostOutput = 1 << 20

// until reads up to a text that ends like the pattern.
func (t *talk) until(end *regexp.Regexp) (string, error) {
	text := t.pending
	t.pending = ""
	buffer := make([]byte, 4096)
	for {
		if end.MatchString(text) {
			return text, nil
		}
		if len(text) > mostOutput {
			return text, errors.New("the device prints without end")
		}
		_ = t.conn.SetReadDeadline(time.Now().Add(t.Patience))
		n, err := t.out.Read(buffer)
		text += strings.ReplaceAll(string(buffer[:n]), "\r", "")
		if err != nil && !end.MatchString(text) {
			if errors.Is(err, os.ErrDeadlineExceeded) {
				return text, errors.New("no prompt came")
			}
			return text, err
		}
	}
}

// commands reads the first prompt, with the level, and tries the commands.
func (t *talk) commands(seen Seen) (Seen, error) {
	text, err := t.until(t.Prompt)
	if err != nil {
		seen.Detail = "no prompt was recognised: " + err.Error()
		return seen, nil
	}
	if m := t.Prompt.FindStringSubmatch(text); len(m) > 1 {
		seen.Level, _ = strconv.Atoi(m[1])
	}
	seen.Raised = seen.Level
	if t.Raise != nil {
		if seen, err = t.raise(seen); err != nil {
			return seen, nil
		}
	}
	for _, c := range t.Commands {
		t.send(c)
		text, err := t.until(t.Prompt)
		if err != nil {
			seen.Detail = fmt.Sprintf("the session ended during %q: %v", c, err)
			return seen, nil
		}
		output := strings.TrimSpace(t.Prompt.ReplaceAllString(text, ""))
		output = strings.TrimSpace(strings.TrimPrefix(output, c)) // some devices echo what is typed
		seen.Commands = append(seen.Commands, Command{Command: c, Result: t.judge(output), Output: output})
	}
	t.send("leave")
	_, _ = io.Copy(io.Discard, io.LimitReader(t.out, mostOutput)) // until the device has closed the session
	return seen, nil
}

// asksPassword is how devices ask for the password of an elevation.
var asksPassword = regexp.MustCompile(`(?i)pass(word|code|phrase)[^\n]*: ?$|secret[^\n]*: ?$`)

// raise asks for a higher level. Its error ends the talk; what it is stands in
// what was seen.
func (t *talk) raise(seen Seen) (Seen, error) {
	command := t.Raise.Command
	if command == "" {
		command = "raise " + strconv.Itoa(t.Raise.Level)
	}
	either := regexp.MustCompile("(?:" + t.Prompt.String() + ")|(?:" + asksPassword.String() + ")")
	t.send(command)
	text, err := t.until(either)
	if err == nil && asksPassword.MatchString(text) {
		t.send(t.Raise.Password.Reveal())
		text, err = t.until(t.Prompt)
	}
	if err != nil {
		seen.Detail = fmt.Sprintf("the session ended during %q: %v", command, err)
		return seen, err
	}
	seen.Raised = UnknownLevel
	if m := t.Prompt.FindStringSubmatch(text); len(m) > 1 {
		seen.Raised, _ = strconv.Atoi(m[1])
	}
	return seen, nil
}
