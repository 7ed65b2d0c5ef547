package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/term"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/vault"
)

func absolute(path string) string {
	if a, err := filepath.Abs(path); err == nil {
		return a
	}
	return path
}

// passwordFlags declares where a password comes from. It is never the value of
// a flag.
func (c *Call) passwordFlags() func(who string) (site.Secret, error) {
	file := c.Flags.String("password-file", "", "read the password from this `file`; - for standard input")
	env := c.Flags.String("password-env", "", "read the password from this environment `variable`")
	return func(who string) (site.Secret, error) {
		switch {
		case *file != "" && *env != "":
			return site.Secret{}, wrong("give one of -password-file and -password-env")
		case *file == "-":
			return c.passwordLine()
		case *file != "":
			s, err := vault.SecretFile(*file)
			if err != nil {
				return s, failure{ExitUsage, err}
			}
			return s, nil
		case *env != "":
			v, set := os.LookupEnv(*env)
			if !set {
				return site.Secret{}, wrong("the environment variable %s is not set", *env)
			}
			return site.NewSecret(v), nil
		}
		f, ok := c.In.(*os.File)
		if !ok || !term.IsTerminal(int(f.Fd())) {
			return c.passwordLine()
		}
		_, _ = fmt.Fprintf(c.Err, "password of %s: ", who)
		typed, err := term.ReadPassword(int(f.Fd()))
		_, _ = fmt.Fprintln(c.Err)
		if err != nil {
			return site.Secret{}, cannot(fmt.Errorf("the password could not be read: %w", err))
		}
		return site.NewSecret(string(typed)), nil
	}
}

// passphrase gives a way to ask for the passphrase of sealed keys, nil where
// nobody is there to be asked.
func (c *Call) passphrase() func() (string, error) {
	f, ok := c.In.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return nil
	}
	return func() (string, error) {
		_, _ = fmt.Fprint(c.Err, "passphrase of the sealed keys: ")
		typed, err := term.ReadPassword(int(f.Fd()))
		_, _ = fmt.Fprintln(c.Err)
		return string(typed), err
	}
}

// passwordLine reads a password from standard input.
func (c *Call) passwordLine() (site.Secret, error) {
	line, err := bufio.NewReader(io.LimitReader(c.In, 4096)).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) || line == "" {
		return site.Secret{}, wrong("no password on standard input; use -password-file, -password-env, or type it at a terminal")
	}
	return site.NewSecret(strings.TrimRight(line, "\r\n")), nil
}

// names is a flag that may be given several times.
type names []string

func (n *names) String() string     { return strings.Join(*n, ", ") }
func (n *names) Set(v string) error { *n = append(*n, v); return nil }
