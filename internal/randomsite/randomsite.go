// Package randomsite makes sites at random, for tests. A site has what real sites have, and lacks
// what their users leave out: aspects, lists, levels, accounts, people, the second server of a group.
package randomsite

import (
	"fmt"
	"math/rand"
	"strings"
)

// KeyA and KeyB are the names of the keys of a site that is made.
const KeyA, KeyB = "a", "b"

// Text returns the site of a seed. The hash is the password of most people and accounts, other is that of
// the rest.
func Text(seed int64, hash, other string) string {
	m := &made{Rand: rand.New(rand.NewSource(seed))}
	m.bare = m.Intn(2) == 0
	m.servers()
	m.kinds()
	m.people()
	m.devices()
	return strings.NewReplacer("HASH", hash, "OTHER", other).Replace(m.String())
}

// made writes a site at random that has what real sites have: both protocols and
// a directory, people of either, one name twice, elevations, template accounts,
// forms of passwords, names of ports, records, and odd aspects.
type made struct {
	*rand.Rand
	strings.Builder
	bare bool // much is left out
}

// said returns a text, or nothing: in a bare site more than every second time.
func (m *made) said(text string) string {
	if m.bare && m.Intn(5) < 3 || m.Intn(12) == 0 {
		return ""
	}
	return text
}

func (m *made) one(of ...string) string { return of[m.Intn(len(of))] }

// some returns each with a chance, in their order, and at least one.
func (m *made) some(of ...string) string {
	var all []string
	for _, x := range of {
		if m.Intn(2) == 0 {
			all = append(all, x)
		}
	}
	if len(all) == 0 {
		all = append(all, m.one(of...))
	}
	return strings.Join(all, ", ")
}

// maybe returns a text with a chance of one in n.
func (m *made) maybe(n int, text string) string {
	if m.Intn(n) == 0 {
		return text
	}
	return ""
}

// servers writes servers, groups and lists.
func (m *made) servers() {
	fmt.Fprintf(m, "site: Made\nkeys: {a: file a, b: file b}\nvendors: [{name: example, number: 32473, attributes: "+
		"[{name: Example-Level, number: 1, type: integer}, {name: Example-May, number: 2, type: text}], commands: "+
		"{allow: Example-May}}]\nservers:\n")
	for i, name := range []string{"t1", "t2"} {
		fmt.Fprintf(
			m,
			"  - {name: %s, protocol: tacacs, address: 192.0.2.%d, key: a, timeout: %s, run: true%s%s%s}\n",
			name,
			i+1,
			m.one("1s", "2s"),
			m.maybe(2, ", dead-time: "+m.one("30s", "6s")),
			m.maybe(6, ", password-forms: [chap, mschapv2]"),
			m.maybe(6, ", for: [authentication, authorization]"),
		)
	}
	for i, name := range []string{"r1", "r2"} {
		fmt.Fprintf(
			m,
			"  - {name: %s, protocol: radius, address: %s, key: b, timeout: %s, attempts: %d, run: true%s%s}\n",
			name,
			[]string{"192.0.2.3", m.one("192.0.2.4", "'2001:db8::4'")}[i],
			m.one("1s", "2s"),
			1+m.Intn(2),
			m.maybe(2, ", dead-time: "+m.one("30s", "6s")),
			m.maybe(8, ", for: [authentication]"),
		)
	}
	m.WriteString(
		"  - {name: d1, protocol: ldap, address: 192.0.2.9, base: \"o=x\", bind: {dn: \"cn=g,o=x\", key: b}, " +
			"team-attribute: memberOf, timeout: 1s" + m.maybe(2, ", dead-time: "+m.one("30s", "6s")) + "}\n",
	)
	fmt.Fprintf(m, "groups: [{name: t, servers: [%s]}, {name: r, servers: [%s]}, {name: d, servers: [d1]}]\nlists:\n",
		m.some("t1", "t2"), m.some("r1", "r2"))
	for i := range 3 {
		m.lists(i)
	}
}

