package call

import (
	"errors"
	"fmt"

	"mellowgate/internal/task"
)

// Exit statuses.
const (
	ExitOK     = 0
	ExitNo     = 1   // the answer is no
	ExitUsage  = 2   // the call or the site file is wrong
	ExitCannot = 3   // it could not be done
	ExitCtrlC  = 130 // ended by Ctrl-C
)

// ExitError is an error with its exit status.
type ExitError struct {
	Status int
	Err    error
}

func (f ExitError) Error() string { return f.Err.Error() }

func (f ExitError) Unwrap() error { return f.Err }

// ErrTerminated is the cause with which a context ends when a service manager
// ends the program: a command that goes on until it is ended has then done what
// it should.
var ErrTerminated = errors.New("terminated")

// ErrVerdict is the answer no, already printed.
var ErrVerdict = ExitError{Status: ExitNo, Err: errors.New("")}

// ErrCannot is what could not be done, where that is already said.
var ErrCannot = ExitError{Status: ExitCannot, Err: errors.New("")}

// Usagef is an error of the call or of the site file.
func Usagef(format string, args ...any) error { return UsageError(fmt.Errorf(format, args...)) }

// UsageError makes an error one of the call, or of a file that it names.
func UsageError(err error) error { return ExitError{Status: ExitUsage, Err: err} }

// TaskError gives an error of a task its exit status, unless it has one already.
func TaskError(err error) error {
	var known ExitError
	switch {
	case err == nil || errors.As(err, &known):
		return err
	case task.IsUsage(err):
		return UsageError(err)
	}
	return ExitError{Status: ExitCannot, Err: err}
}
