package screen

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/core/watch"
)

var noon = time.Date(2026, 3, 4, 12, 0, 0, 0, time.Local)

// filled is a screen on which there is more than it has room for.
func filled(style show.Style) *Screen {
	s := New(Options{Title: "Saltmarsh Ferries (state)", Style: style, Now: func() time.Time { return noon },
		Steps: func(v diagnose.Verdict, width int) []string {
			var lines []string
			for i := range 50 {
				lines = append(lines, show.Safe(fmt.Sprintf("step %d of %s", i, v.Story.Person)))
			}
			return lines
		},
		Write: func(v diagnose.Verdict) (string, error) {
			if v.Healthy {
				return "", errors.New("all is well")
			}
			return v.Story.Person + ".md", nil
		}})
	s.Update(Note(func(seen *watch.Seen) {
		f := watch.Figures{Servers: map[string]watch.Served{}, Checking: 3, Waiting: 2,
			Troubles: []string{strings.Repeat("the disk is nearly full ", 9)}}
		for i := range 12 {
			f.Servers[fmt.Sprintf("server-%d-with-a-long-name", i)] = watch.Served{Answers: 5, Dropped: 1}
		}
		seen.Figures(noon, f)
		for i := range 60 {
			v := diagnose.Verdict{Healthy: i%3 == 0, Story: diagnose.Story{Access: "ssh",
				Device: fmt.Sprintf("switch-%d-over-the-harbour", i%7),
				Person: fmt.Sprintf("person-%02d.über-lang 界 \x1b[31m", i),
				Time:   noon.Add(time.Duration(i) * time.Second), Login: &evidence.Trace{Outcome: walk.OutcomeRefused}}}
			if !v.Healthy {
				v.Causes = []diagnose.Cause{{Cause: "wrong-password", Says: "the password\nis wrong"}}
			}
			seen.Login(v)
		}
		var open []watch.Session
		for i := range 9 {
			open = append(open, watch.Session{Person: fmt.Sprintf("person-%d", i), Device: "sw", Access: "ssh",
				Since: noon})
		}
		seen.Sessions(open)
	}))
	return s
}

var sequence = regexp.MustCompile("\x1b\\[[0-9;]*m")

func TestEveryLineIsJustAsWideAsTheTerminal(t *testing.T) {
	t.Parallel()
	for _, style := range []show.Style{{}, show.Coloured()} {
		s := filled(style)
		for width := 1; width <= 220; width += 1 + width/40 {
			for _, height := range []int{1, 5, 10, 24, 60} {
				s.Update(tea.WindowSizeMsg{Width: width, Height: height})
				for _, opened := range []bool{false, true} {
					s.opened = nil
					if opened {
						s.opened = s.login()
					}
					lines := s.Draw()
					require.Len(t, lines, height, "%dx%d", width, height)
					for _, line := range lines {
						require.Equal(t, width, ansi.StringWidth(line), "%dx%d: %q", width, height, line)
						require.NotContains(t, sequence.ReplaceAllString(line, ""), "\x1b",
							"text from elsewhere steers nothing")
						if codes := sequence.FindAllString(line, -1); len(codes) > 0 {
							require.Equal(t, "\x1b[0m", strings.ReplaceAll(codes[len(codes)-1], "[m", "[0m"),
								"a colour ends with its line")
						}
					}
				}
			}
		}
	}
}

// press sends keys: names of keys, or letters.
func press(s *Screen, keys ...string) (quit bool) {
	named := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "up": tea.KeyUp, "down": tea.KeyDown,
		"home": tea.KeyHome, "pgdown": tea.KeyPgDown, "pgup": tea.KeyPgUp, "backspace": tea.KeyBackspace}
	for _, k := range keys {
		m := tea.KeyPressMsg{Code: named[k]}
		switch {
		case k == "ctrl+c":
			m = tea.KeyPressMsg{Code: 'c', Mod: tea.ModCtrl}
		case m.Code == 0:
			m = tea.KeyPressMsg{Code: []rune(k)[0], Text: k}
		}
		if _, cmd := s.Update(m); cmd != nil {
			_, quit = cmd().(tea.QuitMsg)
		}
	}
	return quit
}

