package rights

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

const text = `site: Test
people:
  - {name: ines.marsh, teams: [network], password: $6$a$b}
  - {name: tobin.reed, teams: [watch], password: $6$a$b}
  - {name: odd.larsen, teams: [network], disabled: true, password: $6$a$b}
  - {name: past.person, teams: [network], until: 2026-01-31, password: $6$a$b}
  - {name: no.team, password: $6$a$b}
roles:
  - {name: all, level: 15, commands: [allow **]}
  - {name: lookout, level: 1, commands: [refuse look secrets **, allow look **, allow set port * off]}
grants:
  - {who: [team network], role: all}
  - {who: [team watch], where: {place: [north, south], duty: switch}, access: [ssh, console], role: lookout}
devices:
  - {name: north-sw, addresses: [192.0.2.1], labels: {place: north, duty: switch}}
  - {name: hq-sw, addresses: [192.0.2.2], labels: {place: hq, duty: switch}}
  - {name: bare-sw, addresses: [192.0.2.3]}
`

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func parse(t *testing.T) *site.Site {
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	return s
}

func TestEachDecisionHasItsReasonAndPlace(t *testing.T) {
	t.Parallel()
	s := parse(t)
	for _, c := range []struct {
		name       string
		q          Question
		reason     reason.Reason
		says, rule string
		at         string
	}{
		{"right", Question{Person: "ines.marsh", Credential: Right, Access: "ssh"}, reason.Accepted,
			"has the role all here, level 15", "", "site.yaml:12:5"},
		{"wrong", Question{Person: "ines.marsh", Credential: Wrong}, reason.WrongPassword, "is wrong", "",
			"site.yaml:3:12"},
		{"unchecked login", Question{Person: "ines.marsh"}, reason.WrongPassword, "", "", ""},
		{"a form that cannot be checked", Question{Person: "ines.marsh", Credential: Uncheckable}, reason.PasswordForm,
			"cannot be checked for ines.marsh", "", "site.yaml:3:52"},
		{"unknown", Question{Person: "nobody", Credential: Wrong}, reason.UnknownPerson, `nobody is called "nobody" here`, "",
			""},
		{"disabled", Question{Person: "odd.larsen", Credential: Right}, reason.Disabled, "is disabled", "", ""},
		{"a disabled person's wrong password is a wrong password", Question{Person: "odd.larsen", Credential: Wrong},
			reason.WrongPassword, "", "", ""},
		{"expired", Question{Person: "past.person", Credential: Right}, reason.Disabled, "was allowed until 2026-01-31",
			"",
			""},
		{"no team", Question{Person: "no.team", Credential: Right}, reason.NoGrant,
			"no grant names no.team or a team of theirs (in no team)", "", ""},
		{"way", Question{Person: "tobin.reed", Credential: Right, Access: "web"}, reason.NoGrant,
			"it is for ssh, console, not for web", "", "site.yaml:13:5"},
		{"way not said", Question{Person: "tobin.reed", Credential: Right}, reason.NoGrant,
			"does not say by which access",
			"",
			""},
		{"elevation to one's own level", Question{Person: "ines.marsh", Credential: Right, Access: "ssh", Wants: 15},
			reason.Accepted, "", "", ""},
		{"elevation above it", Question{Person: "tobin.reed", Credential: Right, Access: "ssh", Wants: 15},
			reason.NoGrant,
			"has the role lookout here, level 1, and asks for level 15", "", "site.yaml:13:5"},
		{"session", Question{Person: "tobin.reed", Purpose: site.Session, Access: "ssh"}, reason.Accepted,
			"role lookout here, level 1", "", ""},
		{"command", Question{Person: "tobin.reed", Purpose: site.Commands, Access: "ssh", Line: "look session"},
			reason.Accepted, "", "allow look **", "site.yaml:10:66"},
		{"refused", Question{Person: "tobin.reed", Purpose: site.Commands, Access: "ssh", Line: "look secrets all"},
			reason.CommandRefused, `the rule "refuse look secrets **" of the role lookout refuses it`, "refuse look secrets **",
			"site.yaml:10:42"},
		{"no rule", Question{Person: "tobin.reed", Purpose: site.Commands, Access: "ssh", Line: "save"},
			reason.CommandRefused, "no rule of the role lookout allows it", "", "site.yaml:10:12"},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.q.Device = s.Device("north-sw")
			d := Decide(s, c.q, noon)
			require.Equal(t, c.reason, d.Reason)
			require.Equal(t, c.reason == reason.Accepted, d.Allow)
			require.Contains(t, d.Text, c.says)
			require.Equal(t, c.rule, d.Rule)
			if c.at != "" {
				require.Equal(t, c.at, s.Where(d.Place))
			}
		})
	}
}

