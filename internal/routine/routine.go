// Package routine starts every goroutine of the program, so that a fault of the program's own in any
// of them ends it in one way: a sentence on standard error that says what to send, a file with what
// was seen of the fault, and the status 3. It knows nothing of the rest of the program.
package routine

import (
	"context"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"sync"
	"time"
)

// Status is the exit status of a program that met a fault of its own.
const Status = 3

// Reports is where faults are reported.
const Reports = "mellowgate@saltmarsh.example"

// Fault is a panic that was caught. It is an error, and its text is for the user.
type Fault struct {
	what  string // what the panic said
	stack []byte
	file  string // where both were written, "" where that could not be
}

// Error says what happened and what to do, in one paragraph.
func (f *Fault) Error() string {
	if f.file == "" {
		return fmt.Sprintf(
			"mellowgate met a fault of its own and stopped: %s\nplease send this, and what you called, to %s\n%s",
			f.what,
			Reports,
			f.stack,
		)
	}
	return fmt.Sprintf("mellowgate met a fault of its own and stopped; what was not said to be done is not done\n"+
		"please send the file %s, and what you called, to %s; it has no key and no password", f.file, Reports)
}

// Caught makes a fault of what recover returned, in the goroutine that panicked.
func Caught(panicked any) *Fault {
	f := &Fault{what: fmt.Sprint(panicked), stack: debug.Stack()}
	file, err := os.CreateTemp("", "mellowgate-fault-*.txt") // only its owner can read it
	if err != nil {
		return f
	}
	_, err = fmt.Fprintf(file, "%s\n\n%s", f.what, f.stack)
	if info, built := debug.ReadBuildInfo(); built && err == nil {
		_, err = fmt.Fprintf(file, "\n%s", info)
	}
	if closed := file.Close(); err == nil && closed == nil {
		f.file = file.Name()
	}
	return f
}

// Try runs f and returns what it returns; a panic in it is an error, of type *Fault.
func Try(f func() error) (err error) {
	defer func() {
		if panicked := recover(); panicked != nil {
			err = Caught(panicked)
		}
	}()
	return f()
}

// Run runs f. A panic in it ends the program with Status.
func Run(f func()) { run(f, os.Stderr, os.Exit) }

func run(f func(), errs io.Writer, exit func(int)) {
	defer func() {
		if panicked := recover(); panicked != nil {
			_, _ = fmt.Fprintln(errs, Caught(panicked))
			exit(Status)
		}
	}()
	f()
}

// Go starts f in a goroutine of its own.
func Go(f func()) { go Run(f) }

// AfterFunc is time.AfterFunc, and f runs as Go runs it.
func AfterFunc(d time.Duration, f func()) *time.Timer { return time.AfterFunc(d, func() { Run(f) }) }

// OnDone is context.AfterFunc, and f runs as Go runs it.
func OnDone(ctx context.Context, f func()) (stop func() bool) {
	return context.AfterFunc(ctx, func() { Run(f) })
}

// Work is f for a group that starts it elsewhere: a panic in it ends the program.
func Work(f func() error) func() error {
	return func() (err error) {
		Run(func() { err = f() })
		return err
	}
}

// Group is goroutines that are waited for. The zero value is ready; it must not be copied.
type Group struct{ wait sync.WaitGroup }

// Go starts f in a goroutine of the group.
func (g *Group) Go(f func()) { g.wait.Go(func() { Run(f) }) }

// Wait waits until every goroutine of the group has ended.
func (g *Group) Wait() { g.wait.Wait() }
