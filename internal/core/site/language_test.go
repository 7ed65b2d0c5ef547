package site

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
)

// whole uses every part of the language.
const whole = `site: Whole
about: every key once
keys: {k: sealed, k2: env K2, dir: file dir.key, otp: clear JBSWY3DPEHPK3PXP}
servers:
  - {name: tern, protocol: tacacs, address: 192.0.2.21, key: {now: k, next: k2}, for: [authentication, authorization], labels: {place: hq}}
  - {name: plover, protocol: tacacs, address: 192.0.2.22, key: k, password-forms: [chap, mschapv2]}
  - {name: sanderling, protocol: radius, address: 192.0.2.23, ports: {authentication: 1645}, key: k2, message-authenticator: if-present}
  - {name: dunlin, protocol: ldap, address: 192.0.2.25, base: "ou=people,dc=example", bind: {dn: "cn=gate,dc=example", key: dir}, team-attribute: memberOf, tls: ldaps}
groups:
  - {name: shore, servers: [tern, plover]}
  - {name: sea, servers: [sanderling]}
  - {name: book, servers: [dunlin]}
lists:
  - {name: crew, authenticate: login, methods: [group shore, group book, local]}
  - {name: up, authenticate: elevation, methods: [group shore, secret bridge]}
  - {name: rights, authorize: session, methods: [group shore, signed-in]}
  - {name: events, account: system, when: start and stop, methods: [group sea]}
platforms:
  - name: switch
    behaviour: {level-attribute: Example-Level, account-attribute: Filter-Id, accounting-failure: blocks, speaks: [radius, tacacs], password-form: {tacacs: chap},
             networks: default-only, lines: 0-97, default-ports: legacy, command-rules-over-radius: by-name, secrets-in-accounting: in-clear, default-login: line-password}
profiles:
  - name: pier
    defaults: {login: crew, elevation: up, record-system: events}
    access: {ssh: {session: rights}, netconf: {}, web: off}
devices-from: [inventory.csv]
devices:
  - name: sw-0
    platform: switch
    profile: pier
    addresses: [192.0.2.100]
    network: management
    found: {keys: {tern: k2}, ports: {sanderling: {accounting: 1646}}, source: 192.0.2.200, accounts: [spare], groups: {shore: [plover, tern]}, lists: {rights: [local]}}
accounts: [{name: spare, level: 1, password: $6$salt$hash}]
elevation-secrets: [{name: bridge, password: key k}]
people: [{name: ines, teams: [network], password: $6$salt$hash, one-time-code: key otp}]
directories: [dunlin]
roles:
  - name: all
    level: 15
    commands: [allow **]
    account: watch
    send: {radius: [{name: Management-Policy-Id, value: all}], tacacs: [{name: idletime, value: "20", optional: true}]}
grants: [{who: team network, from: [192.0.2.0/24, 2001:db8::1], hours: [Mon-Fri 06:00-20:00 Europe/Dublin, Sat 22:00-02:00], role: all}]
clients: [{from: 198.51.100.0/26, servers: [sanderling], key: k2}]
vendors: [{name: example, number: 32473, attributes: [{name: Example-Level, number: 1, type: integer}]}]
accept: [{code: one-server, device: sw-0, why: only one there, until: 2027-01-31}]
labels: [{label: place, value: aboard, trusted: false}]
service: {ledger: folder book.db, metrics: "127.0.0.1:9470", syslog: "udp 192.0.2.61:514", traffic: 2MiB, events: 64KiB, keep: {for: 400d, at-most: 1GiB, to: away}, may-shrink: true, spool: 5000, ledger-key: otp, limits: {connections: 10, failure-delay: 2s}}
lab: {network: 127.80.0.0/16, only: true}
`

