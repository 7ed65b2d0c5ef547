package call

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/routine"
)

// PasswordFlags declares where a password comes from. It is never the value of
// a flag.
func (c *Call) PasswordFlags() func(who string) (site.Secret, error) {
	ask, _ := c.PasswordOf("", "the password")
	return ask
}

// PasswordOf is passwordFlags for another password, with a word before the flags'
// names; given tells whether one of them is.
func (c *Call) PasswordOf(prefix, what string) (ask func(who string) (site.Secret, error), given func() bool) {
	file := c.Flags.String(prefix+"password-file", "", "read "+what+" from this `file`; - for standard input")
	env := c.Flags.String(prefix+"password-env", "", "read "+what+" from this environment `variable`")
	return func(who string) (site.Secret, error) {
		switch {
		case *file != "" && *env != "":
			return site.Secret{}, Usagef("give one of -%[1]spassword-file and -%[1]spassword-env", prefix)
		case *file == "-":
			return c.passwordLine()
		case *file != "":
			s, err := secrets.SecretFile(*file)
			if err != nil {
				return s, UsageError(err)
			}
			return s, nil
		case *env != "":
			v, set := os.LookupEnv(*env)
			if !set {
				return site.Secret{}, Usagef("the environment variable %s is not set", *env)
			}
			return site.NewSecret(v), nil
		}
		ask := c.AskAtTerminal()
		if ask == nil {
			return c.passwordLine()
		}
		typed, err := ask("password of " + who + ": ")
		if err != nil {
			return site.Secret{}, TaskError(fmt.Errorf("the password could not be read: %w", err))
		}
		return site.NewSecret(typed), nil
	}, func() bool { return *file != "" || *env != "" }
}

// AskAtTerminal returns a way to ask for a secret, which is not shown as it is typed; nil
// where nobody is there to be asked.
func (c *Call) AskAtTerminal() func(prompt string) (string, error) {
	f, ok := c.In.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return nil
	}
	return func(prompt string) (string, error) {
		typed, err := readHidden(c.Context, int(f.Fd()), func() { _, _ = fmt.Fprint(c.Err, prompt) })
		_, _ = fmt.Fprintln(c.Err)
		return typed, err
	}
}

// readHidden prompts and reads a line that is not shown, until ctx ends: the
// terminal is then as it was before, and what reads from it is left behind.
func readHidden(ctx context.Context, terminal int, prompt func()) (string, error) {
	before, err := term.GetState(terminal)
	if err != nil {
		return "", err
	}
	hide(terminal)
	prompt()
	type line struct {
		text []byte
		err  error
	}
	read := make(chan line, 1)
	routine.Go(func() {
		text, err := term.ReadPassword(terminal)
		read <- line{text, err}
	})
	select {
	case l := <-read:
		_ = term.Restore(terminal, before)
		return string(l.text), l.err
	case <-ctx.Done():
		_ = term.Restore(terminal, before)
		return "", context.Cause(ctx)
	}
}

// passphrase returns a way to ask for the passphrase of sealed keys, nil where
// nobody is there to be asked. It is asked for once in a call.
func (c *Call) passphrase() func() (string, error) {
	ask := c.AskAtTerminal()
	if ask == nil {
		return nil
	}
	return func() (string, error) {
		if c.phrase != "" {
			return c.phrase, nil
		}
		typed, err := ask("passphrase of the sealed keys: ")
		c.phrase = typed
		return typed, err
	}
}

// Unlocking returns how sealed keys are opened, the same in a whole call: what it
// has opened once is not opened again.
func (c *Call) Unlocking() secrets.Unlock {
	if c.unlocks == nil {
		u := secrets.UnlockFromEnvironment(c.passphrase())
		c.unlocks = &u
	}
	return *c.unlocks
}

// FreshPassphrase is passphrase for one that is new: it is typed twice.
func (c *Call) FreshPassphrase() func() (string, error) {
	ask := c.AskAtTerminal()
	if ask == nil || os.Getenv("MELLOWGATE_PASSPHRASE_FILE") != "" {
		return nil
	}
	return func() (string, error) {
		if c.phrase != "" { // it opened the file
			return c.phrase, nil
		}
		typed, err := ask("a new passphrase for the sealed keys: ")
		if err != nil {
			return "", err
		}
		again, err := ask("the same once more: ")
		if err == nil && again != typed {
			err = Usagef("the two passphrases differ; nothing was sealed")
		}
		return typed, err
	}
}

// TypedCode returns a way to answer what a server asks for beside the password.
func (c *Call) TypedCode() func(prompt string) (string, bool) {
	ask := c.AskAtTerminal()
	if ask == nil {
		return nil
	}
	return func(prompt string) (string, bool) {
		typed, err := ask("the server asks: " + show.Safe(strings.TrimSpace(prompt)) + " ")
		return typed, err == nil
	}
}

// passwordLine reads a password from standard input.
func (c *Call) passwordLine() (site.Secret, error) {
	line, err := bufio.NewReader(io.LimitReader(c.In, 4096)).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) || line == "" {
		return site.Secret{},
			Usagef("no password on standard input; use -password-file, -password-env, or type it at a terminal")
	}
	return site.NewSecret(strings.TrimRight(line, "\r\n")), nil
}

// Names is a flag that may be given several times.
type Names []string

func (n *Names) String() string { return strings.Join(*n, ", ") }

func (n *Names) Set(v string) error { *n = append(*n, v); return nil }
