// Package cli is the interface of the program: one file a command, each a
// value with its help text, its flags and its run. It decides nothing about
// devices, people or servers; it asks the packages below and prints.
//
// To add a command: write its file with a *Command, and put it into commands.
package cli

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/attributes"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/routine"
	"mellowgate/internal/task"
)

// Exit statuses.
const (
	ExitOK     = 0
	ExitNo     = 1   // the answer is no
	ExitUsage  = 2   // the call or the site file is wrong
	ExitCannot = 3   // it could not be done
	ExitCtrlC  = 130 // ended by Ctrl-C
)

// Command is one command of the program.
type Command struct {
	Name     string
	Args     string // what follows the flags, for the usage line
	Short    string // one line
	Long     string // paragraphs
	Examples []Example
	// Prepare declares the flags and gives what runs after they are read.
	Prepare func(c *Call) func() error
	NoArgs  bool // takes no arguments at all
	MaxArgs int  // how many arguments it takes; 0 stands for 1
	// Computes is for a command that changes nothing and asks nobody: a signal ends
	// it in the middle of its work.
	Computes bool
}

// Example is a call that runs on the demo data, and what it shows.
type Example struct{ Call, Shows string }

// Call is one call of a command.
type Call struct {
	context.Context
	In       io.Reader
	Out, Err io.Writer
	Flags    *flag.FlagSet
	Args     []string // after the flags
	plain    *bool
	json     *bool
	phrase   string          // the passphrase of sealed keys, once typed
	unlocks  *secrets.Unlock // how sealed keys are opened, once asked for
	styled   *show.Style     // in place of the style of Out, where that is no terminal itself
}

// failure is an error with its exit status.
type failure struct {
	status int
	err    error
}

func (f failure) Error() string { return f.err.Error() }
func (f failure) Unwrap() error { return f.err }

// ErrTerminated is the cause with which a context ends when a service manager
// ends the program: a command that goes on until it is ended has then done what
// it should.
var ErrTerminated = errors.New("terminated")

// errNo is the answer no, already printed.
var errNo = failure{status: ExitNo, err: errors.New("")}

func wrong(format string, args ...any) error {
	return failure{status: ExitUsage, err: fmt.Errorf(format, args...)}
}

// cannot gives an error of a task its exit status, unless it has one already.
func cannot(err error) error {
	var known failure
	switch {
	case err == nil || errors.As(err, &known):
		return err
	case task.IsUsage(err):
		return failure{status: ExitUsage, err: err}
	}
	return failure{status: ExitCannot, err: err}
}

// commands returns every command in the order of the work.
func commands() []*Command {
	return []*Command{demoCommand(), newCommand(), checkCommand(), foreseeCommand(), sheetCommand(), renderCommand(),
		sendCommand(), compareCommand(), keysCommand(), serveCommand(), labCommand(), askCommand(), loginCommand(),
		drillCommand(), learnCommand(), phrasebookCommand(),
		listenCommand(), whyCommand(), watchCommand(), ledgerCommand(), reportCommand(), completionCommand(),
		versionCommand(), helpCommand()}
}

func commandNames() []string {
	var names []string
	for _, c := range commands() {
		names = append(names, c.Name)
	}
	return names
}

func findCommand(name string) *Command {
	for _, c := range commands() {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// Main runs the program and gives its exit status.
func Main(ctx context.Context, args []string, in io.Reader, out, errs io.Writer) int {
	return mainOf(ctx, commands(), args, in, out, errs)
}

func mainOf(ctx context.Context, all []*Command, args []string, in io.Reader, out, errs io.Writer) int {
	err := routine.Try(func() error { return dispatch(ctx, all, args, in, out, errs) })
	if ctx.Err() != nil && !(errors.Is(context.Cause(ctx), ErrTerminated) && err == nil) {
		return ExitCtrlC
	}
	if err == nil {
		return ExitOK
	}
	status := ExitCannot
	var f failure
	if errors.As(err, &f) {
		status = f.status
	}
	if text := err.Error(); text != "" {
		_, _ = fmt.Fprintln(errs, show.Safe(text))
	}
	return status
}

// dispatch runs the command that the arguments name.
func dispatch(ctx context.Context, all []*Command, args []string, in io.Reader, out, errs io.Writer) error {
	if len(args) == 0 {
		overview(out)
		return failure{status: ExitUsage, err: errors.New("")}
	}
	name := args[0]
	switch name {
	case "-h", "-help", "--help":
		name = "help"
	case "-version", "--version":
		name = "version"
	}
	i := slices.IndexFunc(all, func(c *Command) bool { return c.Name == name })
	if i < 0 {
		return wrong("there is no command %q%s\nhelp lists the commands", name, nearest.Suggest(name, commandNames()))
	}
	c := all[i]
	call := &Call{Context: ctx, In: in, Out: out, Err: errs, Flags: flag.NewFlagSet(name, flag.ContinueOnError)}
	call.Flags.SetOutput(io.Discard)
	ready := c.Prepare(call)
	if err := call.parse(c, args[1:]); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			manual(out, c)
			return nil
		}
		return err
	}
	if c.Computes {
		return leave(ctx, ready)
	}
	return ready()
}

