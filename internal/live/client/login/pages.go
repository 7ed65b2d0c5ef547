package login

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"html"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/dialogue"
)

// client is an HTTPS client with the session's cookies, which trusts only whom
// the attempt trusts.
func (a Attempt) client() *http.Client {
	jar, _ := cookiejar.New(nil) // never fails without options
	return &http.Client{Jar: jar, Timeout: a.Patience, Transport: &http.Transport{DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{RootCAs: a.Trusted, ServerName: a.ServerName, MinVersion: tls.VersionTLS12}}}
}

// unreached says why a request gave no answer; a certificate that is not
// trusted is an error of the call.
func unreached(err error) (Seen, error) {
	var unknown *tls.CertificateVerificationError
	if errors.As(err, &unknown) {
		return Seen{}, errors.New("the certificate that the device shows is not trusted: " + unknown.Err.Error())
	}
	return Seen{Outcome: walk.OutcomeNoAnswer, Detail: "no answer: " + err.Error()}, nil
}

var (
	pageLevel  = regexp.MustCompile(`<meta name="standin-level" content="(\d+)">`)
	pageForm   = regexp.MustCompile(`name="form" value="([0-9a-f]+)"`)
	pageOutput = regexp.MustCompile(`(?s)<pre id="output">(.*?)</pre>`)
)

// web logs in on the web pages of a stand-in, as a browser does.
func (a Attempt) web(ctx context.Context) (Seen, error) {
	c := a.client()
	send := func(path string, form url.Values) (string, int, error) {
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+a.Address+path,
			strings.NewReader(form.Encode()))
		if err != nil {
			return "", 0, err
		}
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		return text(c.Do(r))
	}
	began := time.Now()
	page, status, err := send("/login", url.Values{"name": {a.Person}, "password": {a.Password.Reveal()}})
	seen := Seen{Outcome: walk.OutcomeRefused, Took: time.Since(began)}
	switch level := pageLevel.FindStringSubmatch(page); {
	case err != nil:
		return unreached(err)
	case status == http.StatusForbidden:
		return seen, nil
	case level == nil:
		return Seen{Outcome: walk.OutcomeNoAnswer,
			Detail: "these pages are not those of a stand-in (status " + strconv.Itoa(status) + ")"}, nil
	default:
		seen.Outcome = walk.OutcomeIn
		seen.Level, _ = strconv.Atoi(level[1])
	}
	form := ""
	if m := pageForm.FindStringSubmatch(page); m != nil {
		form = m[1]
	}
	for _, command := range a.Commands {
		page, _, err := send("/command", url.Values{"form": {form}, "command": {command}})
		if err != nil {
			seen.Detail = "the device hung up during \"" + command + "\""
			return seen, nil
		}
		output := ""
		if m := pageOutput.FindStringSubmatch(page); m != nil {
			output = html.UnescapeString(m[1])
		}
		seen.Commands = append(seen.Commands, Command{Command: command, Result: a.judge(output), Output: output})
	}
	_, _, _ = send("/leave", url.Values{"form": {form}})
	return seen, nil
}

func text(r *http.Response, err error) (string, int, error) {
	if err != nil {
		return "", 0, err
	}
	defer func() { _ = r.Body.Close() }()
	b, err := io.ReadAll(io.LimitReader(r.Body, dialogue.MostText))
	return string(b), r.StatusCode, err
}

// api logs in over the API of a stand-in, with JSON.
func (a Attempt) api(ctx context.Context) (Seen, error) {
	c, token := a.client(), ""
	send := func(path string, body, into any) (int, error) {
		b, err := json.Marshal(body)
		if err != nil {
			return 0, err
		}
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+a.Address+path, bytes.NewReader(b))
		if err != nil {
			return 0, err
		}
		r.Header.Set("Content-Type", "application/json")
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		answer, status, err := text(c.Do(r))
		if err == nil && status == http.StatusOK {
			err = json.Unmarshal([]byte(answer), into)
		}
		return status, err
	}
	var in struct {
		Token string
		Level int
	}
	began := time.Now()
	status, err := send("/api/login", map[string]string{"name": a.Person, "password": a.Password.Reveal()}, &in)
	seen := Seen{Outcome: walk.OutcomeRefused, Took: time.Since(began)}
	switch {
	case err != nil:
		return unreached(err)
	case status == http.StatusForbidden:
		return seen, nil
	case status != http.StatusOK:
		return Seen{Outcome: walk.OutcomeNoAnswer,
			Detail: "this is not the API of a stand-in (status " + strconv.Itoa(status) + ")"}, nil
	}
	seen.Outcome = walk.OutcomeIn
	seen.Level = in.Level
	token = in.Token
	for _, command := range a.Commands {
		var ran struct{ Output string }
		if _, err := send("/api/command", map[string]string{"command": command}, &ran); err != nil {
			seen.Detail = "the device hung up during \"" + command + "\""
			return seen, nil
		}
		seen.Commands = append(
			seen.Commands,
			Command{Command: command, Result: a.judge(ran.Output), Output: ran.Output},
		)
	}
	_, _ = send("/api/leave", map[string]string{}, &struct{}{})
	return seen, nil
}

// judge tells from what a command printed whether it was allowed.
func (a Attempt) judge(output string) walk.Outcome {
	if a.Words != nil {
		for line := range strings.Lines(output) {
			if a.Words.Refuses(line) {
				return walk.OutcomeRefused
			}
		}
	}
	if a.Refusal.MatchString(output) {
		return walk.OutcomeRefused
	}
	return walk.OutcomeAllowed
}
