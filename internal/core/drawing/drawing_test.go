package drawing

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

func drawn(t *testing.T, devices string) Drawing {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k}
  - {name: d1, protocol: ldap, address: 192.0.2.3, base: "dc=example", filter: (uid=%u)}
groups: [{name: g, servers: [t1, t2]}]
lists: [{name: l, authenticate: login, methods: [group g, local]}, {name: s, authorize: session, methods: [group g, local]}, {name: bare, authenticate: login, methods: [group g]}]
accounts: [{name: keeper, level: 15, password: $6$a$b}]
people: [{name: ines, teams: [net], password: $6$a$b}]
directories: [d1]
roles: [{name: all, level: 15}]
grants: [{who: team net, role: all}]
` + devices)})
	require.NoError(t, err)
	return Of(s, foresee.Forecaster{Site: s}.Shapes(s.Devices))
}

func TestADrawingHasEveryDeviceGroupAndServerAndTheirLines(t *testing.T) {
	t.Parallel()
	d := drawn(t, `
profiles: [{name: p, accounts: [keeper], access: {ssh: {login: l, session: s}, console: {login: l}}}]
devices:
  - {name: a, profile: p, addresses: [192.0.2.11]}
  - {name: b, profile: p, addresses: [192.0.2.12]}
  - {name: c, addresses: [192.0.2.13], access: {ssh: {login: bare}}}
`)
	var titles []string
	for _, b := range d.Boxes {
		titles = append(titles, b.Kind+" "+b.Title+" "+b.Tone)
	}
	require.ElementsMatch(t,
		[]string{"device a, b good", "device c bad", "group g ", "server t1 ", "server t2 ", "directory d1 "}, titles)
	require.Len(t, d.Lines, 4)
	require.Equal(t, []string{"", "", "1", "2"},
		[]string{d.Lines[0].Text, d.Lines[1].Text, d.Lines[2].Text, d.Lines[3].Text})
	require.Equal(t, []string{"console, ssh", "way back in: keeper"}, d.Boxes[0].Lines)
	require.Equal(t, "no local account", d.Boxes[1].Lines[1])
	for i, b := range d.Boxes {
		require.LessOrEqual(t, b.X+b.Width, d.Width)
		require.LessOrEqual(t, b.Y+b.Height, d.Height)
		for _, o := range d.Boxes[:i] {
			require.False(t, o.X == b.X && b.Y < o.Y+o.Height && o.Y < b.Y+b.Height, "%s lies on %s", b.Title, o.Title)
		}
	}
	for _, l := range d.Lines {
		require.True(t, strings.HasPrefix(l.Path(), "M"))
		require.Less(t, l.FromX, l.ToX)
	}
}

func TestAFleetIsOnePictureOfItsShapes(t *testing.T) {
	t.Parallel()
	profiles, devices := "profiles:\n", "devices:\n"
	for i := range 50 {
		profiles += fmt.Sprintf("  - {name: p%d, accounts: [keeper], access: {ssh: [{lines: 0-%d, login: l}]}}\n", i, i)
		for k := range 4 {
			devices += fmt.Sprintf("  - {name: s%d, profile: p%d, addresses: [198.51.100.%d]}\n", 4*i+k, i, 4*i+k)
		}
	}
	d := drawn(t, profiles+devices)
	require.Less(t, d.Height, 3000)
	require.Equal(t, "s0, s1, s2, s3", d.Boxes[0].Title)
	require.Contains(t, fmt.Sprint(d.Boxes), "26 more platforms")
}

var makePicture = flag.Bool("make-picture", false, "write testdata/picture.txt anew; read what has changed in it")

// A picture, whole: each box, line and heading with its place.
func TestAPictureIsAsWritten(t *testing.T) {
	t.Parallel()
	d := drawn(t, `
profiles:
  - {name: p, accounts: [keeper], access: {ssh: {login: l, session: s}, console: {login: l}}}
  - {name: q, accounts: [keeper], access: {ssh: {login: bare}, console: {login: l}}}
devices:
  - {name: a, profile: p, addresses: [192.0.2.11]}
  - {name: b, profile: p, addresses: [192.0.2.12]}
  - {name: c, profile: p, addresses: [192.0.2.13]}
  - {name: d, profile: p, addresses: [192.0.2.14]}
  - {name: e, profile: p, addresses: [192.0.2.15]}
  - {name: f, addresses: [192.0.2.16], access: {ssh: {login: bare}}}
  - {name: g, profile: q, addresses: [192.0.2.17]}
`)
	var b strings.Builder
	fmt.Fprintf(&b, "%d x %d\n", d.Width, d.Height)
	for _, c := range d.Columns {
		fmt.Fprintf(&b, "heading %d,%d %q\n", c.X, c.Y, c.Text)
	}
	for _, x := range d.Boxes {
		fmt.Fprintf(&b, "%s %d,%d %dx%d %q %q %s\n", x.Kind, x.X, x.Y, x.Width, x.Height, x.Title, x.Lines, x.Tone)
	}
	for _, l := range d.Lines {
		fmt.Fprintf(&b, "line %s %q\n", l.Path(), l.Text)
	}
	file := filepath.Join("testdata", "picture.txt")
	if *makePicture {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, string(want), b.String())
}

func TestTitlesAndProtocolsAreInWords(t *testing.T) {
	t.Parallel()
	for protocol, want := range map[site.Protocol]string{site.RADIUS: "RADIUS", site.TACACS: "TACACS+",
		site.LDAP: "LDAP"} {
		require.Equal(t, want, spoken(&site.Server{Protocol: protocol}))
		require.Equal(t, want+" over TLS", spoken(&site.Server{Protocol: protocol, Transport: site.TLS}))
	}
	sh := foresee.Shape{}
	for i, want := range []string{"a", "a, b", "a, b, c", "a, b, c, d", "a, b, c, 2 more", "a, b, c, 3 more"} {
		d := &site.Device{}
		d.Name = string(rune('a' + i))
		sh.Devices = append(sh.Devices, d)
		require.Equal(t, want, titleOf(sh))
	}
}
