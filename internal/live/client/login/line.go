package login

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"mellowgate/internal/core/phrase/talk"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/dialogue"
)

// Line is the open command line of a device of a make: lines are typed at it, and what it
// says is read up to its next prompt. It is not safe for concurrent use.
type Line struct {
	session *session
	shows   *talk.Prompt
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
func Open(ctx context.Context, a Attempt, words *talk.Talk, host string) (*Line, error) {
	if a.Patience == 0 {
		a.Patience = 30 * time.Second
	}
	if a.Dial == nil {
		a.Dial = Through(nil, a.Patience)
	}
	a.Words = words
	a.Host = host
	a.Prompt = promptsOf(words, host)
	s, arrived := a.enter(ctx)
	if arrived.outcome != walk.OutcomeIn || arrived.err != nil {
		if s != nil {
			s.end()
		}
		return nil, arrived.notOpen(host)
	}
	return &Line{session: s, shows: words.At(arrived.line, host)}, nil
}

// notOpen says why no command line is open, where a login did not arrive at a prompt.
func (a arrival) notOpen(host string) error {
	switch {
	case a.err != nil:
		return a.err
	case a.outcome == walk.OutcomeRefused && (a.detail == "" || a.detail == demandsText):
		return ErrRefused
	case a.outcome == walk.OutcomeRefused:
		return fmt.Errorf("%w: %s", ErrRefused, a.detail)
	case a.outcome == walk.OutcomeUnsure:
		return fmt.Errorf(
			"no prompt of the make came: the phrasebook's prompts are those of the command line, with <host> for "+
				"%s; %s",
			host,
			a.detail,
		)
	}
	return errors.New(a.detail)
}

// Configuring reports whether the device is where it is configured.
func (l *Line) Configuring() bool { return l.shows != nil && l.shows.Configuring }

// Do types a line, answers what the device asks and presses on where its page is full, and
// returns what it says. shown is the line without its secrets. The error is Refused where
// the device did not take the line.
func (l *Line) Do(line, shown string) (says []string, err error) {
	s := l.session
	step := dialogue.Step{Type: line + "\n", Within: s.Patience, Expect: []dialogue.Expect{
		{Name: "prompt", Ends: s.prompt.is},
		{Name: "asks", Ends: func(line string) bool {
			_, asks := s.Words.Answer(line)
			return asks
		}, Answer: func(line string) string {
			answer, _ := s.Words.Answer(line)
			return answer + "\n"
		}}}}
	if s.Words.Page != "" {
		step.Expect = append(step.Expect, s.pages()...)
	}
	said, err := s.talk.Run(step)
	if err != nil {
		return nil, fmt.Errorf("after %q: %w", shown, err)
	}
	l.shows = s.Words.At(said.Line, s.Host)
	return l.told(said.Above(), line, shown)
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
		if l.session.Words.Refuses(one) {
			return nil, Refused{Line: shown, Says: show(strings.ReplaceAll(one, line, shown))}
		}
		says = append(says, one)
	}
	return says, nil
}

// Close ends the connection.
func (l *Line) Close() { l.session.end() }
