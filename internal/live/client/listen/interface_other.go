//go:build !linux

package listen

import (
	"context"
	"errors"

	"mellowgate/internal/wire/capture"
)

// Interface captures live on a network interface; it is there on Linux only.
func Interface(context.Context, string) (capture.Source, func(), error) {
	return nil, nil, errors.New("live capture is there on Linux only; capture with another program and read the " +
		"file with -capture")
}
