package sheet

import (
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

func of(t *testing.T, text, device string) Sheet {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	return Of(foresee.Forecaster{Site: s, Now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}, s.Device(device),
		"my site.yaml", nil)
}

func section(t *testing.T, s Sheet, title string) Section {
	i := slices.IndexFunc(s.Sections, func(x Section) bool { return strings.Contains(x.Title, title) })
	require.GreaterOrEqual(t, i, 0, title)
	return s.Sections[i]
}

func reviewed(t *testing.T) string {
	text, err := os.ReadFile("../../../demo/as-reviewed/site.yaml")
	require.NoError(t, err)
	return string(text)
}

func TestTheConsoleIsTheLastWayInThatIsChanged(t *testing.T) {
	t.Parallel()
	s := of(t, reviewed(t), "north-sw-1")
	require.Equal(t, "Let ssh use: login crew, session crew-session, commands crew-commands.",
		section(t, s, "One way in").Items[0].Text)
	var order []string
	for _, i := range section(t, s, "The other ways in").Items {
		order = append(order, strings.Fields(i.Text)[1])
	}
	require.Equal(t, []string{"web", "api", "netconf", "console"}, order)
}

func TestTheTestsOfASheetAreWhatIsForeseen(t *testing.T) {
	t.Parallel()
	s := of(t, reviewed(t), "north-sw-1")
	words := func(t Test) [5]string { return [5]string{t.Way, t.Person, t.Password, t.Expect, t.Wait} }
	var tests [][5]string
	for _, one := range section(t, s, "Try it").Tests {
		require.False(t, one.Dark)
		tests = append(tests, words(one))
	}
	require.Equal(t, [][5]string{
		{"ssh", "ines.marsh", "right", "in, level 15, by tern", ""},
		{"ssh", "tobin.reed", "right", "in, level 1, by tern", ""},
		{"ssh", "any name", "wrong", "refused, by tern", ""},
		{"ssh", "harbourmaster", "right", "refused, by tern", ""},
	}, tests)
	outage := section(t, s, "The outage")
	require.True(t, outage.Tests[2].Dark)
	require.Equal(t, [5]string{"ssh", "harbourmaster", "right", "in, level 15, by local", "2s (0s while servers rest)"},
		words(outage.Tests[2]))
	require.Contains(t, outage.Items[0].Text, "a filter for tern, plover that drops")
	require.Contains(t, outage.Then[0].Text, "dead-time of the servers is over: 1m.")
}

func TestTheTimerLeavesRoomForTheWorstWaits(t *testing.T) {
	t.Parallel()
	require.Contains(t, section(t, of(t, reviewed(t), "hq-fw-1"), "timed way back").Items[0].Text, "10m from now")
	slow := strings.ReplaceAll(reviewed(t), "timeout: 1s", "timeout: 20s")
	require.Contains(t, section(t, of(t, slow, "hq-fw-1"), "timed way back").Items[0].Text, "15m from now",
		"a login waits 30 s at most, twenty times, and five minutes")
}

func TestADeviceWithoutServersOrAccountsGetsASheetThatSaysSo(t *testing.T) {
	t.Parallel()
	s := of(t, "site: x\ndevices: [{name: d, addresses: [192.0.2.1]}]\n", "d")
	require.Contains(t, section(t, s, "Before").Items[2].Text, "none: the design has no way back")
	for _, title := range []string{"Servers", "The outage", "Records", "Method lists"} {
		require.False(t, slices.ContainsFunc(s.Sections,
			func(x Section) bool { return strings.Contains(x.Title, title) }),
			title)
	}
	require.Equal(t, "Keep it", s.Sections[len(s.Sections)-1].Title)
}

func TestASiteThatIsOpenIsNotWrittenAsIfItWereRight(t *testing.T) {
	t.Parallel()
	s := of(t, `site: x
devices: [{name: d, addresses: [192.0.2.1], access: {ssh: {login: l}}}]
lists: [{name: l, authenticate: login, methods: [none]}]
`, "d")
	require.Contains(t, section(t, s, "Try it").Tests[0].Expect, "IN WITHOUT VALID CREDENTIALS: stop")
}

// What is typed stands where it takes effect: at once, when it is committed, or saved; and the
// logins are tried once it has.
func TestLinesStandWhereTheyTakeEffect(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`site: S
keys: {k: file k}
servers: [{name: t1, protocol: tacacs, address: 192.0.2.1, key: k}]
groups: [{name: g, servers: [t1]}]
lists: [{name: l, authenticate: login, methods: [group g, local]}]
accounts: [{name: keeper, level: 15, password: key k}]
devices: [{name: sw, addresses: [192.0.2.9], accounts: [keeper], access: {console: {login: l}, ssh: {login: l}}}]
people: [{name: ines, teams: [net], password: key k}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: team net, role: all}]
`)})
	require.NoError(t, err)
	steps := []TypedStep{{About: "server t1", Lines: []string{"add t1"}, Undo: []string{"drop t1"}, Unseen: true},
		{About: "way ssh", Lines: []string{"bind ssh"}, Binds: true, Unsafe: true},
		{About: "server old", Lines: []string{"drop old"}, Goes: true, Stuck: "the device hides it"}}
	usual := Typing{Make: "make", Enter: []string{"alter"}, Leave: []string{"back"}, Save: "keep",
		CallOff: "return never",
		SetBack: func(d time.Duration) string { return "return in " + d.String() }, Steps: steps, TryAfter: 2,
		Left: []string{"the colour"}, ByHand: []string{"the-password-of-keeper"}}
	said := func(change func(*Typing)) string {
		typed := usual
		change(&typed)
		var b strings.Builder
		for _, section := range Of(foresee.Forecaster{Site: s}, s.Device("sw"), "s", &typed).Sections {
			b.WriteString("# " + section.Title + "\n")
			for _, item := range section.Items {
				if len(item.Lines) > 0 {
					b.WriteString("> " + strings.Join(item.Lines, ", "))
					if len(item.Undo) > 0 {
						b.WriteString(" < " + strings.Join(item.Undo, ", "))
					}
					b.WriteString("\n")
				}
				if strings.Contains(item.Text, "(") || strings.Contains(item.Text, "-of-") ||
					strings.Contains(item.Text, "colour") {
					b.WriteString(item.Text + "\n")
				}
			}
		}
		return b.String()
	}
	require.Equal(t, `# Before you begin
# Keep a session open
# Set a timed way back
> return in 10m0s
# Begin to type
> alter
Put the secret in the place of the-password-of-keeper where it is typed.
Not in the lines: the colour.
# Type what is new
> add t1 < drop t1
For server t1 (such a line was never seen on this device):
# Ask the servers
# Bring it into use
> bind ssh
For way ssh (until the next step is typed, nobody with full rights gets in: type it at once):
# Try it, from a second session
# The outage, on purpose
# The rest
> drop old
For server old (nothing takes it back: the device hides it):
# Try the other ways in
# Keep it
> back
> return never
> keep
`, said(func(*Typing) {}))
	committed := said(func(t *Typing) { t.Commit = "make good" })
	require.Contains(t, committed, "# Let it take effect\n> return in 10m0s\n# Try it")
	require.Contains(t, committed, "# Keep it\n> return never\n> back\n> keep\n")
	require.Less(t, strings.Index(committed, "drop old"), strings.Index(committed, "# Let it"))
	require.Contains(t, said(func(t *Typing) { t.Commit, t.SetBack, t.CallOff = "make good", nil, "" }),
		"# Let it take effect\n> make good\n# Try it")
	require.Contains(t, said(func(t *Typing) { t.AtSave, t.SetBack, t.CallOff = true, nil, "" }),
		"# Let it take effect\n> keep\n# Try it")
	none := said(func(t *Typing) { t.Steps = nil })
	require.NotContains(t, none, "add t1")
	require.NotContains(t, none, "> alter", "there is nothing to type")
}
