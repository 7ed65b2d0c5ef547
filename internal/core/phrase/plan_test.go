package phrase

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var makePlans = flag.Bool("make-plans", false, "write testdata/plans.txt anew, to be read by eye")

// planned says a plan: each step with its phase, what it types, and what takes it back.
func planned(t *testing.T, p *Plan) string {
	var b strings.Builder
	for _, s := range p.Steps {
		fmt.Fprintf(&b, "%s %s", s.Phase, s.Record)
		if s.Unseen {
			b.WriteString(", a form that was not seen")
		}
		if s.Stuck != "" {
			b.WriteString(", for good: " + s.Stuck)
		}
		b.WriteString("\n")
		for sign, sentences := range map[string][]*Sentence{"  + ": s.Lines, "  - ": s.Undo} {
			shown, err := p.book.Text(sentences, false)
			require.NoError(t, err)
			if sign == "  + " {
				for _, line := range shown {
					b.WriteString(sign + line + "\n")
				}
			}
		}
		back, err := p.book.Text(s.Undo, false)
		require.NoError(t, err)
		for _, line := range back {
			b.WriteString("  - " + line + "\n")
		}
	}
	for _, u := range p.Left {
		b.WriteString("cannot be said: " + u.String() + "\n")
	}
	for _, s := range p.Stays {
		b.WriteString("stays: " + s + "\n")
	}
	return b.String()
}

// worded is a make with end words, lines that are taken back by phrases of their own, and
// quotes with an escape.
const worded = `layout: {sections: end-word, end-word: done, quote: "'", escape: '\', words: any-case}
tables: {kind: {ask: radius, order: tacacs}, method: {"crew <group>": "group <group>", own: local}, door: {shell: ssh, panel: console}}
types: {span: {unit: 1s}, word: {forms: {"clear <key>": clear, "folded <key>": hidden}}}
territory: [tower, crew, keeper, portal]
phrases:
- about: server
  say: tower <name> of <protocol as kind> at <address>
  undo: no tower <name>
  below:
  - {say: "word <key as word>", undo: no word}
  - {say: "[wait <timeout as span>] [tries <attempts>]", any-order: yes, undo: no patience}
- about: group
  say: crew <name>
  undo: no crew <name>
  below: [{say: "has <servers>+(then)", again: replaces, undo: has none}]
- about: way
  say: portal <access as door>
  undo: no portal <access as door>
  below:
  - {say: "try <methods as method>+,", lists: login, again: replaces, undo: try nothing}
- {about: account, say: "keeper <name> level <level> word <password as word>", undo: no keeper <name>}
`

// From what a text says to what another says: the steps, in testdata/plans.txt, which is read
// by eye. What was typed is then what is held; and what takes it back does.
func TestPlansFromOneTextToAnother(t *testing.T) {
	t.Parallel()
	file, err := os.ReadFile("testdata/plans.txt")
	require.NoError(t, err)
	var made strings.Builder
	cases := strings.Split(string(file), "\n== ")
	require.Greater(t, len(cases), 15)
	made.WriteString(cases[0])
	for _, one := range cases[1:] {
		title, rest, _ := strings.Cut(one, "\n")
		before, rest, found := strings.Cut(rest, "\n->\n")
		require.True(t, found, title)
		after, want, found := strings.Cut(rest, "\n=>\n")
		require.True(t, found, title)
		_, name, _ := strings.Cut(title, ": ")
		var b *Book
		switch name {
		case "worded":
			b = small(t, worded)
		case "tagged":
			b = small(t, tagged)
		case "quay-switch", "hull-router":
			b = book(t, shipped+"phrasebooks/"+name+".yaml")
		default:
			b = book(t, "testdata/"+name+".yaml")
		}
		before, after = before+"\n", after+"\n"
		plan, err := b.Back(before, after)
		require.NoError(t, err, title)
		if _, err := b.Text(nil, true); err != nil {
			want = strings.TrimSpace(want)
			require.ErrorContains(t, err, want, title)
			fmt.Fprintf(&made, "\n== %s\n%s->\n%s=>\n%s", title, before, after, want)
			continue
		}
		is := planned(t, plan)
		fmt.Fprintf(&made, "\n== %s\n%s->\n%s=>\n%s", title, before, after, strings.TrimRight(is, "\n"))
		if !*makePlans {
			require.Equal(t, strings.TrimSpace(want), strings.TrimSpace(is), title)
		}
		if len(plan.Left) > 0 || len(plan.Stays) > 0 {
			continue
		}
		now, err := plan.After(len(plan.Steps))
		require.NoError(t, err, title)
		left, err := b.Back(now, after)
		require.NoError(t, err, title)
		require.Empty(t, left.Steps, "%s\n%s\n%s", title, now, planned(t, left))
	}
	if *makePlans {
		require.NoError(t, os.WriteFile("testdata/plans.txt", []byte(strings.TrimRight(made.String(), "\n")+"\n"),
			0o644))
	}
}

