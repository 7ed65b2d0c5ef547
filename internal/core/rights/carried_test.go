package rights

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"mellowgate/internal/core/site"
)

// everyCommand returns all commands of one to three words of a small language.
func everyCommand() (all []string) {
	words := []string{"look", "set", "port", "x"}
	for _, a := range words {
		all = append(all, a)
		for _, b := range words {
			all = append(all, a+" "+b)
			for _, c := range words {
				all = append(all, a+" "+b+" "+c)
			}
		}
	}
	return all
}

// Whatever the rules of a role and the form of a make: where a command comes out
// otherwise, one is named for which that is so; where none is named, none does.
func TestACommandThatIsMiscarriedIsNamedAndNoOther(t *testing.T) {
	t.Parallel()
	commands := everyCommand()
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.SampledFrom([]string{"look", "set", "port", "*"})
		role := &site.Role{}
		for range rapid.IntRange(0, 4).Draw(t, "rules") {
			r := site.Rule{Allow: rapid.Bool().Draw(t, "allow")}
			for range rapid.IntRange(0, 2).Draw(t, "words") {
				r.Words = append(r.Words, word.Draw(t, "word"))
			}
			if len(r.Words) == 0 || rapid.Bool().Draw(t, "open") {
				r.Words = append(r.Words, "**")
			}
			role.Commands = append(role.Commands, r)
		}
		c := &site.CommandRights{Allow: rapid.SampledFrom([]string{"", "A", "B"}).Draw(t, "allow"), Refuse: "B",
			AllowForm: "+{command}", RefuseForm: "-{command}", Word: "*",
			Rest:           rapid.SampledFrom([]string{"*", "**"}).Draw(t, "rest"),
			Between:        rapid.SampledFrom([]string{"", ";"}).Draw(t, "between"),
			BothAllowed:    rapid.Bool().Draw(t, "both"),
			NeitherAllowed: rapid.Bool().Draw(t, "neither")}
		kind := &site.Platform{Commands: c}
		held, limited := CarriedCommands(CommandAttributes(role, kind), kind)
		passes := func(line string) bool {
			ok, _ := Passes(held, line)
			return ok || !limited
		}
		named, allowed := MiscarriedCommand(role, kind)
		if named != "" {
			require.NotEqual(t, permits(role, strings.Fields(named)), passes(named), named)
			require.Equal(t, allowed, passes(named))
		}
		for _, line := range commands {
			if permits(role, strings.Fields(line)) != passes(line) {
				require.NotEmpty(t, named, line)
				if passes(line) {
					require.True(t, allowed, "what is allowed though refused is named first: %q", line)
				}
			}
		}
		if example := Allowed(role); example != "" {
			require.True(t, permits(role, strings.Fields(example)))
		} else {
			for _, line := range commands {
				require.False(t, permits(role, strings.Fields(line)), line)
			}
		}
	})
}

func TestRulesAreCarriedInTheFormOfTheMake(t *testing.T) {
	t.Parallel()
	rule := func(text string) site.Rule {
		verb, words, _ := strings.Cut(text, " ")
		return site.Rule{Allow: verb == "allow", Words: strings.Fields(words), Text: text}
	}
	role := &site.Role{Commands: []site.Rule{rule("refuse look secrets **"), rule("allow look * now"),
		rule("allow set **")}}
	texts := func(c *site.CommandRights, role *site.Role) string {
		var all []string
		for _, a := range CommandAttributes(role, &site.Platform{Commands: c}) {
			all = append(all, a.Name+"="+a.Value)
		}
		return strings.Join(all, " | ")
	}
	plain := site.CommandRights{Allow: "A", Refuse: "B", AllowForm: "{command}", RefuseForm: "{command}", Word: "?",
		Rest: "..."}
	require.Equal(t, "B=look secrets ... | A=look ? now | A=set ...", texts(&plain, role))
	one := plain
	one.Refuse = "A"
	one.AllowForm = "+{command}."
	one.RefuseForm = "-{command}."
	one.Between = "; "
	require.Equal(t, "A=-look secrets ....; +look ? now.; +set ....", texts(&one, role))
	require.Equal(t, "A=-....", texts(&one, &site.Role{}), "nobody is left without a limit")
	one.NeitherAllowed = true
	require.Equal(t, "A=-look secrets ....; +look ? now.; +set ....; -....", texts(&one, role))
	onlyAllow := plain
	onlyAllow.Refuse = ""
	require.Equal(t, "A=look ? now | A=set ...", texts(&onlyAllow, role))
	require.Empty(t, texts(&onlyAllow, &site.Role{}))
	named, allowed := MiscarriedCommand(&site.Role{}, &site.Platform{Commands: &onlyAllow})
	require.Equal(t, []any{"any1", true}, []any{named, allowed}, "without an attribute nothing is limited")
	long := &site.Role{Commands: []site.Rule{rule("allow " + strings.Repeat("x", 248)), rule("allow look")}}
	require.Equal(t, "A=look", texts(&plain, long))
	require.Empty(t, texts(nil, role))
	held, limited := CarriedCommands([]Attribute{{Name: "Other", Value: "look"}, {Name: "A", Value: ""}},
		&site.Platform{Commands: &plain})
	require.Equal(t, []any{[]site.Rule(nil), false}, []any{held, limited})
	ok, _ := Passes([]site.Rule{rule("allow **")}, `look "open`)
	require.False(t, ok, "a quote that is not closed")
}

// What two rules both name is looked for, whichever of the two has the open words.
func TestWhatTwoRulesBothName(t *testing.T) {
	t.Parallel()
	for pair, want := range map[[2]string]string{
		{"look **", "look port"}:     "look port",
		{"look *", "look port"}:      "look port",
		{"look *", "* port"}:         "look port",
		{"look **", "look **"}:       "look **",
		{"look **", "look port **"}:  "look port **",
		{"look", "LOOK"}:             "LOOK",
		{"look *", "look **"}:        "look *",
		{"look", "set"}:              "",
		{"look", "look port"}:        "",
		{"look port **", "look **"}:  "look port **",
		{"look port **", "look set"}: "",
	} {
		words, meet := common(strings.Fields(pair[0]), strings.Fields(pair[1]))
		require.Equal(t, want, strings.Join(words, " "), "%v", pair)
		require.Equal(t, want != "", meet, "%v", pair)
		if want != "" && !strings.EqualFold(pair[0], pair[1]) {
			turned, _ := common(strings.Fields(pair[1]), strings.Fields(pair[0]))
			require.Equal(t, want, strings.Join(turned, " "), "%v, the other way round", pair)
		}
	}
}

// A device may send an empty argument in the middle: what is refused is refused without it too.
func TestAnEmptyArgumentPassesNoRuleThatRefuses(t *testing.T) {
	t.Parallel()
	refuse := site.Rule{Words: []string{"look", "*"}}
	require.True(t, Applies(refuse, []string{"look", "", "two words"}, false))
	require.False(t, Applies(refuse, []string{"look", "", "two", "words"}, false))
	for _, quoted := range []string{"`two`", `"two"`, "'two'"} {
		require.True(t, Applies(site.Rule{Words: []string{"look", "two"}}, []string{"look", quoted}, false), quoted)
	}
	allow := site.Rule{Words: []string{"look", "*"}, Allow: true}
	require.False(t, Applies(allow, []string{"look", "", "two words"}, false), "what is allowed fits as it was sent")
}
