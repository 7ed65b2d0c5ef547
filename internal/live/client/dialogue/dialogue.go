// Package dialogue holds a conversation with what speaks in lines and waits in the middle of one: the
// login and the shell of a device. A conversation is steps, each of what is typed, of what may stand at
// the end of what is said then, and of what is typed in answer. One driver runs them, whatever carries
// the text. It knows nothing of devices, and nothing of what the words mean.
package dialogue

import (
	"errors"
	"io"
	"time"

	"mellowgate/internal/routine"
)

// Why a step did not come to what was expected.
var (
	ErrQuiet   = errors.New("no prompt came")
	ErrClosed  = errors.New("the device closed the connection")
	ErrEndless = errors.New("the device prints without end")
)

// MostText bounds what may be said in one step, in bytes.
const MostText = 1 << 20

// mostLine bounds how much of the end of a line is compared with what is expected, in bytes.
const mostLine = 4096

// Conversation is one conversation. What the other end writes is read by one goroutine, which ends when
// the connection does: to wait in vain ends nothing. It is not safe for concurrent use. Who opened it
// closes it.
type Conversation struct {
	conn   io.Closer
	in     io.Writer
	came   chan []byte // closed at the end of what the other end writes
	screen screen
	last   time.Time
}

// New begins a conversation. in is typed into, out is what the other end writes, and closing conn ends both.
func New(conn io.Closer, in io.Writer, out io.Reader) *Conversation {
	c := &Conversation{conn: conn, in: in, came: make(chan []byte, 64)}
	routine.Go(func() {
		defer close(c.came)
		for {
			buffer := make([]byte, 4096)
			n, err := out.Read(buffer)
			if n > 0 {
				c.came <- buffer[:n]
			}
			if err != nil {
				return
			}
		}
	})
	return c
}

// Close ends the conversation, and returns when nothing reads it any more.
func (c *Conversation) Close() {
	_ = c.conn.Close()
	for range c.came { // what is still on its way
		continue
	}
}

// Expect is something that may stand at the end of what is said.
type Expect struct {
	Name string
	// Ends reports whether the last line, which has no end yet, is it.
	Ends func(line string) bool
	// Rests is for what counts only where nothing more comes for as long as Step.Quiet says.
	Rests bool
	// Answer returns what is typed then, its line end included; nil: the step ends here.
	Answer func(line string) string
	// Drop takes the line away from what was said: it is a page mark, say.
	Drop bool
	// Most is how often it is answered before it ends the step; 0: as often as it comes.
	Most int
}

// Step is one turn of a conversation.
type Step struct {
	Type   string // typed first, its line end included; "": nothing
	Expect []Expect
	// Within bounds the whole step, whatever is said. First, if above 0, bounds the wait for the first of it.
	Within, First time.Duration
	// Quiet is how long nothing more comes, once something was said, before the other end is taken to rest; 0:
	// it never is. Pauses says that a rest ends the step.
	Quiet  time.Duration
	Pauses bool
}

// Said is what was said in a step.
type Said struct {
	Text string    // all of it, the last line included
	Line string    // the last line, which has no end
	By   string    // the name of what ended the step, "" for a pause
	Last time.Time // when the last of it came
}

// Above returns what was said above the last line.
func (s Said) Above() string { return s.Text[:len(s.Text)-len(s.Line)] }

// Run runs a step. The error is ErrQuiet, ErrClosed or ErrEndless; what was said so far is returned with it.
func (c *Conversation) Run(s Step) (Said, error) {
	if s.Type != "" {
		c.screen.clear()
		c.write(s.Type)
	}
	within := time.NewTimer(s.Within)
	defer within.Stop()
	var first <-chan time.Time
	if s.First > 0 && c.screen.empty() {
		timer := time.NewTimer(s.First)
		defer timer.Stop()
		first = timer.C
	}
	answered := make([]int, len(s.Expect))
	rested := false
	for {
		if done, by := c.heed(s, answered, false); done {
			return c.said(by), nil
		}
		if c.screen.size() > MostText {
			return c.said(""), ErrEndless
		}
		var pause <-chan time.Time
		if s.Quiet > 0 && !rested && !c.screen.empty() {
			timer := time.NewTimer(s.Quiet)
			defer timer.Stop()
			pause = timer.C
		}
		select {
		case b, more := <-c.came:
			if !more {
				return c.said(""), ErrClosed
			}
			first, rested = nil, false
			c.last = time.Now()
			c.screen.write(b)
		case <-pause:
			rested = true
			if done, by := c.heed(s, answered, true); done || by == "" && s.Pauses {
				return c.said(by), nil
			}
		case <-first:
			return c.said(""), nil
		case <-within.C:
			return c.said(""), ErrQuiet
		}
	}
}

// heed compares the last line with what is expected, and answers what has an answer. It reports whether
// the step ends, and by what; by is "" where nothing fits.
func (c *Conversation) heed(s Step, answered []int, resting bool) (done bool, by string) {
	line := c.screen.end()
	for i, e := range s.Expect {
		if e.Rests && !resting || !e.Ends(line) {
			continue
		}
		if e.Answer == nil || e.Most > 0 && answered[i] == e.Most {
			return true, e.Name
		}
		answered[i]++
		answer := e.Answer(line)
		if e.Drop {
			c.screen.dropLine()
		} else {
			c.screen.endLine()
		}
		c.write(answer)
		return false, e.Name
	}
	return false, ""
}

func (c *Conversation) said(by string) Said {
	text := c.screen.text()
	return Said{Text: text, Line: c.screen.end(), By: by, Last: c.last}
}

// Clear forgets what was said and stands there.
func (c *Conversation) Clear() { c.screen.clear() }

// write types. An error shows when nothing comes back.
func (c *Conversation) write(text string) { _, _ = io.WriteString(c.in, text) }