// The first step that is safe comes next; two that are only safe together are one; members
// keep their order; and what is safe in no order is marked.
func TestStepsAreArrangedSoThatEachIsSafe(t *testing.T) {
	t.Parallel()
	plan := func() *Plan {
		b := book(t, shipped+"phrasebooks/quay-switch.yaml")
		p, err := b.Back("plan a who own\nplan b who own\nthat is all\n",
			"plan a who free\nplan b who free\nplan c who own\nthat is all\n")
		require.NoError(t, err)
		require.Len(t, p.Steps, 3)
		return p
	}
	order := func(p *Plan) (all []string) {
		for _, s := range p.Steps {
			line := ""
			for _, l := range s.Lines {
				line += l.Shown() + ";"
			}
			if s.Unsafe {
				line += " unsafe"
			}
			all = append(all, line)
		}
		return all
	}
	p := plan()
	require.Zero(t, p.Arrange(func(string) bool { return true }))
	require.Equal(t, []string{"plan a who free;", "plan b who free;", "plan c who own;"}, order(p))
	p = plan()
	require.Zero(t, p.Arrange(func(text string) bool { // c before all others
		return strings.Contains(text, "plan c who own")
	}))
	require.Equal(t, []string{"plan c who own;", "plan a who free;", "plan b who free;"}, order(p))
	p = plan()
	require.Zero(t, p.Arrange(func(text string) bool { // a and b are alike
		return strings.Contains(text, "plan a who free") == strings.Contains(text, "plan b who free")
	}))
	require.Equal(t, []string{"plan c who own;", "plan a who free;plan b who free;"}, order(p))
	require.Len(t, p.Steps[1].Undo, 2)
	p = plan()
	require.Equal(t, 3, p.Arrange(func(string) bool { return false }))
	require.Equal(t, []string{"plan a who free; unsafe", "plan b who free; unsafe", "plan c who own; unsafe"}, order(p))

	b := book(t, shipped+"phrasebooks/quay-switch.yaml")
	gates := "gate a tac at 192.0.2.1\ngate b tac at 192.0.2.2\ngate c tac at 192.0.2.3\n"
	p, err := b.Back(gates+"ring r\n gate a\n gate b\n gate c\nthat is all\n",
		gates+"ring r\n gate c\n gate b\n gate a\nthat is all\n")
	require.NoError(t, err)
	was := order(p)
	require.Zero(t, p.Arrange(func(text string) bool { return true }))
	require.Equal(t, was, order(p))
	p.Steps[0], p.Steps[1] = p.Steps[1], p.Steps[0]
	swapped := order(p)
	p.Arrange(func(text string) bool {
		return strings.Count(text, "drop gate b") == 1 ||
			!strings.Contains(text, "drop gate a")
	})
	require.Equal(t, swapped, order(p), "steps of a chain do not overtake each other")
}

