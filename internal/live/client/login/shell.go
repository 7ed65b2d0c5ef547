package login

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"mellowgate/internal/live/client/dialogue"
)

// breaks are how devices ask whether to go on after a page.
var breaks = regexp.MustCompile(
	`(?i)(\bmore\b[^\n]{0,40}|press (any key|space|return|enter)[^\n]{0,40}|\(q\)uit[^\n]{0,40}|` +
		`next page[^\n]{0,40})$`)

// pages turns the pages of what a device shows: by the words of its make, else by those that are common.
func (s *session) pages() []dialogue.Expect {
	switch {
	case s.Words != nil && s.Words.Page != "":
		full := func(line string) bool { return strings.HasSuffix(strings.TrimRight(line, " "), s.Words.Page) }
		return []dialogue.Expect{{Name: "page", Ends: full, Answer: typing(s.Words.Press), Drop: true}}
	case s.Real:
		return []dialogue.Expect{
			{Name: "page", Ends: breaks.MatchString, Rests: true, Answer: typing(" "), Drop: true},
		}
	}
	return nil
}

func typing(text string) func(string) string { return func(string) string { return text } }

// answer types a command, and reads what comes up to the next prompt.
func (s *session) answer(command string) (dialogue.Said, error) {
	return s.talk.Run(dialogue.Step{Type: command + "\n", Within: s.Patience, Quiet: quiet,
		Expect: append([]dialogue.Expect{{Name: "prompt", Ends: s.prompt.is}}, s.pages()...)})
}

// commands tries the commands of somebody who has arrived at a prompt.
func (s *session) commands(at arrival) Seen {
	seen := at.seen()
	seen.Level = s.prompt.level(at.line)
	seen.Raised = seen.Level
	if s.Raise != nil && !s.raise(&seen) {
		return seen
	}
	for _, c := range s.Commands {
		said, err := s.answer(c)
		if err != nil {
			seen.Detail = fmt.Sprintf("the session ended during %q: %v", c, err)
			return seen
		}
		output := strings.TrimSpace(said.Above())
		output = strings.TrimSpace(strings.TrimPrefix(output, c)) // some devices echo what is typed
		seen.Commands = append(seen.Commands, Command{Command: c, Result: s.judge(output), Output: output})
	}
	if !s.Real { // a stand-in closes by itself, and keeps the record of the end
		_, _ = s.talk.Run(dialogue.Step{Type: "leave\n", Within: s.Patience})
	}
	return seen
}

// asksPassword is how devices ask for the password of an elevation.
var asksPassword = regexp.MustCompile(`(?i)pass(word|code|phrase)[^\n]*: ?$|secret[^\n]*: ?$`)

// mostAsked bounds how often a device may ask for a password again.
const mostAsked = 3

// raise asks for a higher level, and reports whether the conversation goes on after it; what it came to is
// noted in seen.
func (s *session) raise(seen *Seen) bool {
	command := s.Raise.Command
	if command == "" {
		command = "raise " + strconv.Itoa(s.Raise.Level)
	}
	given := false
	step := dialogue.Step{Type: command + "\n", Within: s.Patience, Quiet: quiet, Pauses: s.Real,
		Expect: append([]dialogue.Expect{
			{Name: "prompt", Ends: s.prompt.is},
			{Name: "password", Ends: asksPassword.MatchString, Most: mostAsked + 1, Answer: func(string) string {
				if given { // it asks again: it was refused
					return "\n"
				}
				given = true
				return s.Raise.Password.Reveal() + "\n"
			}}}, s.pages()...)}
	said, err := s.talk.Run(step)
	for err == nil && said.By == "" && strings.TrimSpace(said.Line) == "" {
		step.Type = ""
		said, err = s.talk.Run(step)
	}
	switch {
	case err != nil:
		seen.Detail = fmt.Sprintf("the session ended during %q: %v", command, err)
		return false
	case said.By == "prompt":
		seen.Raised = s.prompt.level(said.Line)
		return true
	}
	seen.Raised = UnknownLevel
	if isQuestion(said.Line) {
		seen.Detail = fmt.Sprintf("after %q %s", command, unanswered(said.Line))
		return false
	}
	learned := s.learn(said.Line, s.Patience) // the prompt looks otherwise now
	if seen.PromptChanged = learned.detail == ""; !seen.PromptChanged {
		seen.Detail = fmt.Sprintf("after %q %s", command, learned.detail)
	}
	return seen.PromptChanged
}