// A list of devices as other systems write it: the same devices in each form.
func TestAFileOfDevicesIsReadInEachForm(t *testing.T) {
	t.Parallel()
	const top = "keys: {k: file k}\n"
	read := func(name, text string) (*Site, error) {
		return ParseWith(func(string) (Source, error) { return Source{Name: name, Text: []byte(text)}, nil },
			Source{Name: "site.yaml", Text: []byte(top + "devices-from: " + name + "\n")})
	}
	for name, text := range map[string]string{
		"list.csv": "name,addresses,labels.place\nsw-1,192.0.2.1 2001:db8::1,north\nsw-2,192.0.2.2,\n",
		"semi.csv": "\xef\xbb\xbfname;addresses;labels.place\r\nsw-1;192.0.2.1 " +
			"2001:db8::1;north\r\nsw-2;192.0.2.2;\r\n",
		"list.json": `[{"name": "sw-1", "addresses": ["192.0.2.1", "2001:db8::1"], "labels": {"place": "north"}},
			{"name": "sw-2", "addresses": ["192.0.2.2"]}]`,
		"list.yaml": "devices:\n- {name: sw-1, addresses: [192.0.2.1, '2001:db8::1'], labels: {place: north}}\n" +
			"- {name: sw-2, addresses: [192.0.2.2]}\n",
	} {
		s, err := read(name, text)
		require.NoError(t, err, name)
		require.Len(t, s.Devices, 2, name)
		require.Equal(t, "sw-1", s.Devices[0].Name)
		require.Len(t, s.Devices[0].Addresses, 2, name)
		require.Equal(t, "north", s.Devices[0].Labels["place"], name)
		require.Empty(t, s.Devices[1].Labels, name)
	}
	for text, says := range map[string]string{
		`[{"name": "sw-1", "adresses": ["192.0.2.1"]}]`: `list.json:1:19: unknown key "adresses" in a file of ` +
			`devices; did you mean "addresses"?`,
		`[{"name": "sw-1", "addresses": ["192.0.2.1"], "keys": {}}]`: `list.json:1:47: unknown key "keys" in a file ` +
			`of devices`,
		`{"hosts": []}`:    `list.json:1:1: `,
		`[{"name": "sw-1"`: `list.json:`,
		`[{"name": "sw-1", "addresses": ["here"]}]`: `an IPv4 or IPv6 address is wanted`,
	} {
		_, err := read("list.json", text)
		require.ErrorContains(t, err, says, text)
	}
	_, err := read("semi.csv", "name;addresses\n\"sw-1;192.0.2.1\n")
	require.ErrorContains(t, err, "put a cell with quotes or ';' between double quotes")
}

func inventoryOf(text string) func(string) (Source, error) {
	return func(name string) (Source, error) {
		if name != "inventory.csv" {
			return Source{}, errors.New("there is no such file")
		}
		return Source{Name: name, Text: []byte(text)}, nil
	}
}

