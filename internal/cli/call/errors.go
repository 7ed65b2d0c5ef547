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

func Usagef(format string, args ...any) error {
	return ExitError{Status: ExitUsage, Err: fmt.Errorf(format, args...)}
}

// TaskError gives an error of a task its exit status, unless it has one already.
func TaskError(err error) error {
	var known ExitError
	switch {
	case err == nil || errors.As(err, &known):
		return err
	case task.IsUsage(err):
		return ExitError{Status: ExitUsage, Err: err}
	}
	return ExitError{Status: ExitCannot, Err: err}
}
