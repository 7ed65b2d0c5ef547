// Package metricsclient reads what a running service or lab says of itself, over the socket in
// its state folder.
package metricsclient

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"strings"
	"syscall"
	"time"

	"mellowgate/internal/core/watch"
	"mellowgate/internal/live/store/state"
)

const (
	patience = 2 * time.Second
	most     = 16 << 20 // octets of an answer
)

// Of reads the figures of the run that writes to a state folder. The error says in a
// sentence why there are none.
func Of(ctx context.Context, folder *state.Folder) (watch.Figures, error) {
	ctx, done := context.WithTimeout(ctx, patience)
	defer done()
	var f watch.Figures
	err := folder.Figures(func(path string) error {
		client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true,
			DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, "unix", path)
			}}}
		text, err := get(ctx, client, "metrics")
		if err != nil {
			return err
		}
		if f, err = watch.Read(strings.NewReader(text)); err != nil {
			return err
		}
		health, err := get(ctx, client, "health")
		if err != nil {
			return err
		}
		lines := strings.Split(strings.TrimSpace(health), "\n")
		f.Troubles = lines[1:] // the first one says that it runs
		return nil
	})
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ECONNREFUSED):
		return f, errors.New("nothing runs here by now: this serve or lab has ended; start it again")
	case errors.Is(err, fs.ErrPermission):
		return f, fmt.Errorf("the figures in %s cannot be read: run watch as the user of serve, or as root", folder.Dir)
	case errors.Is(err, context.DeadlineExceeded):
		return f, fmt.Errorf("the service has given no figures for %s: it is very busy, or stopped", patience)
	case err != nil:
		return f, fmt.Errorf("the figures cannot be read: %w", err)
	}
	return f, nil
}

// get returns a page of the service, whatever status it comes with: /health is 503 while
// something is wrong.
func get(ctx context.Context, client *http.Client, page string) (string, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://service/"+page, nil)
	if err != nil {
		return "", err
	}
	answer, err := client.Do(r)
	if err != nil {
		return "", err
	}
	defer func() { _ = answer.Body.Close() }()
	text, err := io.ReadAll(io.LimitReader(answer.Body, most))
	return string(text), err
}
