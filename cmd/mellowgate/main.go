// Command mellowgate: see mellowgate help.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"mellowgate/internal/cli"
	"mellowgate/internal/routine"
)

func main() {
	ctx, end := context.WithCancelCause(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	routine.Go(func() {
		for s := range signals {
			if s == syscall.SIGTERM {
				end(cli.ErrTerminated)
			}
			end(context.Canceled)
		}
	})
	os.Exit(cli.Main(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
