package inventory

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/phrase"
)

// Two makes as their handbooks have them, written down by hand and without their phrasebooks:
// what a line does to a device, and what the device then shows. A phrasebook that is wrong
// about its make cannot agree with these.

// quay is a quay switch: sections of lines, a line that is said again, and "drop".
type quay struct {
	sections []*quaySection
	at       *quaySection
}

type quaySection struct {
	head  string
	lines []string
}

// quayName is what tells one thing from another: a gate, ring or plan by its name, a door by
// its word and lines, a keeper by its name.
func quayName(line string) string {
	words := strings.Fields(line)
	switch words[0] {
	case "gate", "ring", "plan", "keeper":
		return strings.Join(words[:2], " ")
	case "door":
		return line
	}
	return words[0]
}

// quayBelow is what tells one line of a section from another.
func quayBelow(head, line string) string {
	words := strings.Fields(line)
	if strings.HasPrefix(head, "ring ") {
		return line // each gate is a line of its own
	}
	if words[0] == "follow" {
		return "follow " + words[1]
	}
	return words[0]
}

func (q *quay) take(t *testing.T, line string) {
	if strings.HasPrefix(line, " ") {
		require.NotNil(t, q.at, "a line of no section: %q", line)
		line = strings.TrimSpace(line)
		if of, drops := strings.CutPrefix(line, "drop "); drops {
			before := len(q.at.lines)
			q.at.lines = slices.DeleteFunc(q.at.lines, func(o string) bool { return o == of })
			require.Less(t, len(q.at.lines), before, "nothing to drop: %q in %q", line, q.at.head)
			return
		}
		for i, o := range q.at.lines {
			if quayBelow(q.at.head, o) == quayBelow(q.at.head, line) {
				q.at.lines[i] = line
				return
			}
		}
		q.at.lines = append(q.at.lines, line)
		return
	}
	if of, drops := strings.CutPrefix(line, "drop "); drops {
		before := len(q.sections)
		q.sections = slices.DeleteFunc(q.sections, func(
			s *quaySection) bool {
			return quayShown(s.head) == quayShown(of)
		})
		require.Less(t, len(q.sections), before, "nothing to drop: %q", line)
		q.at = nil
		return
	}
	for _, s := range q.sections {
		if quayName(s.head) == quayName(line) {
			s.head, q.at = line, s
			return
		}
	}
	q.at = &quaySection{head: line}
	q.sections = append(q.sections, q.at)
}

// quayShown is a line as the switch shows it: it keeps a hash of the words of keepers.
func quayShown(head string) string {
	if before, word, is := strings.Cut(head, " word plain "); is && strings.HasPrefix(head, "keeper ") {
		return before + " word mixed 77" + fmt.Sprint(len(word))
	}
	return head
}

func (q *quay) shows() string {
	var b strings.Builder
	for _, s := range q.sections {
		b.WriteString(quayShown(s.head) + "\n")
		for _, line := range s.lines {
			b.WriteString(" " + line + "\n")
		}
	}
	return b.String() + "that is all\n"
}

// hull is a hull router: whole orders, each with its path and its value, and "lift".
type hull struct{ orders []string }

// hullPath is the part of an order that has one value.
func hullPath(order string) string {
	words := strings.Fields(order)
	switch {
	case words[0] == "helper" && len(words) > 3 && words[2] != "tries":
		return strings.Join(words[:4], " ") // helper t 1 host
	case words[0] == "helper" && words[1] == "r":
		return "helper r tries"
	case words[0] == "helper":
		return strings.Join(words[:2], " ")
	case words[0] == "entry" && words[1] == "order", words[0] == "note" && words[1] == "session":
		return strings.Join(words[:4], " ")
	case words[0] == "note" && words[1] == "order":
		return strings.Join(words[:5], " ")
	case words[0] == "entry":
		return strings.Join(words[:3], " ")
	case words[0] == "hatch", words[0] == "name":
		return strings.Join(words[:len(words)-1], " ")
	case words[0] == "crew" && words[2] == "level":
		return strings.Join(words[:3], " ")
	case words[0] == "crew":
		return "crew " + words[1] + " word"
	case words[0] == "port":
		return strings.Join(words[:3], " ")
	}
	return order
}

