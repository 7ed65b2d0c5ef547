// Package sheet makes the change sheet of a device: what to do by hand, in the
// order in which nobody is locked out, with the logins to try on the way and
// what each must show. The logins are foreseen, not guessed.
package sheet

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

// Sheet is a change sheet.
type Sheet struct {
	Device   string
	About    []Fact
	Sections []Section
}

// Fact is a line of the heading.
type Fact struct{ Name, Value string }

// Section is one stage of the change, and why it stands where it does.
type Section struct {
	Title string
	Why   string
	Items []Item
	Tests []Test
	Then  []Item // what follows the tests
}

// Item is one thing to do.
type Item struct {
	Text    string
	Command string   // what to type at this program, "" for none
	Lines   []string // what to type on the device
	Undo    []string // and what takes that back
}

// Test is a login to try and what it must show.
type Test struct {
	Way, Person, Password string
	Expect                string
	Wait                  string       // "" for none
	NotKnown              string       // how else it may come out, by aspects that the site does not say; "" for not
	Case                  foresee.Case // what is foreseen
	Dark                  bool         // while every server is silent
	Seen                  Seen
}

// Seen is what came of a test. The zero value: it was not tried.
type Seen struct {
	At   time.Time
	Text string
	OK   bool // as foreseen
}

// waitOf says how long a login waits, the first time and while servers rest.
func waitOf(c foresee.Case) string {
	switch {
	case c.Wait == 0:
		return ""
	case c.Again != nil && c.Again.Wait != c.Wait:
		return site.ShortTime(c.Wait) + " (" + site.ShortTime(c.Again.Wait) + " while servers rest)"
	}
	return site.ShortTime(c.Wait)
}

// Of makes the sheet of a device. Its commands name the site as at. With typed, what is
// done on the device stands there in its own lines.
func Of(f foresee.Forecaster, d *site.Device, at string, typed *Typing) Sheet {
	if strings.ContainsAny(at, " '\"$&;()*?<>|\\") {
		at = "'" + strings.ReplaceAll(at, "'", `'\''`) + "'"
	}
	m := &maker{reckoner: f, device: d, at: at, plan: blueprint.Of(d),
		cases: f.Depending(f.Behaving(d, d)).For(d), dark: map[*site.Server]bool{}}
	m.servers = foresee.Shape{Devices: []*site.Device{d}, Cases: m.cases}.Servers()
	for _, s := range m.servers {
		m.dark[s] = true
	}
	m.first = FirstWay(d)
	s := Sheet{Device: d.Name, About: m.about()}
	stages := []func() Section{m.before, m.keepOpen, m.timer, m.account, m.elsewhere,
		m.asks, m.switchOn, m.lists, m.opens, m.bindFirst, m.try,
		m.outage, m.bindRest, m.records, m.limits, m.save}
	if typed != nil {
		stages = m.typed(*typed)
	}
	for _, make := range stages {
		if section := make(); len(section.Items)+len(section.Tests) > 0 {
			s.Sections = append(s.Sections, section)
		}
	}
	return s
}

type maker struct {
	reckoner foresee.Forecaster
	device   *site.Device
	at       string // the site, as a shell takes it
	plan     blueprint.Blueprint
	cases    []foresee.Case
	servers  []*site.Server
	dark     map[*site.Server]bool // all of them
	first    *site.Way             // the way in that is changed first
}

// FirstWay returns the way in that is changed and tried first. It is not the console: that
// stays as it is until the rest is proven.
func FirstWay(d *site.Device) *site.Way {
	for _, w := range d.Ways {
		if w.Access != site.Console {
			return w
		}
	}
	return d.Ways[0]
}

// worst is the longest wait of any foreseen login.
func (m *maker) worst() time.Duration {
	var worst time.Duration
	for _, c := range m.cases {
		worst = max(worst, c.Wait)
	}
	return worst
}

// timerFor is a time that leaves room for the tests: ten minutes, or more where
// logins wait long.
func (m *maker) timerFor() time.Duration {
	return max(10*time.Minute, (20*m.worst() + 5*time.Minute).Round(time.Minute))
}

func (m *maker) about() []Fact {
	facts := []Fact{{Name: "device", Value: m.device.Name + " (" + m.plan.Kind + ")"},
		{Name: "addresses", Value: strings.Join(m.plan.Addresses, ", ")},
		{Name: "requests come from", Value: strings.Join(m.sources(), ", ")},
		{Name: "longest wait of a login", Value: site.ShortTime(m.worst())}}
	if m.plan.Network != "" {
		facts = append(facts, Fact{Name: "network of requests", Value: m.plan.Network})
	}
	return facts
}

