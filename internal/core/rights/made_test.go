package rights_test

import (
	"fmt"
	"math/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/randomsite/keep"
)

// What is decided about people of sites that are made at random, and how that is explained, is what it was.
func TestTheDecisionsOfMadeSitesAreWhatTheyWere(t *testing.T) {
	t.Parallel()
	var names []string
	texts := map[string]string{}
	for seed := range int64(16) {
		name := fmt.Sprint("decisions/", seed)
		names, texts[name] = append(names, name), keep.Decisions(keep.Made(t, seed))
	}
	keep.Same(t, "made.txt", names, texts)
}

// someRules makes command rules at random of a few words, which meet each other often.
func someRules(r *rand.Rand) string {
	words := []string{"look", "set", "port", "*", "**", "3"}
	var rules []string
	for range 1 + r.Intn(4) {
		rule := []string{"allow", "refuse"}[r.Intn(2)]
		for n := range 1 + r.Intn(3) {
			word := words[r.Intn(len(words))]
			if word == "**" && n == 0 && r.Intn(3) > 0 {
				word = "look"
			}
			if rule += " " + word; word == "**" {
				break
			}
		}
		rules = append(rules, rule)
	}
	return strings.Join(rules, ", ")
}

// The command rules of roles that are made at random, as a device is given them over RADIUS, and what they let
// pass there, are what they were; and no device lets a command pass that the role refuses without that being found.
func TestTheCommandRulesOfMadeRolesAreWhatTheyWere(t *testing.T) {
	t.Parallel()
	lines := []string{"look", "look port", "look port 3", "set", "set port", "set port 3", "port", "3", "other",
		"look x y z",
		"look 'port", "set \"port 3\"", `look \port`}
	var names []string
	texts := map[string]string{}
	for seed := range int64(120) {
		r := rand.New(rand.NewSource(seed))
		form := []string{"allow: Example-May", "refuse: Example-Not", "allow: Example-May, refuse: Example-Not",
			"allow: Example-May, refuse: Example-Not, between: ';', both: allowed, neither: allowed",
			"allow: Example-May, between: ' / '",
			"refuse: Example-Not, neither: allowed, word: any, rest: rest"}[seed%6]
		rules := someRules(r)
		text := fmt.Sprintf(`site: Made
vendors: [{name: example, number: 32473, attributes: [{name: Example-May, number: 2, type: text},
  {name: Example-Not, number: 3, type: text}, {name: Example-Rule, number: 4, type: text}], commands: {%s}}]
platforms: [{name: k, behaviour: {commands-from: example}}]
roles: [{name: r, level: 15, commands: [%s]}]
people: [{name: ines, teams: [net], password: "$6$a$b"}]
grants: [{who: team net, role: r}]
`, form, rules)
		s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
		require.NoError(t, err, text)
		role, kind := s.Roles[0], s.Platforms[0]
		attributes := rights.CommandAttributes(role, kind)
		attributes = append(attributes, rights.Attribute{Name: "Filter-Id", Value: "look **"}) // of something else
		carried, limited := rights.CarriedCommands(attributes, kind)
		out := fmt.Sprintf("%s | %s\n%v\n%v %t\n%s\n", form, rules, attributes, texts0(carried), limited,
			rights.Allowed(role))
		miscarried, allowed := rights.MiscarriedCommand(role, kind)
		out += fmt.Sprintf("miscarried %q %t\n", miscarried, allowed)
		for _, args := range [][]string{{}, {""}, {"look"}, {"look", ""}, {"look", "port", "3"}, {"look port", "3"},
			{"LOOK", "Port"}, {"set", "port", "<cr>"}, {"'look"}, {"set", "\"port", "3\""}, {"look", "port;set", "3"}} {
			for _, r := range role.Commands {
				out += fmt.Sprintf("%q %q %t %t\n", r.Text, args, rights.Applies(r, args, true),
					rights.Applies(r, args, false))
			}
			q := rights.Question{Purpose: site.Commands, Person: "ines", Args: args, Line: strings.Join(args, " ")}
			d := rights.Decide(s, q, keep.Now)
			out += fmt.Sprint(args, d.Allow, d.Reason, d.Rule, d.Text, rights.JoinArgs(args), rights.Ended(args), "\n")
			q.Args = nil
			out += fmt.Sprint(rights.Decide(s, q, keep.Now).Allow, "\n")
		}
		for _, line := range lines {
			decided := decide(role, line)
			passes, rule := rights.Passes(carried, line)
			out += fmt.Sprintf("%q %t: %t by %q\n", line, decided, passes, rule.Text)
			if words, whole := rights.SplitLine(line); whole && len(words) > 0 && passes && !decided && limited {
				require.NotEmpty(t, miscarried, "%s: a device lets %q pass", out, line)
			}
		}
		name := fmt.Sprint("rules/", seed)
		names, texts[name] = append(names, name), out
	}
	require.Greater(t, len(names), 40)
	keep.Same(t, "rules.txt", names, texts)
}

func texts0(rules []site.Rule) (all []string) {
	for _, r := range rules {
		all = append(all, r.Text)
	}
	return all
}

// decide reports whether the rules of a role allow a line: the first that applies decides.
func decide(role *site.Role, line string) bool {
	words, whole := rights.SplitLine(line)
	for _, r := range role.Commands {
		if whole && rights.Applies(r, words, false) {
			return r.Allow
		}
	}
	return false
}

// A level is one from 0 to 15, whatever else an answer says; a name that nothing asks for names no account.
func TestWhatIsNoLevelGivesNone(t *testing.T) {
	t.Parallel()
	s := keep.Made(t, 1)
	kind := &site.Platform{Behaviour: s.Platforms[0].Behaviour}
	kind.Behaviour.LevelFrom, kind.Behaviour.AccountFrom = "", ""
	for value, level := range map[string]int{"-1": -1, "16": -1, "": -1, "full": -1, "0": 0, "15": 15} {
		for _, name := range []string{rights.PrivLvl, rights.ManagementPrivilegeLevel} {
			n, given := rights.Level([]rights.Attribute{{Name: name, Value: value}}, kind)
			require.Equal(t, level >= 0, given, "%s %q", name, value)
			require.Equal(t, max(level, 0), n, "%s %q", name, value)
		}
	}
	require.Empty(t, rights.Template([]rights.Attribute{{Name: "", Value: "deck"}}, kind))
	passes, rule := rights.Passes(nil, "look")
	require.False(t, passes)
	require.Empty(t, rule.Text)
}
