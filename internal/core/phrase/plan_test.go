package phrase

import (
	"flag"
	"fmt"
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
		for sign, all := range map[string][]*Sentence{"  + ": s.Lines, "  - ": s.Undo} {
			shown, err := p.book.Text(all, false)
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
		require.NoError(t, os.WriteFile("testdata/plans.txt", []byte(strings.TrimRight(made.String(), "\n")+"\n"), 0o644))
	}
}
