package cli_test

import (
	"context"
	"encoding/csv"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/live/server/ledger"
)

// booked makes a state folder whose ledger has a few records, all long ago.
func booked(t *testing.T) call {
	t.Helper()
	c := call{dir: t.TempDir(), env: []string{"TZ=UTC"}}
	require.NoError(t, os.Mkdir(filepath.Join(c.dir, "st"), 0o700))
	l, err := ledger.Open(filepath.Join(c.dir, "st", "records"), ledger.Options{Passing: true})
	require.NoError(t, err)
	at := time.Date(2026, 3, 2, 10, 0, 0, 0, time.UTC)
	for i, r := range []ledger.Record{
		{Kind: ledger.Login, Person: "ines.marsh", Result: evidence.Refused,
			Reason: "wrong-password: the password is wrong"},
		{Kind: ledger.Login, Person: "ines.marsh", Result: evidence.Refused,
			Reason: "wrong-password: the password is wrong"},
		{Kind: ledger.Login, Person: "=1+2", Result: evidence.Refused, Reason: "unknown-person: nobody"},
		{Kind: ledger.Login, Person: "ines.marsh", Result: evidence.Accepted, Level: 15},
		{Kind: ledger.SessionStart, Person: "ines.marsh", Result: evidence.Recorded, Level: 15, Session: "s1"},
		{Kind: ledger.Command, Person: "ines.marsh", Result: evidence.Recorded, Command: "look session", Session: "s1"},
		{Kind: ledger.Decision, Person: "ines.marsh", Result: evidence.Refused, Command: "look secrets",
			Reason: "command-refused: a rule"},
		{Kind: ledger.SessionStop, Person: "ines.marsh", Result: evidence.Recorded, Level: 15, Session: "s1"},
		{Kind: ledger.SessionStart, Person: "tobin.reed", Result: evidence.Recorded, Level: 1, Session: "s2"},
	} {
		r.Time = at.Add(time.Duration(i) * time.Minute)
		r.Node = "tern"
		r.Device = "sw-1"
		r.Access = "ssh"
		r.From = "192.0.2.7"
		r.Protocol = "tacacs"
		require.NoError(t, l.Keep(context.Background(), r))
	}
	require.NoError(t, l.Close())
	return c
}