// leavesAfter is how long a command may take to end by itself after a signal.
const leavesAfter = time.Second

// leave runs what may be left in the middle, and leaves it when the context ends.
func leave(ctx context.Context, work func() error) error {
	ended := make(chan error, 1)
	routine.Go(func() { ended <- routine.Try(work) })
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	timer := time.NewTimer(leavesAfter)
	defer timer.Stop()
	select {
	case err := <-ended:
		return err
	case <-timer.C:
		return context.Cause(ctx)
	}
}

// parse reads flags before, between and after the arguments.
func (c *Call) parse(command *Command, args []string) error {
	for {
		if err := c.Flags.Parse(args); err != nil {
			return c.badFlag(command, err)
		}
		rest := c.Flags.Args()
		if len(rest) == 0 {
			break
		}
		if consumed := len(args) - len(rest); consumed > 0 && args[consumed-1] == "--" {
			c.Args = append(c.Args, rest...)
			break
		}
		c.Args = append(c.Args, rest[0])
		args = rest[1:]
	}
	most := max(command.MaxArgs, 1)
	if command.NoArgs {
		most = 0
	}
	if len(c.Args) > most {
		return wrong("%s takes no argument %q\nusage: %s", command.Name, c.Args[most], usage(command))
	}
	return nil
}

func (c *Call) badFlag(command *Command, err error) error {
	if errors.Is(err, flag.ErrHelp) {
		return flag.ErrHelp
	}
	var known []string
	c.Flags.VisitAll(func(f *flag.Flag) { known = append(known, f.Name) })
	if name, unknown := strings.CutPrefix(err.Error(), "flag provided but not defined: -"); unknown {
		hint := ""
		if near, ok := nearest.Word(name, known); ok {
			hint = "; did you mean -" + near + "?"
		}
		if strings.Contains(name, "pass") || strings.Contains(name, "key") {
			hint += "\npasswords and keys are never given as a flag's value: use -password-file, -password-env or the prompt"
		}
		return wrong("%s has no flag -%s%s\nhelp %s lists its flags", command.Name, name, hint, command.Name)
	}
	return wrong("%s: %s\nhelp %s lists its flags", command.Name, err, command.Name)
}

// report declares the flags that every reporting command has.
func (c *Call) report() {
	c.json = c.Flags.Bool("json", false, "print JSON, described in docs/json.md")
	c.plain = c.Flags.Bool("plain", false, "no colour")
}

func (c *Call) style() show.Style {
	if c.styled != nil {
		return *c.styled
	}
	return show.For(c.Out, c.plain != nil && *c.plain)
}

// say prints text; on a terminal, lines that are too long for it go on below
// their beginning.
func (c *Call) say(format string, args ...any) {
	_, _ = io.WriteString(c.Out, c.style().Fold(fmt.Sprintf(format, args...)))
}

// note writes what is no result to standard error.
func (c *Call) note(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if f, ok := c.Err.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		var whole bytes.Buffer // in one piece: others may say something at the same time
		show.For(c.Err, true).Wrap(&whole, "", text)
		_, _ = c.Err.Write(whole.Bytes())
		return
	}
	_, _ = fmt.Fprintln(c.Err, show.Safe(text))
}

// sitePath returns the site that a call means: its argument, else
// $MELLOWGATE_SITE, else site.yaml, else the folder site.
func (c *Call) sitePath() string {
	if len(c.Args) > 0 {
		return c.Args[0]
	}
	if path := os.Getenv("MELLOWGATE_SITE"); path != "" {
		return path
	}
	if _, err := os.Stat("site.yaml"); err == nil {
		return "site.yaml"
	}
	if info, err := os.Stat("site"); err == nil && info.IsDir() {
		return "site"
	}
	return "site.yaml"
}

// loaded is a site with the values of its keys.
type loaded struct{ sitefile.Opened }

// load reads the site of a call. With needKeys, a key without a value is an
// error; else it is noted.
func (c *Call) load(needKeys bool) (loaded, error) {
	return c.loadFrom(c.sitePath(), needKeys)
}

