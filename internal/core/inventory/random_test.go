package inventory

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/drift"
	"mellowgate/internal/core/site"
	"mellowgate/internal/testscale"
)

var (
	designs = flag.Int("designs", testscale.Of(8, 60), "how many designs at random are read back, for each make")
	from    = flag.Uint64("from", 1, "the first of their seeds")
)

// What a make says of a design is written here by hand, and without its phrasebook: so the two
// cannot agree on a mistake.
var makes = map[string]struct {
	book   string
	limits limits
	write  func(*drawn) string
}{
	"quay-switch": {shipped + "phrasebooks/quay-switch.yaml", limits{names: true, lines: true, second: true,
		access: []string{"console", "ssh", "telnet", "web", "api"}, accounting: true}, quaySwitch},
	"hull-router": {shipped + "phrasebooks/hull-router.yaml", limits{oneGroup: true, oneList: true, sameForAll: true,
		access: []string{"console", "ssh", "telnet"}, accounting: true}, hullRouter},
	"crane-controller": {"../phrase/testdata/crane-controller.yaml", limits{names: true, lines: true, second: true,
		inline: true, radiusOnly: true, access: []string{"console", "ssh", "web"}}, craneController},
	"lantern-point": {"../phrase/testdata/lantern-point.yaml", limits{oneGroup: true, radiusOnly: true, loginOnly: true,
		access: []string{"console", "ssh", "web"}}, lanternPoint},
}

// limits are what a make can say.
type limits struct {
	names, lines, oneGroup, oneList, sameForAll, inline, radiusOnly, loginOnly, accounting, second bool
	access                                                                                         []string
}

// drawn is a design at random, within what a make can say.
type drawn struct {
	*rand.Rand
	limits
	servers  []drawnServer
	groups   []drawnGroup
	lists    []drawnList
	ways     []drawnWay
	accounts []drawnAccount
}

type drawnServer struct {
	name, protocol, address, key        string
	port, authentication, accounting    int
	timeout, attempts, dead, protocolNo int // seconds, tries, minutes, number of its protocol
	signed                              bool
}

type drawnGroup struct {
	name, protocol string
	servers        []string
}

type drawnList struct {
	name, purpose, levels, when string
	methods                     []string
}

type drawnWay struct {
	access, lines string
	off           bool
	lists         map[string]string
}

type drawnAccount struct {
	name  string
	level int
}

func (d *drawn) one(of ...string) string { return of[d.IntN(len(of))] }

func draw(seed uint64, l limits) *drawn {
	d := &drawn{Rand: rand.New(rand.NewPCG(seed, 11)), limits: l}
	protocols := []string{"tacacs", "radius"}
	if l.radiusOnly {
		protocols = protocols[1:]
	}
	timeout := 1 + d.IntN(9)
	dead := 1 + d.IntN(9)
	attempts := 1 + d.IntN(4)
	for _, protocol := range protocols {
		for i := range 1 + d.IntN(3) {
			s := drawnServer{name: fmt.Sprintf("%s-%d", protocol, i+1), protocol: protocol,
				key:     fmt.Sprintf("Word-%d", d.IntN(3)),
				address: fmt.Sprintf("192.0.2.%d", len(d.servers)+1), port: 49, authentication: 1812, accounting: 1813,
				timeout: timeout, attempts: 1, dead: dead, protocolNo: i + 1}
			if d.IntN(4) == 0 {
				s.address = fmt.Sprintf("2001:db8::%x", len(d.servers)+1)
			}
			if protocol == "radius" {
				s.attempts = attempts
				if d.IntN(2) == 0 {
					s.authentication = 1000 + d.IntN(9000)
					s.accounting = s.authentication + 1
				}
			} else if d.IntN(2) == 0 {
				s.port = 1000 + d.IntN(9000)
			}
			if !l.sameForAll {
				s.timeout, s.dead = 1+d.IntN(60), 1+d.IntN(9)
				if protocol == "radius" {
					s.attempts = 1 + d.IntN(9)
				}
			}
			if l.inline { // this make says neither
				s.dead = 0
				s.attempts = 1
				s.signed = d.IntN(2) == 0
			}
			if l.loginOnly {
				s.dead, s.signed = 0, d.IntN(2) == 0
			}
			d.servers = append(d.servers, s)
		}
		d.group(protocol)
	}
	for i := range 1 + d.IntN(3) {
		d.accounts = append(d.accounts, drawnAccount{[]string{"keeper", "guest", "night"}[i],
			[]int{15, 1, 7}[d.IntN(3)]})
	}
	d.drawLists()
	d.drawWays()
	return d
}

