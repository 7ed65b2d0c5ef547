package findings

import (
	"fmt"
	"math/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

// bigSite makes a site of n devices with 30 profiles, 6 servers and 500
// people, the same for the same n.
func bigSite(n int) []byte {
	random := rand.New(rand.NewSource(int64(n)))
	var b strings.Builder
	b.WriteString("site: Big\nkeys: {k: file k}\nservers:\n")
	for i := range 6 {
		fmt.Fprintf(&b, "  - {name: s%d, protocol: tacacs, address: 192.0.2.%d, key: k, timeout: 2s}\n", i, i+1)
	}
	b.WriteString("groups:\n  - {name: g0, servers: [s0, s1]}\n  - {name: g1, servers: [s2, s3, s4]}\n  - {name: " +
		"g2, servers: [s5, s0]}\nlists:\n")
	for i := range 3 {
		for _, l := range []string{"authenticate: login", "authorize: session", "authorize: commands"} {
			fmt.Fprintf(&b, "  - {name: l%d-%s, %s, methods: [group g%d, local]}\n", i, l[len(l)-5:], l, i)
		}
	}
	b.WriteString("platforms:\n  - {name: a, behaviour: {console-obeys-authorization: true}}\n  - {name: b, " +
		"behaviour: " +
		"{all-dead: passes}}\nprofiles:\n")
	for i := range 30 {
		fmt.Fprintf(&b, "  - {name: p%d, defaults: {login: l%d-login, session: l%d-ssion, commands: l%d-mands}, "+
			"access: {ssh: {}, web: {}}, accounts: [keeper]}\n", i, i%3, i%3, i%3)
	}
	b.WriteString("accounts: [{name: keeper, level: 15, password: $6$a$b}]\nroles: [{name: all, level: 15, " +
		"commands: [allow **]}, {name: few, level: 1, commands: [allow look **]}]\n")
	b.WriteString("grants:\n  - {who: [team t0], role: all}\n  - {who: [team t1, team t2], where: {place: [p1, p2, " +
		"p3]}, role: few}\npeople:\n")
	for i := range 500 {
		fmt.Fprintf(&b, "  - {name: person-%d, teams: [t%d], password: $6$a$b}\n", i, i%5)
	}
	b.WriteString("devices:\n")
	for i := range n {
		fmt.Fprintf(&b, "  - name: device-%d\n    platform: %c\n    profile: p%d\n    addresses: [10.%d.%d.%d]\n    "+
			"labels: {place: p%d, duty: edge}\n",
			i, 'a'+rune(random.Intn(2)), random.Intn(30), i>>16, i>>8&255, i&255, random.Intn(8))
	}
	return []byte(b.String())
}

// sizes are how many devices the generated sites have.
var sizes = []int{100, 1000, 10000, 100000}

// measured runs work on a generated site of each size.
func measured(b *testing.B, work func(b *testing.B, text []byte, n int)) {
	for _, n := range sizes {
		text := bigSite(n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			b.ReportAllocs()
			for b.Loop() {
				work(b, text, n)
			}
		})
	}
}

func read(b *testing.B, text []byte) *site.Site {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: text})
	require.NoError(b, err)
	return s
}

// The plainest program with the same input: the YAML parser alone.
func BenchmarkYAMLAlone(b *testing.B) {
	measured(b, func(b *testing.B, text []byte, _ int) {
		var n yaml.Node
		require.NoError(b, yaml.Unmarshal(text, &n))
	})
}

func BenchmarkRead(b *testing.B) {
	measured(b, func(b *testing.B, text []byte, _ int) { read(b, text) })
}

func BenchmarkReadAndCheck(b *testing.B) {
	measured(b, func(b *testing.B, text []byte, n int) {
		require.Equal(b, n, Check(foresee.Forecaster{Site: read(b, text)}, Facts{}).Proven.Devices)
	})
}

func BenchmarkReadAndForesee(b *testing.B) {
	measured(b, func(b *testing.B, text []byte, _ int) {
		s := read(b, text)
		require.NotEmpty(b, foresee.Forecaster{Site: s}.Shapes(s.Devices))
	})
}

func TestABigSiteIsWorkedOutOnceForEqualDevices(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: bigSite(2000)})
	require.NoError(t, err)
	shapes := foresee.Forecaster{Site: s}.Shapes(s.Devices)
	require.LessOrEqual(t, len(shapes), 30*2*8)
	n := 0
	for _, sh := range shapes {
		n += len(sh.Devices)
	}
	require.Equal(t, 2000, n)
}
