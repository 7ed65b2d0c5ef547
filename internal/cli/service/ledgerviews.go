package service

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/cli/why"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/live/server/ledger"
)

var ledgerViews = []string{"failures", "sessions", "commands", "verify", "heads", "export"}

// LedgerView is how records are shown.
type LedgerView struct {
	name              string // "" for the records themselves
	open, follow, csv bool
	expect            string // a file of heads
	full              bool   // with what decided, and what went back
	to                string // of an export
}

// proves reports whether a view is about the chains, and not about what was done.
func (v LedgerView) proves() bool { return v.name == "verify" || v.name == "heads" }

// whole reports whether a view is of whole chains: of a part nothing can be verified.
func (v LedgerView) whole() bool { return v.proves() || v.name == "export" }

func (v LedgerView) check(json bool, f ledger.Filter) error {
	switch {
	case v.open && v.name != "sessions":
		return call.Usagef("-open is for the view sessions: mellowgate ledger sessions -open")
	case v.follow && v.name != "":
		return call.Usagef("-follow goes on with records, and %s sums them up: give one of the two", v.name)
	case v.csv && json:
		return call.Usagef("give one of -csv and -json")
	case v.csv && v.proves():
		return call.Usagef("%s has no table for -csv", v.name)
	case v.full && v.name != "":
		return call.Usagef("-full is for records, and %s sums them up", v.name)
	case (v.to != "") != (v.name == "export"):
		return call.Usagef("the view export and -to belong together: mellowgate ledger export -to FOLDER")
	case v.name == "export" && (v.csv || json):
		return call.Usagef("export writes files of records; for -csv and -json leave out the view")
	case v.expect != "" && v.name != "verify":
		return call.Usagef("-expect is for the view verify: mellowgate ledger verify -expect FILE")
	case v.name != "" && !v.whole() && f.Last > 0:
		return call.Usagef("-last is for records; choose those of a view with -since and -until")
	}
	return nil
}

// rowsOut takes the rows of a view: as a table, as CSV, or as JSON Lines.
type rowsOut struct {
	c     *call.Call
	names []string // of the columns, as in JSON
	csv   *call.CSV
	rows  *show.Rows
}

// rowsTogether is how many rows share the widths of a table.
const rowsTogether = 1000

// newRows starts a view. The headings are those of its table, of which the
// flexible ones, counted from 0, give way first.
func newRows(c *call.Call, v LedgerView, headings []string, flexible []int, names ...string) *rowsOut {
	s := &rowsOut{c: c, names: names, rows: c.Style().Rows(c.Out, headings, flexible...)}
	s.rows.Ready = rowsTogether
	if v.follow {
		s.rows.Ready = 1
		s.rows.Least = []int{8, 14, 18, 30, 8}
	}
	if v.csv {
		s.csv = call.NewCSV(c.Out, names)
	}
	return s
}

// add takes a row: the value for JSON, the plain cells for CSV and those for people.
func (s *rowsOut) add(value any, plain, pretty []string) error {
	switch {
	case *s.c.AsJSON:
		return show.Line(s.c.Out, value)
	case s.csv != nil:
		return s.csv.Row(plain)
	}
	s.rows.Add(pretty...)
	return nil
}

func (s *rowsOut) end() error {
	switch {
	case *s.c.AsJSON:
	case s.csv != nil:
		return s.csv.End()
	case s.rows.Empty():
		s.c.Note("no record fits")
	default:
		s.rows.Flush()
	}
	return nil
}

func stamp(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}

// byWay is a device and the way in to it, where that is known.
func byWay(device, access string) string { return strings.TrimSpace(device + " " + access) }

func viewLedger(c *call.Call, v LedgerView, from ledger.Source, f ledger.Filter) error {
	var err error
	switch v.name {
	case "failures":
		err = failures(c, v, from, f)
	case "sessions":
		err = sessions(c, v, from, f)
	case "commands":
		err = works(c, v, from, f)
	case "export":
		err = exportLedger(c, v, from)
	default:
		err = PlainRecords(c, v, from, f)
	}
	if err != nil {
		return call.TaskError(err)
	}
	return nil
}

func failures(c *call.Call, v LedgerView, from ledger.Source, f ledger.Filter) error {
	all, err := ledger.Failures(c.Context, from, f)
	if err != nil {
		return err
	}
	s := newRows(c, v, []string{"times", "person", "device", "from", "reason", call.Zoned("when")}, []int{5},
		"count", "person", "device", "access", "from", "reason", "first", "last")
	for _, x := range all {
		n := fmt.Sprint(x.Count)
		if err := s.add(x, []string{n, x.Person, x.Device, x.Access, x.From, x.Reason, stamp(&x.First), stamp(&x.Last)},
			[]string{n, named(x.Person), byWay(x.Device, x.Access), x.From, x.Reason,
				call.Span(x.First, x.Last)}); err != nil {
			return err
		}
	}
	return s.end()
}

// named is a name as tables show it: one with blanks around it can be told from
// one without.
func named(person string) string {
	if strings.TrimSpace(person) != person {
		return strconv.Quote(show.Safe(person))
	}
	return show.Safe(person)
}

// sessionsSince is how far back sessions are looked for, unless -since says.
const sessionsSince = 7 * 24 * time.Hour