func (m *maker) before() Section {
	return Section{Title: "Before you begin", Why: "What is not at hand now cannot be fetched from a device that " +
		"is shut.",
		Items: []Item{
			{Text: "The design has no error for this device.", Command: "mellowgate check " + m.at},
			{Text: "Somebody is at the console, or it is reachable by another network.", Command: ""},
			{Text: "The password of the local account is at hand, on paper: " + m.accountNames() + ".", Command: ""},
			{Text: "What is on the device now is saved elsewhere.", Command: ""},
		}}
}

func (m *maker) accountNames() string {
	var names []string
	for _, a := range m.plan.Accounts {
		if a.Hash != "" || a.Key != "" {
			names = append(names, a.Name)
		}
	}
	if len(names) == 0 {
		return "(none: the design has no way back, look at check)"
	}
	return strings.Join(names, ", ")
}

func (m *maker) keepOpen() Section {
	return Section{Title: "Keep a session open",
		Why: "A session that is in stays in: nothing below takes its rights away.", Items: []Item{
			{Text: "Open a session with full rights, and leave it open until the end. Do all changes in it.",
				Command: ""},
			{Text: "See to it that it does not end by being idle.", Command: ""},
		}}
}

func (m *maker) timer() Section {
	return Section{Title: "Set a timed way back", Why: "If all else fails the device takes the change back by itself.",
		Items: []Item{
			{Text: fmt.Sprintf("Set the device to go back to what is saved %s from now, by a confirmed commit or a "+
				"timed restart.", site.ShortTime(m.timerFor())), Command: ""},
			{Text: "Save nothing before the last step.", Command: ""},
		}}
}

func (m *maker) account() Section {
	s := Section{Title: "The way back in first", Why: "The local account must work before anything asks a server."}
	for _, a := range m.plan.Accounts {
		how := "with the hash in the site"
		if a.Hash == "" && a.Key == "" {
			s.Items = append(s.Items, Item{Text: fmt.Sprintf(
				"Make the account %s with level %d and without a password: people take on its rights, and nobody "+
					"logs in with it.", a.Name, a.Level), Command: ""})
			continue
		}
		if a.Hash == "" {
			how = "with the password kept as the key " + a.Key
		}
		s.Items = append(s.Items,
			Item{Text: fmt.Sprintf("Make the local account %s with level %d, %s.", a.Name, a.Level, how), Command: ""},
			Item{Text: fmt.Sprintf("Log in with it from a second session: %s, level %d.", a.Name, a.Level),
				Command: ""})
	}
	for _, e := range m.plan.Secrets {
		s.Items = append(s.Items,
			Item{Text: fmt.Sprintf("Set the elevation secret %s for level %d.", e.Name, e.Level), Command: ""})
	}
	return s
}

func (m *maker) asks() Section {
	s := Section{Title: "Servers and groups", Why: "Nothing uses them yet, so nothing can break."}
	for _, v := range m.plan.Servers {
		where := fmt.Sprintf("port %d", v.Port)
		if v.Protocol == "radius" && !v.TLS {
			where = fmt.Sprintf("ports %d and %d", v.AuthenticationPort, v.AccountingPort)
		}
		key := "the key " + v.Key
		switch {
		case v.TLS:
			key = "certificates"
		case v.Directory != nil:
			key = searches(v)
		}
		rest := ""
		if v.DeadTime > 0 {
			rest = ", dead-time " + site.ShortTime(v.DeadTime)
		}
		tries := ""
		if v.Attempts > 1 {
			tries = fmt.Sprintf(", %d attempts", v.Attempts)
		}
		s.Items = append(s.Items, Item{Text: fmt.Sprintf(
			"Server %s: %s, %s, %s, %s, timeout %s%s%s.", v.Name, v.Protocol,
			v.Address, where, key, site.ShortTime(v.Timeout), tries, rest), Command: ""})
	}
	if len(m.plan.Servers) == 0 {
		return Section{}
	}
	for _, v := range m.device.Servers() {
		s.Items = append(s.Items, named(v)...)
	}
	s.Items = append(s.Items, m.leaves()...)
	for _, g := range m.plan.Groups {
		s.Items = append(s.Items,
			Item{Text: fmt.Sprintf("Group %s, in this order: %s.", g.Name, strings.Join(g.Servers, ", ")), Command: ""})
	}
	for _, g := range m.plan.Groups {
		if g.Protocol != "ldap" {
			s.Items = append(s.Items, Item{Text: "Ask the group as the device will, from this program.",
				Command: fmt.Sprintf("mellowgate ask -group %s -as %s -person %s %s", g.Name, m.device.Name,
					m.somebody(),
					m.at)})
		}
	}
	return s
}

func (m *maker) somebody() string {
	for _, c := range m.cases {
		if _, member := c.Who.Member(); c.Who.Kind == foresee.Known && c.Full() && !member {
			return c.Who.Name
		}
	}
	return "NAME"
}

