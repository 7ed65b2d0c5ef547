package phrase

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// told is what a log says, a line for each.
func told(t *testing.T, b *Book, at Moment, text string) (all string, log *Log) {
	t.Helper()
	log, err := b.ReadLog(strings.NewReader(text), at)
	require.NoError(t, err)
	var out []string
	for _, one := range log.Told {
		clock := "-"
		if !one.Time.IsZero() {
			clock = one.Time.Format(time.RFC3339)
		}
		out = append(out, fmt.Sprintf("%d %s %s %s: %s", one.Line, clock, one.About, one.Facts["event"], one))
	}
	for _, n := range log.Notes {
		out = append(out, fmt.Sprintf("note %d %s", n.Line, n.What))
	}
	return strings.Join(out, "\n"), log
}

var saved = Moment{Now: time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC), Zone: time.FixedZone("", 3600)}

func TestALogOfLinesThatStandForThemselves(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(shipped + "logs/north-sw-1.log")
	require.NoError(t, err)
	all, log := told(t, book(t, shipped+"phrasebooks/quay-switch.yaml"), saved, string(text))
	require.Equal(t, `2 2026-11-20T03:02:44+01:00 event in: device north-sw-1, person ines.marsh, access ssh, from `+
		`192.0.2.60, server tern, level 15
3 2026-11-20T03:09:01+01:00 event no-answer: device north-sw-1, server tern, reason silent
4 2026-11-20T03:09:02+01:00 event refused: device north-sw-1, person tobin.reed, access ssh, from 192.0.2.61, `+
		`server plover, 3 times
6 2026-11-20T03:10:40+01:00 event refused: device north-sw-1, person tobin.reed, access console, by local
7 2026-11-20T03:12:00+01:00 event answers-again: device north-sw-1, server tern`, all)
	require.Equal(t, "8 6", fmt.Sprint(log.Lines, " ", log.Read))
}

func TestSeveralLinesAreOneCaseAndCountersAreTold(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(shipped + "logs/mv-avocet-rtr.log")
	require.NoError(t, err)
	all, _ := told(t, book(t, shipped+"phrasebooks/hull-router.yaml"), saved, string(text))
	require.Equal(t, `2 2026-11-20T03:10:07+01:00 event refused: person tobin.reed, access ssh, from 198.51.100.77, `+
		`server tacacs 1, reason wrong-password, by tacacs 1
4 2026-11-20T03:10:08+01:00 event in: person ines.marsh, access console, from -, by tacacs 1, level 15
5 2026-11-20T03:10:09+01:00 event no-answer: server radius 1, reason silent
11 - count : server radius 1, asked login, sent 120, accepted 96, refused 12, no-answer 12
12 - count : server tacacs 1, asked login, sent 31, accepted 30, refused 1, no-answer 0
note 9 no line says what came of case 83`, all)
}

const clocks = `layout: {sections: paths, cell: "|", words: any-case}
types:
  long: {time: "DDD D MMM YYYY hh:mm:ss.fff zone"}
  short: {time: "MM/DD hh:mm"}
  day: {time: "DD MMM hh:mm:ss"}
phrases: [{about: device, say: key <key>}]
tells:
- {say: "<time as long> IN <person>", where: {event: in}}
- {say: "<time as short> in <person>", where: {event: in}}
- {say: "<time as day>: out <person>", where: {event: [refused, in]}}
- {say: "again <times>"}
- {about: count, say: "row <server> <accepted> <refused>"}
- {say: "level <level> for <person>", where: {event: in}}
- {say: "<event> for <person>", where: {event: [refused, no-answer]}}
`

func TestTimesTakeWhatTheyLackFromTheMoment(t *testing.T) {
	t.Parallel()
	b := small(t, strings.Replace(clocks, `"<time as day>: out`, `"<time as day> out`, 1))
	for line, want := range map[string]string{
		"Fri 27 Nov 2026 03:10:07.250 +02:00 in a": "2026-11-27T03:10:07+02:00",
		"Fri 27 Nov 2026 03:10:07.250 Z in a":      "2026-11-27T03:10:07Z",
		"11/27 03:10 in a":                         "2026-11-27T03:10:00+01:00",
		// clocks differ: within a day it is now
		"11/28 09:00 in a":      "2026-11-28T09:00:00+01:00",
		"12/30 09:00 in a":      "2025-12-30T09:00:00+01:00", // no log is of the future
		"02 Jan 00:00:01 out a": "2026-01-02T00:00:01+01:00",
	} {
		text, _ := told(t, b, saved, line)
		require.Contains(t, text, " "+want+" event", line)
	}
	for _, line := range []string{"13/27 03:10 in a", "11/27 25:10 in a", "level x for a", "in a", "maybe for a"} {
		all, _ := told(t, b, saved, line)
		require.Empty(t, all, line)
	}
	all, _ := told(t, b, Moment{Now: saved.Now}, "11/27 03:10 in a")
	require.Contains(t, all, "2026-11-27T03:10:00Z")
	all, _ = told(t, b, saved, "again 3\nrefused for a\nagain 2\nagain 0\ngull | 7 | 8\n\x01\n")
	require.Equal(t, "2 - event refused: person a, 3 times\n5 - count : server gull, accepted 7, refused 8\n"+
		"note 1 it repeats a line, and there is none before it\nnote 6 it cannot be read: it has control characters",
		all)
	_, err := b.ReadLog(strings.NewReader(strings.Repeat("x", longestLine+1)), saved)
	require.ErrorContains(t, err, "line 1 has more than a million octets: this is no text of a device")
}

func TestWhatIsToldWrongly(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"tells: {}":                     "tells must be a list",
		"tells: [{where: {event: in}}]": "what is told wants the line",
		"tells: [{say: 'a <persn>', where: {event: in}}]":     `nothing is told as "persn"; did you mean "person"?`,
		"tells: [{say: 'a <time>', where: {event: in}}]":      "<time> wants a type with the form of the time",
		"tells: [{say: 'a <person as x>'}]":                   `there is no type or table "x"`,
		"tells: [{say: a, where: {event: out}}]":              `an event is not "out"`,
		"tells: [{say: a, where: {outcome: out}}]":            `nothing is told as "outcome"`,
		"tells: [{about: count, say: '<person> <accepted>'}]": `nothing is told as "person"`,
		"types: {t: {time: YYYY}}":                            "time is the form of a time",
	} {
		_, err := Load("b.yaml", []byte("phrasebook: 1\nmake: x\nlayout: {sections: paths}\n"+
			"phrases: [{about: device, say: key <key>}]\n"+text+"\n"))
		require.ErrorContains(t, err, want, text)
	}
}

func FuzzReadLog(f *testing.F) {
	books := []*Book{book(f, shipped+"phrasebooks/quay-switch.yaml"), book(f, shipped+"phrasebooks/hull-router.yaml"),
		small(f, clocks)}
	for i, name := range []string{"north-sw-1", "mv-avocet-rtr"} {
		text, err := os.ReadFile(shipped + "logs/" + name + ".log")
		require.NoError(f, err)
		f.Add(i, string(text))
	}
	f.Add(2, "11/27 03:10 in a\nagain 2\ngull | 7 | 8\n")
	f.Fuzz(func(t *testing.T, which int, text string) {
		if which < 0 || which >= len(books) {
			return
		}
		log, err := books[which].ReadLog(strings.NewReader(text), saved)
		if err == nil && log.Read > log.Lines {
			t.Fatal("more lines read than there are")
		}
	})
}