func (c *Call) loadFrom(path string, needKeys bool) (loaded, error) {
	return c.loadBy(sitefile.Load, path, needKeys)
}

// loadDesign is load for the design alone: what devices are known to hold
// besides is left out.
func (c *Call) loadDesign(needKeys bool) (loaded, error) {
	return c.loadBy(sitefile.LoadDesign, c.sitePath(), needKeys)
}

func (c *Call) loadBy(read func(string) (*site.Site, string, error), path string, needKeys bool) (loaded, error) {
	done := c.working("reading " + path)
	s, base, err := read(path)
	done()
	wrongs, readable := err, true
	var problems site.Problems
	if err != nil {
		readable = errors.As(err, &problems)
	}
	if s != nil && readable { // all that is wrong is said in one run
		if problems = problems.With(append(secrets.CheckHashes(s), attributes.Check(s)...)...); len(problems) > 0 {
			wrongs = problems
		}
	}
	switch {
	case wrongs == nil:
	case len(problems) > 0:
		return loaded{}, c.mistaken(problems)
	case errors.Is(wrongs, fs.ErrNotExist) && len(c.Args) == 0:
		return loaded{}, wrong("%w\nname a site: SITE, $MELLOWGATE_SITE, site.yaml or the folder site/; or start one: "+
			"mellowgate new DIR", wrongs)
	default:
		return loaded{}, failure{status: ExitUsage, err: wrongs}
	}
	keys, missing := secrets.Keys(s, base, c.unlocking())
	if len(missing) > 0 && needKeys {
		return loaded{}, failure{status: ExitUsage, err: errors.Join(missing...)}
	}
	for _, m := range missing {
		c.note("%v; keys are then compared by name only", m)
	}
	return loaded{Opened: sitefile.Opened{Site: s, Path: path, Base: base, Keys: keys}}, nil
}

// mistakeJSON is one mistake of a site.
type mistakeJSON struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Text   string `json:"text"`
}

// mistaken is the error of a site with mistakes; with -json they are printed as
// data too.
func (c *Call) mistaken(problems site.Problems) error {
	if c.json != nil && *c.json {
		mistakes := []mistakeJSON{}
		for _, p := range problems {
			file, line, column := p.At()
			mistakes = append(mistakes, mistakeJSON{File: file, Line: line, Column: column, Text: p.What})
		}
		if err := show.JSON(c.Out, struct {
			Mistakes []mistakeJSON `json:"mistakes"`
		}{mistakes}); err != nil {
			return err
		}
	}
	return failure{status: ExitUsage, err: problems}
}

// slow is how long something runs before it is said that it is running.
const slow = time.Second

// working says on a terminal that something takes its time, until the function
// that it gives is called.
func (c *Call) working(what string) (done func()) {
	f, ok := c.Err.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return func() {}
	}
	stop, ended := make(chan struct{}), make(chan struct{})
	routine.Go(func() {
		defer close(ended)
		select {
		case <-stop:
			return
		case <-time.After(slow):
		}
		bar := progressbar.NewOptions(-1, progressbar.OptionSetWriter(f), progressbar.OptionSetDescription(what),
			progressbar.OptionSpinnerType(9), progressbar.OptionClearOnFinish(), progressbar.OptionSetRenderBlankState(true))
		for tick := time.NewTicker(100 * time.Millisecond); ; {
			select {
			case <-stop:
				tick.Stop()
				_ = bar.Finish()
				return
			case <-tick.C:
				_ = bar.Add(1)
			}
		}
	})
	return func() {
		close(stop)
		<-ended
	}
}

// device returns a device of the site by name.
func (l loaded) device(name string) (*site.Device, error) {
	if d := l.Device(name); d != nil {
		return d, nil
	}
	names := make([]string, len(l.Devices))
	for i, d := range l.Devices {
		names[i] = d.Name
	}
	return nil, wrong("the site %s has no device %q%s", l.Path, name, nearest.Suggest(name, names))
}

// servers returns the servers of a list of names such as "tern,plover".
func (l loaded) servers(list string) (map[*site.Server]bool, error) {
	some := map[*site.Server]bool{}
	for name := range strings.SplitSeq(list, ",") {
		if name = strings.TrimSpace(name); name == "" {
			continue
		}
		s := l.Server(name)
		if s == nil {
			names := make([]string, len(l.Servers))
			for i, s := range l.Servers {
				names[i] = s.Name
			}
			return nil, wrong("the site %s has no server %q%s", l.Path, name, nearest.Suggest(name, names))
		}
		some[s] = true
	}
	return some, nil
}
