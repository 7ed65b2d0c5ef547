package findings

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatDependsOnAnUnsaidAspectIsFoundOnceForItsKind(t *testing.T) {
	t.Parallel()
	r, s := checkUnassumed(t, base)
	require.Len(t, r.Findings, 1)
	f := r.Findings[0]
	require.Equal(t, "depends-on-behaviour", f.Code)
	require.Equal(t, "site.yaml:8:20", s.Where(f.Place))
	require.Equal(t, "sw-1 sw-2", strings.Join([]string{f.Devices[0].Name, f.Devices[1].Name}, " "))
	require.Equal(t, "What happens depends on password-form tacacs, which is not known of the platform switch. With "+
		"chap, by console and ssh: Devices of the platform switch send passwords as chap, and the password of ines is "+
		"a one-way hash: t1 cannot check it. Then nobody with full rights gets in by any way. With mschapv2 "+
		"too.", f.Text)
	require.Equal(t, "find it out by mellowgate learn switch -device sw-1, and write what is so into the behaviour of "+
		"the platform switch: password-form: {tacacs: ascii} or pap or chap or mschapv2", f.Repair)
}

func TestWithoutAKindTheDeviceItselfIsNamed(t *testing.T) {
	t.Parallel()
	r, s := checkUnassumed(t, strings.NewReplacer("platforms: [{name: switch, behaviour: {refusal: ends-list}}]\n", "",
		", platform: switch", "", "timeout: 1s", "timeout: 6s").Replace(base))
	at, texts := map[string]string{}, ""
	for _, f := range r.Findings {
		if f.Code != "depends-on-behaviour" {
			continue
		}
		texts += f.Text
		at[f.Text[:strings.Index(f.Text, ",")]] = s.Where(f.Place)
		require.Contains(t, f.Repair, "give the device a platform whose behaviour says it")
	}
	require.Equal(t, map[string]string{"What happens depends on password-form tacacs": "site.yaml:19:12",
		"What happens depends on login-timeout": "site.yaml:19:12"}, at)
	require.Contains(t, texts, "and the way in gives up after 10 s")
}

func TestWhatIsWrongWithEveryValueIsNoQuestionOfTheAspect(t *testing.T) {
	t.Parallel()
	r, _ := checkUnassumed(t, strings.NewReplacer("refusal: ends-list",
		"refusal: ends-list, password-form: {tacacs: ascii}",
		"    accounts: [keeper]\n", "").Replace(base))
	require.NotContains(t, codesOf(r), "depends-on-behaviour")
	require.Contains(t, codesOf(r), "no-account")
}
