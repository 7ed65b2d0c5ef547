// Package task has what the tasks of an administrator share. A task is what a
// command does, without a terminal: it takes values, says what happens through
// functions that it is given, and returns values and errors. Flags, printing and
// exit statuses are left to the interface.
package task

import (
	"errors"
	"fmt"
)

// UsageError is a task that was asked for in a way that cannot be done: the
// call, or the site, is what must change.
type UsageError struct{ Err error }

func (e UsageError) Error() string { return e.Err.Error() }
func (e UsageError) Unwrap() error { return e.Err }

// Wrong makes a UsageError.
func Wrong(format string, args ...any) error { return UsageError{Err: fmt.Errorf(format, args...)} }

// IsUsage reports whether an error is, or wraps, a UsageError.
func IsUsage(err error) bool {
	var u UsageError
	return errors.As(err, &u)
}
