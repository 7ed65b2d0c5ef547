// Package login logs in to a device as an ordinary client would, over SSH or
// at a console, tries commands, and says what was seen.
package login

import (
	"context"
	"crypto/x509"
	"net"
	"regexp"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/phrase/talk"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// Attempt is one login to make.
type Attempt struct {
	Access   string // the access method: ssh, telnet, console, web, api or netconf
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
	Words *talk.Talk
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
	s, arrived := a.enter(ctx)
	if s != nil {
		defer s.end()
	}
	switch {
	case ctx.Err() != nil:
		return arrived.seen(), ctx.Err()
	case arrived.err != nil:
		return Seen{}, arrived.err
	case arrived.outcome != walk.OutcomeIn:
		return arrived.seen(), nil
	case a.Access == site.NETCONF:
		return a.netconf(s.client, arrived.seen())
	}
	seen := s.commands(arrived)
	return seen, ctx.Err()
}
