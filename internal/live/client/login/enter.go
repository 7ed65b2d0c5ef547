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

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/dialogue"
	"mellowgate/internal/routine"
)

// session is an attempt whose connection is open. Who opened it ends it.
type session struct {
	Attempt
	conn    net.Conn
	client  *ssh.Client // over SSH
	talk    *dialogue.Conversation
	prompt  prompt
	late    time.Time // when the login has taken as long as it may
	closers []func()  // in the order in which they were opened
}

// left returns how long the login may still take.
func (s *session) left() time.Duration { return time.Until(s.late) }

// end closes what the session opened, the last first.
func (s *session) end() {
	for i := len(s.closers) - 1; i >= 0; i-- {
		s.closers[i]()
	}
	if s.talk != nil {
		s.talk.Close()
	}
}

// arrival is where a login arrived, and on what line.
type arrival struct {
	outcome walk.Outcome // in: at a prompt, with nothing less for proof
	took    time.Duration
	detail  string
	line    string
	closed  bool  // the device ended the connection
	err     error // of a call that cannot be made at all
}

func (a arrival) seen() Seen {
	seen := Seen{Outcome: a.outcome, Took: a.took, Detail: a.detail}
	if a.outcome == walk.OutcomeIn || a.outcome == walk.OutcomeUnsure {
		seen.Level, seen.Raised = UnknownLevel, UnknownLevel // who is not in has none
	}
	return seen
}

// enter opens the connection and logs in. The session is nil where no connection was made.
func (a Attempt) enter(ctx context.Context) (*session, arrival) {
	conn, err := a.Dial(ctx, a.Address)
	if err != nil {
		return nil, arrival{
			outcome: walk.OutcomeNoAnswer,
			detail:  fmt.Sprintf("%s cannot be reached: %v", a.Address, err),
		}
	}
	stop := routine.OnDone(ctx, func() { _ = conn.Close() })
	s := &session{Attempt: a, conn: conn, prompt: prompt{shows: a.Prompt}, late: time.Now().Add(a.Patience),
		closers: []func(){func() { stop(); _ = conn.Close() }}}
	switch a.Access {
	case site.Console:
		return s, s.inPlainText(conn, "the console")
	case site.Telnet:
		return s, s.inPlainText(&telnet{Conn: conn}, "the device")
	}
	return s, s.overSSH(conn)
}

// What the questions for name and password end like, in whatever words.
var (
	namePrompt     = regexp.MustCompile(`(?i)(name|login|user)[^\n]*: ?$`)
	passwordPrompt = regexp.MustCompile(`(?i)pass[^\n]*: ?$`)
)

// How long a device is quiet when it has said what it says; how long it may take to say the first of it
// unasked; how long a question that nobody here answers stands before it is taken for one: a device may
// write the beginning of a line, and the rest of it when a server has answered.
const (
	quiet  = 300 * time.Millisecond
	unasks = time.Second
	asks   = 3 * time.Second
)

// inPlainText logs in where name and password are asked for in plain text: over telnet, and at a console.
func (s *session) inPlainText(conn net.Conn, what string) arrival {
	s.talk = dialogue.New(conn, conn, conn)
	said, err := s.knock()
	if err != nil || said.By != "name" {
		return arrival{outcome: walk.OutcomeNoAnswer, detail: what + " asked for no name" + s.saying(said.Text)}
	}
	said, err = s.talk.Run(dialogue.Step{Type: s.Person + "\n", Within: s.left(),
		Expect: []dialogue.Expect{{Name: "password", Ends: passwordPrompt.MatchString}}})
	if err != nil {
		return arrival{outcome: walk.OutcomeNoAnswer, detail: what + " asked for no password" + s.saying(said.Text)}
	}
	began := time.Now()
	a := s.arrive(s.Password.Reveal() + "\n")
	switch {
	case a.closed:
		a.outcome, a.detail = walk.OutcomeRefused, what+" hung up while the password was checked"+s.saying(a.line)
		a.took = time.Since(began)
	case a.outcome == walk.OutcomeNoAnswer:
		a.detail = what + " came to no answer" + s.saying(a.line)
	}
	return a
}