func sessions(c *call.Call, v LedgerView, from ledger.Source, f ledger.Filter) error {
	now := time.Now()
	if f.Since.IsZero() {
		f.Since = now.Add(-sessionsSince)
		c.Note("sessions of the last 7 days; -since looks further back")
	}
	all, err := ledger.Sessions(c.Context, from, f)
	if err != nil {
		return err
	}
	s := newRows(c, v, []string{"person", "device", "from", "level", call.Zoned("start"), "end", "lasted"}, []int{5},
		"person", "device", "access", "from", "level", "start", "end", "seconds", "lost")
	for _, x := range all {
		isOpen := x.Start != nil && x.End == nil && !x.Lost
		if v.open && !isOpen {
			continue
		}
		start, end := "-", "open"
		if x.Start != nil {
			start = call.Short(*x.Start)
		}
		switch {
		case x.End != nil:
			end = call.Short(*x.End)
		case x.Lost:
			end = "lost: the device started again"
		}
		took := "-"
		if x.Start != nil && !x.Lost {
			took = (time.Duration(x.Seconds(now)) * time.Second).String()
		}
		if err := s.add(x, []string{x.Person, x.Device, x.Access, x.From, fmt.Sprint(x.Level), stamp(x.Start),
			stamp(x.End),
			fmt.Sprintf("%.0f", x.Seconds(now)), fmt.Sprint(x.Lost)},
			[]string{named(x.Person), byWay(x.Device, x.Access), x.From, fmt.Sprint(x.Level), start, end,
				took}); err != nil {
			return err
		}
	}
	return s.end()
}

func works(c *call.Call, v LedgerView, from ledger.Source, f ledger.Filter) error {
	all, err := ledger.Works(c.Context, from, f)
	if err != nil {
		return err
	}
	s := newRows(c, v, []string{"person", "commands", "refused", "devices", call.Zoned("when"), "newest"}, []int{3, 5},
		"person", "commands", "refused", "devices", "first", "last", "newest")
	for _, x := range all {
		if err := s.add(x, []string{x.Person, fmt.Sprint(x.Commands), fmt.Sprint(x.Refused),
			strings.Join(x.Devices, " "),
			stamp(&x.First), stamp(&x.Last), x.Newest},
			[]string{named(x.Person), fmt.Sprint(x.Commands), fmt.Sprint(x.Refused),
				strings.Join(why.Some(x.Devices, 4), ", "),
				call.Span(x.First, x.Last), show.Safe(x.Newest)}); err != nil {
			return err
		}
	}
	return s.end()
}

// arrivals are the kinds of records that have the level at which somebody is in.
var arrivals = []ledger.Kind{ledger.Login, ledger.Elevation, ledger.SessionStart}

// recordText is what a record says was done: "login refused: wrong-password",
// "command: look session".
func recordText(r ledger.Record) string {
	text := string(r.Kind)
	if r.Kind == ledger.Gap || r.Kind == ledger.Released {
		return text + ": " + r.Reason
	}
	if r.Result != evidence.Recorded {
		text += " " + string(r.Result)
	}
	if r.Command != "" {
		text += ": " + r.Command
	}
	if code, _, _ := strings.Cut(r.Reason, ":"); code != "" { // the whole reason is in the JSON
		text += ": " + code
	}
	if r.Result != evidence.Refused && slices.Contains(arrivals, r.Kind) {
		text += fmt.Sprintf(", level %d", r.Level)
	}
	return text
}

// fullText is what a record says was done, with all that is known of why: the whole
// reason, what of the site decided, what went back, and where the person came from.
func fullText(r ledger.Record) string {
	text := recordText(r)
	if _, why, found := strings.Cut(r.Reason, ": "); found && r.Kind != ledger.Gap && r.Kind != ledger.Released {
		text += ": " + why
	}
	for _, more := range []struct{ name, value string }{{"from", r.From}, {"by", r.Rule}, {"returned", r.Returned},
		{"session", r.Session}} {
		if more.value != "" {
			text += "; " + more.name + " " + more.value
		}
	}
	return text
}

// exportLedger writes records to a folder, as they are, with their hashes.
func exportLedger(c *call.Call, v LedgerView, from ledger.Source) error {
	defer c.Working("writing the records")()
	heads, err := ledger.Export(c.Context, from, v.to)
	if err != nil {
		return err
	}
	for _, h := range heads {
		c.Say("%s: records up to %d of the chain %s\n", h.Host, h.Sequence, h.Chain)
	}
	return nil
}

// recordTone is that of what a server decided; what a device reported has none.
func recordTone(r ledger.Record) show.Tone {
	if r.Result == evidence.Recorded {
		return show.Plain
	}
	return show.OutcomeTone(r.Result)
}

// PlainRecords prints records themselves.
func PlainRecords(c *call.Call, v LedgerView, from ledger.Source, f ledger.Filter) error {
	s := newRows(c, v, []string{call.Zoned("time"), "person", "device", "what", "server"}, []int{3}, "time", "node",
		"kind",
		"person", "device", "access", "from", "level", "result", "command", "reason",
		"session", "protocol", "rule", "returned", "chain", "sequence")
	style := c.Style()
	one := func(r ledger.Record) error {
		plain := []string{stamp(&r.Time), r.Node, string(r.Kind), r.Person, r.Device, r.Access, r.From,
			fmt.Sprint(r.Level),
			string(r.Result), r.Command, r.Reason, r.Session, r.Protocol, r.Rule, r.Returned, r.Chain,
			fmt.Sprint(r.Sequence)}
		what := recordText(r)
		if v.full {
			what = fullText(r)
		}
		return s.add(r, plain, []string{call.Short(r.Time), named(r.Person), byWay(r.Device, r.Access),
			style.Paint(recordTone(r), show.Safe(what)), r.Node})
	}
	if v.follow {
		return ledger.Follow(c.Context, from, f, one)
	}
	if err := from.Read(c.Context, f, one); err != nil {
		return err
	}
	return s.end()
}