func TestTheWholeLanguageIsReadAndObeyed(t *testing.T) {
	t.Parallel()
	s, err := ParseWith(inventoryOf("\xef\xbb\xbfname,platform,profile,addresses,source,labels.place,accounts\r\n"+
		"sw-1,switch,pier,192.0.2.101 192.0.2.102,192.0.2.102,north,\n"+
		"\"sw-2\",,,2001:db8::2,,,spare\n"),
		Source{Name: "site.yaml", Text: []byte(whole)})
	require.NoError(t, err)
	tern := s.Server("tern")
	sanderling := s.Server("sanderling")
	dunlin := s.Server("dunlin")
	require.Equal(t, []string{"k", "k2"}, []string{tern.Key.Name, tern.NextKey.Name})
	require.True(t, tern.Serves(Login) && tern.Serves(Commands) && !tern.Serves(RecordCommands))
	require.Equal(t, []any{uint16(636), "ldaps", "(uid=%u)", "dir"},
		[]any{dunlin.Port, dunlin.Directory.Security, dunlin.Directory.Find, dunlin.Directory.Key.Name})
	require.Equal(t, []*Server{dunlin}, s.Directories)

	d := s.Device("sw-0")
	require.Equal(t, "k2", d.Key(tern).Name)
	authentication, accounting, _ := d.Ports(sanderling)
	require.Equal(t, []uint16{1645, 1646}, []uint16{authentication, accounting})
	require.Equal(t, "192.0.2.200", d.Asks().String())
	require.Equal(t, "spare", d.Accounts[0].Name)
	ssh := d.Way("ssh")
	require.Equal(t, "plover", ssh.Lists[Login].Methods[0].Servers()[0].Name, "a held group has its own order")
	require.Equal(t, "local", ssh.Lists[Session].Methods[0].String(), "a held list has its own methods")
	require.Equal(t, "tern", s.Groups[0].Servers[0].Name, "the design stays as it is")
	require.Equal(t, "secret bridge", ssh.Lists[Elevation].Methods[1].String())
	require.NotNil(t, d.Way("netconf"))
	behaviour := d.Platform.Behaviour
	require.Equal(t, []any{"Example-Level", "Filter-Id", "chap", "pap", Range{0, 97}},
		[]any{behaviour.LevelFrom, behaviour.AccountFrom, behaviour.PasswordAs.TACACS, behaviour.PasswordAs.RADIUS,
			behaviour.Lines})
	require.True(t, behaviour.Speaks(TACACS) && !behaviour.Speaks(LDAP) && !behaviour.Reaches(d.Network) &&
		behaviour.Reaches(""))

	sw1, sw2 := s.Device("sw-1"), s.Device("sw-2")
	require.Equal(t, []any{"192.0.2.102", "north", "pier", 2},
		[]any{sw1.Source.String(), sw1.Labels["place"], sw1.Profile.Name, len(sw1.Addresses)})
	require.Equal(t, "inventory.csv:3:1", s.Where(sw2.Place))
	require.Equal(t, "spare", sw2.Accounts[0].Name)
	require.Equal(t, "otp", s.Person("ines").OneTime.Name)
	require.True(t, s.Clients[0].Covers(s.Clients[0].From[0].Addr().Next(), sanderling))
	require.False(t, s.Clients[0].Covers(s.Clients[0].From[0].Addr(), tern))
	require.Equal(t, []any{"book.db", "otp", 5000},
		[]any{s.Service.Ledger.Folder, s.Service.Ledger.Key.Name, s.Service.Ledger.Spool})
	require.Equal(t, []any{SyslogSink{Network: "udp", Address: "192.0.2.61:514"}, int64(2 << 20)},
		[]any{s.Service.Syslog, s.Service.Traffic})
	require.Equal(t, Keeping{400 * 24 * time.Hour, 1 << 30, "away"}, s.Service.Keep)
	require.Equal(t, Limits{10, 256, 0, 2 * time.Second, 256 << 20}, s.Service.Limits)
}

func TestMistakesInAFileOfDevices(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"name,adresses\nsw,192.0.2.1\n":             `inventory.csv:1:6: unknown column "adresses" in a file of devices; did you mean "addresses"?`,
		"name,platform\nsw,switch\n":                `inventory.csv:1:1: a file of devices needs the column "addresses"`,
		"name,addresses,name\n":                     `inventory.csv:1:16: the column "name" stands twice`,
		"name,labels.\n":                            `inventory.csv:1:6: unknown column "labels." in a file of devices`,
		"name,wheels,adresses\n":                    `inventory.csv:1:6: unknown column "wheels"`,
		"name,addresses\nsw\n":                      `inventory.csv:2:1: this row has 1 cells and the header has 2 columns`,
		"name,addresses\nsw,here\n":                 `inventory.csv:2:4: an address is "here"; an IPv4 or IPv6 address is wanted`,
		"name,addresses\n,192.0.2.1\n":              `inventory.csv:2:1: a device needs a name`,
		"name,addresses\nsw,192.0.2.1\"\n":          `inventory.csv:2:13: this is no row of a table: `,
		"name,profile,addresses\nsw,peer,192.0.2.1": `inventory.csv:2:4: there is no profile "peer"; did you mean "pier"?`,
		"name,addresses\nsw-0,192.0.2.1\n":          `inventory.csv:2:1: the device "sw-0" stands already in site.yaml:`,
	} {
		_, err := ParseWith(inventoryOf(text), Source{Name: "site.yaml", Text: []byte(whole)})
		require.ErrorContains(t, err, want, "%q", text)
	}
	_, err := ParseWith(inventoryOf(""),
		Source{Name: "site.yaml", Text: []byte(strings.Replace(whole, "inventory.csv", "other.csv", 1))})
	require.ErrorContains(t, err, "site.yaml:26:16: there is no such file")
}

