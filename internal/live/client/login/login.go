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
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/routine"
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
	// Real is a device that is no stand-in: it gets a terminal, its prompt is learned
	// where Prompt does not say what it looks like, and it is left by closing.
	Real bool
	// Signers are keys to log in with over SSH, in place of the password.
	Signers []ssh.Signer
	// Words are those of the device's make: its prompts, pages and refusals, where Prompt and
	// Refusal do not say them. Host is the name that its prompts show.
	Words *phrase.Talk
	Host  string
	// Dial opens the connection; nil for the usual way.
	Dial func(ctx context.Context, address string) (net.Conn, error)
}

// Raise is an elevation to try.
type Raise struct {
	Level    int
	Password site.Secret
	Command  string // what asks for it; default: that of the stand-ins
}

// Default patterns: those of the stand-ins, and of refusals in the words that are
// common.
var (
	standInPrompt  = regexp.MustCompile(`\[\S+ level (\d+)\] $`)
	standInRefusal = regexp.MustCompile(`^refused: `)
	commonRefusal  = regexp.MustCompile(
		`(?im)^[^\n]*\b(not (authori[sz]ed|permitted|allowed)|(permission|access) denied|` +
			`authori[sz]ation (failed|denied)|(refused|rejected|denied) by)\b`)
)

// Command is one command as it went.
type Command struct {
	Command string       `json:"command"`
	Result  walk.Outcome `json:"result"` // allowed | refused
	Output  string       `json:"output"`
}

// Seen is the result of an attempt.
type Seen struct {
	Outcome walk.Outcome
	Level   int
	Raised  int // the level after an elevation that was tried; else Level
	// PromptChanged tells of an elevation that it changed the prompt, where that does not
	// show the level.
	PromptChanged bool
	Took          time.Duration // from the password to the answer
	Commands      []Command
	Detail        string // why there was no answer
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
	if a.Words != nil && a.Prompt == nil {
		a.Prompt = promptsOf(a.Words, a.Host)
	}
	if a.Prompt == nil && !a.Real {
		a.Prompt = standInPrompt
	}
	switch {
	case a.Refusal != nil:
	case a.Real:
		a.Refusal = commonRefusal
	default:
		a.Refusal = standInRefusal
	}
	if a.Dial == nil {
		a.Dial = Through(nil, a.Patience)
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
	conn, err := a.Dial(ctx, a.Address)
	if err != nil {
		return Seen{Outcome: walk.OutcomeNoAnswer, Detail: fmt.Sprintf("%s cannot be reached: %v", a.Address, err)}, nil
	}
	stop := routine.OnDone(ctx, func() { _ = conn.Close() })
	defer stop()
	defer func() { _ = conn.Close() }()
	var seen Seen
	switch a.Access {
	case site.Console:
		seen = a.plain(conn, "the console")
	case site.Telnet:
		seen = a.plain(&telnet{Conn: conn}, "the device")
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
	proof := &proving{Attempt: a}
	config := &ssh.ClientConfig{
		User:              a.Person,
		HostKeyAlgorithms: algorithmsOf(a.HostKey),
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if key.Type() != a.HostKey.Type() || string(key.Marshal()) != string(a.HostKey.Marshal()) {
				return ErrHostKey
			}
			return nil
		},
		Auth: proof.methods(),
	}
	late := routine.AfterFunc(a.Patience, func() { _ = conn.Close() }) // a connection through a host has no deadline
	defer late.Stop()
	client, channels, requests, err := ssh.NewClientConn(conn, a.Address, config)
	took := time.Since(proof.asked)
	switch {
	case errors.Is(err, ErrHostKey):
		return Seen{}, fmt.Errorf("%s: %w; if the device was renewed on purpose, give its new key", a.Address, ErrHostKey)
	case err != nil && proof.demand != "":
		return Seen{Outcome: walk.OutcomeRefused, Took: took, Detail: proof.demand}, nil
	case err != nil && proof.asked.IsZero() && a.Real && !errors.Is(err, io.EOF):
		return Seen{Outcome: walk.OutcomeNoAnswer, Detail: "no login was possible: " + err.Error()}, nil
	case err != nil && proof.asked.IsZero():
		return Seen{Outcome: walk.OutcomeNoAnswer, Detail: "the device hung up before it asked for a password"}, nil
	case err != nil && strings.Contains(err.Error(), "unable to authenticate"):
		return Seen{Outcome: walk.OutcomeRefused, Took: took}, nil
	case err != nil:
		return Seen{Outcome: walk.OutcomeRefused, Took: took, Detail: "the device hung up while the password was checked"},
			nil
	}
	late.Stop()
	c := ssh.NewClient(client, channels, requests)
	defer func() { _ = c.Close() }()
	if a.Access == site.NETCONF {
		return a.netconf(c, Seen{Outcome: walk.OutcomeIn, Took: took})
	}
	return a.shell(c, conn, Seen{Outcome: walk.OutcomeIn, Level: UnknownLevel, Raised: UnknownLevel, Took: took})
}

// shell opens a shell, and talks with it.
func (a Attempt) shell(c *ssh.Client, conn net.Conn, seen Seen) (Seen, error) {
	session, err := c.NewSession()
	if err != nil {
		seen.Detail = "the device gives no session"
		return seen, nil
	}
	in, err := session.StdinPipe()
	if err != nil {
		return Seen{}, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return Seen{}, err
	}
	if a.Real { // many shells prompt on a terminal only; without an echo, of a few columns that break no line
		_ = session.RequestPty("vt100", 50, 250, ssh.TerminalModes{ssh.ECHO: 0})
	}
	if err := session.Shell(); err != nil {
		seen.Detail = "the device gives no shell"
		return seen, nil
	}
	t := newTalk(a, conn, in, out)
	defer t.end()
	return t.commands(seen)
}

// algorithmsOf returns the algorithms by which a host may prove a key: RSA has newer ones
// than its name (RFC 8332, section 3).
func algorithmsOf(key ssh.PublicKey) []string {
	if key.Type() == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSA}
	}
	return []string{key.Type()}
}

