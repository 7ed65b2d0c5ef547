package rights

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"mellowgate/internal/core/site"
)

func TestAnExplanationNamesWhatDecidesAndWhatCameNearest(t *testing.T) {
	t.Parallel()
	s := parse(t)
	for name, c := range map[string]struct {
		q    Question
		want []string // part, text and result of each step
	}{
		"a command": {Question{Purpose: site.Commands, Person: "tobin.reed", Device: s.Device("north-sw"),
			Access: "ssh",
			Line:   "look at"},
			[]string{"person tobin.reed (watch) holds",
				"grant team watch; duty switch; place north, south; through ssh, console: lookout holds",
				"role lookout, level 1 holds",
				"rule refuse look secrets ** fails", "rule allow look ** decides",
				"rule allow set port * off not-reached"}},
		"a command without a rule": {Question{Purpose: site.Commands, Person: "tobin.reed",
			Device: s.Device("north-sw"),
			Access: "ssh", Line: "save"},
			[]string{"person tobin.reed (watch) holds",
				"grant team watch; duty switch; place north, south; through ssh, console: lookout holds",
				"role lookout, level 1 holds",
				"rule refuse look secrets ** fails", "rule allow look ** fails", "rule allow set port * off fails",
				"rule none decides"}},
		"the nearest grant": {Question{Person: "tobin.reed", Credential: Right, Device: s.Device("hq-sw"),
			Access: "ssh"},
			[]string{"person tobin.reed (watch) holds",
				"grant team watch; duty switch; place north, south; through ssh, console: lookout nearest"}},
		"too high an elevation": {Question{Person: "tobin.reed", Credential: Right, Device: s.Device("north-sw"),
			Access: "ssh", Wants: 15},
			[]string{"person tobin.reed (watch) holds",
				"grant team watch; duty switch; place north, south; through ssh, console: lookout decides"}},
		"nobody": {Question{Person: "nobody", Credential: Right}, []string{"person nobody decides"}},
		"no grant names the person": {Question{Person: "no.team", Credential: Right},
			[]string{"person no.team (in no team) holds", "grant none decides"}},
	} {
		steps, _ := Explain(s, c.q, noon)
		var got []string
		for _, step := range steps {
			got = append(got, step.Part+" "+step.Text+" "+step.Result)
		}
		require.Equal(t, c.want, got, name)
	}
}

// Whatever is asked, an explanation gives the decision itself, and one thing
// that decided it or one that came nearest.
func TestAnExplanationAgreesWithTheDecision(t *testing.T) {
	t.Parallel()
	s := parse(t)
	rapid.Check(t, func(r *rapid.T) {
		q := Question{Purpose: rapid.SampledFrom([]site.Purpose{site.Login, site.Session, site.Commands}).Draw(
			r, "purpose"),
			Person: rapid.SampledFrom([]string{"ines.marsh", "tobin.reed", "odd.larsen", "past.person", "no.team",
				"nobody"}).Draw(r, "person"),
			Credential: rapid.SampledFrom([]Credential{Right, Wrong, WrongCode, Uncheckable}).Draw(r, "credential"),
			Device:     rapid.SampledFrom(append(s.Devices, nil)).Draw(r, "device"),
			Access:     rapid.SampledFrom([]string{"ssh", "web", ""}).Draw(r, "way"),
			Line:       rapid.SampledFrom([]string{"look", "look secrets now", "save"}).Draw(r, "line"),
			Wants:      rapid.SampledFrom([]int{0, 0, 15}).Draw(r, "wants")}
		steps, d := Explain(s, q, time.Unix(1_770_000_000, 0))
		require.Equal(t, Decide(s, q, time.Unix(1_770_000_000, 0)), d)
		decided := 0
		for _, step := range steps {
			if step.Result == Decides || step.Result == Nearest {
				decided++
			}
		}
		require.Equal(t, 1, decided, "%v", steps)
	})
}