func (m *maker) lists() Section {
	s := Section{Title: "Method lists", Why: "Make them all, and use none yet. The end of each list matters most."}
	for _, l := range m.plan.Lists {
		more := ""
		if l.Levels != "" {
			more += ", levels " + l.Levels
		}
		if l.When != "" {
			more += ", " + l.When
		}
		if len(l.Only) > 0 {
			more += ", only for " + strings.Join(l.Only, ", ")
		}
		s.Items = append(s.Items, Item{Text: fmt.Sprintf("List %s for %s%s: %s.", l.Name, l.Purpose, more,
			strings.Join(l.Methods, ", then ")), Command: ""})
	}
	return s
}

// bound names the lists of a way in for what comes before any record.
func (m *maker) bound(w *site.Way, records bool) string {
	var all []string
	for p, l := range w.Lists {
		if l != nil && site.Purpose(p).Records() == records {
			all = append(all, site.Purpose(p).String()+" "+l.Name)
		}
	}
	return strings.Join(all, ", ")
}

func (m *maker) bindFirst() Section {
	bound := m.bound(m.first, false)
	if bound == "" {
		return Section{}
	}
	for _, a := range m.plan.Accounts {
		if a.Login != "" {
			bound += "; for the name " + a.Name + " the login " + a.Login
		}
	}
	return Section{Title: "One way in, not the console",
		Why: "If it goes wrong, the console and the open session are as before.", Items: slices.Concat([]Item{
			{Text: fmt.Sprintf("Let %s use: %s.", m.first.Name(), bound), Command: ""}}, m.restarts(m.first),
			[]Item{{Text: "Do not close the open session.", Command: ""}})}
}

func (m *maker) try() Section {
	s := Section{Title: "Try it, from a second session",
		Why:   "Each login must come out as it is written here. One that does not: take the change back, and ask why.",
		Tests: m.tests(m.first, nil)}
	if len(m.servers) > 0 {
		s.Then = append(s.Then, Item{Text: "A login is not as written here? Find the cause before you go on.",
			Command: "mellowgate why -device " + m.device.Name + " " + m.at})
	}
	return s
}

func (m *maker) outage() Section {
	if len(m.servers) == 0 {
		return Section{}
	}
	names := make([]string, len(m.servers))
	for i, s := range m.servers {
		names[i] = s.Name
	}
	s := Section{Title: "The outage, on purpose", Why: "The fallback that was never tried is the one that does not " +
		"work.",
		Items: []Item{
			{Text: "Make every server silent for this device: a filter for " + strings.Join(names, ", ") +
				" that drops, near the device.", Command: ""},
		}, Tests: m.tests(m.first, m.dark)}
	away := "Take the filter away."
	if rest := m.longestRest(); rest > 0 {
		away = "Take the filter away, and wait until the dead-time of the servers is over: " + site.ShortTime(rest) +
			"."
	}
	s.Then = []Item{{Text: away, Command: ""},
		{Text: "Log in once more with a person with full rights: as in the step before.", Command: ""}}
	return s
}

func (m *maker) longestRest() time.Duration {
	var longest time.Duration
	for _, s := range m.servers {
		longest = max(longest, m.device.Patience(s).DeadTime)
	}
	return longest
}

func (m *maker) bindRest() Section {
	s := Section{Title: "The other ways in", Why: "One after another, the console last, each tried before the next."}
	ways := slices.Clone(m.device.Ways)
	slices.SortStableFunc(ways, func(a, b *site.Way) int { return console(a) - console(b) })
	for _, w := range ways {
		if bound := m.bound(w, false); w != m.first && bound != "" {
			s.Items = append(s.Items, Item{Text: fmt.Sprintf("Let %s use: %s.", w.Name(), bound), Command: ""})
			s.Items = append(s.Items, m.restarts(w)...)
			s.Tests = append(s.Tests, m.tests(w, nil)...)
		}
	}
	return s
}

func console(w *site.Way) int {
	if w.Access == site.Console {
		return 1
	}
	return 0
}

func (m *maker) records() Section {
	s := Section{Title: "Records", Why: "Last, because they let nobody in and shut nobody out."}
	for _, w := range m.device.Ways {
		if bound := m.bound(w, true); bound != "" {
			s.Items = append(s.Items, Item{Text: fmt.Sprintf("Let %s use: %s.", w.Name(), bound), Command: ""})
		}
	}
	if len(s.Items) > 0 {
		s.Items = append(s.Items, Item{Text: "Log in, type one harmless command, log out, and see all three in the " +
			"ledger.",
			Command: "mellowgate ledger -device " + m.device.Name})
	}
	return s
}

func (m *maker) save() Section {
	return Section{Title: "Keep it", Why: "Only now: what is saved comes back after a restart.", Items: []Item{
		{Text: "Save on the device.", Command: ""},
		{Text: "End the timer.", Command: ""},
		{Text: "Log in once more, and only then close the session that was open.", Command: ""},
		{Text: "Put the password of the local account back where it is kept.", Command: ""},
	}}
}
