package drill

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/lab"
)

// unknown is a site of which no aspect is known.
func unknown(t *testing.T) (*site.Site, site.Keys) {
	t.Helper()
	return parsedAs(t, strings.NewReplacer(
		"platforms: [{name: odd, behaviour: {refusal: tries-next, unknown-account: ends-list, password-form: {radius: "+
			"chap}, below-level: reads}}]", "platforms: [{name: odd}]",
		"{name: sw, ", "{name: sw, platform: odd, ", "console: {login: l},", "console: {login: l, session: s},",
		"ssh: {login: lr}", "ssh: {login: lr, session: sr, record-sessions: v}, telnet: {login: lr}, web: {}",
		"  - {name: s, ", "  - {name: sr, authorize: session, methods: [group r, local]}\n"+
			"  - {name: v, account: sessions, when: start and stop, methods: [group r]}\n  - {name: s, ",
	).Replace(text))
}

// Each "depends" is true: the device that has that aspect does what was said, and one
// without it what was said else.
func TestEachValueOfAAspectThatIsNotKnownComesOutAsForeseen(t *testing.T) {
	t.Parallel()
	s, keys := unknown(t)
	f := foresee.Forecaster{Site: s, Keys: keys, Now: time.Now(), Faults: true}
	tried := map[site.Aspect]int{}
	for _, d := range s.Devices[:2] {
		depends := map[string]map[string]bool{}
		for _, c := range f.Depending(f.Behaving(d, d)).For(d) {
			for _, of := range c.Depends {
				written := of.Aspect.String() + ": " + of.Value
				if of.Value == site.Unsent || of.Aspect == site.AspectLoginWindow { // no device of a lab looks for that
					continue
				}
				if depends[written] == nil {
					depends[written] = map[string]bool{}
				}
				if len(depends[written]) < 4 {
					depends[written][nameOf(c)] = true
					tried[of.Aspect]++
				}
			}
		}
		for written, cases := range depends {
			t.Run(fmt.Sprintf("%s %s", d.Name, written), func(t *testing.T) {
				t.Parallel()
				s, keys := unknown(t)
				b, err := s.Supposition("odd " + written)
				require.NoError(t, err)
				r, err := Start(context.Background(), Options{Site: s, Keys: keys, Faults: true, Factor: 10, Rate: 40,
					Lab:    lab.Config{Behaves: []site.Supposition{b}},
					Choose: func(c foresee.Case) bool { return cases[nameOf(c)] }})
				require.NoError(t, err)
				require.NotEmpty(t, r.Runs)
				for _, run := range r.Runs {
					require.True(t, run.Match || tooLate(run), "%s: %s\n%+v\n%+v", nameOf(run.Case), run.Why,
						run.Foreseen, run.Seen)
				}
			})
		}
	}
	require.Greater(t, len(tried), 9, "%v", tried)
}