// knock waits for the question for the name. A console, and some lines, say nothing before Enter is pressed.
func (s *session) knock() (dialogue.Said, error) {
	step := dialogue.Step{Within: s.left(),
		Expect: []dialogue.Expect{{Name: "name", Ends: namePrompt.MatchString}}}
	if !s.Real {
		return s.talk.Run(step)
	}
	unasked := step
	unasked.First = min(unasks, s.Patience/4)
	unasked.Quiet = quiet
	unasked.Pauses = true
	for range 2 {
		if said, err := s.talk.Run(unasked); err != nil || said.By != "" {
			return said, err
		}
		unasked.Type, unasked.Within = "\n", s.left()
	}
	step.Type, step.Within = "\n", s.left()
	return s.talk.Run(step)
}

// saying quotes what a real device said last.
func (s *session) saying(text string) string {
	if text = strings.TrimSpace(text); !s.Real || text == "" {
		return ""
	}
	return fmt.Sprintf("; it says %q", show(text))
}

// show shortens a text of a device to its end.
func show(text string) string {
	if len(text) > 60 {
		text = text[len(text)-60:]
	}
	return text
}

// arrive types a password, or nothing, and finds where that leads. Only a prompt is proof that somebody is
// in: one whose form is known, or one that is learned. Who is asked for the name or the password again, or
// hung up on, is refused. A banner may have any words in it: what counts is how it ends. What asks for
// anything else is not answered, and nothing is known then.
func (s *session) arrive(typed string) arrival {
	began := time.Now()
	step := dialogue.Step{Type: typed, Within: s.left(), Quiet: quiet, Pauses: true, Expect: append([]dialogue.Expect{
		{Name: "demand", Ends: demandsChange.MatchString, Rests: true},
		{Name: "prompt", Ends: s.prompt.is},
		{
			Name: "again",
			Ends: func(line string) bool { return typed != "" && (namePrompt.MatchString(line) || again(line)) },
		},
	}, s.pages()...)}
	for {
		said, err := s.talk.Run(step)
		step.Type = ""
		a := arrival{took: said.Last.Sub(began), line: said.Line}
		step.Within = s.left()
		switch {
		case said.By == "demand":
			a.outcome, a.detail = walk.OutcomeRefused, demandsText
		case said.By == "prompt":
			a.outcome = walk.OutcomeIn
		case said.By == "again":
			a.outcome = walk.OutcomeRefused
		case errors.Is(err, dialogue.ErrClosed):
			a.outcome = walk.OutcomeNoAnswer
			a.closed = true
			a.line = said.Text
		case err != nil && strings.TrimSpace(said.Line) != "":
			a.outcome, a.detail = walk.OutcomeUnsure, s.noPrompt(err, said.Line)
		case err != nil || step.Within <= 0:
			a.outcome, a.line = walk.OutcomeNoAnswer, said.Text
		case strings.TrimSpace(said.Line) == "": // it still asks a server, or is about to ask again
			continue
		case isQuestion(said.Line) && s.stands(said.Line, min(asks, step.Within)):
			a.outcome, a.detail = walk.OutcomeUnsure, unanswered(said.Line)
		case isQuestion(said.Line), s.prompt.shows != nil:
			if step.Within = s.left(); step.Within > 0 {
				continue
			}
			a.outcome, a.detail = walk.OutcomeUnsure, s.noPrompt(dialogue.ErrQuiet, said.Line)
		default:
			learned := s.learn(said.Line, step.Within)
			learned.took = a.took
			return learned
		}
		return a
	}
}

// stands reports whether a line still stands after a while, with nothing behind it.
func (s *session) stands(line string, long time.Duration) bool {
	said, err := s.talk.Run(dialogue.Step{Within: long,
		Expect: []dialogue.Expect{{Ends: func(now string) bool { return now != line }}}})
	return errors.Is(err, dialogue.ErrQuiet) && said.Line == line
}

func (s *session) noPrompt(err error, line string) string {
	text := "no prompt was recognised: " + err.Error()
	if s.Real && line != "" {
		text += fmt.Sprintf("; the device ends with %q", show(line))
	}
	return text
}

func unanswered(line string) string {
	return fmt.Sprintf("the device asks %q, which is not answered here; if that is its prompt, say so with -prompt",
		show(strings.TrimSpace(line)))
}
