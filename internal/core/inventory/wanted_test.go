package inventory

import (
	"flag"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/site"
	"mellowgate/internal/testscale"
)

var howMany = flag.Int("pairs", testscale.Of(1, 2), "from how many designs at random others are reached, for each make")

// in clear are the secrets of designs at random: the names of keys are their values.
var inClear = Secrets{Key: func(name string) string { return name },
	Password: func(string) string { return "typed-77aa" }}

// parsed is a design at random as a site, with its keys.
func (d *drawn) parsed(t *testing.T) Base {
	s, err := site.Parse(site.Source{Name: "s.yaml", Text: []byte(d.site())})
	require.NoError(t, err, d.site())
	base := Base{Site: s, Keys: site.Keys{"none": site.NewSecret("typed-77aa")}}
	for i := range 3 {
		base.Keys[fmt.Sprintf("Word-%d", i)] = site.NewSecret(fmt.Sprintf("Word-%d", i))
	}
	return base
}

// What is written of a design, by the phrasebook alone, is read as that design again.
func TestDesignsAtRandomAreWrittenAndReadAsTheyAre(t *testing.T) {
	t.Parallel()
	for name, m := range makes {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := book(t, m.book)
			if name == "lantern-point" { // it says some things otherwise in another version
				require.NoError(t, b.SetVersion("3.2"))
			}
			for seed := *from; seed < *from+uint64(*designs); seed++ {
				d := draw(seed, m.limits)
				base := d.parsed(t)
				device := base.Site.Device("d")
				records, left := Wanted(blueprint.Of(device), device, b, inClear, nil)
				sentences, unsaid := b.Write(records)
				for _, u := range unsaid {
					if u.Record.About != phrase.Account || name != "crane-controller" && name != "lantern-point" {
						left = append(left, u.String())
					}
				}
				require.Empty(t, left, "seed %d\n%s", seed, d.site())
				lines, err := b.Text(sentences, true)
				require.NoError(t, err)
				text := strings.Join(lines, "\n") + "\n"
				got, err := b.Read(strings.NewReader(text+end(name)), nil)
				require.NoError(t, err)
				require.True(t, got.Whole, "seed %d\n%s\n%v %v", seed, text, got.Unread, got.Notes)
				require.Empty(t, got.Notes, "seed %d\n%s", seed, text)
				read := Of(Saved{File: "d.txt", Device: "d", Text: got})
				Make([]*Device{read}, Options{Base: base, Hash: hash})
				want, held, _ := Compared(read, base, device, b, Passwords{Known: hash}, false)
				for _, a := range drift.Compare(want, held.Facts, func(drift.About, string) string { return "" }) {
					unsaid := a.About == drift.Account && (a.What == "password" || name == "crane-controller")
					require.True(t, unsaid, "seed %d\n%s\n%s\n%+v", seed, text, d.site(), a)
				}
			}
		})
	}
}

// end is the last line of a text of a make.
func end(name string) string {
	return map[string]string{"quay-switch": "that is all\n", "hull-router": "end of list\n",
		"lantern-point": "[end]\n"}[name]
}

// sameHere says that no secret can be told from another where one is a hash.
func sameHere(_ string, held, wanted phrase.Value) bool {
	return held.Secret != phrase.Clear || held.Text == wanted.Text
}

const people = `
people: [{name: ines, teams: [net], password: key none}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
`