// proving is who proves who logs in, and when it was asked for.
type proving struct {
	Attempt
	asked  time.Time
	demand string // what the device wants besides, and does not get
}

// methods returns the ways to prove it: keys, where there are some; else the password, in
// either of the two ways in which devices ask for one (RFC 4252 and RFC 4256).
func (p *proving) methods() []ssh.AuthMethod {
	if len(p.Signers) > 0 {
		return []ssh.AuthMethod{ssh.PublicKeysCallback(func() ([]ssh.Signer, error) {
			p.asked = time.Now()
			return p.Signers, nil
		})}
	}
	refused := false // by the first of the two ways
	password := ssh.PasswordCallback(func() (string, error) {
		p.asked, refused = time.Now(), true
		return p.Password.Reveal(), nil
	})
	if !p.Real {
		return []ssh.AuthMethod{password}
	}
	given := false
	return []ssh.AuthMethod{password, ssh.KeyboardInteractive(
		func(_, instruction string, questions []string, _ []bool) ([]string, error) {
			answers := make([]string, len(questions))
			for i, q := range questions {
				switch {
				case demandsChange.MatchString(instruction + " " + q):
					p.demand = demandsText
					return nil, errors.New(p.demand)
				case refused && passwordPrompt.MatchString(strings.TrimRight(q, " ")+" "):
					return nil, errRefused // given again, it would count twice for a lock
				case given || !passwordPrompt.MatchString(strings.TrimRight(q, " ")+" "):
					p.demand = fmt.Sprintf("the device asks %q besides, which is not answered here", strings.TrimSpace(q))
					return nil, errors.New(p.demand)
				}
				answers[i], given, p.asked = p.Password.Reveal(), true, time.Now()
			}
			return answers, nil
		})}
}

// errRefused is a password that one of the two ways has refused.
var errRefused = errors.New("ssh: unable to authenticate: the password was refused")

// demandsChange is a device that lets nobody in before the password is changed.
var demandsChange = regexp.MustCompile(
	`(?i)new password|password (has |is )?(expired|must be changed)|change (your|the) password`)

const demandsText = "the device demands a new password first; none was set, so nobody is in"
