// Package screen is the live screen of the command watch: what is seen of a running
// service, drawn again as it changes, and keys to look closer. It decides nothing.
package screen

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/watch"
)

// Options are what the screen does not know by itself.
type Options struct {
	Title string // of what is followed
	Style show.Style
	Now   func() time.Time
	// Steps gives a login step by step, in lines of a width.
	Steps func(v diagnose.Verdict, width int) []string
	// Write makes the record of an incident, and returns the name of its file.
	Write func(v diagnose.Verdict) (string, error)
}

// Screen is the screen. It is a model of bubbletea, and belongs to its goroutine.
type Screen struct {
	Options
	seen          watch.Seen
	picture       watch.Picture
	at            time.Time // of the picture
	width, height int
	paused        bool
	filter        watch.Filter
	typing        bool         // the text of the filter
	chosen        *watch.Login // nil: the newest
	opened        *watch.Login // step by step
	top           int          // first line of the steps that shows
	said          string       // what came of the last key
}

// New returns a screen that has seen nothing.
func New(o Options) *Screen { return &Screen{Options: o, at: o.Now()} }

// Note is a message with something that was seen.
type Note func(*watch.Seen)

type tick struct{}

func ticking() tea.Cmd { return tea.Tick(time.Second, func(time.Time) tea.Msg { return tick{} }) }

// Init begins the clock.
func (s *Screen) Init() tea.Cmd { return ticking() }

// Update takes a message: what was seen, a key, or the size of the terminal.
func (s *Screen) Update(m tea.Msg) (tea.Model, tea.Cmd) {
	switch m := m.(type) {
	case Note:
		m(&s.seen)
	case tick:
		s.look()
		return s, ticking()
	case tea.WindowSizeMsg:
		s.width, s.height = m.Width, m.Height
	case tea.KeyPressMsg:
		return s, s.key(m)
	}
	s.look()
	return s, nil
}

// look takes the picture anew, unless it is to stay.
func (s *Screen) look() {
	if s.paused {
		return
	}
	s.at = s.Now()
	s.picture = s.seen.Picture(s.at, s.filter)
}

// key does what a key says.
func (s *Screen) key(k tea.KeyPressMsg) tea.Cmd {
	s.said = ""
	name := k.String()
	switch {
	case name == "ctrl+c":
		return tea.Quit
	case s.typing:
		s.typed(name, k.Text)
	case s.opened != nil:
		return s.keyOfSteps(name)
	default:
		return s.keyOfAll(name)
	}
	return nil
}

// typed changes the text of the filter.
func (s *Screen) typed(name, text string) {
	switch name {
	case "enter":
		s.typing = false
	case "esc":
		s.typing, s.filter.Text = false, ""
	case "backspace":
		if letters := []rune(s.filter.Text); len(letters) > 0 {
			s.filter.Text = string(letters[:len(letters)-1])
		}
	default:
		s.filter.Text += text
	}
	s.filtered()
}

// filtered shows what the filter chooses, also of a picture that is to stay.
func (s *Screen) filtered() {
	s.picture = s.seen.Picture(s.at, s.filter)
	s.chosen = nil
}

func (s *Screen) keyOfAll(name string) tea.Cmd {
	switch name {
	case "q":
		return tea.Quit
	case "p", "space":
		s.paused = !s.paused
		s.look()
	case "f":
		s.filter.Wrong = !s.filter.Wrong
		s.filtered()
	case "/":
		s.typing = true
	case "esc":
		s.filter = watch.Filter{}
		s.filtered()
	case "up", "k":
		s.move(-1)
	case "down", "j":
		s.move(1)
	case "pgup":
		s.move(-10)
	case "pgdown":
		s.move(10)
	case "home":
		s.chosen = nil
	case "enter":
		if l := s.login(); l != nil {
			s.opened, s.top = l, 0
		}
	case "w":
		s.write(s.login())
	}
	return nil
}

func (s *Screen) keyOfSteps(name string) tea.Cmd {
	page := max(1, s.height-3)
	switch name {
	case "q", "esc", "left", "backspace":
		s.opened = nil
		return nil
	case "up", "k":
		s.top--
	case "down", "j", "enter":
		s.top++
	case "pgup":
		s.top -= page
	case "pgdown", "space":
		s.top += page
	case "home":
		s.top = 0
	case "w":
		s.write(s.opened)
	}
	s.top = max(0, min(s.top, len(s.Steps(s.opened.Verdict, s.width))-page))
	return nil
}

// write makes the record of a login that failed.
func (s *Screen) write(l *watch.Login) {
	if l == nil {
		return
	}
	name, err := s.Write(l.Verdict)
	if err != nil {
		s.said = err.Error()
		return
	}
	s.said = name + " has the record of it"
}

// place is that of the chosen login among those that show, 0 where it is gone.
func (s *Screen) place() int {
	if s.chosen == nil {
		return 0
	}
	return max(0, slices.IndexFunc(s.picture.Logins, func(l watch.Login) bool {
		return l.Time.Equal(s.chosen.Time) && l.Device == s.chosen.Device && l.Person == s.chosen.Person
	}))
}

// login is the chosen one, nil where there is none.
func (s *Screen) login() *watch.Login {
	if len(s.picture.Logins) == 0 {
		return nil
	}
	return &s.picture.Logins[s.place()]
}

func (s *Screen) move(by int) {
	if n := len(s.picture.Logins); n > 0 {
		to := max(0, min(s.place()+by, n-1))
		s.chosen = &s.picture.Logins[to]
		if to == 0 {
			s.chosen = nil // and it stays with the newest
		}
	}
}

// View draws.
func (s *Screen) View() tea.View {
	v := tea.NewView(strings.Join(s.Draw(), "\n"))
	v.AltScreen = true
	v.WindowTitle = show.Safe(s.Title)
	return v
}

// Draw returns the lines of the screen: as many as it is high, none wider than it is.
func (s *Screen) Draw() []string {
	if s.width < narrowest || s.height < lowest {
		text := fmt.Sprintf("watch needs %d columns and %d lines", narrowest, lowest)
		return pad([]string{fit(text, s.width)}, s.width, s.height)
	}
	if s.opened != nil {
		return s.drawSteps()
	}
	return s.drawAll()
}