func TestABrokenFileAmongGoodOnesReportsEverythingOrderedByPlace(t *testing.T) {
	t.Parallel()
	_, err := Parse(Source{Name: "a.yaml", Text: []byte("site: x\nservres: []\n")},
		Source{Name: "b.yaml", Text: []byte("keys: [1\n")},
		Source{Name: "c.yaml", Text: []byte("people:\n  - {name: a b}\n")})
	var problems Problems
	require.ErrorAs(t, err, &problems)
	require.Regexp(t, `(?s)^a.yaml:2:1: unknown key "servres".*b.yaml:\d+:\d+: this is not YAML.*c.yaml:2:12: `,
		err.Error())
	require.Len(t, problems, 3)
}

func TestLongLinesAndBytesThatAreNoTextAreErrorsLikeAnyOther(t *testing.T) {
	t.Parallel()
	long := "site: x\nabout: " + strings.Repeat("a", 10<<20) + "\nservres: []\n"
	_, err := Parse(Source{Name: "long.yaml", Text: []byte(long)})
	require.ErrorContains(t, err, "long.yaml:3:1: unknown key")
	require.Less(t, len(err.Error()), 1000)
	_, err = Parse(Source{Name: "bad.yaml", Text: []byte("site: \xff\xfe\n")})
	require.ErrorContains(t, err, "bad.yaml:1:")
}

func TestHoursHoldInTheirZoneAndPastMidnight(t *testing.T) {
	t.Parallel()
	at := func(text string) time.Time {
		when, err := time.Parse(time.RFC3339, text)
		require.NoError(t, err)
		return when
	}
	for _, c := range []struct {
		hours, at string
		want      bool
	}{
		{"Mon-Fri 06:00-20:00 Europe/Dublin", "2026-07-06T05:30:00Z", true}, // summer time: 06:30 there
		{"Mon-Fri 06:00-20:00 Europe/Dublin", "2026-11-23T05:30:00Z", false},
		{"Mon-Fri 06:00-20:00 Europe/Dublin", "2026-11-23T19:59:59Z", true},
		{"Mon-Fri 06:00-20:00 Europe/Dublin", "2026-11-22T12:00:00Z", false}, // a Sunday
		{"Sat 22:00-02:00", "2026-11-22T01:59:00Z", true},
		{"Sat 22:00-02:00", "2026-11-21T01:59:00Z", false},
		{"Fri-Mon 08:00-09:00", "2026-11-22T08:00:00Z", true},
		{"Sat,Wed 08:00-24:00", "2026-11-25T23:59:00Z", true},
		{"08:00-09:00", "2026-11-25T08:30:00Z", true},
	} {
		h, err := ParseHours(c.hours)
		require.NoError(t, err)
		require.Equal(t, c.want, h.Hold(at(c.at)), "%v", c)
	}
	for _, bad := range []string{"", "Mon", "Mon 08:00", "Mon 08:00-08:00", "Mon 24:00-08:00", "Mon 08:60-09:00",
		"Mon-Fri 08:00-09:00 Here/There", "Mon 08:00-09:00 UTC more"} {
		_, err := ParseHours(bad)
		require.Error(t, err, bad)
	}
}

// instance returns a YAML text as a JSON Schema validator wants it.
func instance(t *testing.T, text string) any {
	var v any
	require.NoError(t, yaml.Unmarshal([]byte(text), &v))
	b, err := json.Marshal(v)
	require.NoError(t, err)
	in, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
	require.NoError(t, err)
	return in
}

