package rights

import (
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

func TestASecondFactorDecidesWithTheWordsOfWhatWasFound(t *testing.T) {
	t.Parallel()
	s := parse(t)
	for name, c := range map[string]struct {
		q      Question
		asks   bool
		reason reason.Reason
		says   string
	}{
		"asked for": {Question{Credential: CodeWanted, Prompts: true}, true, reason.CodeAsked,
			"the password of ines.marsh is right; the one-time code is asked for"},
		"cannot be asked for": {Question{Credential: CodeWanted}, false, reason.SecondFactor,
			"type the code right after the password"},
		"late": {Question{Credential: LateCode}, false, reason.SecondFactor,
			"is for a question that is not open here"},
		"wrong": {Question{Credential: WrongCode}, false, reason.SecondFactor,
			"the password of ines.marsh is right: the one-time code is wrong"},
		"used": {Question{Credential: WrongCode, Code: Code{Found: true, Used: true}}, false, reason.SecondFactor,
			"was used before; wait for the next"},
		"lost": {Question{Credential: WrongCode, Code: Code{Found: true, Lost: true}}, false, reason.SecondFactor,
			"could not be noted as used, and so was not taken; look at the disk of the server"},
		"behind": {Question{Credential: WrongCode, Code: Code{Found: true, Steps: -3}}, false, reason.SecondFactor,
			"is one of another time; the clock that made the one-time code is about 1m30s behind the server's; set " +
				"that clock"},
		"ahead": {Question{Credential: WrongCode, Code: Code{Found: true, Steps: 2}}, false, reason.SecondFactor,
			"the clock that made the one-time code is about 1m0s ahead of the server's"},
	} {
		c.q.Person, c.q.Access = "ines.marsh", "ssh"
		d := Decide(s, c.q, noon)
		require.Equal(t, []any{false, c.asks, c.reason}, []any{d.Allow, d.Asks, d.Reason}, name)
		require.Contains(t, d.Text, c.says, name)
	}
	for steps, says := range map[int]string{0: "level 15",
		1: "level 15; the clock that made the one-time code is about 30s"} {
		d := Decide(s, Question{Person: "ines.marsh", Credential: Right,
			Code: Code{Found: true, Taken: true, Steps: steps}},
			noon)
		require.True(t, d.Allow)
		require.Contains(t, d.Text, says)
		require.Equal(t, steps != 0, len(d.Text) > len("ines.marsh has the role all here, level 15"))
	}
}

func TestOnlyALoginHasASecondFactor(t *testing.T) {
	t.Parallel()
	d := Decide(parse(t), Question{Person: "ines.marsh", Purpose: site.Session, Credential: WrongCode}, noon)
	require.True(t, d.Allow, d.Text)
}

func TestARefusalSaysWhereTheGrantFellShort(t *testing.T) {
	t.Parallel()
	s := parse(t)
	for name, c := range map[string]struct {
		q    Question
		says string
	}{
		"another device": {Question{Device: s.Device("hq-sw"), Access: "ssh"},
			"no grant lets tobin.reed in on hq-sw by ssh; the nearest does not match: it is for place north, " +
				"south, and this device has place hq"},
		"no label": {Question{Device: s.Device("bare-sw"), Access: "ssh"},
			"in on bare-sw by ssh; the nearest does not match: it is for devices with the label duty (switch), and " +
				"this one has none"},
		"another access": {Question{Device: s.Device("north-sw"), Access: "web"},
			"in on north-sw by web; the nearest does not match: it is for ssh, console, not for web"},
		"no access said": {Question{Device: s.Device("north-sw")},
			"in on north-sw; the nearest does not match: it is for ssh, console, and the device does not say by " +
				"which access"},
		"nothing said": {Question{}, "in on a client that is no device of this site; the nearest does not match: it " +
			"is for devices with the label duty (switch), and this one has none"},
		"no device": {Question{Access: "ssh"}, "in on a client that is no device of this site by ssh; the nearest " +
			"does not match: it is for devices with the label duty (switch), and this one has none"},
	} {
		c.q.Person, c.q.Credential = "tobin.reed", Right
		d := Decide(s, c.q, noon)
		require.Equal(t, reason.NoGrant, d.Reason, name)
		require.Contains(t, d.Text, c.says, name)
	}
}

func TestTheServiceTypeSaysWhatTheLevelIs(t *testing.T) {
	t.Parallel()
	for level, want := range map[int]string{1: "NAS-Prompt", 14: "NAS-Prompt", 15: "Administrative"} {
		attributes := Attributes(site.RADIUS, site.Login, Decision{Allow: true, Role: &site.Role{Level: level}}, plain)
		require.Equal(t, Attribute{Name: ServiceType, Value: want}, attributes[0])
	}
	other := &site.Platform{Behaviour: site.Behaviour{LevelFrom: "Example-Level"}}
	level, ok := Level([]Attribute{{Name: ServiceType, Value: "Administrative"}}, other)
	require.Equal(t, []any{0, false}, []any{level, ok}, "a platform that reads another attribute does not heed "+
		"this one")
}

func TestARoleMayDoSomethingWhereARuleAllowsItBeforeAllIsRefused(t *testing.T) {
	t.Parallel()
	require.False(t, MayDoSomething(nil))
	for name, c := range map[string]struct {
		rules []site.Rule
		want  bool
	}{
		"no rule":       {nil, false},
		"allows":        {[]site.Rule{{Words: []string{"look"}, Allow: true}}, true},
		"refuses first": {[]site.Rule{{Words: []string{"set", "**"}}, {Words: []string{"look"}, Allow: true}}, true},
		"refuses all":   {[]site.Rule{{Words: []string{"**"}}, {Words: []string{"look"}, Allow: true}}, false},
		"only refuses":  {[]site.Rule{{Words: []string{"set"}}}, false},
	} {
		require.Equal(t, c.want, MayDoSomething(&site.Role{Commands: c.rules}), name)
	}
}
