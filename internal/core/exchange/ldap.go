package exchange

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/capture"
)

// ldapTalk is a connection to a directory in clear, RFC 4511.
type ldapTalk struct {
	buffers [2][]byte
	binds   map[int64]string // who binds, by the number of the message
	found   map[int64]int    // entries of a search
	seeks   map[int64]bool
	answers int
	over    bool // TLS began, or it cannot be read: nothing more is
	began   time.Time
}

// mostMessage bounds what is kept of one message.
const mostMessage = 1 << 16

// Tags of LDAP messages, RFC 4511 section 4.2 and following, and result codes,
// appendix A.
const (
	ldapBind, ldapBound    = 0, 1
	ldapSearch             = 3
	ldapEntry, ldapSought  = 4, 5
	ldapExtended           = 23
	ldapNoObject           = 32
	ldapInvalidCredentials = 49
)

// directoryData takes octets of a connection to a directory.
func (l *Listener) directoryData(moment time.Time, v *conversation, fromClient bool, b []byte, lost bool) {
	if v.ldap == nil {
		v.ldap = &ldapTalk{binds: map[int64]string{}, found: map[int64]int{}, seeks: map[int64]bool{}, began: moment}
	}
	side := 1
	if fromClient {
		side = 0
	}
	other := len(v.ldap.buffers[side]) == 0 &&
		b[0] != byte(ber.ClassUniversal)|byte(ber.TypeConstructed)|byte(ber.TagSequence)
	if v.ldap.over = v.ldap.over || lost || other; v.ldap.over {
		return
	}
	data := append(v.ldap.buffers[side], b...)
	for len(data) > 0 {
		r := bytes.NewReader(data)
		m, err := ber.ReadPacket(r)
		if err != nil {
			break
		}
		data = data[len(data)-r.Len():]
		l.message(moment, v, m)
	}
	if len(data) > mostMessage {
		v.ldap.over, data = true, nil
	}
	v.ldap.buffers[side] = append([]byte(nil), data...)
}

// message takes one message.
func (l *Listener) message(moment time.Time, v *conversation, m *ber.Packet) {
	if len(m.Children) < 2 {
		v.ldap.over = true
		return
	}
	id, _ := m.Children[0].Value.(int64)
	op := m.Children[1]
	text := func(i int) string {
		if len(op.Children) <= i {
			return ""
		}
		return op.Children[i].Data.String()
	}
	code := int64(-1)
	if len(op.Children) > 0 {
		if n, ok := op.Children[0].Value.(int64); ok {
			code = n
		}
	}
	switch op.Tag {
	case ldapBind:
		v.ldap.binds[id] = text(1)
	case ldapSearch:
		v.ldap.seeks[id] = true
	case ldapEntry:
		v.ldap.found[id]++
		if dn := strings.ToLower(text(0)); len(l.people) < mostConns {
			l.people[dn] = true
		}
	case ldapExtended:
		v.ldap.over = true
	case ldapBound:
		v.ldap.answers++
		l.bound(moment, v, v.ldap.binds[id], code, text(2))
	case ldapSought:
		v.ldap.answers++
		l.searched(moment, v, id, code, text(2))
	}
}

// bound judges the answer to a bind. Who was found by a search before is a person,
// whose password is their own; anybody else is who searches.
func (l *Listener) bound(moment time.Time, v *conversation, dn string, code int64, said string) {
	if code == 0 {
		return
	}
	if code != ldapInvalidCredentials {
		l.directorySays(moment, v, evidence.MarkDirRefuses,
			fmt.Sprintf("the directory answers a bind with the result %d%s", code,
				quoted(said)))
		return
	}
	if !l.people[strings.ToLower(dn)] {
		l.directorySays(moment, v, evidence.MarkDirRefuses, fmt.Sprintf("the directory refuses %q, who searches: "+
			"%s", dn,
			"invalid credentials (49)"))
	}
}

// searched judges the end of a search.
func (l *Listener) searched(moment time.Time, v *conversation, id, code int64, said string) {
	switch {
	case code == ldapNoObject:
		l.directorySays(moment, v, evidence.MarkDirNoBase, "the directory has no such base (32)"+quoted(said))
	case code == 0 && v.ldap.seeks[id] && v.ldap.found[id] == 0:
		l.directorySays(moment, v, evidence.MarkDirNoEntry, "the directory finds no entry of that name")
	}
	delete(v.ldap.seeks, id)
	delete(v.ldap.found, id)
}

func quoted(said string) string {
	if said == "" {
		return ""
	}
	return fmt.Sprintf(": %q", said)
}

// directorySays gives what a directory told a server.
func (l *Listener) directorySays(moment time.Time, v *conversation, word evidence.Mark, text string) {
	e := l.directory.exchange(moment, v.client, v.server, v.port)
	e.Question, e.Answer = site.AskDirectory, evidence.Failed
	mark(e, word, text)
	l.emit(*e)
}

// endDirectory ends a connection to a directory: one without any answer is noted.
func (l *Listener) endDirectory(moment time.Time, v *conversation, end capture.Ending) {
	if v.ldap.over || v.ldap.answers > 0 || end.How == capture.Unfinished && end.Lost[0] == 0 || end.Cut {
		return
	}
	e := l.directory.exchange(v.ldap.began, v.client, v.server, v.port)
	e.Question, e.Seconds = site.AskDirectory, moment.Sub(v.ldap.began).Seconds()
	l.endSession(e, end)
	l.emit(*e)
}
