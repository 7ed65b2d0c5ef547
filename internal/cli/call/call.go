// Package call is what every command of the program needs: a call with its flags and its output, errors with their
// exit status, the site that it means, passwords at a terminal, times and words. It decides nothing about devices,
// people or servers.
package call

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/routine"
)

// Command is one command of the program.
type Command struct {
	Name     string
	Args     string // what follows the flags, for the usage line
	Short    string // one line
	Long     string // paragraphs
	Examples []Example
	// Prepare declares the flags and gives what runs after they are read.
	Prepare func(c *Call) func() error
	NoArgs  bool // takes no arguments at all
	MaxArgs int  // how many arguments it takes; 0 stands for 1
	// Computes is for a command that changes nothing and asks nobody: a signal ends
	// it in the middle of its work.
	Computes bool
}

// Example is a call that runs on the demo data, and what it shows.
type Example struct{ Call, Shows string }

// Call is one call of a command.
type Call struct {
	context.Context
	In       io.Reader
	Out, Err io.Writer
	Flags    *flag.FlagSet
	Args     []string // after the flags
	Plain    *bool
	AsJSON   *bool
	phrase   string          // the passphrase of sealed keys, once typed
	unlocks  *secrets.Unlock // how sealed keys are opened, once asked for
	Styled   *show.Style     // in place of the style of Out, where that is no terminal itself
}

// ReportFlags declares the flags that every reporting command has.
func (c *Call) ReportFlags() {
	c.AsJSON = c.Flags.Bool("json", false, "print JSON, described in docs/json.md")
	c.Plain = c.Flags.Bool("plain", false, "no colour")
}

func (c *Call) Style() show.Style {
	if c.Styled != nil {
		return *c.Styled
	}
	return show.For(c.Out, c.Plain != nil && *c.Plain)
}

// Say prints text; on a terminal, lines that are too long for it go on below
// their beginning.
func (c *Call) Say(format string, args ...any) {
	_, _ = io.WriteString(c.Out, c.Style().Fold(fmt.Sprintf(format, args...)))
}

// Note writes what is no result to standard error.
func (c *Call) Note(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if f, ok := c.Err.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		var whole bytes.Buffer // in one piece: others may say something at the same time
		show.For(c.Err, true).Wrap(&whole, "", text)
		_, _ = c.Err.Write(whole.Bytes())
		return
	}
	_, _ = fmt.Fprintln(c.Err, show.Safe(text))
}

// slow is how long something runs before it is said that it is running.
const slow = time.Second

// Working says on a terminal that something takes its time, until the function
// that it gives is called.
func (c *Call) Working(what string) (done func()) {
	f, ok := c.Err.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return func() {}
	}
	stop, ended := make(chan struct{}), make(chan struct{})
	routine.Go(func() {
		defer close(ended)
		select {
		case <-stop:
			return
		case <-time.After(slow):
		}
		bar := progressbar.NewOptions(-1, progressbar.OptionSetWriter(f), progressbar.OptionSetDescription(what),
			progressbar.OptionSpinnerType(9), progressbar.OptionClearOnFinish(),
			progressbar.OptionSetRenderBlankState(true))
		for tick := time.NewTicker(100 * time.Millisecond); ; {
			select {
			case <-stop:
				tick.Stop()
				_ = bar.Finish()
				return
			case <-tick.C:
				_ = bar.Add(1)
			}
		}
	})
	return func() {
		close(stop)
		<-ended
	}
}

func Usage(c *Command) string {
	parts := []string{"mellowgate", c.Name}
	probe := FlagsOf(c)
	has := false
	probe.VisitAll(func(*flag.Flag) { has = true })
	if has {
		parts = append(parts, "[flags]")
	}
	if c.Args != "" {
		parts = append(parts, c.Args)
	}
	return strings.Join(parts, " ")
}

// FlagsOf returns the flags of a command without calling it.
func FlagsOf(c *Command) *flag.FlagSet {
	call := &Call{Flags: flag.NewFlagSet(c.Name, flag.ContinueOnError)}
	c.Prepare(call)
	return call.Flags
}

// Version is the version of the program.
const Version = "0.2.0"
