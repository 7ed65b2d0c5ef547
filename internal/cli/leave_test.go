package cli

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/call"
)

// What computes for long ends at a signal; what ends by itself says how it did.
func TestWhatComputesIsLeftAtASignal(t *testing.T) {
	t.Parallel()
	ctx, end := context.WithCancelCause(context.Background())
	own := errors.New("its own")
	require.ErrorIs(t, leave(ctx, func() error { return own }), own)
	working, over := make(chan struct{}), make(chan struct{})
	t.Cleanup(func() { close(over) })
	left := make(chan error, 1)
	go func() { left <- leave(ctx, func() error { close(working); <-over; return nil }) }()
	<-working
	end(call.ErrTerminated)
	require.ErrorIs(t, <-left, call.ErrTerminated)
	require.ErrorIs(t, leave(ctx, func() error { return own }), own, "one that ends soon has the word")
	for _, name := range []string{"check", "foresee", "sheet", "render"} {
		require.True(t, findCommand(name).Computes, name)
	}
	for _, name := range []string{"send", "keys", "serve", "lab"} {
		require.False(t, findCommand(name).Computes, name)
	}
}
