package screen

import (
	"flag"
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/core/watch"
)

var makeScreens = flag.Bool("make-screens", false, "write the screens anew, to be read")

var clock = regexp.MustCompile(` +(paused at )?\d\d:\d\d:\d\d \S+$`)

// told is a screen to which all was told that it shows.
func told(notes ...func(*watch.Seen)) *Screen {
	s := New(Options{Title: "Saltmarsh Ferries (state)", Now: func() time.Time { return noon },
		Steps: func(diagnose.Verdict, int) []string {
			return []string{"wrong-password: north-sw-1", "  repair   type it"}
		},
		Write: func(diagnose.Verdict) (string, error) { return "incident.md", nil }})
	for _, note := range notes {
		s.Update(Note(note))
	}
	return s
}

func asked(at int, tern, plover watch.Served, troubles ...string) func(*watch.Seen) {
	return func(s *watch.Seen) {
		s.Figures(noon.Add(time.Duration(at)*time.Second), watch.Figures{Troubles: troubles,
			Servers: map[string]watch.Served{"tern": tern, "plover": plover}})
	}
}

func took(answers, dropped float64, upTo time.Duration) watch.Served {
	return watch.Served{Answers: answers, Dropped: dropped, Took: []watch.Bucket{{UpTo: upTo, Count: answers},
		{UpTo: watch.Unbounded, Count: answers}}}
}

func login(at int, device string, outcome walk.Outcome, causes ...diagnose.Cause) func(*watch.Seen) {
	return func(s *watch.Seen) {
		s.Login(diagnose.Verdict{Healthy: len(causes) == 0, Causes: causes, Story: diagnose.Story{Device: device,
			Person: "ines.marsh", Access: "ssh", Time: noon.Add(time.Duration(at) * time.Second),
			Login: &evidence.Trace{Outcome: outcome, Level: 15, By: "tern", Seconds: 0.5}}})
	}
}

// The whole of some screens, as they are drawn.
func TestScreensAsDrawn(t *testing.T) {
	t.Parallel()
	unreachable := diagnose.Cause{Cause: "unreachable",
		Says: "nothing comes back from tern: the way to it is cut or filtered"}
	wrong := diagnose.Cause{Cause: "wrong-password", Says: "the password given for ines.marsh is wrong"}
	busy := []func(*watch.Seen){
		asked(-20, took(10, 0, time.Millisecond), took(0, 0, time.Second)),
		asked(-10, took(20, 0, time.Millisecond), took(0, 2, time.Second)),
		asked(0, took(45, 0, time.Millisecond), watch.Served{Answers: 5, Dropped: 2, Took: []watch.Bucket{
			{UpTo: 2 * time.Second, Count: 4}, {UpTo: watch.Unbounded, Count: 5}}},
			"room: less than a tenth of the disk is free"),
		func(s *watch.Seen) {
			s.Events(noon, []evidence.Event{{Question: evidence.FaultQuestion, Answer: evidence.FaultSet,
				Text: "tern slow 1s"}}, 1)
		},
		login(-9, "north-sw-1", walk.OutcomeIn), login(-7, "north-sw-1", walk.OutcomeRefused, wrong),
		login(-5, "south-sw-1", walk.OutcomeIn, unreachable), login(-3, "hq-fw-1", walk.OutcomeRefused, wrong),
		login(-1, "hq-fw-1", walk.OutcomeIn, unreachable),
		func(s *watch.Seen) {
			s.Sessions([]watch.Session{{Person: "ines.marsh", Device: "hq-fw-1", Access: "ssh",
				Since: noon.Add(-time.Hour)},
				{Person: "tobin.reed", Device: "north-sw-1", Access: "console", Since: noon.Add(-time.Minute)},
				{Person: "wren.auditor", Device: "north-sw-1", Access: "web", Since: noon.Add(-2 * time.Minute)}})
		},
	}
	tests := []struct {
		name          string
		width, height int
		screen        *Screen
		keys          []string
	}{
		{"nothing is known yet", 80, 14, told(), nil},
		{"a service that nobody asks", 80, 14, told(asked(0, took(5, 0, time.Second), took(0, 0, time.Second))), nil},
		{"no server runs here", 80, 12, told(func(s *watch.Seen) { s.Figures(noon, watch.Figures{}) }), nil},
		{"it has ended", 80, 14, told(asked(0, took(5, 0, time.Second), took(0, 0, time.Second)), func(s *watch.Seen) {
			s.NoFigures("nothing runs here by now")
		}), nil},
		{"much to do", 80, 14, told(func(s *watch.Seen) {
			s.Figures(noon, watch.Figures{Checking: 1, Waiting: 20, Servers: map[string]watch.Served{"tern": {}}})
		}), nil},
		{"busy", 80, 24, told(busy...), []string{"down"}},
		{"busy, on a narrow terminal", 60, 24, told(busy...), nil},
		{"busy, on a low terminal", 80, 12, told(busy...), nil},
		{"busy, on a wide terminal", 150, 22, told(busy...), nil},
		{"something wrong", 80, 20, told(busy...), []string{"f", "/", "h", "q", "enter"}},
		{"while a text is typed", 80, 12, told(busy...), []string{"/", "h"}},
		{"written", 80, 12, told(busy...), []string{"w"}},
		{"paused", 80, 12, told(busy...), []string{"p"}},
		{"step by step", 80, 10, told(busy...), []string{"enter"}},
	}
	var text strings.Builder
	for _, tt := range tests {
		tt.screen.Style = show.Style{}
		tt.screen.Update(tea.WindowSizeMsg{Width: tt.width, Height: tt.height})
		require.False(t, press(tt.screen, tt.keys...))
		fmt.Fprintf(&text, "== %s, %d columns\n", tt.name, tt.width)
		for i, line := range tt.screen.Draw() {
			if line = strings.TrimRight(line, " "); i == 0 { // the zone is that of this host
				line = clock.ReplaceAllString(line, " $1")
			}
			text.WriteString(line + "|\n")
		}
	}
	const golden = "testdata/screens.txt"
	if *makeScreens {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(golden, []byte(text.String()), 0o600))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	require.Equal(t, string(want), text.String(), "make it again, and read it: -make-screens")
}