// group draws groups of the servers of a protocol.
func (d *drawn) group(protocol string) {
	var all []string
	for _, s := range d.servers {
		if s.protocol == protocol {
			all = append(all, s.name)
		}
	}
	if d.oneGroup {
		d.groups = append(d.groups, drawnGroup{"every-" + protocol, protocol, all})
		return
	}
	d.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	if d.inline { // each server in one group, where all of it stands
		d.groups = append(d.groups, drawnGroup{"all-" + protocol, protocol, all})
		return
	}
	d.groups = append(d.groups, drawnGroup{"first-" + protocol, protocol, all})
	if len(all) > 1 {
		d.groups = append(d.groups, drawnGroup{"second-" + protocol, protocol, all[:1+d.IntN(len(all)-1)]})
	}
}

func (d *drawn) methods(purpose string) (all []string) {
	for _, g := range d.groups {
		carried := g.protocol == "tacacs" || purpose == "login" || purpose == "session" || purpose == "record-sessions"
		if carried && d.IntN(2) == 0 {
			all = append(all, "group "+g.name)
		}
	}
	d.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	record := strings.HasPrefix(purpose, "record")
	if !record && (len(all) == 0 || d.IntN(3) > 0) {
		all = append(all, "local")
	}
	if record && len(all) == 0 {
		for _, g := range d.groups {
			if g.protocol == "tacacs" || purpose == "record-sessions" {
				return []string{"group " + g.name}
			}
		}
	}
	return all
}

func (d *drawn) drawLists() {
	purposes := []string{"login", "session", "commands", "record-sessions", "record-commands"}
	if !d.oneList {
		purposes = append(purposes, "elevation")
	}
	if d.inline {
		purposes = purposes[:2]
	}
	if d.loginOnly {
		purposes = purposes[:1]
	}
	for _, purpose := range purposes {
		for i := range 2 {
			l := drawnList{name: fmt.Sprintf("%s-%d", strings.ReplaceAll(purpose, "record-", "r"), i+1),
				purpose: purpose}
			if d.oneList {
				l.name = "default"
			}
			l.methods = d.methods(purpose)
			if strings.HasSuffix(purpose, "commands") {
				l.levels = d.one("0-15", "1-15", "15")
			}
			if purpose == "record-sessions" {
				l.when = d.one("stop", "start and stop")
			}
			if purpose == "record-commands" {
				l.when = "stop"
			}
			d.lists = append(d.lists, l)
			if d.oneList {
				break
			}
		}
	}
}

func (d *drawn) drawWays() {
	for _, access := range d.access {
		if access != "console" && d.IntN(4) == 0 {
			d.ways = append(d.ways, drawnWay{access: access, off: true})
			continue
		}
		ranges := []string{""}
		if d.limits.lines && (access == "ssh" || access == "telnet") && d.IntN(2) == 0 {
			ranges = []string{"0-4", "5-15"}
		}
		for _, lines := range ranges {
			w := drawnWay{access: access, lines: lines, lists: map[string]string{}}
			for _, l := range d.lists {
				if d.oneList || d.IntN(3) > 0 || l.purpose == "login" {
					w.lists[l.purpose] = l.name
				}
			}
			if d.inline && w.lists["session"] != "" { // one line says both: they have the same methods
				w.lists["session"] = "as login"
			}
			d.ways = append(d.ways, w)
		}
	}
}

func (d *drawn) list(purpose, name string) drawnList {
	return d.lists[slices.IndexFunc(d.lists, func(l drawnList) bool { return l.purpose == purpose && l.name == name })]
}

