package login

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/phrase/talk"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// consoleOf serves a console that lets in whoever knows the password "right", and then is what shell says.
func consoleOf(t *testing.T, shell func(in *bufio.Reader, out io.Writer)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = conn.Close() }()
				in := bufio.NewReader(conn)
				for {
					_, _ = io.WriteString(conn, "name: ")
					_, _ = in.ReadString('\n')
					_, _ = io.WriteString(conn, "password: ")
					if password, err := in.ReadString('\n'); err != nil || password == "right\n" {
						break
					}
				}
				shell(in, conn)
			}()
		}
	}()
	return l.Addr().String()
}

// pagesForEver is a shell whose every answer is pages without end.
func pagesForEver(in *bufio.Reader, out io.Writer) {
	_, _ = io.WriteString(out, "sw> ")
	_, _ = in.ReadString('\n')
	for n := 0; ; n++ {
		if _, err := fmt.Fprintf(out, "line %d\n--page--", n); err != nil {
			return
		}
		if _, err := in.ReadByte(); err != nil {
			return
		}
	}
}

func to(address, password string) Attempt {
	return Attempt{Access: site.Console, Address: address, Person: "ines", Password: site.NewSecret(password),
		Patience: 700 * time.Millisecond, Commands: []string{"list"}}
}

// paging are the words of a make that shows pages.
func paging(t *testing.T) *talk.Talk {
	t.Helper()
	book, err := phrase.Load("book.yaml", []byte(`phrasebook: 1
make: paging
layout: {sections: indent}
talk: {prompts: {watch: "<host>>"}, page: {shows: "--page--", press: space}}
phrases: [{about: account, say: "account <name>"}]
`))
	require.NoError(t, err)
	return book.Talk()
}

func TestPatienceEndsALoginWhateverTheDeviceSends(t *testing.T) {
	t.Parallel()
	a := to(consoleOf(t, pagesForEver), "right")
	a.Words, a.Host = paging(t), "sw"
	began := time.Now()
	seen, err := Do(t.Context(), a)
	require.NoError(t, err)
	require.Equal(t, walk.OutcomeIn, seen.Outcome)
	require.Contains(t, seen.Detail, `the session ended during "list"`)
	require.Less(t, time.Since(began), 30*time.Second)
	line, err := Open(t.Context(), a, a.Words, "sw")
	require.NoError(t, err)
	defer line.Close()
	_, err = line.Do("list", "list")
	require.ErrorContains(t, err, `after "list"`)
}

func TestAnEndOfTheContextEndsALoginAtOnce(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithCancel(t.Context())
	a := to(consoleOf(t, func(in *bufio.Reader, out io.Writer) {
		_, _ = io.WriteString(out, "sw> ")
		_, _ = in.ReadString('\n')
		cancel()
		pagesForEver(in, out)
	}), "right")
	a.Words = paging(t)
	a.Host = "sw"
	a.Patience = time.Hour
	began := time.Now()
	_, err := Do(ctx, a)
	require.ErrorIs(t, err, context.Canceled)
	require.Less(t, time.Since(began), 30*time.Second)
}

func TestWhereALoginArrivesIsWhatItCameTo(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		says, password string
		outcome        walk.Outcome
		detail         string
	}{
		"asked for the password again": {"", "wrong", walk.OutcomeRefused, ""},
		"hung up on":                   {"that was it\n", "right", walk.OutcomeRefused, "hung up"},
		"nothing comes":                {"\n", "right", walk.OutcomeNoAnswer, "came to no answer"},
		"a code is asked for":          {"Enter PIN: ", "right", walk.OutcomeUnsure, `asks "Enter PIN:"`},
		"a choice is asked for":        {"Go on (y/n)? ", "right", walk.OutcomeUnsure, `asks "Go on (y/n)?"`},
		"a passcode is asked for":      {"Passcode: ", "right", walk.OutcomeUnsure, `asks "Passcode:"`},
		"a notice, and then a prompt":  {"Access denied to strangers: refused\nsw> ", "right", walk.OutcomeIn, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			a := to(consoleOf(t, func(in *bufio.Reader, out io.Writer) {
				_, _ = io.WriteString(out, c.says)
				for c.outcome != walk.OutcomeRefused {
					if _, err := in.ReadString('\n'); err != nil {
						return
					}
					_, _ = io.WriteString(out, "sw> ")
				}
			}), c.password)
			a.Real = true
			a.Commands = nil
			a.Patience = 5 * time.Second
			seen, err := Do(t.Context(), a)
			require.NoError(t, err)
			require.Equal(t, c.outcome, seen.Outcome, seen.Detail)
			require.Contains(t, seen.Detail, c.detail)
		})
	}
}

func TestAQuestionIsToldFromAPrompt(t *testing.T) {
	t.Parallel()
	for line, is := range map[string]bool{"Token code: ": true, "Enter PIN:": true, "Retry (y/n)? ": true,
		"Sure [Yes/No]": true,
		"Go on [y/n]: ": true, "why?": true, "sw-1> ": false, "sw-1#": false, "$ ": false,
		"[ines@sw ~]$ ": false, "": false} {
		require.Equal(t, is, isQuestion(line), line)
	}
}
