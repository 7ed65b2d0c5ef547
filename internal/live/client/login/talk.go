package login

import (
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/routine"
)

// talk is a conversation with a shell, or with what asks for a name before one. What the
// device writes is read by one goroutine, which ends when the connection does; so to wait
// in vain ends nothing.
type talk struct {
	Attempt
	conn    net.Conn
	in      io.Writer
	came    chan []byte // closed at the end of what the device writes
	pending string      // read and not yet used
	at      time.Time   // when the last of it came
	prompt  *regexp.Regexp
}

// newTalk begins a conversation.
func newTalk(a Attempt, conn net.Conn, in io.Writer, out io.Reader) *talk {
	t := &talk{Attempt: a, conn: conn, in: in, came: make(chan []byte, 64), prompt: a.Prompt}
	routine.Go(func() {
		defer close(t.came)
		for {
			buffer := make([]byte, 4096)
			n, err := out.Read(buffer)
			if n > 0 {
				t.came <- buffer[:n]
			}
			if err != nil {
				return
			}
		}
	})
	return t
}

// end closes the connection and takes what is still on its way, so that its reader ends.
func (t *talk) end() {
	_ = t.conn.Close()
	for range t.came { // to its end
		continue
	}
}

func (t *talk) send(line string) { _, _ = io.WriteString(t.in, line+"\n") }

// mostOutput bounds what one command may print.
const mostOutput = 1 << 20

// Why a conversation did not come to the text that was waited for.
var (
	errQuiet   = errors.New("no prompt came")
	errClosed  = errors.New("the device closed the connection")
	errEndless = errors.New("the device prints without end")
)

// until reads up to a text that ends like the pattern.
func (t *talk) until(end *regexp.Regexp) (string, error) {
	return t.read(end.MatchString, t.Patience, 0)
}

// read reads until a text is taken. It waits for the first of it as long as within says;
// with quiet, a pause of that length after the last of it ends the text too.
func (t *talk) read(taken func(string) bool, within, quiet time.Duration) (string, error) {
	text := t.pending
	t.pending = ""
	left := time.NewTimer(within)
	defer left.Stop()
	for {
		if taken(text) {
			return text, nil
		}
		if len(text) > mostOutput {
			return text, errEndless
		}
		var pause <-chan time.Time
		if quiet > 0 && text != "" {
			timer := time.NewTimer(quiet)
			defer timer.Stop()
			pause = timer.C
		}
		select {
		case b, more := <-t.came:
			if !more {
				return text, errClosed
			}
			t.at = time.Now()
			text = clean(text + string(b))
		case <-pause:
			return text, errQuiet
		case <-left.C:
			return text, errQuiet
		}
	}
}

// escapes are what terminals take for orders: colours, titles, places of the cursor
// (ECMA-48, section 5.4).
var escapes = regexp.MustCompile("\x1b(\\[[0-?]*[ -/]*[@-~]|\\][^\x07\x1b]*(\x07|\x1b\\\\)|[@-Z\\\\^_=>])")

// clean takes returns and orders to a terminal out of a text; one that is cut short
// waits for its rest.
func clean(text string) string {
	return escapes.ReplaceAllString(strings.NewReplacer("\r", "", "\x00", "", "\x07", "").Replace(text), "")
}

// How long a device is quiet when it has said what it says, how long it may take to say
// the first of it unasked, and how long its prompt may take: a shell begins late where the
// device still waits for a server.
const (
	quiet  = 300 * time.Millisecond
	unasks = time.Second
	begins = 40 * time.Second
)

// mostEmpty is how many empty lines are sent to learn a prompt.
const mostEmpty = 6

// lastLine returns the end of a text that no line end follows.
func lastLine(text string) string { return text[strings.LastIndex(text, "\n")+1:] }

// numbers in a prompt may count: they are taken for any number.
var numbers = regexp.MustCompile(`[0-9]+`)

// learn finds out what the prompt of a shell looks like: it sends empty lines, and what
// comes back the same twice is the prompt.
func (t *talk) learn() error {
	end := time.Now().Add(min(begins, t.Patience))
	greeting, err := t.settle(never, unasks)
	if err != nil {
		return err
	}
	seen := lastLine(greeting)
	for range mostEmpty {
		t.send("")
		text, err := t.line(end)
		if err != nil {
			return err
		}
		line := lastLine(text)
		if strings.TrimSpace(line) != "" && numbers.ReplaceAllString(line, "0") == numbers.ReplaceAllString(seen, "0") {
			parts := numbers.Split(line, -1)
			for i := range parts {
				parts[i] = regexp.QuoteMeta(parts[i])
			}
			t.prompt = regexp.MustCompile("(?:^|\n)" + strings.Join(parts, "[0-9]+") + "$")
			t.pending = text
			return nil
		}
		seen = line
	}
	return fmt.Errorf("after empty lines the device ends with %q, and not twice with the same; say what its prompt looks "+
		"like with -prompt", show(seen))
}

// line reads until what comes ends in the middle of a line, as a prompt does. The end of a
// line alone may be a terminal that repeats what was typed while nobody reads it yet.
func (t *talk) line(end time.Time) (string, error) {
	all := ""
	for {
		text, err := t.settle(never, time.Until(end))
		if all += text; err != nil || text == "" || strings.TrimSpace(lastLine(all)) != "" {
			return all, err
		}
	}
}

func show(text string) string {
	if len(text) > 60 {
		text = text[len(text)-60:]
	}
	return text
}

// breaks are how devices ask whether to go on after a page.
var breaks = regexp.MustCompile(
	`(?i)(\bmore\b[^\n]{0,40}|press (any key|space|return|enter)[^\n]{0,40}|\(q\)uit[^\n]{0,40}|` +
		`next page[^\n]{0,40})$`)

