package login

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/phrase/talk"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/dialogue"
)

// prompt is what a device shows when it waits for a command.
type prompt struct{ shows *regexp.Regexp }

// is reports whether a line is a prompt; none is where it is not known what one looks like.
func (p prompt) is(line string) bool { return p.shows != nil && p.shows.MatchString(line) }

// level returns the level that a prompt shows.
func (p prompt) level(line string) int {
	if m := p.shows.FindStringSubmatch(line); len(m) > 1 && m[1] != "" {
		if n, err := strconv.Atoi(m[1]); err == nil {
			return n
		}
	}
	return UnknownLevel
}

// promptsOf returns what the prompts of a make look like.
func promptsOf(words *talk.Talk, host string) *regexp.Regexp {
	var prompts []string
	for _, p := range words.Prompts {
		prompts = append(prompts, regexp.QuoteMeta(strings.TrimSpace(strings.ReplaceAll(p.Shows, "<host>", host))))
	}
	return regexp.MustCompile(`^[ \t]*(?:` + strings.Join(prompts, "|") + `)[ \t]*$`)
}

// question is how a line ends that asks for something, and is no prompt of a shell.
var question = regexp.MustCompile(`([:?]|[(\[]y(es)?/no?[)\]][?:]?)[ \t]*$`)

// isQuestion reports whether a line asks for something.
func isQuestion(line string) bool { return question.MatchString(strings.ToLower(line)) }

// mayBeAgain is how a question for the password looks when it is asked again; one for a code or a PIN is
// another question.
var mayBeAgain = regexp.MustCompile(`(?i)(pass ?word|pass ?phrase)[^\n]*: ?$`)

// again reports whether a line asks for the password again.
func again(line string) bool { return mayBeAgain.MatchString(line) && !demandsChange.MatchString(line) }

// How long a prompt may take: a shell begins late where the device still waits for a server. And how many
// empty lines are sent to learn what it looks like.
const (
	begins    = 40 * time.Second
	mostEmpty = 6
)

// numbers in a prompt may count: they are taken for any number.
var numbers = regexp.MustCompile(`[0-9]+`)

// learn finds out what the prompt of a shell looks like: it sends empty lines, and what comes back the same
// twice is the prompt. It begins with the line that stands there.
func (s *session) learn(seen string, within time.Duration) arrival {
	end := time.Now().Add(min(begins, within))
	for range mostEmpty {
		line, err := s.emptyLine(end)
		switch {
		case err != nil:
			return arrival{outcome: walk.OutcomeUnsure, detail: s.noPrompt(err, line), line: line}
		case isQuestion(line):
			return arrival{outcome: walk.OutcomeUnsure, detail: unanswered(line), line: line}
		case strings.TrimSpace(line) != "" && numbers.ReplaceAllString(line, "0") == numbers.ReplaceAllString(
			seen, "0"):
			parts := numbers.Split(line, -1)
			for i := range parts {
				parts[i] = regexp.QuoteMeta(parts[i])
			}
			s.prompt = prompt{regexp.MustCompile("^" + strings.Join(parts, "[0-9]+") + "$")}
			return arrival{outcome: walk.OutcomeIn, line: line}
		}
		seen = line
	}
	return arrival{
		outcome: walk.OutcomeUnsure,
		line:    seen,
		detail: fmt.Sprintf("no prompt was recognised: after empty lines the device ends with %q, and not twice "+
			"with the same; say what its prompt looks like with -prompt",
			show(seen)),
	}
}

// emptyLine sends an empty line and returns the line in the middle of which the device then waits. The end of
// a line alone may be a terminal that repeats what was typed while nobody reads it yet.
func (s *session) emptyLine(end time.Time) (string, error) {
	step := dialogue.Step{Type: "\n", Quiet: quiet, Pauses: true, Expect: s.pages()}
	for {
		step.Within = time.Until(end)
		said, err := s.talk.Run(step)
		if err != nil || strings.TrimSpace(said.Line) != "" {
			return said.Line, err
		}
		step.Type = ""
	}
}
