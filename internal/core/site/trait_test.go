package site

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func kindOf(t *testing.T, traits string) *Kind {
	t.Helper()
	s, err := Parse(Source{Name: "site.yaml", Text: []byte("platforms: [{name: k, behaviour: {" + traits + "}}]\n")})
	require.NoError(t, err)
	return s.Kinds[0]
}

func TestATraitIsKnownWhereTheSiteSaysIt(t *testing.T) {
	t.Parallel()
	k := kindOf(t, "refusal: tries-next, password-form: {radius: pap}, models: [ietf-system]")
	for _, trait := range ShownTraits() {
		require.Equal(t, trait == TraitRefusal || trait == TraitPasswordRADIUS, k.Says(trait), trait)
		named, is := TraitOf(trait.String())
		require.True(t, is)
		require.Equal(t, trait, named)
	}
	_, is := TraitOf("lines")
	require.False(t, is, "no login shows how many lines there are")
}

func TestEveryValueOfATraitIsSetAndReadBack(t *testing.T) {
	t.Parallel()
	for _, trait := range ShownTraits() {
		usual := DefaultTraits().Value(trait)
		require.Contains(t, trait.Values(), usual, trait)
		for _, value := range trait.Values() {
			traits, ok := DefaultTraits().With(trait, value)
			require.True(t, ok, "%s %s", trait, value)
			require.Equal(t, value, traits.Value(trait))
			if value != Unsent {
				k := kindOf(t, trait.Written(value))
				require.Equal(t, value, k.Traits.Value(trait))
				require.True(t, k.Says(trait))
			}
		}
		_, ok := DefaultTraits().With(trait, "{}")
		require.False(t, ok, trait)
	}
}

func TestABoundOfThePatienceLeavesItUnknownAboveIt(t *testing.T) {
	t.Parallel()
	k := kindOf(t, "login-timeout: at-least 12s")
	require.False(t, k.Says(TraitLoginWindow))
	require.True(t, k.SaysAny(TraitLoginWindow))
	require.Equal(t, "30s", k.Traits.Value(TraitLoginWindow))
	require.False(t, k.May(TraitLoginWindow, "10s"))
	require.True(t, k.May(TraitLoginWindow, "30s"))
	require.True(t, k.May(TraitRefusal, "ends-list"))
	require.Equal(t, "1m30s", kindOf(t, "login-timeout: at-least 90s").Traits.Value(TraitLoginWindow))
	require.Equal(t, "2m", kindOf(t, "login-timeout: 2m").Traits.Value(TraitLoginWindow))
	_, err := Parse(Source{Name: "site.yaml", Text: []byte(
		"platforms: [{name: k, behaviour: {login-timeout: at-least soon}}]\n")})
	require.ErrorContains(t, err, "or at-least and a duration is wanted")
}

func TestABehaviourOfAKindIsRead(t *testing.T) {
	t.Parallel()
	s, err := Parse(Source{Name: "site.yaml", Text: []byte(`
lists: [{name: l, authorize: session, methods: [local]}]
platforms: [{name: k, behaviour: {refusal: ends-list}}]
devices:
  - {name: d, platform: k, addresses: [192.0.2.9], access: {console: {session: l}, ssh: {session: l}}}
  - {name: plain, addresses: [192.0.2.10]}
`)})
	require.NoError(t, err)
	b, err := s.Behaviour(" k  password-form tacacs: chap ")
	require.NoError(t, err)
	require.Equal(t, Behaviour{Kind: s.Kinds[0], Trait: TraitPasswordTACACS, Value: "chap"}, b)
	for text, says := range map[string]string{
		"kk refusal: ends-list": `there is no platform "kk"; did you mean "k"?`,
		"k refusel: ends-list":  `"refusel" is no behaviour that a login can show; did you mean "refusal"?`,
		"k refusal: perhaps":    `refusal does not take "perhaps"; ends-list, tries-next are some of its values`,
		"":                      `there is no platform ""`,
	} {
		_, err := s.Behaviour(text)
		require.ErrorContains(t, err, says)
	}
	d := s.Device("d")
	obeys, err := s.Behaviour("k console-obeys-authorization: false")
	require.NoError(t, err)
	as := d.As([]Behaviour{b, obeys})
	require.Equal(t, "chap", as.Kind.Traits.PasswordAs.TACACS)
	require.Nil(t, as.Way(Console).Lists[Session])
	require.Equal(t, Unobeyed, as.Way(Console).Origins[Session])
	require.NotNil(t, as.Way(SSH).Lists[Session])
	require.Same(t, d.Way(SSH), as.Way(SSH))
	require.NotNil(t, d.Way(Console).Lists[Session], "the device itself is as it was")
	back := as.Behaving(d.Kind.Traits)
	require.Equal(t, d.Way(Console).Lists, back.Way(Console).Lists)
	require.Same(t, s.Device("plain"), s.Device("plain").As([]Behaviour{b}))
}

func TestTimesAreShownShort(t *testing.T) {
	t.Parallel()
	for d, want := range map[time.Duration]string{time.Minute: "1m", 90 * time.Second: "1m30s", 10 * time.Minute: "10m",
		4 * time.Second: "4s", 0: "0s", time.Hour: "1h", 90 * time.Minute: "1h30m"} {
		require.Equal(t, want, ShortTime(d))
	}
}