// settle reads until the text is taken, or the device is quiet after it; where it asks
// whether to go on after a page, it is told to.
func (t *talk) settle(taken func(string) bool, within time.Duration) (string, error) {
	all := ""
	for {
		text, err := t.read(func(text string) bool { return taken(all + text) }, within, quiet)
		if errors.Is(err, errQuiet) {
			err = nil
			if line := lastLine(all + text); breaks.MatchString(line) && len(all) < mostOutput {
				_, _ = io.WriteString(t.in, " ")
				all = strings.TrimSuffix(all+text, line)
				continue
			}
		}
		return all + text, err
	}
}

// answer reads the answer to a command, to the next prompt.
func (t *talk) answer() (string, error) {
	if t.Words != nil && t.Words.Page != "" {
		return t.pages()
	}
	if !t.Real {
		return t.until(t.prompt)
	}
	began := time.Now()
	all := ""
	for {
		text, err := t.settle(func(text string) bool { return t.prompt.MatchString(all + text) }, t.Patience)
		if all += text; err != nil || t.prompt.MatchString(all) {
			return all, err
		}
		if time.Since(began) > t.Patience {
			return all, errQuiet
		}
	}
}

// pages reads to the prompt, and presses on where the page is full.
func (t *talk) pages() (all string, err error) {
	for {
		text, err := t.read(func(text string) bool {
			return t.prompt.MatchString(text) || strings.HasSuffix(strings.TrimRight(lastLine(text), " "), t.Words.Page)
		}, t.Patience, 0)
		if err != nil || t.prompt.MatchString(text) {
			return all + text, err
		}
		all += strings.TrimSuffix(text, lastLine(text))
		_, _ = io.WriteString(t.in, t.Words.Press)
	}
}

// commands reads the first prompt, with the level, and tries the commands.
func (t *talk) commands(seen Seen) (Seen, error) {
	if t.prompt == nil {
		if err := t.learn(); err != nil {
			seen.Level, seen.Detail = UnknownLevel, "no prompt was recognised: "+err.Error()
			return seen, nil
		}
	}
	text, err := t.answer()
	if err != nil {
		seen.Level, seen.Detail = UnknownLevel, "no prompt was recognised: "+err.Error()
		if line := lastLine(text); t.Real && line != "" {
			seen.Detail += fmt.Sprintf("; the device ends with %q", show(line))
		}
		return seen, nil
	}
	seen.Level = t.level(text)
	seen.Raised = seen.Level
	if t.Raise != nil {
		if seen, err = t.raise(seen); err != nil {
			return seen, nil
		}
	}
	for _, c := range t.Commands {
		t.send(c)
		text, err := t.answer()
		if err != nil {
			seen.Detail = fmt.Sprintf("the session ended during %q: %v", c, err)
			return seen, nil
		}
		output := strings.TrimSpace(t.prompt.ReplaceAllString(text, ""))
		output = strings.TrimSpace(strings.TrimPrefix(output, c)) // some devices echo what is typed
		seen.Commands = append(seen.Commands, Command{Command: c, Result: t.judge(output), Output: output})
	}
	if !t.Real { // a stand-in closes by itself, and keeps the record of the end
		t.send("leave")
		_, _ = t.read(never, t.Patience, 0)
	}
	return seen, nil
}

// level reads the level that a prompt shows.
func (t *talk) level(text string) int {
	if m := t.prompt.FindStringSubmatch(text); len(m) > 1 && m[1] != "" {
		if n, err := strconv.Atoi(m[1]); err == nil {
			return n
		}
	}
	return UnknownLevel
}

// asksPassword is how devices ask for the password of an elevation.
var asksPassword = regexp.MustCompile(`(?i)pass(word|code|phrase)[^\n]*: ?$|secret[^\n]*: ?$`)

// step reads what follows something that was typed: to a text that is taken or, of a real
// device, to a pause.
func (t *talk) step(taken func(string) bool) (string, error) {
	if t.Real {
		return t.settle(taken, t.Patience)
	}
	return t.read(taken, t.Patience, 0)
}

// raise asks for a higher level. Its error ends the talk; what it is stands in
// what was seen.
func (t *talk) raise(seen Seen) (Seen, error) {
	command := t.Raise.Command
	if command == "" {
		command = "raise " + strconv.Itoa(t.Raise.Level)
	}
	either := func(text string) bool { return t.prompt.MatchString(text) || asksPassword.MatchString(text) }
	t.send(command)
	text, err := t.step(either)
	if err == nil && asksPassword.MatchString(text) {
		t.send(t.Raise.Password.Reveal())
		text, err = t.step(either)
	}
	for n := 0; err == nil && asksPassword.MatchString(text) && n < mostAsked; n++ { // it asks again: it was refused
		t.send("")
		text, err = t.step(either)
	}
	switch {
	case err != nil:
		seen.Detail = fmt.Sprintf("the session ended during %q: %v", command, err)
		return seen, err
	case t.prompt.MatchString(text):
		seen.Raised = t.level(text)
		return seen, nil
	}
	// The prompt looks otherwise now: so it was raised, and to what is not shown.
	seen.Raised, seen.PromptChanged = UnknownLevel, true
	if err = t.learn(); err == nil {
		_, err = t.answer()
	}
	if err != nil {
		seen.Detail = fmt.Sprintf("after %q no prompt was recognised: %v", command, err)
	}
	return seen, err
}

// mostAsked bounds how often a device may ask for a password again.
const mostAsked = 3