// What holds where no line says it is not said, and what differs from it is.
func TestWhatHoldsByItselfIsLeftOut(t *testing.T) {
	t.Parallel()
	value := func(text string) []Value { return []Value{{Text: text}} }
	text := `layout: {sections: indent}
territory: [gate, wait, word, door]
version: release <version>
unsaid:
  device[radius].key: "all"
  server.key: device[radius].key
  device.timeout: 4s
  server.timeout: device.timeout
  server.port: {"2": "50", default: "49"}
  way[ssh].state: "on"
  way[telnet].state: "off"
phrases:
- {about: device, say: "word <key>", where: {protocol: radius}}
- {about: device, say: "wait <timeout>"}
- about: server
  say: gate <name>
  where: {protocol: radius}
  below: [{say: wait <timeout>}, {say: word <key>}, {say: port <port>}]
- {about: way, say: "door <access>", below: [{say: shut, where: {state: "off"}}, {say: open, where: {state: "on"}}]}
`
	text = strings.Replace(text, `{"2": "50", default: "49"}`, `"49"`, 1)
	for says, records := range map[string][]*Record{
		"gate a": {NewRecord(Device, map[string][]Value{}),
			NewRecord(Device, map[string][]Value{"protocol": value("radius")}),
			NewRecord(Server, map[string][]Value{"name": value("a"), "protocol": value("radius"),
				"timeout": value("4s"),
				"port":    value("49"), "key": value("all")})},
		"gate a, wait 5s, word own, port 50": {NewRecord(Device, map[string][]Value{}),
			NewRecord(Device, map[string][]Value{"protocol": value("radius")}),
			NewRecord(Server, map[string][]Value{"name": value("a"), "protocol": value("radius"),
				"timeout": value("5s"),
				"port":    value("50"), "key": value("own")})},
		"wait 9s, gate a": {NewRecord(Device, map[string][]Value{"timeout": value("9s")}),
			NewRecord(Server, map[string][]Value{"name": value("a"), "protocol": value("radius"),
				"timeout": value("9s")})},
		"": {NewRecord(Way, map[string][]Value{"access": value("telnet"), "state": value("off")})},
		"door ssh, shut, door telnet, open": {
			NewRecord(Way, map[string][]Value{"access": value("ssh"), "state": value("off")}),
			NewRecord(Way, map[string][]Value{"access": value("telnet"), "state": value("on")})},
	} {
		b := small(t, text)
		sentences, left := b.Write(records)
		require.Empty(t, left, says)
		lines, err := b.Text(sentences, true)
		require.NoError(t, err)
		for i := range lines {
			lines[i] = strings.TrimSpace(lines[i])
		}
		require.Equal(t, says, strings.Join(lines, ", "))
	}
}

// Whatever is wrong with a text: a plan from it and to it is made or refused, and what was typed
// can be read.
func TestPlansOfDamagedTexts(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(20261128, 3))
	for file, from := range texts {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		b := book(t, from)
		for range *mutations / 4 {
			lines := strings.Split(string(text), "\n")
			for range 1 + r.IntN(3) {
				i, j := r.IntN(len(lines)), r.IntN(len(lines))
				words := strings.Fields(lines[i])
				switch r.IntN(5) {
				case 0:
					lines[i], lines[j] = lines[j], lines[i]
				case 1:
					lines[i] = lines[j]
				case 2:
					lines[i] = ""
				case 3:
					if len(words) > 1 {
						words = words[:len(words)-1]
					}
					lines[i] = strings.Join(words, " ")
				default:
					lines[i] = "drop " + lines[i]
				}
			}
			damaged := strings.Join(lines, "\n")
			for _, pair := range [][2]string{{damaged, string(text)}, {string(text), damaged}} {
				plan, err := b.Back(pair[0], pair[1])
				require.NoError(t, err)
				now, err := plan.After(len(plan.Steps))
				if err == nil {
					_, err = b.Read(strings.NewReader(now), nil)
					require.NoError(t, err)
				}
			}
		}
	}
}