// lists writes one list of each purpose.
func (m *made) lists(i int) {
	methods := func(all ...string) string {
		m.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		return m.some(all...)
	}
	fmt.Fprintf(m, "  - {name: l%d, authenticate: login%s, methods: [%s%s]}\n", i,
		m.maybe(6, ", only: [ines, keeper, guest]"),
		m.one(methods("group t", "group r", "group d", "local"), m.one("group t", "group r")+", local"),
		m.maybe(6, ", secret bridge")+m.maybe(8, ", none"))
	fmt.Fprintf(m, "  - {name: s%d, authorize: session, methods: [%s]}\n", i,
		m.one(methods("group t", "group r", "local", "signed-in"), m.one("group t", "group r")+", signed-in"))
	fmt.Fprintf(
		m,
		"  - {name: c%d, authorize: commands%s, methods: [%s]}\n",
		i,
		m.said(", levels: "+m.one("1-15", "0-1", "15")),
		methods("group t", "local", "signed-in"),
	)
	fmt.Fprintf(m, "  - {name: e%d, authenticate: elevation, methods: [%s]}\n", i,
		m.one("group t", "group t, secret bridge", "secret bridge", "local", "group r, secret low"))
	fmt.Fprintf(m, "  - {name: v%d, account: sessions%s, methods: [%s]}\n", i,
		m.said(", when: "+m.one("stop", "start and stop")), methods("group t", "group r"))
}

// kinds writes two platforms, each of whose aspects is said or left out.
func (m *made) kinds() {
	m.WriteString("platforms:\n")
	for _, name := range []string{"k1", "k2"} {
		flag := func(n int) string { return fmt.Sprint(m.Intn(n) == 0) }
		var behaviour []string
		for _, t := range []string{
			"refusal: " + m.one("ends-list", "tries-next"), "unknown-account: " + m.one("ends-list", "tries-next"),
			"all-dead: " + m.one("asks-first", "passes"), "dead-time-ends: " + m.one("by-time", "with-last"),
			"notices-closed-port: " + flag(2), "level-without-session: " + m.one("0", "1", "15"),
			"local-level-needs-session: " + flag(2), "console-obeys-authorization: " + flag(2),
			"web-needs-level: " + m.one("0", "15"), "api-needs-level: " + m.one("0", "15"),
			"below-level: " + m.one("refused", "reads"), "level-attribute: " +
				m.one("radius-standard", "Example-Level"),
			"account-attribute: " + m.one("none", "none", "Filter-Id"), "account-by-name: " + flag(3),
			"rights-with-login: " + flag(3), "accounting-failure: " + m.one("ignores", "blocks"),
			"password-form: {radius: " + m.one("pap", "pap", "chap", "mschapv2") + ", tacacs: " +
				m.one("ascii", "ascii", "pap", "chap") + "}",
		} {
			if m.said("it") != "" {
				behaviour = append(behaviour, t)
			}
		}
		if m.Intn(3) == 0 {
			behaviour = append(behaviour, "commands-from: example")
		}
		if m.Intn(2) == 0 {
			behaviour = append(behaviour, "port-names: {ssh: [line], console: [con, line0], web: \"page *\"}")
		}
		said := ", behaviour: {" + strings.Join(behaviour, ", ") + "}"
		if len(behaviour) == 0 || m.bare && m.Intn(2) == 0 {
			said = "" // a platform that says no aspect
		}
		fmt.Fprintf(m, "  - {name: %s%s}\n", name, said)
	}
}