func TestAnUnknownNameLooksLikeAKnownOne(t *testing.T) {
	t.Parallel()
	s := parse(t)
	require.Equal(t, "; ines.marsh differs only in upper and lower case", LikeName(s, "Ines.Marsh"))
	require.Equal(t, "; ines.marsh is one typing slip away", LikeName(s, "ines.mrash"))
	require.Empty(t, LikeName(s, "somebody.else"))
}

func TestLabelsOfTheDeviceDecide(t *testing.T) {
	t.Parallel()
	s := parse(t)
	q := Question{Person: "tobin.reed", Purpose: site.Session, Access: "ssh"}
	q.Device = s.Device("hq-sw")
	require.Contains(t, Decide(s, q, noon).Text, "it is for place north, south, and this device has place hq")
	q.Device = s.Device("bare-sw")
	require.Contains(t, Decide(s, q, noon).Text, "the label duty (switch), and this one has none")
	q.Device = nil
	d := Decide(s, q, noon)
	require.False(t, d.Allow)
	require.Contains(t, d.Text, "a client that is no device of this site")
}

func TestRulesMatchArgumentByArgument(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		rule  string
		args  []string
		exact bool
		want  bool
	}{
		{"look **", []string{"look"}, false, true}, {"look **", []string{"look", "a", "b"}, false, true},
		{"look **", []string{"looks"}, false, false}, {"look *", []string{"look"}, false, false},
		{"look *", []string{"look", "a"}, false, true}, {"look *", []string{"look", "a", "b"}, false, false},
		{"**", nil, false, true}, {"set port * off", []string{"set", "port", "3", "off"}, false, true},
		{"set port * off", []string{"set", "port", "3", "on"}, false, false}, {"Look", []string{"look"}, false, true},
		{"Look", []string{"look"}, true, false}, {"set banner *", []string{"set", "banner", "two words"}, false, true},
		{"set banner *", []string{"set", "banner", ""}, false, true}, {"look", []string{"look", ""}, false, false},
	} {
		require.Equal(t, c.want, Matches(strings.Fields(c.rule), c.args, c.exact), "%q against %q", c.rule, c.args)
	}
	words, whole := SplitLine(` a "b c"	d'e f' "" `)
	require.Equal(t, []any{[]string{"a", "b c", "de f", ""}, true}, []any{words, whole})
	_, whole = SplitLine(`a 'b c`)
	require.False(t, whole)
	words, whole = SplitLine("  ")
	require.Equal(t, []any{0, true}, []any{len(words), whole})
	require.Equal(t, `a "b c" "" "d\"e"`, JoinArgs([]string{"a", "b c", "", `d"e`}))
	require.Equal(t, []string{"reload"}, Ended([]string{"reload", "<CR>"}))
	require.Equal(t, []string{"<cr>"}, Ended([]string{"<cr>"}))
}

