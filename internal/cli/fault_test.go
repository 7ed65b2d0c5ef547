package cli

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/call"
)

// A command that meets a fault of its own says so and what to send, and no stack.
func TestACommandThatPanicsSaysWhatToSend(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	for name, computes := range map[string]bool{"runs": false, "computes": true} {
		t.Run(name, func(t *testing.T) {
			broken := &call.Command{Name: "broken", Computes: computes, Prepare: func(*call.Call) func() error {
				return func() error { return []error{}[len(name)] }
			}}
			var errs bytes.Buffer
			status := mainOf(context.Background(), []*call.Command{broken}, []string{"broken"}, strings.NewReader(""),
				&errs, &errs)
			require.Equal(t, call.ExitCannot, status)
			require.Regexp(t, `^mellowgate met a fault of its own and stopped.*\nplease send the file \S+mellowgate-fault-`,
				errs.String())
			require.NotContains(t, errs.String(), "goroutine")
		})
	}
}
