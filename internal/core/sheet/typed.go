package sheet

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/site"
)

// Typing is what is typed on a device, in the words of its make, in the order in which
// nobody is locked out.
type Typing struct {
	Make   string
	Enter  []string // what is typed to come where the device is configured
	Leave  []string
	Commit string // makes what was typed take effect, "" where it does at once, or when it is saved
	AtSave bool   // it takes effect when it is saved
	Save   string
	// SetBack returns what sets a timed way back; nil where the make has none.
	SetBack func(time.Duration) string
	CallOff string
	Steps   []TypedStep
	// TryAfter is after how many steps the first way in is as the design has it.
	TryAfter int
	Left     []string // what of the design cannot be typed
	ByHand   []string // stands in the lines for secrets that are put in by hand
}

// TypedStep is what is typed at once.
type TypedStep struct {
	About  string
	Lines  []string
	Undo   []string
	Stuck  string // why it cannot be taken back, "" where it can
	Binds  bool   // a way in takes its lists, or is opened
	Goes   bool   // something is taken away
	Unsafe bool   // until the next step nobody with full rights gets in
	Unseen bool   // no line of the device's own text was of this form
}

// typed puts the lines in the place of what is said in words. The first way in is tried as
// soon as it is as the design has it.
func (m *maker) typed(t Typing) []func() Section {
	try := min(t.TryAfter, len(t.Steps))
	if t.Commit != "" || t.AtSave {
		try = len(t.Steps)
	}
	first := slices.IndexFunc(t.Steps, func(s TypedStep) bool { return s.Binds || s.Goes })
	if first < 0 || first > try {
		first = try
	}
	lines := func(title, why string, steps []TypedStep) func() Section {
		return func() Section { return typedSection(title, why, steps) }
	}
	return []func() Section{m.before, m.keepOpen, func() Section { return m.timerTyped(t) },
		func() Section { return beginTyped(t) },
		lines("Type what is new", "No way in uses it yet, or it is what it uses already.", t.Steps[:first]),
		m.askTyped,
		lines("Bring it into use", "If it goes wrong, the open session is as before.", t.Steps[first:try]),
		func() Section { return m.effectTyped(t) }, m.try, m.outage,
		lines("The rest", "What nobody uses any more goes last.", t.Steps[try:]), m.testRest,
		m.limits, func() Section { return saveTyped(t) }}
}

// effectTyped lets what was typed take effect, where it does not at once: for a time first,
// where the make can.
func (m *maker) effectTyped(t Typing) Section {
	s := Section{Title: "Let it take effect", Why: "Until now the device holds what it held."}
	switch {
	case t.Commit != "" && t.SetBack != nil:
		s.Items = []Item{{Text: fmt.Sprintf("For a time only: the device goes back by itself, %s from now.",
			site.ShortTime(m.timerFor())), Lines: []string{t.SetBack(m.timerFor())}}}
	case t.Commit != "":
		s.Items = []Item{{Text: "Type this, and keep the session open.", Lines: []string{t.Commit}}}
	case t.AtSave && t.Save != "":
		s.Items = []Item{{Text: "Saving does that. Keep the session open.", Lines: []string{t.Save}}}
	}
	return s
}

func (m *maker) timerTyped(t Typing) Section {
	s := m.timer()
	if t.Commit != "" && t.SetBack != nil {
		s.Items = []Item{{Text: "What is typed takes effect only once it is committed, and that is for a time " +
			"first: see below."}}
		return s
	}
	if t.SetBack == nil {
		s.Items = []Item{{Text: "The make has no timed way back, as far as its phrasebook says. The lines that " +
			"take each step back stand beside it: have them at hand, and somebody at the console."},
			{Text: "Save nothing before the last step."}}
		return s
	}
	s.Items[0] = Item{Text: fmt.Sprintf("Type this: the device then goes back by itself, %s from now.",
		site.ShortTime(m.timerFor())),
		Lines: []string{t.SetBack(m.timerFor())}}
	return s
}

func beginTyped(t Typing) Section {
	s := Section{Title: "Begin to type", Why: "The lines are those of the phrasebook of " + t.Make + "."}
	if len(t.Enter) > 0 {
		s.Items = append(s.Items, Item{Text: "Go where the device is configured.", Lines: t.Enter})
	}
	for _, name := range t.ByHand {
		s.Items = append(s.Items, Item{Text: "Put the secret in the place of " + name + " where it is typed."})
	}
	for _, left := range t.Left {
		s.Items = append(s.Items, Item{Text: "Not in the lines: " + left + "."})
	}
	if len(t.Steps) == 0 {
		nothing := "Nothing is to be typed: what the device holds is the design, as far as its make can say it."
		s.Items = []Item{{Text: nothing}}
	}
	return s
}

func typedSection(title, why string, steps []TypedStep) Section {
	s := Section{Title: title, Why: why}
	for _, step := range steps {
		item := Item{Text: "For " + step.About + ":", Lines: step.Lines, Undo: step.Undo}
		var notes []string
		if step.Unseen {
			notes = append(notes, "such a line was never seen on this device")
		}
		if step.Unsafe {
			notes = append(notes, "until the next step is typed, nobody with full rights gets in: type it at once")
		}
		if step.Stuck != "" {
			notes = append(notes, "nothing takes it back: "+step.Stuck)
		}
		if len(notes) > 0 {
			item.Text = "For " + step.About + " (" + strings.Join(notes, "; ") + "):"
		}
		s.Items = append(s.Items, item)
	}
	return s
}

// askTyped asks the groups from this program, before a way in uses them.
func (m *maker) askTyped() Section {
	s := Section{Title: "Ask the servers", Why: "Before a way in uses them."}
	for _, item := range m.asks().Items {
		if item.Command != "" {
			s.Items = append(s.Items, item)
		}
	}
	return s
}

// testRest are the logins at the other ways in.
func (m *maker) testRest() Section {
	s := Section{Title: "Try the other ways in", Why: "The console last."}
	ways := slices.Clone(m.device.Ways)
	slices.SortStableFunc(ways, func(a, b *site.Way) int { return console(a) - console(b) })
	for _, w := range ways {
		if w != m.first {
			s.Tests = append(s.Tests, m.tests(w, nil)...)
		}
	}
	for _, item := range m.records().Items {
		if item.Command != "" {
			s.Then = append(s.Then, item)
		}
	}
	return s
}

func saveTyped(t Typing) Section {
	s := Section{Title: "Keep it", Why: "Only now: what is saved comes back after a restart."}
	callOff := func() {
		if t.CallOff != "" {
			s.Items = append(s.Items, Item{Text: "Call the way back off.", Lines: []string{t.CallOff}})
		}
	}
	if t.Commit != "" { // its form that holds is typed where the lines are
		callOff()
	}
	if len(t.Leave) > 0 {
		s.Items = append(s.Items, Item{Text: "Leave where the device is configured.", Lines: t.Leave})
	}
	if t.Commit == "" {
		callOff()
	}
	save := Item{Text: "Save on the device."}
	if t.Save != "" {
		save.Lines = []string{t.Save}
	}
	s.Items = append(s.Items, save,
		Item{Text: "Log in once more, and only then close the session that was open."},
		Item{Text: "Put the password of the local account back where it is kept."})
	return s
}