// What a rule refuses is refused in every spelling that a device may send: case,
// quotes, several words in one argument, empty arguments, the mark of the end.
func TestNoSpellingPassesARuleThatRefuses(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`site: Test
people: [{name: ines, teams: [net], password: $6$a$b}]
roles:
  - name: careful
    level: 15
    commands: [refuse show secrets **, refuse set * password **, refuse reload, allow show **, allow set **, allow ping *]
grants: [{who: [team net], role: careful}]
devices: [{name: sw, addresses: [192.0.2.1]}]
`)})
	require.NoError(t, err)
	ask := func(args ...string) bool {
		return Decide(s, Question{Purpose: site.Commands, Device: s.Device("sw"), Person: "ines", Args: args},
			noon).Allow
	}
	for _, args := range [][]string{{"set", "a'b", "password", "x"}, {"set", `"a`, "password", "x"}, {"show", "SECRETS"},
		{"show", `"secrets"`}, {"show secrets"}, {"reload", "<cr>"}, {"set", "a password b"}, {"show", "", "secrets"},
		{"ping"}, {"ping", "x", "y"}, {"show", "secrets", "<cr>"}} {
		require.False(t, ask(args...), "%q", args)
	}
	for _, args := range [][]string{{"ping", "x", "<cr>"}, {"show", "version"}, {"SHOW", "version"},
		{"set", "banner", "a b"}} {
		require.True(t, ask(args...), "%q", args)
	}
	for line, whole := range map[string]bool{`show "secrets"`: false, `set 'a password x`: false,
		`show 'version 1'`: true} {
		d := Decide(s, Question{Purpose: site.Commands, Device: s.Device("sw"), Person: "ines", Line: line}, noon)
		require.Equal(t, whole, d.Allow, line)
	}
	tried := 0
	rapid.Check(t, func(r *rapid.T) {
		for range 100 {
			words := rapid.SampledFrom([][]string{{"show", "secrets"}, {"show", "secrets", "all"},
				{"set", "x1", "password", "y"},
				{"reload"}}).Draw(r, "command")
			var args []string
			for _, w := range words {
				if rapid.Bool().Draw(r, "upper") {
					w = strings.ToUpper(w)
				}
				w = rapid.SampledFrom([]string{w, `"` + w + `"`, "'" + w, w + `"`, `\`[:0] + w}).Draw(r, "quoted")
				if n := len(args); n > 0 && rapid.IntRange(0, 3).Draw(r, "joined") == 0 {
					args[n-1] += " " + w
					continue
				}
				if rapid.IntRange(0, 5).Draw(r, "empty") == 0 {
					args = append(args, "")
				}
				args = append(args, w)
			}
			if rapid.Bool().Draw(r, "ended") {
				args = append(args, "<cr>")
			}
			tried++
			if ask(args...) {
				r.Fatalf("%q passes", args)
			}
		}
	})
	require.GreaterOrEqual(t, tried, 10_000)
}

func TestLevelsSurviveEachProtocol(t *testing.T) {
	t.Parallel()
	for level := range 16 {
		d := Decision{Allow: true, Role: &site.Role{Level: level}}
		got, ok := Level(Attributes(site.RADIUS, site.Login, d, plain), plain)
		require.True(t, ok)
		require.Equal(t, level, got)
		got, ok = Level(Attributes(site.TACACS, site.Session, d, plain), plain)
		require.True(t, ok)
		require.Equal(t, level, got)
	}
	require.Empty(t, Attributes(site.TACACS, site.Login, Decision{Allow: true, Role: &site.Role{}}, plain),
		"TACACS+ needs an authorization of its own")
	require.Empty(t, Attributes(site.RADIUS, site.Login, Decision{Role: &site.Role{Level: 15}}, plain),
		"a refusal carries no rights")
	for _, c := range []struct {
		a    []Attribute
		want int
		ok   bool
	}{
		{[]Attribute{{Name: ServiceType, Value: "Administrative"}}, 15, true},
		{[]Attribute{{Name: ServiceType, Value: "NAS-Prompt"}}, 1, true},
		{[]Attribute{{Name: ServiceType, Value: "Administrative"},
			{Name: ManagementPrivilegeLevel, Value: "7"}}, 7, true},
		{[]Attribute{{Name: PrivLvl, Value: "99"}}, 0, false}, {nil, 0, false},
	} {
		got, ok := Level(c.a, plain)
		require.Equal(t, []any{c.want, c.ok}, []any{got, ok})
	}
}

// plain is a platform that says nothing of itself.
var plain = &site.Platform{Behaviour: site.DefaultBehaviour()}
