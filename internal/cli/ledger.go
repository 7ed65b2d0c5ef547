package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/live/ledger"
	"mellowgate/internal/live/state"
)

func ledgerCommand() *Command {
	return &Command{
		Name: "ledger", Args: "[verify]", Short: "what was done: logins, sessions and commands",
		Long: `Lists the records of a state folder, oldest first: logins and refusals as the servers decided them, and the sessions
and commands that devices reported. It may be read while the lab or serve is running.

ledger verify checks the chain: each record holds the hash of the one before, so that a record that was changed, taken
out, put in or moved is found. Exit status 1 when one is. What is cut off at the end shows only to who kept the hash of
the newest record elsewhere: it is printed.`,
		Examples: []Example{
			{"mellowgate ledger -person ines.marsh -kind command", "the commands of one person"},
			{"mellowgate ledger -since 1h -json", "the last hour as JSON Lines"},
			{"mellowgate ledger verify", "is every record as it was written?"},
		},
		Prepare: func(c *Call) func() error {
			c.report()
			dir := c.Flags.String("state", defaultState, "the state `folder` to read")
			var f ledger.Filter
			var kinds names
			c.Flags.StringVar(&f.Person, "person", "", "only this `name`")
			c.Flags.StringVar(&f.Device, "device", "", "only this `device`")
			c.Flags.Var(&kinds, "kind", "only this `kind`: login, session-start, session-update, session-stop, command, system or decision; may be given several times")
			since := c.Flags.String("since", "", "only from this `time` on: 2h for the last two hours, 2026-11-23, or 2026-11-23T14:00:00Z")
			c.Flags.IntVar(&f.Last, "last", 0, "only the newest `N` records")
			return func() error {
				if len(c.Args) > 0 {
					if c.Args[0] != "verify" {
						return wrong("ledger takes no argument %q; verify is one", c.Args[0])
					}
					return c.verifyLedger(*dir)
				}
				for _, k := range kinds {
					if !slices.Contains(ledger.Kinds(), k) {
						return wrong("there is no kind of record %q%s", k, nearest.Suggest(k, ledger.Kinds()))
					}
				}
				f.Kinds = kinds
				var err error
				if f.Since, err = sinceTime(*since, time.Now()); err != nil {
					return err
				}
				folder, err := state.Open(*dir)
				if err != nil {
					return failure{ExitUsage, err}
				}
				return c.listRecords(folder.Ledger(), f)
			}
		},
	}
}

func (c *Call) verifyLedger(dir string) error {
	folder, err := state.Open(dir)
	if err != nil {
		return failure{ExitUsage, err}
	}
	defer c.working("verifying the ledger")()
	p, err := ledger.Verify(c.Context, folder.Ledger())
	if err != nil {
		return cannot(err)
	}
	if *c.json {
		err = show.JSON(c.Out, p)
	} else {
		style := c.style()
		for _, b := range p.Breaks {
			c.say("%s\n", style.Paint(show.Bad, b.What))
		}
		if len(p.Breaks) == 0 {
			c.say("%s\n", style.Paint(show.Good, "every record is as it was written: "+show.Count(int(p.Records), "record")))
		}
		if p.Records > 0 {
			c.say("newest: record %d, %s\n", p.Newest, p.Last)
		}
	}
	if err == nil && len(p.Breaks) > 0 {
		return errNo
	}
	return err
}

// moments are the forms in which a point of time may be given.
var moments = []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04", time.DateOnly}

// sinceTime reads a time, or how long ago it was.
func sinceTime(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	for _, layout := range moments {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, wrong("-since is %q; 2h, 2026-11-23 or 2026-11-23T14:00:00Z is wanted", text)
}

func (c *Call) listRecords(path string, f ledger.Filter) error {
	var rows [][]string
	style := c.style()
	err := ledger.Read(c.Context, path, f, func(r ledger.Record) error {
		if *c.json {
			return show.Line(c.Out, r)
		}
		what := r.Command
		if code, _, _ := strings.Cut(r.Reason, ":"); code != "" { // the whole reason is in the JSON
			what = strings.TrimPrefix(what+": "+code, ": ")
		}
		level := fmt.Sprint(r.Level)
		if r.Result == "refuse" {
			level = "-"
		}
		rows = append(rows, []string{r.Time.Local().Format("01-02 15:04:05"), r.Node, string(r.Kind), show.Safe(r.Person), r.Device, r.Access,
			style.Paint(show.OutcomeTone(r.Result), r.Result), level, show.Safe(what)})
		return nil
	})
	if err != nil {
		return cannot(err)
	}
	if *c.json {
		return nil
	}
	if len(rows) == 0 {
		c.note("no record fits")
		return nil
	}
	zone, _ := time.Now().Zone()
	style.Table(c.Out, []string{"time " + zone, "server", "kind", "person", "device", "way", "result", "level", "what"}, rows, 8)
	return nil
}