func (m *made) people() {
	m.WriteString(
		"elevation-secrets: [{name: bridge, level: 15, password: 'HASH'}, {name: low, level: 7, password: 'HASH'}]\n" +
			"accounts:\n  - {name: keeper, level: " + m.one("15", "15", "5") + ", password: 'HASH'}\n" +
			"  - {name: guest, level: 1, password: 'OTHER'}\n" +
			"  - {name: ines, level: 15, password: '" + m.one("HASH", "OTHER") + "'" + m.maybe(3, ", login: l1") +
			"}\n  - {name: deck, level: 15, password: none}\n  - {name: tobin, level: 7, password: none, login: l2}\n",
	)
	if m.said("people") != "" {
		m.WriteString(
			"people:\n  - {name: ines, teams: [net], password: 'HASH'}\n  - {name: tobin, teams: [watch], " +
				"password: 'HASH'" + m.maybe(
				4,
				", disabled: true",
			) + "}\n  - {name: kept, teams: [watch], password: key b}\n" +
				"  - {name: odd, teams: [none], password: 'HASH'}\n" +
				m.maybe(
					2,
					"  - {name: ebba, from: directory, teams: [net]}\n",
				),
		)
	}
	if strings.Contains(m.String(), "ebba") || m.Intn(2) == 0 {
		m.WriteString("directories: [d1]\n")
	}
	fmt.Fprintf(
		m,
		"roles:\n  - {name: all, level: 15%s%s}\n  - {name: look, level: %s%s}\n",
		m.said(", commands: [allow **]"),
		m.maybe(3, ", account: deck"),
		m.one("1", "1", "7", "15"),
		m.said(", commands: [allow look **]"),
	)
	if m.Intn(4) == 0 {
		m.WriteString("teams: [{name: " + m.one("net", "watch") + ", one-time-code: needed}]\n")
	}
	also, alone := "", ""
	if strings.Contains(m.String(), "people:") { // a grant names nobody who is not there
		also, alone = m.maybe(3, ", person odd"), m.maybe(4, "  - {who: person odd, role: look"+m.limits()+"}\n")
	}
	grants := m.said("  - {who: team net, role: all"+m.limits()+"}\n") +
		m.said("  - {who: [team watch"+m.maybe(2, ", team net")+also+"], role: look"+m.limits()+"}\n") + alone
	if grants != "" {
		m.WriteString("grants:\n" + grants)
	}
}

// limits are what a grant asks beyond whose it is.
func (m *made) limits() string {
	return m.maybe(3, ", access: ["+m.one("ssh", "ssh, console", "console, netconf")+"]") +
		m.maybe(5, ", devices: [d-1]") + m.maybe(5, ", where: {place: ["+m.one("north", "south, north")+"]}") +
		m.maybe(6, ", from: ["+m.one("198.51.100.0/24", "127.0.0.0/8, 198.51.100.0/24")+"]") +
		m.maybe(6, ", hours: "+m.one("Mon 01:00-02:00", "Mon-Fri 08:00-20:00"))
}

// devices writes two devices, and often a third that is like the first, or nearly.
func (m *made) devices() {
	m.WriteString("devices:\n")
	first := ""
	for i, kind := range []string{"k1", "k2"} {
		device := fmt.Sprintf("%s, addresses: [192.0.2.%d%s]%s, access: {", m.said(", platform: "+kind), 101+i,
			m.maybe(2, fmt.Sprintf(", '2001:db8::%d'", 101+i)),
			m.said(", accounts: ["+m.some("keeper", "guest", "ines", "deck", "tobin")+"]")+
				m.maybe(2, ", labels: {"+m.one("place: north", "place: south", "duty: edge")+"}"))
		var ways []string
		if console := m.said("console: {" + m.binds() + "}"); console != "" {
			ways = append(ways, console)
		}
		for _, access := range []string{"ssh", "telnet", "web", "api", "netconf"} {
			if m.Intn(2) == 0 {
				ways = append(ways, access+": {"+m.binds()+"}")
			}
		}
		device += strings.Join(ways, ", ") + "}" + m.maybe(3, ", asks: {"+m.one("t1", "t2", "t")+
			": {timeout: 3s, dead-time: "+m.one("0", "20s")+"}, "+m.one(
			"r1", "r2", "r")+": {attempts: 1, timeout: 2s}}")
		fmt.Fprintf(m, "  - {name: d-%d%s}\n", i+1, device)
		if i == 0 {
			first = device
		}
	}
	if m.Intn(2) == 0 {
		like := strings.NewReplacer("192.0.2.101", "192.0.2.103", "2001:db8::101", "2001:db8::103").Replace(first)
		fmt.Fprintf(m, "  - {name: d-3%s%s}\n", like, m.maybe(2, ", found: {"+m.one("keys: {t1: b}",
			"ports: {r1: {authentication: 1645, accounting: 1646}}", "keys: {t1: b, t2: b}")+"}"))
	}
}

func (m *made) binds() string {
	var binds []string
	if login := m.said(fmt.Sprintf("login: l%d", m.Intn(3))); login != "" {
		binds = append(binds, login)
	}
	for _, p := range [][2]string{{"session", "s"}, {"elevation", "e"}, {"commands", "c"}, {"record-sessions", "v"}} {
		if m.Intn(2) == 0 {
			binds = append(binds, fmt.Sprintf("%s: %s%d", p[0], p[1], m.Intn(3)))
		}
	}
	return strings.Join(binds, ", ")
}
