package foresee

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
)

// PrintCases prints a table for each device. Devices whose tables are the same
// share one; rows that differ in person or way in only are one row.
func PrintCases(w io.Writer, style show.Style, shapes []foresee.Shape) {
	type block struct {
		devices []string
		rows    [][]string
		below   []string
	}
	var blocks []*block
	at := map[string]*block{}
	for _, sh := range shapes {
		if len(sh.Cases) == 0 {
			continue
		}
		rows := caseRows(style, sh.Cases)
		below := append(heldRules(sh.Cases), dependsText(sh.Cases)...)
		key := fmt.Sprint(rows, below)
		if at[key] == nil {
			at[key] = &block{rows: rows, below: below}
			blocks = append(blocks, at[key])
		}
		for _, d := range sh.Devices {
			at[key].devices = append(at[key].devices, d.Name)
		}
	}
	for i, b := range blocks {
		if i > 0 {
			_, _ = fmt.Fprintln(w)
		}
		style.Wrap(w, "", style.Paint(show.Strong, strings.Join(b.devices, ", ")))
		style.Table(w, []string{"access", "person", "when", "outcome", "level", "answered by", "wait", "then"}, b.rows,
			0, 1,
			2, 5)
		for _, line := range b.below {
			style.Wrap(w, "", line)
		}
	}
}

// dependsText says on which aspects that are not known logins depend: for each value how
// many come out otherwise, and one of them. Values that do the same share a line.
func dependsText(cases []foresee.Case) []string {
	type turn struct {
		aspect site.Aspect
		value  string
	}
	counts := map[turn]int{}
	first := map[turn]string{}
	order := []turn(nil)
	for _, c := range cases {
		for _, d := range c.Depends {
			t := turn{aspect: d.Aspect, value: d.Value}
			if counts[t] += len(c.SameOutcome); first[t] == "" {
				order, first[t] = append(order, t), turnedText(c, d)
			}
		}
	}
	slices.SortStableFunc(order, func(a, b turn) int { return int(a.aspect) - int(b.aspect) })
	type line struct {
		aspect site.Aspect
		values []string
		text   string
	}
	var lines []line
	for _, t := range order {
		text := first[t]
		if n := counts[t] - 1; n > 0 {
			text += fmt.Sprintf("; and so for %s", show.Count(n, "other login"))
		}
		if last := len(lines) - 1; last >= 0 && lines[last].aspect == t.aspect && lines[last].text == text {
			lines[last].values = append(lines[last].values, t.value)
		} else {
			lines = append(lines, line{aspect: t.aspect, values: []string{t.value}, text: text})
		}
	}
	all := make([]string, len(lines))
	for i, l := range lines {
		all[i] = fmt.Sprintf("depends on %s, which is not known: with %s, %s", l.aspect, orList(l.values), l.text)
	}
	return all
}

// turnedText says how a login comes out with a value of an aspect, and how else.
func turnedText(c foresee.Case, d foresee.Depend) string {
	who := fmt.Sprintf("%s by %s (%s)", c.Who.Name, c.Way.Name(),
		call.WhenText(foresee.Case{When: slices.Concat(c.When, d.When)}))
	if c.SameAtFirst(*d.Case) {
		return fmt.Sprintf("the second login of %s is %s, and else %s", who, againEnd(*d.Case.Again),
			againEnd(*c.Again))
	}
	return fmt.Sprintf("%s is %s, and else %s", who, endText(*d.Case), endText(c))
}

// endText is how a login comes out, in a few words.
func endText(c foresee.Case) string {
	if c.Outcome == walk.OutcomeRefused {
		return string(c.Outcome)
	}
	return fmt.Sprintf("%s at level %s by %s", c.Outcome, levelText(c), c.By)
}

func againEnd(a foresee.Again) string {
	if a.Outcome == walk.OutcomeRefused {
		return string(a.Outcome)
	}
	return fmt.Sprintf("%s at level %d by %s", a.Outcome, a.Level, a.By)
}

// heldRules says which rules for commands a device holds for whom, where these came with
// the login; nothing of people who may use every command.
func heldRules(cases []foresee.Case) (rules []string) {
	people, texts := map[string][]string{}, []string(nil)
	for _, c := range cases {
		text := call.RulesText(c.Rules)
		if c.Rules == nil || strings.HasPrefix(text, "allow **") {
			continue
		}
		if people[text] == nil {
			texts = append(texts, text)
		}
		for _, who := range c.SameOutcome {
			if !slices.Contains(people[text], who.Name) {
				people[text] = append(people[text], who.Name)
			}
		}
	}
	for _, text := range texts {
		rules = append(rules, fmt.Sprintf("the device holds rules for the commands of %s: %s",
			strings.Join(people[text], ", "),
			text))
	}
	return rules
}

