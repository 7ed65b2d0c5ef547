// Package testscale says how often the tests repeat what they try. Tests alone import it.
//
// `go test ./...` tries each thing, and of what is tried with many values a few: it takes a
// minute on two cores once built. With MELLOWGATE_TESTS=all everything is tried, as .ci/run
// does it.
package testscale

import (
	"flag"
	"os"
	"runtime"
	"strconv"
	"testing"
)

var all = os.Getenv("MELLOWGATE_TESTS") == "all"

// All reports whether everything is tried.
func All() bool { return all }

// Of returns how many values are tried: few of them, or many.
func Of(few, many int) int {
	if all {
		return many
	}
	return few
}

// One reports whether the nth value is tried, where one in so many of them is enough.
func One(n, in int) bool { return all || n%in == 0 }

// Whole skips a test that only a whole run has. It says what tries the same in every run, on
// less.
func Whole(t testing.TB, instead string) {
	t.Helper()
	if !all {
		t.Skip("with MELLOWGATE_TESTS=all; in every run: " + instead)
	}
}

// Wait lets eight tests of a package run at the same time, unless -parallel says how many:
// they wait more than they work. It is called before the tests run. What measures how long
// an answer takes stays at one test for each core.
func Wait() {
	flag.Parse()
	if flag.Lookup("test.parallel").Value.String() == strconv.Itoa(runtime.GOMAXPROCS(0)) {
		_ = flag.Set("test.parallel", "8")
	}
}
