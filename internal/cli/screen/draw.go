package screen

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/watch"
)

const (
	narrowest, lowest = 40, 10
	// wide is from how many columns on there are two halves side by side.
	wide = 130
)

// fit returns text that is just so wide: cut, with a mark, or filled up.
func fit(text string, width int) string {
	width = max(width, 0)
	if ansi.StringWidth(text) > width {
		text = ansi.Truncate(text, width, "…")
	}
	return text + strings.Repeat(" ", width-ansi.StringWidth(text)) // a wide letter that is cut leaves a column
}

// pad returns just so many lines.
func pad(lines []string, width, height int) []string {
	for len(lines) < height {
		lines = append(lines, strings.Repeat(" ", width))
	}
	return lines[:height]
}

// column is one column of a block: its heading, and how wide it is at most, 0 for what is left.
type column struct {
	heading string
	most    int
	right   bool // numbers stand at its right
}

// row is one row of a block.
type row struct {
	cells []string
	tone  show.Tone
	of    int // the cell that is painted
	mark  string
}

// table returns a heading and rows, as wide as that. Columns are as wide as they need.
func (s *Screen) table(columns []column, rows []row, width int) []string {
	widths := make([]int, len(columns))
	for i, c := range columns {
		widths[i] = len(c.heading)
		for _, r := range rows {
			widths[i] = max(widths[i], ansi.StringWidth(show.Safe(r.cells[i])))
		}
		if c.most > 0 {
			widths[i] = max(min(widths[i], c.most), len(c.heading))
		}
	}
	line := func(mark string, cell func(i int) string) string {
		parts := make([]string, len(columns))
		for i, c := range columns {
			text := cell(i)
			if c.right {
				text = strings.Repeat(" ", max(0, widths[i]-ansi.StringWidth(text))) + text
			}
			parts[i] = fit(text, widths[i])
		}
		return fit(strings.TrimRight(mark+" "+strings.Join(parts, "  "), " "), width)
	}
	all := []string{s.Style.Paint(show.Faint, line(" ", func(i int) string { return columns[i].heading }))}
	for _, r := range rows {
		text := line(cmp.Or(r.mark, " "), func(i int) string {
			text := ansi.Truncate(show.Safe(oneLine(r.cells[i])), widths[i], "…")
			if i == r.of {
				return s.Style.Paint(r.tone, text)
			}
			return text
		})
		all = append(all, text)
	}
	return all
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// heading is the line above a block.
func (s *Screen) heading(text string, width int) string {
	return fit(s.Style.Paint(show.Strong, text), width)
}

func (s *Screen) drawAll() []string {
	lines := []string{s.titleLine()}
	last := s.keysLine()
	room := s.height - 2
	if s.width >= wide {
		right := s.width / 3
		left := s.width - right - 2
		servers := s.servers(left, room/3)
		logins := s.logins(left, room-len(servers)-1)
		l := pad(append(append(servers, fit("", left)), logins...), left, room)
		r := s.alerts(right, room/3)
		r = append(append(r, fit("", right)), s.devices(right, max(4, (room-len(r))/2))...)
		r = append(append(r, fit("", right)), s.sessions(right, max(2, room-len(r)-1))...)
		r = pad(r, right, room)
		for i := range l {
			lines = append(lines, l[i]+"  "+r[i])
		}
		return append(lines, last)
	}
	top := append(s.servers(s.width, max(3, room/3)), s.alerts(s.width, max(2, room/5))...)
	below := s.devices(s.width, max(2, room/5))
	below = append(below, s.sessions(s.width, max(2, room/6))...)
	if left := room - len(top) - len(below); left < 5 { // the logins come first
		below = nil
	}
	logins := s.logins(s.width, room-len(top)-len(below))
	lines = append(append(lines, top...), pad(logins, s.width, room-len(top)-len(below))...)
	return append(append(lines, below...), last)
}

func (s *Screen) titleLine() string {
	right := s.at.Local().Format("15:04:05 MST")
	if s.paused {
		right = "paused at " + right
	}
	left := show.Safe(oneLine(s.Title))
	left = ansi.Truncate(left, max(0, s.width-len(right)-1), "…")
	gap := strings.Repeat(" ", max(1, s.width-ansi.StringWidth(left)-len(right)))
	tone := show.Strong
	if s.paused {
		tone = show.Careful
	}
	return fit(s.Style.Paint(show.Strong, left)+gap+s.Style.Paint(tone, right), s.width)
}

func (s *Screen) keysLine() string {
	switch {
	case s.typing:
		return fit("only logins with: "+show.Safe(s.filter.Text)+"_   (enter keeps it, esc shows all)", s.width)
	case s.said != "":
		return fit(show.Safe(oneLine(s.said)), s.width)
	case s.opened != nil:
		return fit(s.Style.Paint(show.Faint, "up/down scroll  w write the incident  esc back"), s.width)
	}
	pause := "p pause"
	if s.paused {
		pause = "p go on"
	}
	keys := "up/down choose  enter open  w write  f wrong only  / find  " + pause + "  q quit"
	if s.width < len(keys) {
		keys = "enter open  w write  f wrong  / find  " + pause + "  q quit"
	}
	return fit(s.Style.Paint(show.Faint, keys), s.width)
}

var tones = map[watch.State]show.Tone{watch.Answers: show.Good, watch.Drops: show.Careful, watch.Ended: show.Bad}

func (s *Screen) servers(width, most int) []string {
	columns := []column{{heading: "SERVER", most: 24}, {heading: "STATE", most: 30},
		{heading: "ANSWERS/S", right: true},
		{heading: "P50", right: true}, {heading: "P99", right: true}, {heading: "NO ANSWER", right: true}}
	var rows []row
	for i, v := range s.picture.Servers {
		if i+2 > most-1 && i+1 < len(s.picture.Servers) {
			rows = append(rows, row{cells: []string{fmt.Sprintf("and %d more", len(s.picture.Servers)-i), "", "", "",
				"", ""}})
			break
		}
		state, tone := string(v.State), tones[v.State]
		if len(v.Faults) > 0 {
			state, tone = strings.Join(v.Faults, ", "), show.Careful
		}
		dropped := ""
		if v.Dropped > 0 {
			dropped = fmt.Sprintf("%.0f", v.Dropped)
		}
		rows = append(rows, row{tone: tone, of: 1, cells: []string{v.Name, state, fmt.Sprintf("%.1f", v.PerSecond),
			bound(v.P50), bound(v.P99), dropped}})
	}
	if len(rows) == 0 {
		text := "  the figures of the run are not there yet"
		if s.picture.Told {
			text = "  no server runs here"
		}
		return []string{s.heading(" SERVERS", width), fit(text, width)}
	}
	return s.table(columns, rows, width)
}

// bound is a time within which answers came.
func bound(d time.Duration) string {
	switch d {
	case 0:
		return ""
	case watch.Unbounded:
		return "over 5 s"
	}
	if d < time.Second {
		return fmt.Sprintf("%g ms", float64(d)/float64(time.Millisecond))
	}
	return fmt.Sprintf("%g s", d.Seconds())
}

func (s *Screen) alerts(width, most int) []string {
	var notes []string
	if n := s.picture.Checking; n > 0 {
		notes = append(notes, show.Count(int(n), "password")+" being checked")
	}
	if n := s.picture.Waiting; n > 0 {
		notes = append(notes, show.Count(int(n), "record")+" waiting for the database")
	}
	if len(notes) > 0 {
		notes = []string{fit("  "+strings.Join(notes, ", "), width)}
	}
	if len(s.picture.Alerts) == 0 {
		if !s.picture.Told {
			return notes
		}
		return append(notes, fit(s.Style.Paint(show.Good, "  nothing is wrong with the service"), width))
	}
	var lines []string
	for _, text := range s.picture.Alerts {
		for i, part := range s.wrapped(text, width-4) {
			mark := "    "
			if i == 0 {
				mark = "!   "
			}
			lines = append(lines, fit(s.Style.Paint(show.Bad, mark+part), width))
		}
	}
	if len(lines) > most {
		lines = append(lines[:most-1], fit(s.Style.Paint(show.Bad, "    and more: a wider or higher window shows it"),
			width))
	}
	return append(notes, lines...)
}

func (s *Screen) logins(width, most int) []string {
	heading := " LOGINS"
	switch {
	case s.filter.Text != "" && s.filter.Wrong:
		heading += fmt.Sprintf(" with something wrong, and with %q", show.Safe(s.filter.Text))
	case s.filter.Text != "":
		heading += fmt.Sprintf(" with %q", show.Safe(s.filter.Text))
	case s.filter.Wrong:
		heading += " with something wrong"
	}
	if s.picture.Crowded {
		heading += ", some of very many"
	}
	if s.picture.Hidden > 0 {
		heading += fmt.Sprintf(" (%d others; esc shows all)", s.picture.Hidden)
	}
	lines := []string{s.heading(heading, width)}
	if len(s.picture.Logins) == 0 {
		if s.picture.Hidden > 0 {
			return append(lines, fit("  there are none of these", width))
		}
		return append(lines, fit("  none yet: they show here as they come", width))
	}
	place := s.place()
	whole := s.whole(s.picture.Logins[place], width, most)
	rows := max(1, most-2-len(whole))
	first := max(0, min(place-rows/2, len(s.picture.Logins)-rows))
	var shown []row
	for i := first; i < len(s.picture.Logins) && i < first+rows; i++ {
		shown = append(shown, s.loginRow(s.picture.Logins[i], i == place))
	}
	lines = append(lines, s.table(s.loginColumns(width), shown, width)...)
	return append(pad(lines, width, most-len(whole)), whole...)
}

// wrapped returns a text in lines of a width; a word is never cut.
func (s *Screen) wrapped(text string, width int) []string {
	var b strings.Builder
	s.Style.Wide(width).Wrap(&b, "", show.Safe(oneLine(text)))
	return strings.Split(strings.TrimRight(b.String(), "\n"), "\n")
}

// whole is what stands beside the chosen login, where the row of a narrow screen cuts it.
func (s *Screen) whole(l watch.Login, width, most int) (lines []string) {
	if width >= wide || most < 8 {
		return nil
	}
	text := fmt.Sprintf("%s at %s: %s", l.Person, l.Device, why(l))
	for _, part := range s.wrapped(text, width-4) {
		lines = append(lines, fit("    "+part, width))
	}
	if len(lines) > 3 {
		lines = lines[:3]
	}
	return lines
}

// loginColumns are those of a width: names give way on a narrow terminal.
func (s *Screen) loginColumns(width int) []column {
	names := max(8, min(24, width/6))
	return []column{{heading: "TIME"}, {heading: "WHO", most: names}, {heading: "WHERE", most: names},
		{heading: "BY", most: 10}, {heading: "OUTCOME", most: 10}, {heading: "WHY"}}
}

func (s *Screen) loginRow(l watch.Login, chosen bool) row {
	r := row{cells: []string{l.Time.Local().Format("15:04:05"), l.Person, l.Device, l.Access, l.Outcome, why(l)}, of: 4,
		tone: show.OutcomeTone(l.Outcome)}
	mark := " "
	switch {
	case l.Failed:
		mark, r.tone = "!", show.Bad
	case l.Trouble:
		mark, r.tone = "~", show.Careful
	}
	if chosen {
		r.mark = s.Style.Paint(show.Strong, ">") + mark
	} else {
		r.mark = " " + mark
	}
	return r
}

// why is the cause of a failure in a word and a sentence, else what let in.
func why(l watch.Login) string {
	if l.Cause != "" {
		return l.Cause + ": " + l.Why
	}
	return l.Why
}

func (s *Screen) devices(width, most int) []string {
	if len(s.picture.Devices) == 0 {
		none := []string{s.heading(" DEVICES", width), fit("  none had trouble in the last 15 minutes", width)}
		return none[:min(2, most)]
	}
	lines := []string{s.heading(" DEVICES with trouble in the last 15 minutes", width)}
	for i, d := range s.picture.Devices {
		if len(lines) == most-1 && i+1 < len(s.picture.Devices) {
			return append(lines, fit(fmt.Sprintf("    and %d more", len(s.picture.Devices)-i), width))
		}
		var counts []string
		if d.Failed > 0 {
			counts = append(counts, fmt.Sprintf("%d failed", d.Failed))
		}
		if d.Trouble > 0 {
			counts = append(counts, fmt.Sprintf("%d in with trouble", d.Trouble))
		}
		text := fmt.Sprintf("%s: %s; last %s %s %s", d.Name, strings.Join(counts, ", "),
			d.Last.Time.Local().Format("15:04"),
			d.Last.Person, strings.TrimSpace(d.Last.Outcome+" "+d.Last.Cause))
		lines = append(lines, fit("    "+show.Safe(oneLine(text)), width))
	}
	return lines
}

func (s *Screen) sessions(width, most int) []string {
	lines := []string{s.heading(fmt.Sprintf(" OPEN SESSIONS: %d", len(s.picture.Sessions)), width)}
	for i, v := range s.picture.Sessions {
		if len(lines) == most-1 && i+1 < len(s.picture.Sessions) {
			return append(lines, fit(fmt.Sprintf("    and %d more", len(s.picture.Sessions)-i), width))
		}
		text := fmt.Sprintf("%s at %s by %s since %s", v.Person, v.Device, v.Access, v.Since.Local().Format("15:04"))
		lines = append(lines, fit("    "+show.Safe(oneLine(text)), width))
	}
	return lines[:min(len(lines), max(1, most))]
}

func (s *Screen) drawSteps() []string {
	page := s.height - 3
	text := s.Steps(s.opened.Verdict, s.width)
	lines := []string{s.titleLine(), fit("", s.width)}
	for i := s.top; i < len(text) && i < s.top+page; i++ {
		lines = append(lines, fit(text[i], s.width))
	}
	lines = pad(lines, s.width, s.height-1)
	return append(lines, s.keysLine())
}
