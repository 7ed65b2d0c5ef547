// Package cli is the interface of the program: the list of its commands, which stand in the rooms below it, the
// help, and how a call is read. A room has the commands that belong together; what they all need is call.
//
// To add a command: write it in its room, as a function that returns a *call.Command, and put it into commands.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/begin"
	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/check"
	democmd "mellowgate/internal/cli/demo"
	"mellowgate/internal/cli/devices"
	foreseecmd "mellowgate/internal/cli/foresee"
	"mellowgate/internal/cli/report"
	"mellowgate/internal/cli/service"
	sheetcmd "mellowgate/internal/cli/sheet"
	"mellowgate/internal/cli/show"
	trialcmd "mellowgate/internal/cli/trial"
	"mellowgate/internal/cli/why"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/routine"
)

// ErrTerminated is the cause with which a service manager ends the program; see call.ErrTerminated.
var ErrTerminated = call.ErrTerminated

// commands returns every command in the order of the work.
func commands() []*call.Command {
	return []*call.Command{democmd.Command(), begin.NewCommand(), begin.MigrateCommand(), check.Command(),
		foreseecmd.Command(),
		sheetcmd.Command(), sheetcmd.RenderCommand(),
		devices.SendCommand(), devices.CompareCommand(), devices.KeysCommand(), service.ServeCommand(),
		trialcmd.LabCommand(), why.AskCommand(), trialcmd.LoginCommand(),
		trialcmd.DrillCommand(), trialcmd.LearnCommand(), begin.PhrasebookCommand(),
		service.ListenCommand(), why.Command(), service.WatchCommand(), service.LedgerCommand(), report.Command(),
		completionCommand(),
		versionCommand(), helpCommand()}
}

func commandNames() []string {
	var names []string
	for _, c := range commands() {
		names = append(names, c.Name)
	}
	return names
}

func findCommand(name string) *call.Command {
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

func mainOf(ctx context.Context, all []*call.Command, args []string, in io.Reader, out, errs io.Writer) int {
	err := routine.Try(func() error { return dispatch(ctx, all, args, in, out, errs) })
	if ctx.Err() != nil && !(errors.Is(context.Cause(ctx), call.ErrTerminated) && err == nil) {
		return call.ExitCtrlC
	}
	if err == nil {
		return call.ExitOK
	}
	status := call.ExitCannot
	var f call.ExitError
	if errors.As(err, &f) {
		status = f.Status
	}
	if text := err.Error(); text != "" {
		_, _ = fmt.Fprintln(errs, show.Safe(text))
	}
	return status
}

// dispatch runs the command that the arguments name.
func dispatch(ctx context.Context, all []*call.Command, args []string, in io.Reader, out, errs io.Writer) error {
	if len(args) == 0 {
		overview(out)
		return call.UsageError(errors.New(""))
	}
	name := args[0]
	switch name {
	case "-h", "-help", "--help":
		name = "help"
	case "-version", "--version":
		name = "version"
	}
	i := slices.IndexFunc(all, func(c *call.Command) bool { return c.Name == name })
	if i < 0 {
		return call.Usagef("there is no command %q%s\nhelp lists the commands", name,
			nearest.Suggest(name, commandNames()))
	}
	c := all[i]
	call := &call.Call{Context: ctx, In: in, Out: out, Err: errs, Flags: flag.NewFlagSet(name, flag.ContinueOnError)}
	call.Flags.SetOutput(io.Discard)
	ready := c.Prepare(call)
	if err := parse(call, c, args[1:]); err != nil {
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

// renamedFlags are flags of a version before, by what they are called now.
var renamedFlags = map[string]string{"patience": "timeout", "over": "access"}

// currentFlags returns arguments with the flags of now in the place of those of a version before, and says so.
func currentFlags(c *call.Call, args []string) []string {
	current := slices.Clone(args)
	for i, arg := range args {
		if arg == "--" {
			break
		}
		name, value, valued := strings.Cut(strings.TrimLeft(arg, "-"), "=")
		now, renamed := renamedFlags[name]
		if !renamed || arg[0] != '-' || c.Flags.Lookup(name) != nil || c.Flags.Lookup(now) == nil {
			continue
		}
		if current[i] = "-" + now; valued {
			current[i] += "=" + value
		}
		c.Note("-%s is now called -%s", name, now)
	}
	return current
}

// parse reads flags before, between and after the arguments.
func parse(c *call.Call, command *call.Command, args []string) error {
	args = currentFlags(c, args)
	for {
		if err := c.Flags.Parse(args); err != nil {
			return badFlag(c, command, err)
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
		return call.Usagef("%s takes no argument %q\nusage: %s", command.Name, c.Args[most], call.Usage(command))
	}
	return nil
}

func badFlag(c *call.Call, command *call.Command, err error) error {
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
			hint += "\npasswords and keys are never given as a flag's value: use -password-file, -password-env or " +
				"the prompt"
		}
		return call.Usagef("%s has no flag -%s%s\nhelp %s lists its flags", command.Name, name, hint, command.Name)
	}
	return call.Usagef("%s: %s\nhelp %s lists its flags", command.Name, err, command.Name)
}
