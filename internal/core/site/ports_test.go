package site

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAPortTellsTheWayIn(t *testing.T) {
	t.Parallel()
	var usual PortNames
	own := PortNames{SSH: {"line", "*.secure"}, Console: {"line0", "con"}, Web: {"pages/*/in"}}
	for port, want := range map[string][2]string{
		"ssh4":         {SSH, ""},
		"SSH0":         {SSH, ""},
		"console0":     {Console, ""}, // con is followed by a letter
		"con 0":        {"", Console},
		"con":          {"", Console},
		"web":          {Web, ""},
		"telnet3":      {Telnet, Telnet}, // of which the platform says nothing
		"line3":        {"", SSH},
		"Line 3/4":     {"", SSH},
		"line0":        {"", Console}, // the longer name
		"line01":       {"", SSH},     // line0 ends in a digit: it is that port alone
		"lines":        {"", ""},
		"4.secure":     {"", SSH},
		"4.secure2":    {"", ""},
		"pages/7/in":   {"", Web},
		"pages/7/on":   {"", ""},
		"tty3":         {"", ""},
		"":             {"", ""},
		"netconf-line": {NETCONF, NETCONF},
	} {
		require.Equal(t, want, [2]string{usual.Access(port), own.Access(port)}, port)
	}
	for _, access := range accesses {
		for line := range 3 {
			for _, names := range []PortNames{usual, own} {
				require.Equal(t, access, names.Access(names.Port(access, line)), "%s: %s", access,
					names.Port(access, line))
			}
		}
	}
	require.Equal(t, "ssh2", usual.Port(SSH, 2))
	require.Equal(t, "line1", own.Port(SSH, 0), "line0 is the console")
	require.Equal(t, "line0", own.Port(Console, 3))
	require.Equal(t, "pages/3/in", own.Port(Web, 3))
}

func TestPortNamesThatTellNothingApartAreRefused(t *testing.T) {
	t.Parallel()
	for names, says := range map[string]string{
		"{ssh: tty, console: [con, TTY]}": `the port name "tty" is that of console and of ssh`,
		"{ssh: '*'}":                      `port-names has "*" for ssh`,
		"{shh: tty}":                      `did you mean "ssh"?`,
		"{ssh: [tty, pts]}":               "",
	} {
		_, err := Parse(Source{Name: "site.yaml",
			Text: []byte("site: x\nkinds: [{name: k, behaviour: {port-names: " + names + "}}]\n")})
		if says == "" {
			require.NoError(t, err, names)
			continue
		}
		require.ErrorContains(t, err, says, names)
	}
}

func TestALevelHasTheFormThatItsKindSays(t *testing.T) {
	t.Parallel()
	behaviour := func(text string) (Behaviour, error) {
		s, err := Parse(Source{Name: "site.yaml",
			Text: []byte("site: x\nkinds: [{name: k, behaviour: {level-attribute: " + text + "}}]\n")})
		if err != nil {
			return Behaviour{}, err
		}
		return s.Platforms[0].Behaviour, nil
	}
	plain, err := behaviour("Example-Level")
	require.NoError(t, err)
	formed, err := behaviour(`"Example-Pair access:level={level};"`)
	require.NoError(t, err)
	require.Equal(t, []string{"15", "access:level=15;"}, []string{plain.LevelText(15), formed.LevelText(15)})
	for _, k := range []struct {
		of    Behaviour
		value string
		level int
		ok    bool
	}{{plain, "7", 7, true}, {plain, "16", 16, false}, {plain, "-1", -1, false}, {plain, "x", 0, false},
		{plain, "0", 0, true},
		{formed, "access:level=7;", 7, true}, {formed, "access:level=7", 7, false}, {formed, "level=7;", 0, false},
		{formed, "access:level=15;", 15, true}, {formed, "7", 7, false}} {
		n, ok := k.of.LevelIn(k.value)
		require.Equal(t, k.ok, ok, k.value)
		if ok {
			require.Equal(t, k.level, n, k.value)
		}
	}
	for _, bad := range []string{`"Example-Pair level"`, `"Example-Pair {level}{level}"`, `"radius-standard x={level}"`,
		`"a b c"`} {
		_, err := behaviour(bad)
		require.ErrorContains(t, err, "level-attribute is", bad)
	}
}
