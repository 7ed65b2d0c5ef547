package site

import (
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

// Service is how `serve` runs.
type Service struct {
	// FoldNames takes another spelling of a name, in case or width, for the name;
	// else it is refused.
	FoldNames bool
	Ledger    Records
	Metrics   string     // address:port where a monitor reads, "" for nowhere
	Syslog    SyslogSink // where events go too
	// DeviceLogs is where devices send their logs.
	DeviceLogs []LogSource
	// Traffic is how many octets of packets are kept; 0: none are; below 0: it is not said,
	// and a lab keeps some.
	Traffic int64
	// TrafficCredentials keeps in them what proves who somebody is, which the keys open.
	TrafficCredentials bool
	// Events is how many octets of events are kept, with the older ones.
	Events int64
	// Keep bounds the records that are kept here.
	Keep Keeping
	// MayShrink takes a site that has lost many of its devices while the service runs.
	MayShrink bool
	Limits    Limits
	Place     Place
}

// Records is where the records are kept.
type Records struct {
	Folder   string // "" is records in the state folder
	Database string // the URL of a PostgreSQL database, "" for none
	Key      *Key   // the password for it; nil: none, or the one in the environment
	key      Ref
	Spool    int // the most records that may wait on disk for the database
	Place    Place
}

// Keeping is how long records are kept on this disk, and how many.
type Keeping struct {
	For    time.Duration // 0: however old they are
	AtMost int64         // octets; 0: however many there are
	To     string        // the folder that older ones are moved to; "": they are deleted
}

// SyslogSink is who takes events as syslog messages (RFC 5424).
type SyslogSink struct {
	Network string // udp | tcp | tls | unix, "" for nobody
	Address string
	// Authorities is the file with the authorities of whoever takes them over TLS; "" for
	// those that this host trusts.
	Authorities string
}

// LogSource is a place at which devices' logs are received, as syslog messages.
type LogSource struct {
	Network string // udp | tcp | tls
	Address string // address:port
	Server  Ref    // for tls: the server of the site whose certificates are shown
}

// Limits bound what one asker, and all together, may take.
type Limits struct {
	Connections          int
	ConnectionsPerClient int
	QuestionsPerClient   int // in a second; 0: as many as come
	// FailureDelay is the longest that a refusal is held back after many
	// failures; 0: none is.
	FailureDelay time.Duration
	HashMemory   int64 // octets that password hashes take at the same time
}

// DefaultService returns what holds where a site says nothing.
func DefaultService() Service {
	return Service{Ledger: Records{Spool: 1_000_000}, Traffic: -1, Events: 256 << 20, Keep: Keeping{AtMost: 20 << 30},
		Limits: Limits{Connections: 8192, ConnectionsPerClient: 256, FailureDelay: time.Second, HashMemory: 256 << 20}}
}

func readService(r *reader, n *yaml.Node, s *Site) {
	s.Service.Place = r.place(n)
	serviceShape.read(r, n, &s.Service)
}

var serviceShape = shape[Service]{
	what: "service",
	fields: map[string]field[Service]{
		"ledger":     {read: readLedger, form: patternForm("^(folder|postgres) .+$")},
		"ledger-key": nameField("ledger-key", func(v *Service) *Ref { return &v.Ledger.key }),
		"spool":      intField("spool", 1000, 100_000_000, func(v *Service) *int { return &v.Ledger.Spool }),
		"metrics": {read: func(r *reader, n *yaml.Node, v *Service) {
			text, ok := r.scalar(n, "metrics")
			if _, err := netip.ParseAddrPort(text); ok && err != nil {
				r.wrong(n, "metrics is %q; an address and a port are wanted, such as 127.0.0.1:9470", shorten(text))
				return
			}
			v.Metrics = text
		}, form: textForm()},
		"syslog": {read: readSyslog, form: patternForm("^(udp|tcp|tls|unix) .+$")},
		"device-logs": {read: readDeviceLogs, form: form{"type": "array",
			"items": patternForm("^((udp|tcp) .+|tls .+ .+)$")}},
		"traffic": sizeField("traffic", leastKept, "none", func(v *Service) *int64 { return &v.Traffic }),
		"traffic-credentials": boolField("traffic-credentials",
			func(v *Service) *bool { return &v.TrafficCredentials }),
		"events": sizeField("events", leastKept, "as much as comes",
			func(v *Service) *int64 { return &v.Events }),
		"keep":       inner(&keepShape, func(v *Service) *Keeping { return &v.Keep }),
		"may-shrink": boolField("may-shrink", func(v *Service) *bool { return &v.MayShrink }),
		"names": wordField("names", []string{"exact", "folded"},
			func(v *Service, w string) { v.FoldNames = w == "folded" }),
		"limits": inner(&limitsShape, func(v *Service) *Limits { return &v.Limits }),
	},
}

var keepShape = shape[Keeping]{
	what: "keep",
	fields: map[string]field[Keeping]{
		"for": {form: patternForm("^[1-9][0-9]{0,4}d$"), read: func(r *reader, n *yaml.Node, k *Keeping) {
			text, ok := r.scalar(n, "for")
			days, found := strings.CutSuffix(text, "d")
			count, err := strconv.ParseUint(days, 10, 16)
			if ok && (!found || err != nil || count == 0) {
				r.wrong(n, "for is %q; days are wanted, such as 400d", shorten(text))
				return
			}
			k.For = time.Duration(count) * 24 * time.Hour
		}},
		"at-most": sizeField("at-most", 64<<20, "as much as comes", func(k *Keeping) *int64 { return &k.AtMost }),
		"to": {form: textForm(), read: func(r *reader, n *yaml.Node, k *Keeping) {
			k.To, _ = r.scalar(n, "to")
		}},
	},
}

var limitsShape = shape[Limits]{
	what: "limits", renamed: renamedInLimits,
	fields: map[string]field[Limits]{
		"connections": intField("connections", 1, 1_000_000, func(l *Limits) *int { return &l.Connections }),
		"connections-per-client": intField("connections-per-client", 1, 1_000_000,
			func(l *Limits) *int { return &l.ConnectionsPerClient }),
		"requests-per-client": intField("requests-per-client", 0, 1_000_000,
			func(l *Limits) *int { return &l.QuestionsPerClient }),
		"failure-delay": durationField("failure-delay", 0, 10*time.Second,
			func(l *Limits) *time.Duration { return &l.FailureDelay }),
		"hash-memory": sizeField("hash-memory", 16<<20, "", func(l *Limits) *int64 { return &l.HashMemory }),
	},
}

// readLedger reads "folder PATH" or "postgres URL".
func readLedger(r *reader, n *yaml.Node, v *Service) {
	text, ok := r.scalar(n, "ledger")
	if !ok {
		return
	}
	v.Ledger.Place = r.place(n)
	how, where, _ := strings.Cut(text, " ")
	where = strings.TrimSpace(where)
	switch {
	case how == "folder" && where != "":
		v.Ledger.Folder = where
	case how == "postgres" && where != "":
		u, err := url.Parse(where)
		switch {
		case err != nil || u.Scheme != "postgres" && u.Scheme != "postgresql":
			r.wrong(n, "the ledger's database is no URL; one such as postgres://gate@192.0.2.60/ledger is wanted")
		case hasPassword(u):
			r.wrong(n, "the ledger's database has its password in the site file; keep it with the keys, and name "+
				"it: ledger-key: NAME")
		}
		v.Ledger.Database = where
	case how == "sqlite":
		r.wrong(n, "ledger is %q, of an earlier version; records are in a folder now: take the line out, or write "+
			"ledger: folder PATH; serve takes over the file when it lies in the state folder as ledger.db",
			shorten(text))
	default:
		r.wrong(n, "ledger is %q; \"folder PATH\" or \"postgres URL\" is wanted", shorten(how))
	}
}

func hasPassword(u *url.URL) bool {
	_, given := u.User.Password()
	return given || u.Query().Has("password")
}

// readSyslog reads "udp ADDRESS:PORT", "tcp ADDRESS:PORT", "tls ADDRESS:PORT FILE" or
// "unix PATH".
func readSyslog(r *reader, n *yaml.Node, v *Service) {
	text, ok := r.scalar(n, "syslog")
	if !ok {
		return
	}
	network, address, _ := strings.Cut(text, " ")
	address = strings.TrimSpace(address)
	authorities := ""
	if network == "tls" {
		address, authorities, _ = strings.Cut(address, " ")
	}
	switch network {
	case "udp", "tcp", "tls":
		host, port, found := cutLast(address, ":")
		if p, err := strconv.Atoi(port); !found || host == "" || err != nil || p < 1 || p > 65535 {
			r.wrong(n, "syslog is %q; an address and a port are wanted, such as \"udp 192.0.2.61:514\"", shorten(text))
		}
	case "unix":
		if address == "" {
			r.wrong(n, "syslog is %q; a path is wanted, such as \"unix /dev/log\"", shorten(text))
		}
	default:
		r.wrong(n, "syslog is %q; \"udp ADDRESS:PORT\", \"tcp ADDRESS:PORT\", \"tls ADDRESS:PORT FILE\" or \"unix "+
			"PATH\" is wanted", shorten(text))
	}
	v.Syslog = SyslogSink{Network: network, Address: address, Authorities: strings.TrimSpace(authorities)}
}

// readDeviceLogs reads a list of "udp ADDRESS:PORT", "tcp ADDRESS:PORT" and
// "tls ADDRESS:PORT SERVER".
func readDeviceLogs(r *reader, n *yaml.Node, v *Service) {
	r.each(n, "device-logs", func(item *yaml.Node) {
		text, ok := r.scalar(item, "device-logs")
		if !ok {
			return
		}
		words := strings.Fields(text)
		wanted := map[string]int{"udp": 2, "tcp": 2, "tls": 3}
		if len(words) == 0 || len(words) != wanted[words[0]] {
			r.wrong(item, "device-logs has %q; \"udp ADDRESS:PORT\", \"tcp ADDRESS:PORT\" or \"tls ADDRESS:PORT "+
				"SERVER\" is wanted", shorten(text))
			return
		}
		if _, err := netip.ParseAddrPort(words[1]); err != nil {
			r.wrong(item, "device-logs has %q; an address and a port are wanted, such as \"udp 192.0.2.11:514\"",
				shorten(text))
			return
		}
		l := LogSource{Network: words[0], Address: words[1]}
		if len(words) == 3 {
			l.Server = Ref{Name: words[2], Place: r.place(item)}
		}
		v.DeviceLogs = append(v.DeviceLogs, l)
	})
}

func cutLast(s, sep string) (before, after string, found bool) {
	i := strings.LastIndex(s, sep)
	if i < 0 {
		return s, "", false
	}
	return s[:i], s[i+len(sep):], true
}

// sizeField is a number of octets of at least so much: 64MiB. zero says what 0 is
// for; where it is empty, 0 is no value.
func sizeField[T any](name string, least int64, zero string, of func(*T) *int64) field[T] {
	f := patternForm("^[0-9]+(KiB|MiB|GiB)$")
	if zero != "" {
		f = form{"type": []string{"string", "integer"}, "pattern": "^([0-9]+(KiB|MiB|GiB)|0)$"}
		zero = ", or 0 for " + zero
	}
	return field[T]{form: f, read: func(r *reader, n *yaml.Node, v *T) {
		text, ok := r.scalar(n, name)
		if !ok {
			return
		}
		size := octets(text)
		if size < least && (text != "0" || zero == "") {
			r.wrong(n, "%s is %q; a size of %dKiB or more is wanted, such as 256MiB%s", name, shorten(text), least>>10,
				zero)
			return
		}
		*of(v) = size
	}}
}

// octets reads a size, 0 for what is none.
func octets(text string) int64 {
	for unit, size := range map[string]int64{"KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30} {
		number, found := strings.CutSuffix(text, unit)
		if n, err := strconv.ParseInt(number, 10, 32); found && err == nil && n > 0 {
			return n * size
		}
	}
	return 0
}

// leastKept is the smallest size in which keeping packets or events makes sense.
const leastKept = 64 << 10
