package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"
	"unicode"

	tea "charm.land/bubbletea/v2"
	"golang.org/x/term"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/screen"
	"mellowgate/internal/cli/why"
	"mellowgate/internal/core/diagnose"
	core "mellowgate/internal/core/watch"
	"mellowgate/internal/routine"
	"mellowgate/internal/task/watch"
)

func WatchCommand() *call.Command {
	return &call.Command{
		Name: "watch", Args: "[SITE]",
		Short: "a live screen: servers, logins as they come, each failure with its cause",
		Long: `Shows what a running serve or lab does, in the terminal: each server with its state, answers a
second and how long they take (P50, P99: half of the answers of the last minute, and 99 of 100, came within that
time); what is wrong with the service; logins as they come, and the cause where something went wrong; devices with
such logins in the last quarter of an hour; and the sessions that are open.

It reads the state folder of the run, as the user of serve or as root, and changes nothing. A "!" stands before a
login that failed, a "~" before one that got in though something went wrong: a server gave no answer, or the level is
not the promised one.

keys:

up, down       choose a login
enter          open it: its cause, the evidence, the repair, and its steps
w              write the record of the incident into a new file, ready for a ticket
f              only logins that failed or had trouble
/              only logins that have a text; enter keeps it, esc shows all
p              pause: the screen stays as it is; p again goes on
q, Ctrl-C      end`,
		Examples: []call.Example{
			{Call: "mellowgate watch", Shows: "the lab or service whose state folder is mellowgate-state"},
			{Call: "mellowgate watch -state /var/lib/mellowgate", Shows: "the installed service"},
		},
		Prepare: func(c *call.Call) func() error {
			dir := c.Flags.String("state", call.DefaultState, "the state `folder` of the lab or serve")
			c.Plain = c.Flags.Bool("plain", false, "no colour")
			return func() error { return runWatch(c, *dir) }
		},
	}
}

func runWatch(c *call.Call, dir string) error {
	follow, places, err := why.Following(c, dir, "")
	if err != nil {
		return err
	}
	in, readsTerminal := c.In.(*os.File)
	out, isTerminal := c.Out.(*os.File)
	if !readsTerminal || !isTerminal || !term.IsTerminal(int(in.Fd())) || !term.IsTerminal(int(out.Fd())) {
		return call.Usagef("watch draws on a terminal, and this is none; for another program: mellowgate why "+
			"-follow -json -state %s", dir)
	}
	w := watch.Watching{Following: follow}
	if w.Ledger, err = c.LedgerSource(dir, "", ""); err != nil {
		return err
	}
	ctx, end := context.WithCancel(c.Context)
	defer end()
	s := screen.New(screen.Options{Title: fmt.Sprintf("%s (%s)", places.Site, dir), Style: c.Style(), Now: time.Now,
		Steps: func(v diagnose.Verdict, width int) []string { return stepsOf(c, v, width) },
		Write: func(v diagnose.Verdict) (string, error) { return writeIncidentOf(v, dir) }})
	program := tea.NewProgram(s, tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(out),
		tea.WithoutSignalHandler())
	w.Tell = func(note func(*core.Seen)) { program.Send(screen.Note(note)) }
	followed := make(chan error, 1)
	routine.Go(func() {
		err := w.Run(ctx)
		if err != nil {
			program.Quit()
		}
		followed <- err
	})
	_, err = program.Run()
	end()
	if err := <-followed; err != nil {
		return call.TaskError(err)
	}
	if errors.Is(err, tea.ErrProgramKilled) && c.Context.Err() != nil {
		return nil // a signal ended it, and the status says so
	}
	return call.TaskError(err)
}

// stepsOf gives a login step by step, as why prints it, in lines of a width.
func stepsOf(c *call.Call, v diagnose.Verdict, width int) []string {
	var text bytes.Buffer
	style := c.Style().Wide(width)
	inner := *c
	inner.Out, inner.Styled = &text, &style
	why.PrintVerdict(&inner, v)
	return strings.Split(strings.TrimRight(text.String(), "\n"), "\n")
}

// writeIncidentOf writes the record of a login that was followed, into a new file here.
func writeIncidentOf(v diagnose.Verdict, from string) (string, error) {
	if v.Healthy {
		return "", errors.New("this login went well: there is no incident to write")
	}
	device := strings.Map(func(r rune) rune { // an address that nobody knows may stand here too
		if r == '.' || r == '-' || r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) {
			return r
		}
		return '-'
	}, v.Story.Device)
	name := fmt.Sprintf("incident-%s-%s.md", device, v.Story.Time.Local().Format("20060102-150405"))
	return name, why.WriteNew(name, why.Incident(v, diagnose.Symptom{}, from, nil))
}