// site writes the design as a site file.
func (d *drawn) site() string {
	var b strings.Builder
	b.WriteString("site: Drawn\nkeys: {Word-0: file a, Word-1: file b, Word-2: file c, none: file d}\nservers:\n")
	for _, s := range d.servers {
		ports := fmt.Sprintf("port: %d", s.port)
		if s.protocol == "radius" {
			ports = fmt.Sprintf("ports: {authentication: %d, accounting: %d}, message-authenticator: %s, attempts: %d",
				s.authentication, s.accounting, map[bool]string{true: "required", false: "if-present"}[s.signed],
				s.attempts)
		}
		fmt.Fprintf(&b, "  - {name: %s, protocol: %s, address: %q, key: %s, %s, timeout: %ds, dead-time: %dm}\n",
			s.name,
			s.protocol, s.address, s.key, ports, s.timeout, s.dead)
	}
	b.WriteString("groups:\n")
	for _, g := range d.groups {
		fmt.Fprintf(&b, "  - {name: %s, servers: [%s]}\n", g.name, strings.Join(g.servers, ", "))
	}
	b.WriteString("lists:\n")
	named := func(purpose, name string) string {
		switch {
		case name == "default":
			return "default-" + purpose
		case name == "as login":
			return "as-login"
		}
		return name
	}
	for _, l := range d.lists {
		key := purposeKeys[l.purpose]
		fmt.Fprintf(&b, "  - {name: %s, %s: %s, methods: [%s]", named(l.purpose, l.name), key[0], key[1],
			strings.Join(l.methods, ", "))
		if l.levels != "" {
			fmt.Fprintf(&b, ", levels: %q", l.levels)
		}
		if l.when != "" {
			fmt.Fprintf(&b, ", when: %s", l.when)
		}
		b.WriteString("}\n")
		if d.inline && l.purpose == "login" {
			fmt.Fprintf(&b, "  - {name: as-%s, authorize: session, methods: [%s]}\n", l.name,
				strings.Join(l.methods, ", "))
		}
	}
	b.WriteString("accounts:\n")
	var names []string
	for _, a := range d.accounts {
		fmt.Fprintf(&b, "  - {name: %s, level: %d, password: key none}\n", a.name, a.level)
		names = append(names, a.name)
	}
	b.WriteString("devices:\n  - name: d\n    addresses: [198.51.100.7, '2001:db8::7']\n    accounts: [" +
		strings.Join(names, ", ") + "]\n    access:\n")
	for _, access := range d.access {
		var entries []string
		for _, w := range d.ways {
			if w.access != access {
				continue
			}
			if w.off {
				entries = append(entries, "off")
				continue
			}
			var says pairs
			says.text("lines", w.lines)
			for purpose, name := range w.lists {
				if name == "as login" {
					name = "as-" + w.lists["login"]
				}
				says.text(purpose, named(purpose, name))
			}
			slices.Sort(says)
			entries = append(entries, says.String())
		}
		text := entries[0]
		if len(entries) > 1 {
			text = "[" + strings.Join(entries, ", ") + "]"
		}
		fmt.Fprintf(&b, "      %s: %s\n", access, text)
	}
	return b.String()
}

// shuffled returns blocks of lines in another order.
func (d *drawn) shuffled(blocks []string) string {
	d.Shuffle(len(blocks), func(i, j int) { blocks[i], blocks[j] = blocks[j], blocks[i] })
	return strings.Join(blocks, "")
}

func quaySwitch(d *drawn) string {
	var servers, rest []string
	method := strings.NewReplacer("group ", "ask ", "local", "own")
	rank := map[int]string{15: "full", 1: "watch", 7: "7"}
	for _, s := range d.servers {
		var b strings.Builder
		short := map[string]string{"radius": "rad", "tacacs": "tac"}[s.protocol]
		fmt.Fprintf(&b, "gate %s %s at %s\n word plain %s\n rests %d\n", s.name, short, s.address, s.key, s.dead)
		if s.timeout != 4 || d.IntN(2) == 0 {
			fmt.Fprintf(&b, " patience %d\n", s.timeout)
		}
		if s.protocol == "radius" {
			if s.authentication != 1812 || d.IntN(2) == 0 {
				fmt.Fprintf(&b, " doors %d %d\n", s.authentication, s.accounting)
			}
			if s.attempts != 4 || d.IntN(2) == 0 {
				fmt.Fprintf(&b, " again %d\n", s.attempts-1)
			}
		} else if s.port != 49 || d.IntN(2) == 0 {
			fmt.Fprintf(&b, " door %d\n", s.port)
		}
		servers = append(servers, b.String())
	}
	for _, g := range d.groups {
		rest = append(rest, "ring "+g.name+"\n gate "+strings.Join(g.servers, "\n gate ")+"\n")
	}
	words := map[string]string{"login": "who", "elevation": "raise", "session": "shell", "commands": "each-order",
		"record-sessions": "log-in-out", "record-commands": "log-orders"}
	for _, l := range d.lists {
		bounds := ""
		if l.levels != "" {
			bounds = " ranks " + l.levels
		} else if l.when != "" {
			bounds = map[string]string{"stop": " last-end", "start and stop": " both-ends"}[l.when]
		}
		rest = append(rest, fmt.Sprintf("plan %s %s%s %s\n", l.name, words[l.purpose], bounds,
			method.Replace(strings.Join(l.methods, " "))))
	}
	doors := map[string]string{"console": "desk", "ssh": "wire", "telnet": "net", "web": "pages", "api": "programs"}
	for _, w := range d.ways {
		text := strings.TrimSpace("door "+doors[w.access]+" "+w.lines) + "\n"
		if w.off {
			if w.access == "telnet" && d.IntN(2) == 0 {
				continue // unsaid, it is off
			}
			text += " shut\n"
		}
		for _, purpose := range []string{"session", "login", "elevation", "commands", "record-commands",
			"record-sessions"} {
			if w.lists[purpose] != "" {
				text += " follow " + words[purpose] + " " + w.lists[purpose] + "\n"
			}
		}
		rest = append(rest, text)
	}
	for _, a := range d.accounts {
		rest = append(rest, fmt.Sprintf("keeper %s rank %s word mixed 77aa\n", a.name, rank[a.level]))
	}
	rest = append(rest, "berth 1\n colour green\n", "wall 10 stops any\n",
		"greeting ##\n gate none tac at nowhere\n##\n")
	text := "host d\n" + d.shuffled(slices.Concat(servers, rest)) + "that is all\n"
	if d.IntN(2) == 0 {
		text = strings.ReplaceAll(text, "\n", "\r\n")
	}
	return text
}

