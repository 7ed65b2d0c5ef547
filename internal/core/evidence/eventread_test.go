package evidence

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

func TestAnEventIsReadFromTheLineThatWasWrittenOfIt(t *testing.T) {
	t.Parallel()
	level := 15
	for _, e := range []Event{
		{Time: time.Date(2026, 11, 23, 3, 9, 1, 5000, time.UTC), Server: "tern", Protocol: site.TACACS,
			Client: "192.0.2.1",
			Port:   40001, Device: "north-sw-1", Access: "ssh", Person: "ines \"m\"", Question: site.AskLogin,
			Answer: Accepted, Reason: reason.Accepted, Text: "in = well", Place: "site.yaml:4:1", Level: &level},
		{Time: time.Date(2026, 11, 23, 3, 9, 1, 0, time.UTC), Server: "tern", Protocol: site.RADIUS,
			Client: "192.0.2.9",
			Answer: Dropped, Reason: reason.ClientUnknown, Text: "no device"},
	} {
		read, ok := ReadEvent(string(e.AppendLine(nil)), time.Now())
		require.True(t, ok)
		require.Equal(t, e, read)
	}
}

func TestALineOfALogIsReadInEachForm(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	want := Event{Time: time.Date(2026, 11, 23, 3, 9, 1, 0, time.UTC), Server: "tern", Device: "sw-1", Person: "ines",
		Question: site.AskLogin, Answer: Refused, Reason: reason.WrongPassword, Text: "the password is wrong"}
	said := `server=tern device=sw-1 person=ines question=login answer=refused reason=wrong-password ` +
		`text="the password is wrong"`
	for form, line := range map[string]string{
		"text": `time=2026-11-23T03:09:01.000Z level=WARN msg=event ` + said,
		"JSON": `{"time":"2026-11-23T03:09:01Z","level":"WARN","msg":"event","server":"tern","device":"sw-1",` +
			`"person":"ines",` +
			`"question":"login","answer":"refused","reason":"wrong-password","text":"the password is wrong"}`,
		"syslog": "<85>1 2026-11-23T03:09:01.000000Z gate mellowgate 77 refused - \ufeff" + said,
		"syslog with its data": `<85>1 2026-11-23T03:09:01.000000Z gate mellowgate 77 refused [event@32473 server="other" ` +
			`person="a\"\]b" text="the password"] ` + "\ufeff" + said,
		"syslog, of old":        "<85>Nov 23 03:09:01 gate mellowgate[77]: " + said,
		"a file of a receiver":  "Nov 23 03:09:01 gate mellowgate[77]: " + said,
		"a file with full time": "2026-11-23T03:09:01.000000+00:00 gate mellowgate[77]: " + said,
	} {
		got, ok := ReadEvent(line, now)
		require.True(t, ok, form)
		require.Equal(t, want, got, form)
	}
	older, _ := ReadEvent("Dec 30 03:09:01 gate mellowgate[77]: "+said, now)
	require.Equal(t, 2025, older.Time.Year(), "a date that is yet to come is of last year")
	for _, line := range []string{"", "{", "{}", `{"server":5}`, "server=tern",
		"Nov 23 03:09:01 gate mellowgate[7]: started",
		`{"time":"2026-11-23T03:09:01Z","level":"INFO","msg":"ready"}`, "server=tern answer=refused question=login",
		`time=2026-11-23T03:09:01Z server="tern answer=refused question=login`} {
		_, ok := ReadEvent(line, now)
		require.False(t, ok, line)
	}
}

func TestCountersOfSNMPAreReadByNameAndByNumber(t *testing.T) {
	t.Parallel()
	const named = `
RADIUS-AUTH-CLIENT-MIB::radiusAuthServerAddress.1 = IpAddress: 192.0.2.23
RADIUS-AUTH-CLIENT-MIB::radiusAuthClientAccessRequests.1 = Counter32: 40
RADIUS-AUTH-CLIENT-MIB::radiusAuthClientAccessRetransmissions.1 = Counter32: 2
RADIUS-AUTH-CLIENT-MIB::radiusAuthClientAccessAccepts.1 = Counter32: 30
RADIUS-AUTH-CLIENT-MIB::radiusAuthClientAccessRejects.1 = Counter32: 7
RADIUS-AUTH-CLIENT-MIB::radiusAuthClientBadAuthenticators.1 = Counter32: 1
RADIUS-AUTH-CLIENT-MIB::radiusAuthClientTimeouts.1 = Counter32: 3
RADIUS-ACC-CLIENT-MIB::radiusAccClientRequests.2 = Counter32: 9
RADIUS-ACC-CLIENT-MIB::radiusAccClientTimeouts.2 = Counter32: 9
SNMPv2-MIB::sysUpTime.0 = Timeticks: (5) 0:00:00.05`
	require.Equal(t, []Count{
		{Server: "192.0.2.23", Question: site.AskLogin, Sent: 42, Accepted: 30, Refused: 7,
			Lost: map[reason.Reason]int{reason.Unverified: 1, reason.Silent: 3}},
		{Server: "server 2", Question: site.AskRecordSessions, Sent: 9, Lost: map[reason.Reason]int{reason.Silent: 9}},
	}, SNMPCounts(named))
	require.Equal(t, []Count{{Server: "192.0.2.23", Question: site.AskLogin, Sent: 5,
		Lost: map[reason.Reason]int{reason.Silent: 5}}}, SNMPCounts(`.1.3.6.1.2.1.67.1.2.1.1.3.1.2.1 = IpAddress: 192.0.2.23
.1.3.6.1.2.1.67.1.2.1.1.3.1.5.1 = Counter32: 5
iso.3.6.1.2.1.67.1.2.1.1.3.1.13.1 = Counter32: 5`))
	require.Empty(t, SNMPCounts("nothing of the platform = 5"))
}

func TestTwoReadingsTellWhatWasCountedBetween(t *testing.T) {
	t.Parallel()
	at := func(sent, yes, lost int) []Count {
		return []Count{{Server: "gull", Question: site.AskLogin, Sent: sent, Accepted: yes,
			Lost: map[reason.Reason]int{reason.Silent: lost}}}
	}
	require.Equal(t, at(4, 1, 3), Since(at(100, 97, 3), at(104, 98, 6)))
	require.Equal(t, at(4, 4, 0), Since(at(100, 97, 3), at(4, 4, 0)), "the device started again between them")
	require.Equal(t, at(4, 4, 0), Since(nil, at(4, 4, 0)))
}
