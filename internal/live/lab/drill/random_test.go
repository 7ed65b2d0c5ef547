package drill

import (
	"context"
	"flag"
	"math/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/attributes"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/lab/labtest"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/randomsite"
	"mellowgate/internal/testscale"
)

// Run many with: go test -run RandomSites -timeout 0 ./internal/live/lab/drill -sites 1000 -share 40
var (
	sites = flag.Int("sites", testscale.Of(1, 4), "how many sites are made at random and drilled")
	seed  = flag.Int64("seed", 1, "the first of their seeds")
	share = flag.Int("share", 600, "of how many foreseen logins one is tried")
)

// Whatever a site has, each login that is tried in whatever state of its servers is
// what was foreseen.
func TestLoginsOfRandomSitesComeOutAsForeseen(t *testing.T) {
	t.Parallel()
	if underRace {
		t.Skip(
			"an answer that the race detector makes late is a login that was not foreseen; the other drill is raced",
		)
	}
	hash, err := secrets.Hash("something", 64, 1)
	require.NoError(t, err)
	other, err := secrets.Hash("another", 64, 1)
	require.NoError(t, err)
	network := labtest.Network(t)
	tried, late := 0, 0
	for n := *seed; n < *seed+int64(*sites); n++ {
		text, chance := randomsite.Text(n, hash, other), rand.New(rand.NewSource(n))
		drill := func(factor int, choose func(foresee.Case) bool) Report {
			s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
			require.NoError(t, err, "seed %d:\n%s", n, text)
			require.Empty(t, attributes.Check(s))
			s.Lab.Network = network
			r, err := Start(
				context.Background(),
				Options{Site: s, Factor: factor, Rate: 80, Faults: true, Lab: lab.Config{},
					Keys: site.Keys{
						"a": site.NewSecret("the-key-a-of-these-tests"),
						"b": site.NewSecret("the-key-b-of-these-tests"),
					},
					Choose: choose},
			)
			require.NoError(t, err, "seed %d", n)
			return r
		}
		for _, run := range drill(4, func(foresee.Case) bool { return chance.Intn(*share) == 0 }).Runs {
			tried++
			if run.Match {
				continue
			}
			// A machine that is busy answers late: alone, in the site's own time, it does not. It never
			// answers before its time.
			late++
			for _, run := range drill(1, func(c foresee.Case) bool { return nameOf(c) == nameOf(run.Case) }).Runs {
				require.True(t, run.Match || tooLate(run), "seed %d: %s: %s\n%+v\n%+v\n%s", n,
					nameOf(run.Case), run.Why, run.Foreseen, run.Seen, text)
			}
		}
	}
	t.Logf("%d logins of %d sites, %d of them tried again alone", tried, *sites, late)
	require.Less(t, late, 1+tried/5)
}

// tooLate reports whether all that was not foreseen of a login is that it took longer.
func tooLate(run Run) bool {
	return strings.HasPrefix(run.Why, "a wait of") && run.Seen.Wait > run.Foreseen.Wait
}

// nameOf tells a case from others of its site.
func nameOf(c foresee.Case) string {
	name := c.Device.Name + " by " + c.Way.Name() + ", " + c.Who.Name
	for _, w := range c.When {
		name += ", " + w.Server.Name + " " + string(w.State)
	}
	return name
}
