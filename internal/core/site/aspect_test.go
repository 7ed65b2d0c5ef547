package site

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func kindOf(t *testing.T, behaviour string) *Platform {
	t.Helper()
	s, err := Parse(Source{Name: "site.yaml", Text: []byte("platforms: [{name: k, behaviour: {" + behaviour + "}}]\n")})
	require.NoError(t, err)
	return s.Platforms[0]
}

func TestAAspectIsKnownWhereTheSiteSaysIt(t *testing.T) {
	t.Parallel()
	k := kindOf(t, "refusal: tries-next, password-form: {radius: pap}, models: [ietf-system]")
	for _, aspect := range ShownAspects() {
		require.Equal(t, aspect == AspectRefusal || aspect == AspectPasswordRADIUS, k.Says(aspect), aspect)
		named, is := AspectOf(aspect.String())
		require.True(t, is)
		require.Equal(t, aspect, named)
	}
	_, is := AspectOf("lines")
	require.False(t, is, "no login shows how many lines there are")
}

func TestEveryValueOfAAspectIsSetAndReadBack(t *testing.T) {
	t.Parallel()
	for _, aspect := range ShownAspects() {
		usual := DefaultBehaviour().Value(aspect)
		require.Contains(t, aspect.Values(), usual, aspect)
		for _, value := range aspect.Values() {
			behaviour, ok := DefaultBehaviour().With(aspect, value)
			require.True(t, ok, "%s %s", aspect, value)
			require.Equal(t, value, behaviour.Value(aspect))
			if value != Unsent {
				k := kindOf(t, aspect.Written(value))
				require.Equal(t, value, k.Behaviour.Value(aspect))
				require.True(t, k.Says(aspect))
			}
		}
		_, ok := DefaultBehaviour().With(aspect, "{}")
		require.False(t, ok, aspect)
	}
}

func TestABoundOfThePatienceLeavesItUnknownAboveIt(t *testing.T) {
	t.Parallel()
	k := kindOf(t, "login-timeout: at-least 12s")
	require.False(t, k.Says(AspectLoginWindow))
	require.True(t, k.SaysAny(AspectLoginWindow))
	require.Equal(t, "30s", k.Behaviour.Value(AspectLoginWindow))
	require.False(t, k.May(AspectLoginWindow, "10s"))
	require.True(t, k.May(AspectLoginWindow, "30s"))
	require.True(t, k.May(AspectRefusal, "ends-list"))
	require.Equal(t, "1m30s", kindOf(t, "login-timeout: at-least 90s").Behaviour.Value(AspectLoginWindow))
	require.Equal(t, "2m", kindOf(t, "login-timeout: 2m").Behaviour.Value(AspectLoginWindow))
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
	b, err := s.Supposition(" k  password-form tacacs: chap ")
	require.NoError(t, err)
	require.Equal(t, Supposition{Platform: s.Platforms[0], Aspect: AspectPasswordTACACS, Value: "chap"}, b)
	for text, says := range map[string]string{
		"kk refusal: ends-list": `there is no platform "kk"; did you mean "k"?`,
		"k refusel: ends-list":  `"refusel" is no behaviour that a login can show; did you mean "refusal"?`,
		"k refusal: perhaps":    `refusal does not take "perhaps"; ends-list, tries-next are some of its values`,
		"":                      `there is no platform ""`,
	} {
		_, err := s.Supposition(text)
		require.ErrorContains(t, err, says)
	}
	d := s.Device("d")
	obeys, err := s.Supposition("k console-obeys-authorization: false")
	require.NoError(t, err)
	as := d.As([]Supposition{b, obeys})
	require.Equal(t, "chap", as.Platform.Behaviour.PasswordAs.TACACS)
	require.Nil(t, as.Way(Console).Lists[Session])
	require.Equal(t, Unobeyed, as.Way(Console).Origins[Session])
	require.NotNil(t, as.Way(SSH).Lists[Session])
	require.Same(t, d.Way(SSH), as.Way(SSH))
	require.NotNil(t, d.Way(Console).Lists[Session], "the device itself is as it was")
	back := as.Behaving(d.Platform.Behaviour)
	require.Equal(t, d.Way(Console).Lists, back.Way(Console).Lists)
	require.Same(t, s.Device("plain"), s.Device("plain").As([]Supposition{b}))
}

func TestTimesAreShownShort(t *testing.T) {
	t.Parallel()
	for d, want := range map[time.Duration]string{time.Minute: "1m", 90 * time.Second: "1m30s", 10 * time.Minute: "10m",
		4 * time.Second: "4s", 0: "0s", time.Hour: "1h", 90 * time.Minute: "1h30m"} {
		require.Equal(t, want, ShortTime(d))
	}
}