// fullIn tells who gets in with full rights on the device of a text: while every server
// answers, and while none does.
func fullIn(t *testing.T, b *phrase.Book, d *drawn, base Base, text string) (up, dark bool) {
	got, err := b.Read(strings.NewReader(text), nil)
	require.NoError(t, err)
	require.True(t, got.Whole, text)
	if slices.ContainsFunc(got.Notes, phrase.Note.LeadsNowhere) {
		return false, false // it leads nowhere
	}
	made := Make([]*Device{Of(Saved{File: "d.txt", Device: "d", Text: got})}, Options{Base: base, Hash: hash})
	s, err := site.Parse(site.Source{Name: "s.yaml", Text: []byte(d.site() + people)},
		site.Source{Name: "d.txt", Text: []byte(made.Site), Lines: made.Lines, Replaces: true})
	require.NoError(t, err, "%s\n%s", text, made.Site)
	keys := site.Keys{}
	for name, value := range base.Keys {
		keys[name] = value
	}
	for name, value := range made.Keys {
		keys[name] = value
	}
	shape := foresee.Forecaster{Site: s, Keys: keys, SkipSecond: true}.Shapes([]*site.Device{s.Device("d")})[0]
	silent := map[*site.Server]bool{}
	for _, server := range shape.Servers() {
		silent[server] = true
	}
	for _, c := range shape.Cases {
		up = up || c.Full() && c.Holds(nil)
		dark = dark || c.Full() && c.Holds(silent)
	}
	return up, dark
}

// From any design that a device holds to any other: what is typed step by step ends in the
// design, and no step takes away the last way in with full rights.
func TestAnyDesignIsReachedFromAnyOther(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"quay-switch", "hull-router"} {
		m := makes[name]
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := book(t, m.book)
			unsafe, all := 0, 0
			defer func() { t.Logf("%d of %d steps are not safe in any order", unsafe, all) }()
			for seed := *from; seed < *from+uint64(*howMany); seed++ {
				before, d := draw(seed, m.limits), draw(seed+1_000_000, m.limits)
				held := strings.ReplaceAll(m.write(before), "\r\n", "\n")
				base := d.parsed(t)
				device := base.Site.Device("d")
				read, err := b.Read(strings.NewReader(held), nil)
				require.NoError(t, err)
				records, _ := Wanted(blueprint.Of(device), device, b, inClear, read)
				plan, err := b.Plan(held, records, sameHere)
				require.NoError(t, err)
				require.Empty(t, plan.Stays)
				require.Empty(t, plan.Left)
				upBefore, darkBefore := fullIn(t, b, d, base, held)
				whole, err := plan.After(len(plan.Steps))
				require.NoError(t, err)
				upAfter, darkAfter := fullIn(t, b, d, base, whole)
				locks := plan.Arrange(func(text string) bool {
					up, dark := fullIn(t, b, d, base, text)
					return (up || !upBefore || !upAfter) && (dark || !darkBefore || !darkAfter)
				})
				if locks > 0 {
					t.Logf("seed %d: %d", seed, locks)
				}
				unsafe += locks
				all += len(plan.Steps)
				for n := range plan.Steps {
					if slices.ContainsFunc(plan.Steps[:n], func(s phrase.Step) bool { return s.Unsafe }) {
						break
					}
					text, err := plan.After(n)
					require.NoError(t, err)
					up, dark := fullIn(t, b, d, base, text)
					require.True(t, up || !upBefore || !upAfter, "seed %d, after step %d\n%s", seed, n, text)
					require.True(t, dark || !darkBefore || !darkAfter, "seed %d, after step %d\n%s", seed, n, text)
				}
				text, err := plan.After(len(plan.Steps))
				require.NoError(t, err)
				got, err := b.Read(strings.NewReader(text), nil)
				require.NoError(t, err)
				require.True(t, got.Whole, "seed %d\n%s\n%v %v", seed, text, got.Unread, got.Notes)
				is := Of(Saved{File: "d.txt", Device: "d", Text: got})
				Make([]*Device{is}, Options{Base: base, Hash: hash})
				want, holds, _ := Compared(is, base, device, b, Passwords{Known: hash}, false)
				for _, a := range drift.Compare(want, holds.Facts, func(drift.About, string) string { return "" }) {
					require.True(t, a.About == drift.Account && a.What == "password", "seed %d\n%s\n%s\n%s", seed, text,
						d.site(), a)
				}
			}
		})
	}
}