func TestTheViewsOfALedgerAreTablesAndValues(t *testing.T) {
	t.Parallel()
	c := booked(t)
	for name, v := range map[string]struct {
		args   []string
		table  []string // lines, blanks made one
		values [][]string
	}{
		"failures": {nil, []string{
			"TIMES PERSON DEVICE FROM REASON WHEN UTC",
			"2 ines.marsh sw-1 ssh 192.0.2.7 wrong-password 03-02 10:00:00 to 03-02 10:01:00",
			"1 =1+2 sw-1 ssh 192.0.2.7 unknown-person 03-02 10:02:00",
			"1 ines.marsh sw-1 ssh 192.0.2.7 command-refused 03-02 10:06:00",
		}, [][]string{
			{"count", "person", "device", "access", "from", "reason", "first", "last"},
			{"2", "ines.marsh", "sw-1", "ssh", "192.0.2.7", "wrong-password", "2026-03-02T10:00:00Z",
				"2026-03-02T10:01:00Z"},
			{"1", "'=1+2", "sw-1", "ssh", "192.0.2.7", "unknown-person", "2026-03-02T10:02:00Z",
				"2026-03-02T10:02:00Z"},
			{"1", "ines.marsh", "sw-1", "ssh", "192.0.2.7", "command-refused", "2026-03-02T10:06:00Z",
				"2026-03-02T10:06:00Z"},
		}},
		"sessions": {[]string{"-since", "2026-03-01", "-person", "ines.marsh"}, []string{
			"PERSON DEVICE FROM LEVEL START UTC END LASTED",
			"ines.marsh sw-1 ssh 192.0.2.7 15 03-02 10:04:00 03-02 10:07:00 3m0s",
		}, [][]string{
			{"person", "device", "access", "from", "level", "start", "end", "seconds", "lost"},
			{"ines.marsh", "sw-1", "ssh", "192.0.2.7", "15", "2026-03-02T10:04:00Z", "2026-03-02T10:07:00Z", "180",
				"false"},
		}},
		"commands": {nil, []string{
			"PERSON COMMANDS REFUSED DEVICES WHEN UTC NEWEST",
			"ines.marsh 1 1 sw-1 03-02 10:05:00 to 03-02 10:06:00 look secrets",
		}, [][]string{
			{"person", "commands", "refused", "devices", "first", "last", "newest"},
			{"ines.marsh", "1", "1", "sw-1", "2026-03-02T10:05:00Z", "2026-03-02T10:06:00Z", "look secrets"},
		}},
		"": {[]string{"-last", "1"}, []string{
			"TIME UTC PERSON DEVICE WHAT SERVER",
			"03-02 10:08:00 tobin.reed sw-1 ssh session-start, level 1 tern",
		}, nil},
	} {
		args := append([]string{"ledger", "-state", "st", "-plain"}, v.args...)
		view := []string{name}[:min(1, len(name))]
		r := c.run(t, append(args, view...)...)
		require.Zero(t, r.status, r.err)
		var lines []string
		for line := range strings.Lines(r.out) {
			lines = append(lines, strings.Join(strings.Fields(line), " "))
		}
		require.Equal(t, v.table, lines, name)
		r = c.run(t, append(append(args, "-csv"), view...)...)
		require.Zero(t, r.status, r.err)
		rows, err := csv.NewReader(strings.NewReader(r.out)).ReadAll()
		require.NoError(t, err)
		if v.values != nil {
			require.Equal(t, v.values, rows, name)
		}
	}
	open := c.run(t, "ledger", "-state", "st", "-plain", "-since", "2026-03-01", "-open", "-csv", "sessions")
	require.Contains(t, open.out, "tobin.reed,sw-1,ssh,192.0.2.7,1,2026-03-02T10:08:00Z,,")
	require.NotContains(t, open.out, "ines.marsh")
	none := c.run(t, "ledger", "-state", "st", "-person", "nobody", "failures")
	require.Equal(t, []any{"", "no record fits\n"}, []any{none.out, none.err})
}

// What the ledger's views refuse is said with what is meant instead.
func TestTheLedgerSaysWhatItsViewsDoNotDo(t *testing.T) {
	t.Parallel()
	c := booked(t)
	for call, says := range map[string]string{
		"-records nosuch":              "nosuch: there is no ledger here",
		"verify -records nosuch":       "nosuch: there is no ledger here",
		"export":                       "-to belong together: mellowgate ledger export -to FOLDER",
		"-to x":                        "-to belong together",
		"export -to x -person ines":    "export is of whole chains: a part of one proves nothing",
		"verify -last 3":               "verify is of whole chains",
		"heads -since 1h":              "heads is of whole chains",
		"-full sessions":               "-full is for records, and sessions sums them up",
		"-records st/records -site st": "give one of -site and -records",
	} {
		r := c.run(t, append([]string{"ledger"}, strings.Fields(call)...)...)
		require.Equal(t, 2, r.status, "%s: %s", call, r.err)
		require.Contains(t, r.err, says)
	}
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, "all"), 0o700))
	r := c.run(t, "ledger", "export", "-records", "st/records", "-to", "all/one")
	require.Zero(t, r.status, r.err)
	require.Regexp(t, `^all/one: records up to 9 of the chain \w+\n$`, r.out)
	require.Contains(t, c.run(t, "ledger", "-records", "all").err, "name one, such as all/one")
	require.Contains(t, c.run(t, "ledger", "export", "-records", "st/records", "-to", "all/one").err, "is not empty")
	require.Zero(t, c.run(t, "ledger", "verify", "-records", "all/one").status)
	l, err := ledger.Open(filepath.Join(c.dir, "new"), ledger.Options{Passing: true})
	require.NoError(t, err)
	require.NoError(t, l.Close())
	require.Regexp(t, `^chain \w+: no record yet\n$`, c.run(t, "ledger", "heads", "-records", "new").out)
	require.Contains(t, c.run(t, "ledger", "export", "-records", "new", "-to", "x").err, "there is no record yet")
}