func hullRouter(d *drawn) string {
	var lines []string
	say := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)+"\n") }
	short := map[string]string{"radius": "r", "tacacs": "t"}
	for _, s := range d.servers {
		at := fmt.Sprintf("put helper %s %d", short[s.protocol], s.protocolNo)
		say("%s host %s", at, s.address)
		say("%s word '%s'", at, s.key)
		if s.protocol == "radius" && (s.authentication != 1812 || d.IntN(2) == 0) {
			say("%s port %d", at, s.authentication)
		} else if s.protocol == "tacacs" && (s.port != 49 || d.IntN(2) == 0) {
			say("%s port %d", at, s.port)
		}
		if s.protocolNo == 1 && s.protocol == "radius" {
			say("put helper wait %d", s.timeout*10)
			say("put helper rest %d", s.dead)
			if s.attempts > 1 || d.IntN(2) == 0 {
				say("put helper r tries %d", s.attempts)
			}
		}
	}
	words := map[string]string{"login": "entry who", "session": "entry shell", "commands": "entry order",
		"record-sessions": "note session", "record-commands": "note order"}
	letters := map[string]string{"group every-radius": "r", "group every-tacacs": "t", "local": "h", "signed-in": "s"}
	for _, l := range d.lists {
		bounds := ""
		if l.levels != "" {
			bounds = " " + l.levels
		}
		if l.when != "" {
			bounds += map[string]string{"stop": " end", "start and stop": " both"}[l.when]
		}
		mark := 0
		for _, m := range l.methods {
			mark += 1 + d.IntN(20)
			say("put %s%s %d %s", words[l.purpose], bounds, mark, letters[m])
		}
	}
	for _, w := range d.ways {
		say("put hatch %s %s", w.access, map[bool]string{true: "shut", false: "open"}[w.off])
	}
	for _, a := range d.accounts {
		say("put crew %s level %d", a.name, a.level)
		say("put crew %s mixed 77aa", a.name)
	}
	say("put port wan1 remark 'put helper here'")
	return "put name d\n" + d.shuffled(lines) + "end of list\n"
}

func craneController(d *drawn) string {
	var blocks []string
	method := strings.NewReplacer("group ", "crowd ", "local", "house")
	for _, g := range d.groups {
		text := "crowd " + g.name + " of ask {"
		for _, name := range slices.Backward(g.servers) { // what stands last is asked first
			s := d.servers[slices.IndexFunc(d.servers, func(s drawnServer) bool { return s.name == name })]
			at := s.address
			if strings.Contains(at, ":") {
				at = "[" + at + "]"
			}
			text += fmt.Sprintf(" host %s is %s:%d/%d word %s wait %d%s;", name, at, s.authentication, s.accounting,
				s.key,
				s.timeout, map[bool]string{true: " signed"}[s.signed])
		}
		blocks = append(blocks, text+" }\n")
	}
	doors := map[string]string{"console": "panel", "ssh": "shell", "web": "pages"}
	for _, w := range d.ways {
		if w.off {
			continue
		}
		text := "portal " + doors[w.access]
		if w.lines != "" {
			text += " desks " + w.lines
		}
		verb := "sign-in"
		if w.lists["session"] != "" {
			verb = "sign-in and shell"
		}
		blocks = append(blocks, fmt.Sprintf("%s {\n  %s via %s;\n}\n", text, verb,
			method.Replace(strings.Join(d.list("login", w.lists["login"]).methods, " "))))
	}
	table := "no | name | rank | hash\n"
	for i, a := range d.accounts {
		table += fmt.Sprintf("%d | %s | %d | 77aa\n", i+1, a.name, a.level)
	}
	return d.shuffled(append(blocks, table, "hoist { speed 4; }\n"))
}

