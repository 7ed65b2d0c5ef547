package rights

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

const limited = `site: x
people:
  - {name: near, password: $6$a$b}
  - {name: daily, password: $6$a$b}
  - {name: both, password: $6$a$b}
roles:
  - name: all
    level: 15
    account: watch
    send: {radius: [{name: Class, value: x}], tacacs: [{name: idletime, value: "20", optional: true}]}
platforms:
  - {name: vendor, behaviour: {level-attribute: Example-Level, account-attribute: Filter-Id}}
grants:
  - {who: person near, from: [192.0.2.0/24, 2001:db8::/32], role: all}
  - {who: person daily, hours: [Mon-Fri 06:00-20:00, Sat 08:00-12:00], role: all}
  - {who: person both, from: 192.0.2.1, hours: 06:00-20:00, role: all}
  - {who: team abroad, role: all}
`

func TestGrantsHoldFromTheirPlacesAndAtTheirHours(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(limited)})
	require.NoError(t, err)
	monday := time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		person, from string
		at           time.Time
		assume       bool
		says         string // "" when it is allowed
	}{
		{"near", "192.0.2.77", monday, false, ""},
		{"near", "2001:db8::1", monday, false, ""},
		{"near", "198.51.100.1", monday, false,
			"it is for those who come from 192.0.2.0/24, 2001:db8::/32, and the person comes from 198.51.100.1"},
		{"near", "", monday, false, "comes from an address that the device does not say"},
		{"near", "", monday, true, ""},
		{"daily", "", monday, false, ""},
		{"daily", "", monday.Add(12 * time.Hour), false, "it holds at Mon-Fri 06:00-20:00 or Sat 08:00-12:00 only"},
		{"daily", "", monday.AddDate(0, 0, 5), false, ""},
		{"daily", "", monday.AddDate(0, 0, 6), false, "it holds at"},
		{"daily", "", monday.AddDate(0, 0, 6), true, ""},
		{"both", "192.0.2.1", monday, false, ""},
		{"both", "192.0.2.2", monday.Add(14 * time.Hour), false, "it is for those who come from 192.0.2.1/32"},
	} {
		q := Question{Purpose: site.Session, Person: c.person, AssumeFrom: c.assume, AssumeHours: c.assume}
		q.From, _ = netip.ParseAddr(c.from)
		d := Decide(s, q, c.at)
		require.Equal(t, c.says == "", d.Allow, "%v: %s", c, d.Text)
		if c.says != "" {
			require.Equal(t, reason.NoGrant, d.Reason)
			require.Contains(t, d.Text, c.says)
		}
	}
}

func TestAPersonWhomADirectoryFoundIsDecidedAboutLikeAnyOther(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(limited)})
	require.NoError(t, err)
	q := Question{Purpose: site.Login, Person: "ebba", Credential: Right}
	require.Equal(t, reason.UnknownPerson, Decide(s, q, time.Time{}).Reason)
	q.Known = &site.Person{Ref: site.Ref{Name: "ebba"}, Teams: []string{"abroad"}}
	require.True(t, Decide(s, q, time.Time{}).Allow)
	q.Credential = Wrong
	require.Equal(t, reason.WrongPassword, Decide(s, q, time.Time{}).Reason)
	q.Credential = WrongCode
	require.Equal(t, reason.SecondFactor, Decide(s, q, time.Time{}).Reason)
	q.Known.Teams = nil
	q.Credential = Right
	require.Equal(t, reason.NoGrant, Decide(s, q, time.Time{}).Reason)
	q.Known = &site.Person{Ref: site.Ref{Name: "near"}, Teams: []string{"abroad"}}
	q.Person = "near"
	q.Credential = Wrong
	require.Equal(t, reason.WrongPassword, Decide(s, q, time.Time{}).Reason, "the site's own person comes first")
}

func TestAnswersCarryWhatTheKindOfDeviceReads(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(limited)})
	require.NoError(t, err)
	d := Decision{Allow: true, Role: s.Roles[0]}
	over := Attributes(site.RADIUS, site.Login, d, s.Platforms[0])
	require.Equal(t, []Attribute{{Name: ServiceType, Value: "Administrative"},
		{Name: ManagementPrivilegeLevel, Value: "15"}, {Name: "Example-Level", Value: "15"},
		{Name: "Filter-Id", Value: "watch"}, {Name: "Class", Value: "x"}}, over)
	require.Equal(t, "watch", Template(over, s.Platforms[0]))
	require.Equal(t, "", Template(over, plain))
	require.Equal(t, []Attribute{{Name: PrivLvl, Value: "15"}, {Name: "idletime", Value: "20", Optional: true}},
		Attributes(site.TACACS, site.Session, d, nil))
	require.Empty(t, Attributes(site.RADIUS, site.Session, d, plain), "RADIUS carries the rights with the login")
	level, ok := Level([]Attribute{{Name: ManagementPrivilegeLevel, Value: "15"}}, s.Platforms[0])
	require.Equal(t, []any{0, false}, []any{level, ok}, "a platform that reads another attribute reads no other")
}
