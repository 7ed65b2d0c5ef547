package login

import (
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/dialogue"
	"mellowgate/internal/routine"
)

// ErrHostKey is a device that shows another SSH key than expected.
var ErrHostKey = errors.New("the device shows another SSH host key than expected")

// overSSH logs in over SSH and, but for NETCONF, opens a shell and waits for where that arrives.
func (s *session) overSSH(conn net.Conn) arrival {
	if s.HostKey == nil {
		return arrival{err: errors.New("no SSH host key to compare with")}
	}
	proof := &proving{Attempt: s.Attempt}
	config := &ssh.ClientConfig{
		User:              s.Person,
		HostKeyAlgorithms: algorithmsOf(s.HostKey),
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if key.Type() != s.HostKey.Type() || string(key.Marshal()) != string(s.HostKey.Marshal()) {
				return ErrHostKey
			}
			return nil
		},
		Auth: proof.methods(),
	}
	late := routine.AfterFunc(s.Patience, func() { _ = conn.Close() }) // a connection through a host has no deadline
	defer late.Stop()
	client, channels, requests, err := ssh.NewClientConn(conn, s.Address, config)
	if err != nil {
		return s.notOverSSH(err, proof)
	}
	late.Stop()
	s.client = ssh.NewClient(client, channels, requests)
	s.closers = append(s.closers, func() { _ = s.client.Close() })
	took := proof.took()
	if s.Access == site.NETCONF {
		return arrival{outcome: walk.OutcomeIn, took: took}
	}
	return s.shell(took)
}

// notOverSSH says how a login over SSH ended that did not succeed.
func (s *session) notOverSSH(err error, proof *proving) arrival {
	took := proof.took()
	switch {
	case errors.Is(err, ErrHostKey):
		return arrival{
			err: fmt.Errorf("%s: %w; if the device was renewed on purpose, give its new key", s.Address, ErrHostKey),
		}
	case proof.demand != "":
		return arrival{outcome: walk.OutcomeRefused, took: took, detail: proof.demand}
	case proof.asked.IsZero() && s.Real && !errors.Is(err, io.EOF):
		return arrival{outcome: walk.OutcomeNoAnswer, detail: "no login was possible: " + err.Error()}
	case proof.asked.IsZero():
		return arrival{outcome: walk.OutcomeNoAnswer, detail: "the device hung up before it asked for a password"}
	case strings.Contains(err.Error(), "unable to authenticate"):
		return arrival{outcome: walk.OutcomeRefused, took: took}
	}
	return arrival{
		outcome: walk.OutcomeRefused,
		took:    took,
		detail:  "the device hung up while the password was checked",
	}
}

// shell opens a shell, and waits for its first prompt.
func (s *session) shell(took time.Duration) arrival {
	unsure := arrival{outcome: walk.OutcomeUnsure, took: took}
	shell, err := s.client.NewSession()
	if err != nil {
		unsure.detail = "the device gives no session"
		return unsure
	}
	in, err1 := shell.StdinPipe()
	out, err2 := shell.StdoutPipe()
	if err := errors.Join(err1, err2); err != nil {
		return arrival{err: err}
	}
	if s.Real { // many shells prompt on a terminal only; without an echo, of a few columns that break no line
		_ = shell.RequestPty("vt100", 50, 250, ssh.TerminalModes{ssh.ECHO: 0})
	}
	if err := shell.Shell(); err != nil {
		unsure.detail = "the device gives no shell"
		return unsure
	}
	s.talk = dialogue.New(s.conn, in, out)
	a := s.arrive("")
	a.took = took // the password was checked before
	if a.closed || a.outcome == walk.OutcomeNoAnswer {
		why := "no prompt came"
		if a.closed {
			why = "the device let the person in and closed the session before any prompt"
		}
		a.outcome, a.detail = walk.OutcomeUnsure, why+s.saying(a.line)
	}
	return a
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

// took returns how long ago it was asked for; 0 where it never was.
func (p *proving) took() time.Duration {
	if p.asked.IsZero() {
		return 0
	}
	return time.Since(p.asked)
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
					p.demand = fmt.Sprintf(
						"the device asks %q besides, which is not answered here",
						strings.TrimSpace(q),
					)
					return nil, errors.New(p.demand)
				}
				answers[i] = p.Password.Reveal()
				given = true
				p.asked = time.Now()
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
