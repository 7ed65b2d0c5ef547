package journal

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"log/slog"
	"net"
	"os"
	"strings"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/routine"
)

// Syslog sends messages to a syslog receiver, RFC 5424: by UDP one in a
// datagram (RFC 5426), by TCP and TLS with their length before them (RFC 6587, section
// 3.4.1; RFC 5425), or to a socket of this host. It never waits for the receiver.
//
// One goroutine sends; Close lets it send what is queued, for a while, and ends
// it.
type Syslog struct {
	to      site.SyslogSink
	trusted *x509.CertPool
	host    string
	queue   chan []byte
	lost    atomic.Int64 // messages that found no place
	stop    chan struct{}
	ended   chan struct{}
	say     func(string)
	conn    net.Conn
	refused bool      // it cannot be reached, and that was said
	failed  time.Time // the last time
}

// Facility and severities, RFC 5424 section 6.2.1.
const (
	security = 10 // authorization messages

	failed  = 3
	warning = 4
	notice  = 5
	info    = 6
)

// severities of events by their answer; the rest is info.
var severities = map[evidence.Answer]int{evidence.Failed: failed, evidence.Dropped: warning, evidence.Refused: notice}

const (
	mostQueued   = 4096
	sendsIn      = 5 * time.Second
	triesAgain   = time.Second
	calm         = 10 * time.Second // without an error, after which a receiver of datagrams counts as there
	longestField = 2048             // octets of a message; UDP receivers take no more (RFC 5424, section 6.1)
)

// NewSyslog begins to send; trusted are the authorities of a receiver over TLS, nil for
// those of this host. What goes wrong with it is said to say.
func NewSyslog(to site.SyslogSink, trusted *x509.CertPool, say func(string)) *Syslog {
	host, err := os.Hostname()
	if err != nil || host == "" {
		host = "-"
	}
	s := &Syslog{to: to, trusted: trusted, host: printable(host, 255), queue: make(chan []byte, mostQueued),
		stop:  make(chan struct{}),
		ended: make(chan struct{}), say: say}
	routine.Go(s.run)
	return s
}

// Close sends what is queued, if that goes quickly, and ends.
func (s *Syslog) Close() {
	close(s.stop)
	<-s.ended
}

func (s *Syslog) event(e evidence.Event) {
	severity, known := severities[e.Answer]
	if !known {
		severity = info
	}
	s.fields(e.Time, severity, string(e.Answer), attributesOf(e))
}

// fields sends names with their values.
func (s *Syslog) fields(moment time.Time, severity int, kind string, attrs []slog.Attr) {
	var b bytes.Buffer
	fields := slog.NewTextHandler(&b, &slog.HandlerOptions{ReplaceAttr: func(groups []string, a slog.Attr) slog.Attr {
		if len(groups) == 0 && (a.Key == slog.TimeKey || a.Key == slog.LevelKey || a.Key == slog.MessageKey) {
			return slog.Attr{}
		}
		return a
	}})
	r := slog.NewRecord(moment, 0, "", 0)
	r.AddAttrs(attrs...)
	if fields.Handle(context.Background(), r) == nil {
		s.send(moment, severity, kind, attrs, strings.TrimSuffix(b.String(), "\n"))
	}
}

// send queues a message; what finds no place is lost.
func (s *Syslog) send(moment time.Time, severity int, kind string, fields []slog.Attr, text string) {
	select {
	case s.queue <- s.message(moment, severity, kind, fields, text):
	default:
		s.lost.Add(1)
	}
}

// message makes one message, RFC 5424 section 6: the fields as structured data, and the
// text in UTF-8. A socket of this host takes the older form, without the host
// (RFC 3164, section 4.1): what reads it takes a header of the newer one for text.
func (s *Syslog) message(moment time.Time, severity int, kind string, fields []slog.Attr, text string) []byte {
	if s.to.Network == "unix" {
		b := fmt.Appendf(nil, "<%d>%s mellowgate[%d]: %s", security*8+severity, moment.Local().Format(time.Stamp),
			os.Getpid(),
			strings.ToValidUTF8(text, "\uFFFD"))
		return whole(b, longestField)
	}
	b := fmt.Appendf(nil, "<%d>1 %s %s mellowgate %d %s ", security*8+severity,
		moment.UTC().Format("2006-01-02T15:04:05.000000Z"), s.host, os.Getpid(), printable(kind, 32))
	b = append(appendData(b, kind, fields), " \xef\xbb\xbf"...)
	return whole(append(b, strings.ToValidUTF8(text, "\uFFFD")...), longestField)
}