func lanternPoint(d *drawn) string {
	var blocks []string
	method := strings.NewReplacer("group every-radius", "hosts", "local", "users")
	for _, s := range d.servers {
		text := fmt.Sprintf("[host %d]\nip = %s\nsecret = %q\nwait-ms = %d\n", s.protocolNo, s.address, s.key,
			s.timeout*1000)
		if s.authentication != 1812 || d.IntN(2) == 0 {
			text += fmt.Sprintf("login = %d\n", s.authentication)
		}
		if d.IntN(2) == 0 {
			text += fmt.Sprintf("records = %d\n", s.accounting)
		}
		if s.attempts != 2 || d.IntN(2) == 0 {
			text += fmt.Sprintf("tries = %d\n", s.attempts)
		}
		if s.signed {
			text += "seal = must\n"
		}
		blocks = append(blocks, text)
	}
	doors := map[string]string{"console": "panel", "ssh": "shell", "web": "web"}
	for _, w := range d.ways {
		text := "[signin " + doors[w.access] + "]\n"
		if w.off {
			text += "open = no\n"
		} else {
			text += "steps = " + method.Replace(strings.Join(
				d.list("login", w.lists["login"]).methods, d.one(",", ", "))) + "\n"
		}
		blocks = append(blocks, text)
	}
	for _, a := range d.accounts {
		blocks = append(blocks, fmt.Sprintf("[user %s]\nlevel = %d\nhash = 77aa # of the works\n", a.name, a.level))
	}
	blocks = append(blocks, "[radio 1]\nchannel = 36\n")
	return "# unit.conf\n[unit]\nname = d\nrelease = 3.2\ncentral-signin = yes\n" + d.shuffled(blocks) + "[end]\n"
}

// Whatever a design has, within what its make can say: what the device then says of itself
// is that design.
func TestDesignsAtRandomAreReadBack(t *testing.T) {
	t.Parallel()
	for name, m := range makes {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := book(t, m.book)
			for seed := *from; seed < *from+uint64(*designs); seed++ {
				d := draw(seed, m.limits)
				text := m.write(d)
				s, err := site.Parse(site.Source{Name: "s.yaml", Text: []byte(d.site())})
				require.NoError(t, err, "seed %d\n%s", seed, d.site())
				got, err := b.Read(strings.NewReader(text), nil)
				require.NoError(t, err)
				require.True(t, got.Whole, "seed %d\n%s\n%v", seed, text, got.Unread)
				require.Empty(t, got.Notes, "seed %d\n%s", seed, text)
				base := Base{Site: s, Keys: site.Keys{}}
				for i := range 3 {
					base.Keys[fmt.Sprintf("Word-%d", i)] = site.NewSecret(fmt.Sprintf("Word-%d", i))
				}
				read := Of(Saved{File: "d.txt", Device: "d", Text: got})
				made := Make([]*Device{read}, Options{Base: base, Hash: hash})
				require.Empty(t, made.Notes, "seed %d\n%s", seed, text)
				want, held, _ := Compared(read, base, s.Device("d"), b, Passwords{Known: hash}, false)
				differences := drift.Compare(want, held.Facts, func(drift.About, string) string { return "" })
				require.Empty(t, differences, "seed %d\n%s\n%s", seed, text, d.site())

				// in the place of the device it is the design, too: nothing is written anew but the device
				replaced, err := site.Parse(site.Source{Name: "s.yaml", Text: []byte(d.site())},
					site.Source{Name: "d.txt", Text: []byte(made.Site), Lines: made.Lines, Replaces: true})
				require.NoError(t, err, "seed %d\n%s", seed, made.Site)
				require.Equal(t, ways(s.Device("d")), ways(replaced.Device("d")), "seed %d\n%s\n%s", seed, text,
					made.Site)
			}
		})
	}
}

// ways says the ways in of a device with the methods that hold there.
func ways(d *site.Device) (all []string) {
	for _, w := range d.Ways {
		text := w.Name()
		for p, l := range w.Lists {
			if l != nil {
				text += fmt.Sprint(" ", site.Purpose(p), " ", l.Methods)
			}
		}
		all = append(all, text)
	}
	return all
}