func (h *hull) take(t *testing.T, line string) {
	if order, lifts := strings.CutPrefix(line, "lift "); lifts {
		before := len(h.orders)
		h.orders = slices.DeleteFunc(h.orders, func(o string) bool { return hullSame(hullShown(o), hullShown(order)) })
		require.Less(t, len(h.orders), before, "nothing to lift: %q in\n%s", line, h.shows())
		return
	}
	order, puts := strings.CutPrefix(line, "put ")
	require.True(t, puts, line)
	for i, o := range h.orders {
		if hullPath(o) == hullPath(order) {
			h.orders[i] = order
			return
		}
	}
	h.orders = append(h.orders, order)
}

// hullSame compares orders, with quotes or without.
func hullSame(a, b string) bool {
	return strings.ReplaceAll(a, "'", "") == strings.ReplaceAll(b, "'", "")
}

// hullShown is an order as the router shows it: it keeps a hash of the words of the crew.
func hullShown(order string) string {
	if name, _, is := strings.Cut(order, " plain "); is {
		return name + " mixed 77aa"
	}
	return order
}

func (h *hull) shows() string {
	var b strings.Builder
	for _, o := range h.orders {
		b.WriteString("put " + hullShown(o) + "\n")
	}
	return b.String() + "end of list\n"
}

// What is planned by the phrasebook and typed into a device that does not know it ends in the
// design; and typed back, in what was there before.
func TestWhatIsPlannedHoldsOnADeviceThatKnowsNoPhrasebook(t *testing.T) {
	t.Parallel()
	type device interface {
		take(*testing.T, string)
		shows() string
	}
	for name, fresh := range map[string]func() device{"quay-switch": func() device { return &quay{} },
		"hull-router": func() device { return &hull{} }} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			m := makes[name]
			b := book(t, m.book)
			for seed := *from; seed < *from+uint64(*designs); seed++ {
				before, d := draw(seed, m.limits), draw(seed+2_000_000, m.limits)
				is := fresh()
				block := false
				for line := range strings.Lines(strings.ReplaceAll(m.write(before), "\r", "")) {
					line = strings.TrimRight(line, "\n")
					switch foreign := strings.Fields(line)[0]; {
					case strings.HasPrefix(line, "##"), strings.HasPrefix(line, "greeting"):
						block = !block
					case block, line == "that is all", line == "end of list", foreign == "wall", foreign == "berth",
						foreign == "colour":
					default:
						is.take(t, line)
					}
				}
				held := is.shows()
				base := d.parsed(t)
				read, err := b.Read(strings.NewReader(held), nil)
				require.NoError(t, err)
				require.True(t, read.Whole, held)
				records, _ := Wanted(blueprint.Of(base.Site.Device("d")), base.Site.Device("d"), b, inClear, read)
				plan, err := b.Plan(held, records, sameHere)
				require.NoError(t, err)
				for _, step := range plan.Steps {
					typed, err := b.Text(step.Lines, true)
					require.NoError(t, err)
					for _, line := range typed {
						is.take(t, line)
					}
				}
				story := fmt.Sprintf("seed %d\n%s\nfrom\n%s", seed, is.shows(), held)
				got, err := b.Read(strings.NewReader(is.shows()), nil)
				require.NoError(t, err)
				require.True(t, got.Whole, story)
				require.False(t, slices.ContainsFunc(got.Notes, phrase.Note.LeadsNowhere), story)
				of := Of(Saved{File: "d.txt", Device: "d", Text: got})
				Make([]*Device{of}, Options{Base: base, Hash: hash})
				want, holds, _ := Compared(of, base, base.Site.Device("d"), b, Passwords{Known: hash}, false)
				for _, a := range drift.Compare(want, holds.Facts, func(drift.About, string) string { return "" }) {
					require.True(t, a.About == drift.Account && a.What == "password", "%s\n%s\n%s", story, d.site(), a)
				}

				back, err := b.Back(is.shows(), held)
				require.NoError(t, err)
				for _, step := range back.Steps {
					typed, err := b.Text(step.Lines, true)
					require.NoError(t, err)
					for _, line := range typed {
						is.take(t, line)
					}
				}
				left, err := b.Back(is.shows(), held)
				require.NoError(t, err)
				require.Empty(t, left.Steps, "seed %d", seed)
			}
		})
	}
}
