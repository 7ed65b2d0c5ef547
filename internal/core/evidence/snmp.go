package evidence

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

// object is a column of the tables in which an SNMP agent counts what it asked RADIUS
// servers, RFC 4668 and RFC 4670 (and RFC 2618, 2620 before them).
type object struct {
	suffix string // its number below the table
	name   string
	take   func(*Count, int)
}

func lost(why reason.Reason) func(*Count, int) {
	return func(c *Count, n int) { c.Lost[why] += n }
}

// The columns that tell what became of questions.
var (
	authObjects = []object{{"5", "radiusAuthClientAccessRequests", func(c *Count, n int) { c.Sent += n }},
		{"6", "radiusAuthClientAccessRetransmissions", func(c *Count, n int) { c.Sent += n }},
		{"7", "radiusAuthClientAccessAccepts", func(c *Count, n int) { c.Accepted = n }},
		{"8", "radiusAuthClientAccessRejects", func(c *Count, n int) { c.Refused = n }},
		{"11", "radiusAuthClientBadAuthenticators", lost(reason.Unverified)},
		{"13", "radiusAuthClientTimeouts", lost(reason.Silent)}}
	acctObjects = []object{{"5", "radiusAccClientRequests", func(c *Count, n int) { c.Sent += n }},
		{"6", "radiusAccClientRetransmissions", func(c *Count, n int) { c.Sent += n }},
		{"7", "radiusAccClientResponses", func(c *Count, n int) { c.Accepted = n }},
		{"9", "radiusAccClientBadAuthenticators", lost(reason.Unverified)},
		{"11", "radiusAccClientTimeouts", lost(reason.Silent)}}
)

// Tables of the two modules, by number and by name.
const (
	authTable = "1.3.6.1.2.1.67.1.2.1.1.3.1."
	acctTable = "1.3.6.1.2.1.67.2.2.1.1.3.1."
)

// snmpValue is one value as programs print it: NAME.INDEX = TYPE: VALUE.
var snmpValue = regexp.MustCompile(`^\.?(?:[\w-]+::)?([\w.-]+?)\.(\d+) = (?:[\w ]+: )?"?([0-9A-Fa-f.:]+)"?`)

// SNMPCounts reads counters of RADIUS that were printed value by value, with names or
// numbers. Where the addresses of the servers are not among them, their index stands
// for them. It returns none for a text that has no such value.
func SNMPCounts(text string) []Count {
	type place struct {
		table string
		index string
	}
	counts, addresses := map[place]*Count{}, map[place]string{}
	var order []place
	at := func(p place) *Count {
		if counts[p] == nil {
			counts[p] = &Count{Question: site.AskLogin, Lost: map[reason.Reason]int{}}
			if p.table == acctTable {
				counts[p].Question = site.AskRecordSessions
			}
			order = append(order, p)
		}
		return counts[p]
	}
	for line := range strings.SplitSeq(text, "\n") {
		m := snmpValue.FindStringSubmatch(strings.TrimSpace(line))
		if m == nil {
			continue
		}
		name := strings.Replace(m[1], "iso.", "1.", 1)
		index := m[2]
		value := m[3]
		for table, objects := range map[string][]object{authTable: authObjects, acctTable: acctObjects} {
			if i := slices.IndexFunc(objects, func(o object) bool {
				return strings.EqualFold(strings.Replace(name, "ClientExt", "Client", 1), o.name) ||
					name == table+o.suffix
			}); i >= 0 {
				if n, err := strconv.Atoi(value); err == nil {
					objects[i].take(at(place{table, index}), n)
				}
			}
			address := map[string]string{authTable: "radiusAuthServer", acctTable: "radiusAccServer"}[table]
			if strings.EqualFold(name, address+"Address") || strings.EqualFold(name, address+"InetAddress") ||
				name == table+"2" {
				addresses[place{table, index}] = value
			}
		}
	}
	var all []Count
	for _, p := range order {
		c := *counts[p]
		if c.Server = addresses[p]; c.Server == "" {
			c.Server = "server " + p.index
		}
		all = append(all, c)
	}
	return all
}

// Since returns what was counted between two readings, the older one first. A device
// that started again between them counts from 0.
func Since(before, after []Count) []Count {
	counts := make([]Count, 0, len(after))
	for _, c := range after {
		i := slices.IndexFunc(before, func(o Count) bool {
			return o.Device == c.Device && o.Server == c.Server && o.Question == c.Question
		})
		if i >= 0 && before[i].Sent <= c.Sent {
			o := before[i]
			more := map[reason.Reason]int{}
			for why, n := range c.Lost {
				more[why] = max(n-o.Lost[why], 0)
			}
			c.Sent = c.Sent - o.Sent
			c.Accepted = c.Accepted - o.Accepted
			c.Refused = c.Refused - o.Refused
			c.Lost = more
		}
		counts = append(counts, c)
	}
	return counts
}