func TestKeys(t *testing.T) {
	t.Parallel()
	tests := []struct {
		name string
		keys []string
		want string // shows
		not  string
		quit bool
	}{
		{"nothing", nil, ">! 12:00:59", "", false},
		{"down, and up again", []string{"down", "down", "up"}, ">! 12:00:58", "", false},
		{"not beyond the newest", []string{"up", "up"}, ">! 12:00:59", "", false},
		{"to the oldest", strings.Fields(strings.Repeat("pgdown ", 7)), ">  12:00:00", "", false},
		{"and home", []string{"pgdown", "j", "home"}, ">! 12:00:59", "", false},
		{"letters go up and down too", []string{"j", "j", "k"}, ">! 12:00:58", "", false},
		{"enter scrolls", []string{"enter", "enter"}, "step 1 of", "step 0 of", false},
		{"a page back", []string{"pgdown", "pgdown", "pgup", "k"}, ">! 12:00:50", "", false},
		{"wrong only", []string{"f"}, "with something wrong (20 others", "12:00:57", false},
		{"wrong only, and all again", []string{"f", "f"}, "12:00:57", "others", false},
		{"find", []string{"/", "n", "-", "0", "7"}, `with "n-07" (59 others; esc`, "12:00:59", false},
		{"find with a letter too many", []string{"/", "n", "-", "x", "backspace", "enter"}, `LOGINS with "n-"`, "", false},
		{"find nothing", []string{"/", "n", "esc"}, ">! 12:00:59", "others", false},
		{"nothing is left", []string{"/", "@", "@", "enter"}, "there are none of these", "", false},
		{"a letter of the filter is no key", []string{"/", "q"}, `with "q"`, "", false},
		{"all again", []string{"f", "/", "5", "enter", "esc"}, "12:00:57", "others", false},
		{"pause", []string{"p"}, "paused at 12:00:00", "", false},
		{"pause, and on", []string{"p", "p"}, "p pause", "paused", false},
		{"open", []string{"enter"}, "step 0 of person-59", "LOGINS", false},
		{"open, and scroll", []string{"enter", "down", "down"}, "step 2 of", "step 1 of", false},
		{"scroll to the end", []string{"enter", "pgdown", "pgdown", "pgdown", "pgdown"}, "step 49 of", "step 28 of",
			false},
		{"back to the first line", []string{"enter", "pgdown", "pgup", "up", "up"}, "step 0 of", "", false},
		{"another login, and back", []string{"down", "enter", "esc"}, ">! 12:00:58", "step", false},
		{"q goes back first", []string{"enter", "q"}, "LOGINS", "step", false},
		{"write", []string{"w"}, "person-59", "up/down", false},
		{"write from the steps", []string{"enter", "w"}, ".md has the record of it", "", false},
		{"nothing to write", []string{"down", "down", "w"}, "all is well", "", false},
		{"nothing to open", []string{"/", "@", "enter", "enter", "w"}, "there are none of these", "", false},
		{"quit", []string{"q"}, "", "", true},
		{"quit from anywhere", []string{"enter", "/", "ctrl+c"}, "", "", true},
		{"quit from the filter", []string{"/", "ctrl+c"}, "", "", true},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			s := filled(show.Style{})
			s.Update(tea.WindowSizeMsg{Width: 100, Height: 24})
			require.Equal(t, tt.quit, press(s, tt.keys...))
			text := s.View().Content
			require.Contains(t, text, tt.want)
			if tt.not != "" {
				require.NotContains(t, text, tt.not)
			}
		})
	}
}

func TestWhileItIsPausedNothingMoves(t *testing.T) {
	t.Parallel()
	s := filled(show.Style{})
	s.Update(tea.WindowSizeMsg{Width: 100, Height: 24})
	press(s, "p")
	before := s.View().Content
	more := Note(func(seen *watch.Seen) {
		seen.Login(diagnose.Verdict{Healthy: true, Story: diagnose.Story{Device: "sw-new", Time: noon.Add(time.Hour)}})
	})
	s.Update(more)
	s.Update(tick{})
	require.Equal(t, before, s.View().Content)
	press(s, "p")
	require.Contains(t, s.View().Content, "sw-new")
}

func TestTheChosenLoginStaysChosenWhenOthersCome(t *testing.T) {
	t.Parallel()
	s := filled(show.Style{})
	s.Update(tea.WindowSizeMsg{Width: 100, Height: 24})
	press(s, "down")
	s.Update(Note(func(seen *watch.Seen) {
		seen.Login(diagnose.Verdict{Healthy: true, Story: diagnose.Story{Device: "sw-new", Time: noon.Add(time.Hour)}})
	}))
	require.Contains(t, s.View().Content, ">! 12:00:58")
	require.Contains(t, s.View().Content, "sw-new")
	press(s, "up", "up", "up")
	s.Update(Note(func(seen *watch.Seen) {
		seen.Login(diagnose.Verdict{Healthy: true, Story: diagnose.Story{
			Device: "sw-newest", Time: noon.Add(2 * time.Hour)}})
	}))
	require.Regexp(t, `>  14:00:00 .*sw-newest`, s.View().Content, "who has gone up to the newest stays with it")
}
