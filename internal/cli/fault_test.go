package cli

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A command that meets a fault of its own says so and what to send, and no stack.
func TestACommandThatPanicsSaysWhatToSend(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	for name, computes := range map[string]bool{"runs": false, "computes": true} {
		t.Run(name, func(t *testing.T) {
			broken := &Command{Name: "broken", Computes: computes, Prepare: func(*Call) func() error {
				return func() error { return []error{}[len(name)] }
			}}
			var errs bytes.Buffer
			status := mainOf(context.Background(), []*Command{broken}, []string{"broken"}, strings.NewReader(""), &errs, &errs)
			require.Equal(t, ExitCannot, status)
			require.Regexp(t, `^mellowgate met a fault of its own and stopped.*\nplease send the file \S+mellowgate-fault-`,
				errs.String())
			require.NotContains(t, errs.String(), "goroutine")
		})
	}
}