func caseRows(style show.Style, cases []foresee.Case) [][]string {
	var rows [][]string
	for _, r := range merge(cases) {
		c := r.example
		outcome := style.Paint(show.OutcomeTone(string(c.Outcome)), string(c.Outcome))
		rows = append(rows, []string{strings.Join(r.ways, ", "), strings.Join(r.people, ", "), r.when, outcome,
			levelText(c),
			byText(c), show.Seconds(c.Wait), againText(c)})
	}
	return rows
}

type mergedRow struct {
	example      foresee.Case
	ways, people []string
	when         string
	states       [][]string // of each server of example.When
}

// merge joins cases that differ in the person only, then rows that differ in
// the way in only, and then rows that differ in the states only, where these
// are all combinations of some states of each server.
func merge(cases []foresee.Case) []*mergedRow {
	var byPerson, rows []*mergedRow
	at := map[string]*mergedRow{}
	for _, c := range cases {
		key := c.Way.Name() + "|" + outcomeKey(c)
		var people []string
		for _, who := range c.SameOutcome {
			people = append(people, who.Name)
		}
		if r, ok := at[key]; ok {
			r.people = append(r.people, people...)
			continue
		}
		at[key] = &mergedRow{example: c, ways: []string{c.Way.Name()}, people: people, when: call.WhenText(c),
			states: statesOf(c)}
		byPerson = append(byPerson, at[key])
	}
	at = map[string]*mergedRow{}
	for _, r := range byPerson {
		key := strings.Join(r.people, ",") + "|" + outcomeKey(r.example)
		if have, ok := at[key]; ok {
			have.ways = append(have.ways, r.ways...)
			continue
		}
		at[key] = r
		rows = append(rows, r)
	}
	return mergeStates(rows)
}

// mergeStates joins rows whose states make a product, such as a server closed
// or in error, and another one up or silent.
func mergeStates(rows []*mergedRow) []*mergedRow {
	var groups [][]*mergedRow
	places := map[string]int{}
	for _, r := range rows {
		c := r.example
		key := fmt.Sprint(r.ways, r.people, c.Outcome, levelText(c), byText(c), c.Wait, againText(c))
		for _, w := range c.When {
			key += w.Server.Name + ","
		}
		i, known := places[key]
		if !known {
			i = len(groups)
			places[key] = i
			groups = append(groups, nil)
		}
		groups[i] = append(groups[i], r)
	}
	var merged []*mergedRow
	for _, g := range groups {
		merged = append(merged, joinStates(g)...)
	}
	return merged
}

// joinStates joins rows that differ in the states of one server, again and
// again, until none do.
func joinStates(rows []*mergedRow) []*mergedRow {
	for i := 0; i < len(rows); i++ {
		for j := i + 1; j < len(rows); j++ {
			if rows[i].takeStates(rows[j]) {
				rows = slices.Delete(rows, j, j+1)
				i, j = -1, len(rows)
			}
		}
	}
	return rows
}

// takeStates adds the states of another row, where they differ in one server
// only.
func (r *mergedRow) takeStates(other *mergedRow) bool {
	index := -1
	for i := range r.states {
		if !slices.Equal(r.states[i], other.states[i]) {
			if index >= 0 {
				return false
			}
			index = i
		}
	}
	if index < 0 {
		return false
	}
	r.states[index] = append(slices.Clone(r.states[index]), other.states[index]...)
	var parts []string
	for i, w := range r.example.When {
		parts = append(parts, w.Server.Name+" "+orList(r.states[i]))
	}
	r.when = strings.Join(parts, "; ")
	return true
}

func orList(words []string) string {
	if len(words) == 1 {
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// statesOf returns the state of each server of a case, as sets of one.
func statesOf(c foresee.Case) [][]string {
	states := make([][]string, len(c.When))
	for i, w := range c.When {
		states[i] = []string{string(w.State)}
	}
	return states
}

func outcomeKey(c foresee.Case) string {
	return fmt.Sprint(call.WhenText(c), c.Outcome, levelText(c), byText(c), c.Wait, againText(c))
}

func levelText(c foresee.Case) string {
	if c.Outcome == walk.OutcomeRefused {
		return "-"
	}
	text := fmt.Sprint(c.Level)
	if c.Raised > c.Level {
		text += fmt.Sprintf(" to %d", c.Raised)
	}
	if c.Stuck {
		text += " stuck"
	}
	return text
}

// againText is how a second login goes while servers rest, "" where it goes as
// the first.
func againText(c foresee.Case) string {
	switch {
	case c.Again == nil:
		return ""
	case c.Again.Outcome != c.Outcome || c.Again.Level != c.Level:
		return fmt.Sprintf("%s, %s", c.Again.Outcome, show.Seconds(c.Again.Wait))
	case c.Again.Wait == c.Wait:
		return ""
	}
	return show.Seconds(c.Again.Wait)
}

func byText(c foresee.Case) string {
	if c.By == "" {
		return "nobody (" + string(c.Reason) + ")"
	}
	if c.Outcome == walk.OutcomeRefused && c.Reason != "" && c.Reason != reason.RefusedByServer {
		return c.By + " (" + string(c.Reason) + ")"
	}
	return c.By
}
