package gate

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

// What an Accounting-Request is about, RFC 2866 section 5.1.
const (
	statusStart   = 1
	statusStop    = 2
	statusInterim = 3
	statusOn      = 7
	statusOff     = 8
)

// record begins to keep an Accounting-Request, RFC 2866 section 4.1. Its answer is sent
// once it is on disk.
func (r *radiusRequest) record() *radius.Packet {
	p := r.packet
	taken := &radius.Packet{Code: radius.AccountingResponse, ID: p.ID}
	r.session = printable(p.Text(radius.AcctSessionID))
	if level, ok := p.Integer(radius.ManagementPrivilegeLevel); ok && level <= 15 {
		r.level = int(level)
	}
	if late, ok := p.Integer(radius.AcctDelayTime); ok { // how long the device has tried to send it, section 5.2
		r.ago = min(time.Duration(late)*time.Second, longestDelay)
	}
	status, _ := p.Integer(radius.AcctStatusType)
	switch status {
	case statusStart:
		r.kind = ledger.SessionStart
	case statusStop:
		r.kind, r.detail = ledger.SessionStop, spent(p)
	case statusInterim:
		r.kind, r.detail = ledger.Update, spent(p)
	case statusOn, statusOff:
		r.Purpose, r.kind = site.RecordSystem, ledger.System
		r.Line = map[uint32]string{statusOn: "accounting on", statusOff: "accounting off"}[status]
	default:
		r.server.drop(r.question, reason.RecordUnknown,
			fmt.Sprintf("Acct-Status-Type %d is not known here (RFC 2866, section 5.1)", status))
		return nil
	}
	r.server.beginRecord(&r.question)
	return taken
}

// longestDelay bounds how far back a device may date a record.
const longestDelay = 7 * 24 * time.Hour

// spent says how long a session took, and why it ended.
func spent(p *radius.Packet) string {
	var parts []string
	if seconds, ok := p.Integer(radius.AcctSessionTime); ok {
		parts = append(parts, "after "+(time.Duration(seconds)*time.Second).String())
	}
	if end, ok := p.Get(radius.AcctTerminateCause); ok {
		for _, n := range (radius.Dictionary{}).Names(radius.Attribute{Type: radius.AcctTerminateCause, Value: end}) {
			parts = append(parts, n.Value)
		}
	}
	return strings.Join(parts, ": ")
}

// account keeps an accounting record, RFC 8907 section 7. Its error is ErrBody.
func (t *tacacsSession) account(body []byte) error {
	r, err := tacacs.DecodeAcctRequest(body)
	if err != nil {
		return err
	}
	args := arguments(r.Args)
	q := t.of(r.AuthorRequest, args)
	q.Purpose, q.session = site.RecordSessions, printable(args.values["task_id"])
	switch watchdog := r.Flags&tacacs.AcctWatchdog != 0; {
	case args.values["service"] == "system": // section 8.3: what happened to the device
		q.Purpose, q.kind = site.RecordSystem, ledger.System
		q.Line = printable(strings.Trim(args.values["event"]+": "+args.values["reason"], ": "))
		if q.Line == "" {
			q.Line = args.command
		}
	case args.command != "":
		q.Purpose = site.RecordCommands
		q.Line = args.command
		q.kind = ledger.Command
	case watchdog: // an update, whether it comes with the start flag or not, section 7.2
		q.kind = ledger.Update
	case r.Flags&tacacs.AcctStart != 0:
		q.kind = ledger.SessionStart
	default:
		q.kind = ledger.SessionStop
	}
	if seconds, err := strconv.Atoi(args.values["elapsed_time"]); err == nil && seconds >= 0 {
		q.detail = "after " + (time.Duration(seconds) * time.Second).String()
	}
	t.server.beginRecord(&q)
	t.answer(&q, tacacs.AcctReply{Status: tacacs.AcctSuccess}.Append(nil))
	return nil
}
