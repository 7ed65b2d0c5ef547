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
		Name: "ledger", Short: "what was done: logins, sessions and commands", NoArgs: true,
		Long: `Lists the records of a state folder, oldest first: logins and refusals as the servers decided them, and the sessions
and commands that devices reported. It may be read while the lab or serve is running.`,
		Examples: []Example{
			{"mellowgate ledger -person ines.marsh -kind command", "the commands of one person"},
			{"mellowgate ledger -since 1h -json", "the last hour as JSON Lines"},
		},
		Prepare: func(c *Call) func() error {
			c.report()
			dir := c.Flags.String("state", defaultState, "the state `folder` to read")
			var f ledger.Filter
			var kinds names
			c.Flags.StringVar(&f.Person, "person", "", "only this `name`")
			c.Flags.StringVar(&f.Device, "device", "", "only this `device`")
			c.Flags.Var(&kinds, "kind", "only this `kind`: login, session-start, session-stop, command, system or decision; may be given several times")
			since := c.Flags.String("since", "", "only from this `time` on: 2h for the last two hours, 2026-11-23, or 2026-11-23T14:00:00Z")
			c.Flags.IntVar(&f.Last, "last", 0, "only the newest `N` records")
			return func() error {
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

// sinceTime reads a time, or how long ago it was.
func sinceTime(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04", time.DateOnly} {
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