func TestTheSchemaTakesWhatTheReaderTakes(t *testing.T) {
	t.Parallel()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema()))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("site.json", doc))
	schema, err := c.Compile("site.json")
	require.NoError(t, err)
	reviewed, err := os.ReadFile("../../../demo/as-reviewed/site.yaml")
	require.NoError(t, err)
	for _, good := range []string{strings.Replace(small, "2027-03-31", `"2027-03-31"`, 1),
		strings.Replace(whole, "2027-01-31", `"2027-01-31"`, 1), string(reviewed)} {
		require.NoError(t, schema.Validate(instance(t, good)))
	}
	for _, bad := range []string{"servres: []", "servers: [{name: a}]", "servers: [{name: a, protocol: x, address: b}]",
		"lists: [{name: a, authenticate: login, methods: [other]}]",
		"devices: [{name: a, addresses: [192.0.2.1], access: {ssh: maybe}}]",
		"platforms: [{name: a, behaviour: {refusal: maybe}}]",
		"roles: [{name: a, level: 16}]"} {
		require.Error(t, schema.Validate(instance(t, bad)), bad)
		_, err := Parse(Source{Name: "bad.yaml", Text: []byte(bad)})
		require.Error(t, err, bad)
	}
}

func FuzzInventory(f *testing.F) {
	f.Add("name,addresses\nsw,192.0.2.1\n")
	f.Add("name,platform,profile,addresses,source,network,accounts,labels.place\n\"a\"\"b\",,,,,,,\n")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ParseWith(inventoryOf(text),
			Source{Name: "site.yaml", Text: []byte("site: x\ndevices-from: inventory.csv\n")})
		require.True(t, s != nil || err != nil)
	})
}

// Days mean what they say: each week is tried hour by hour.
func TestHoursHoldOnTheirDaysAndTimes(t *testing.T) {
	t.Parallel()
	monday := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	week := func(h Hours) (held []string) {
		for hour := range 7 * 24 {
			at := monday.Add(time.Duration(hour) * time.Hour)
			if h.Hold(at) {
				held = append(held, at.Format("Mon15"))
			}
		}
		return held
	}
	for text, want := range map[string]string{
		"mon-fri 09:00-10:00": "Mon09 Tue09 Wed09 Thu09 Fri09",
		"Sat,sun 09:00-11:00": "Sat09 Sat10 Sun09 Sun10",
		"Fri-Mon 00:00-01:00": "Mon00 Fri00 Sat00 Sun00",
		"Wed 23:00-02:00":     "Wed23 Thu00 Thu01",
		"Sun 23:00-01:00":     "Mon00 Sun23",
		"Tue 22:00-24:00":     "Tue22 Tue23",
		"05:00-06:00":         "Mon05 Tue05 Wed05 Thu05 Fri05 Sat05 Sun05",
		// Dublin is an hour behind Berlin, and on UTC in November.
		"Mon 09:00-10:00 Europe/Dublin": "Mon09",
		"Mon 09:00-10:00 Europe/Berlin": "Mon08",
	} {
		h, err := ParseHours(text)
		require.NoError(t, err, text)
		require.Equal(t, want, strings.Join(week(h), " "), text)
		require.Equal(t, text, h.String())
	}
	for text, says := range map[string]string{
		"Mun 09:00-10:00": `"Mun" are no days`, "Mon-Foo 09:00-10:00": `"Mon-Foo" are no days`, "Mon": "hours are",
		"09:00-10:00 Europe/Nowhere": "is no time zone", "09:00-10:00 Local": "is no time zone",
		"09:00-09:00": "are no times", "24:00-09:00": "are no times", "09:00": "are no times",
		"9:00-10:00":  "are no times",
		"09:60-10:00": "are no times", "09.00-10:00": "are no times",
		"09:00-1x:00": "are no times", "-1:00-10:00": "are no times", "25:00-26:00": "are no times",
		"09:-1-10:00": "are no times",
		"09:00-10:0x": "are no times", "": "hours are", "09:00-24:01": "are no times",
		"Mon 09:00-10:00 UTC more": "hours are",
	} {
		_, err := ParseHours(text)
		require.ErrorContains(t, err, says, text)
	}
}