// whole cuts a text that is too long, and never within a character.
func whole(b []byte, most int) []byte {
	if len(b) <= most {
		return b
	}
	for most > 0 && !utf8.RuneStart(b[most]) {
		most--
	}
	return b[:most]
}

// mostData is how long structured data may be: the text is to have room too.
const mostData = longestField / 2

// appendData appends fields as structured data, RFC 5424 section 6.3, under a name with
// the number that documentation has (RFC 5612); "-" where there are none. Fields that
// find no room are left out; the text has them all.
func appendData(b []byte, kind string, fields []slog.Attr) []byte {
	if len(fields) == 0 {
		return append(b, '-')
	}
	begin := len(b)
	b = append(append(append(b, '['), dataOf(kind)...), "@32473"...)
	for _, f := range fields {
		before := len(b)
		b = append(append(append(b, ' '), f.Key...), '=', '"')
		for _, c := range strings.ToValidUTF8(f.Value.String(), "\uFFFD") {
			if c == '"' || c == '\\' || c == ']' {
				b = append(b, '\\')
			}
			b = utf8.AppendRune(b, c)
		}
		if b = append(b, '"'); len(b)-begin > mostData {
			b = b[:before]
			break
		}
	}
	return append(b, ']')
}

// dataOf names the data: of an event, or of what else is told.
func dataOf(kind string) string {
	if kind == "head" {
		return kind
	}
	return "event"
}

// printable keeps to what a field of the header may hold.
func printable(text string, most int) string {
	keep := strings.Map(func(c rune) rune {
		if c <= ' ' || c > '~' {
			return -1
		}
		return c
	}, text)
	if keep == "" {
		return "-"
	}
	return keep[:min(len(keep), most)]
}

func (s *Syslog) run() {
	defer close(s.ended)
	defer s.hangUp()
	for {
		select {
		case m := <-s.queue:
			s.deliver(m)
		case <-s.stop:
			for {
				select {
				case m := <-s.queue:
					if s.deliver(m); s.refused {
						return
					}
				default:
					return
				}
			}
		}
	}
}

// deliver sends a message, on a fresh connection where the old one broke. While
// the receiver is away messages are passed over, and tried about once a second.
func (s *Syslog) deliver(m []byte) {
	if s.to.Network == "tcp" || s.to.Network == "tls" {
		m = append(fmt.Appendf(nil, "%d ", len(m)), m...)
	}
	for range 2 {
		if s.conn == nil {
			conn, err := s.dial()
			if err != nil {
				s.away(err)
				return
			}
			s.conn = conn
		}
		_ = s.conn.SetWriteDeadline(time.Now().Add(sendsIn))
		_, err := s.conn.Write(m)
		if err == nil {
			// A datagram is sent whether anybody takes it or not; that nobody does is told a
			// moment later. Only a while without that means that it is taken.
			if s.refused && (s.to.Network != "udp" || time.Since(s.failed) > calm) {
				s.refused = false
				s.say(fmt.Sprintf("the syslog receiver takes messages again; %d were not sent", s.lost.Swap(0)))
			}
			return
		}
		s.hangUp()
		if s.to.Network == "udp" { // the receiver's port was closed when the last one came
			s.away(err)
			return
		}
	}
	s.away(fmt.Errorf("the connection breaks"))
}

// dial makes a connection to the receiver.
func (s *Syslog) dial() (net.Conn, error) {
	switch s.to.Network {
	case "unix":
		return net.DialTimeout("unixgram", s.to.Address, sendsIn)
	case "tls":
		return tls.DialWithDialer(&net.Dialer{Timeout: sendsIn}, "tcp", s.to.Address,
			&tls.Config{RootCAs: s.trusted, MinVersion: tls.VersionTLS12})
	}
	return net.DialTimeout(s.to.Network, s.to.Address, sendsIn)
}

func (s *Syslog) away(err error) {
	s.lost.Add(1)
	s.failed = time.Now()
	if !s.refused {
		s.refused = true
		s.say(fmt.Sprintf("the syslog receiver %s %s cannot be reached: %v; events go on being written to events.jsonl",
			s.to.Network, s.to.Address, err))
	}
	timer := time.NewTimer(triesAgain)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-s.stop:
	}
}

func (s *Syslog) hangUp() {
	if s.conn != nil {
		_ = s.conn.Close()
		s.conn = nil
	}
}
