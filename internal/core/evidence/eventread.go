package evidence

import (
	"encoding/json"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

// ReadEvent reads an event from a line in any form in which a service tells it: a line
// of events.jsonl, of its log as text or as JSON, or a syslog message, whole (RFC 5424,
// RFC 3164) or as a receiver writes it into a file. now gives the year to times that
// have none. It is false for a line that is no event.
func ReadEvent(line string, now time.Time) (Event, bool) {
	line = strings.TrimSpace(line)
	var fields map[string]string
	var moment time.Time
	switch {
	case strings.HasPrefix(line, "{"):
		fields = fieldsOfJSON(line)
	case strings.Contains(line, "mellowgate"):
		var text string
		moment, text = syslogText(line, now)
		fields = fieldsOfText(text)
	default:
		fields = fieldsOfText(line)
	}
	if fields["server"] == "" || fields["answer"] == "" || fields["question"] == "" &&
		fields["answer"] != string(Dropped) {
		return Event{}, false
	}
	if t, err := time.Parse(time.RFC3339Nano, fields["time"]); err == nil {
		moment = t
	}
	if moment.IsZero() {
		return Event{}, false
	}
	e := Event{Time: moment.UTC(), Server: fields["server"], Protocol: site.Protocol(fields["protocol"]),
		Client: fields["client"], Device: fields["device"], Access: fields["access"], Person: fields["person"],
		Question: site.Question(fields["question"]), Command: fields["command"], Answer: Answer(fields["answer"]),
		Reason: reason.Reason(fields["reason"]), Text: fields["text"], Place: fields["place"], Rule: fields["rule"],
		Key: fields["key"], Returned: fields["returned"]}
	if n, err := strconv.ParseUint(fields["client_port"], 10, 16); err == nil {
		e.Port = uint16(n)
	}
	if n, err := strconv.Atoi(fields["level"]); err == nil {
		e.Level = &n
	}
	return e, true
}

// fieldsOfJSON reads an object with plain values. A log has the key level twice: for
// how grave the line is, in a word, and for that of the person, as a number.
func fieldsOfJSON(line string) map[string]string {
	d := json.NewDecoder(strings.NewReader(line))
	d.UseNumber()
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil
	}
	all := map[string]string{}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return nil
		}
		var value any
		if d.Decode(&value) != nil {
			return nil
		}
		switch v := value.(type) {
		case string:
			set(all, name.(string), v)
		case json.Number:
			set(all, name.(string), v.String())
		}
	}
	return all
}

func set(all map[string]string, name, value string) {
	if _, err := strconv.Atoi(value); name == "level" && err != nil {
		return
	}
	all[name] = value
}

// fieldsOfText reads name=value, with quotes around values that have blanks.
func fieldsOfText(line string) map[string]string {
	all := map[string]string{}
	for line != "" {
		line = strings.TrimLeft(line, " ")
		name, rest, ok := strings.Cut(line, "=")
		if !ok || strings.ContainsAny(name, ` "`) {
			if _, line, ok = strings.Cut(line, " "); !ok {
				break
			}
			continue
		}
		value := ""
		if strings.HasPrefix(rest, `"`) {
			quoted, err := strconv.QuotedPrefix(rest)
			if err != nil {
				break
			}
			value, _ = strconv.Unquote(quoted)
			line = rest[len(quoted):]
		} else {
			value, line, _ = strings.Cut(rest, " ")
		}
		set(all, name, value)
	}
	return all
}

// syslogText returns the time and the text of a syslog message, or of the line that a
// receiver made of one.
func syslogText(line string, now time.Time) (moment time.Time, text string) {
	if strings.HasPrefix(line, "<") {
		if _, after, ok := strings.Cut(line, ">"); ok {
			line = after
		}
	}
	line = strings.TrimPrefix(line, "1 ") // the version, RFC 5424 section 6.2.2
	words := strings.Fields(line)
	if len(words) == 0 {
		return moment, ""
	}
	if t, err := time.Parse(time.RFC3339Nano, words[0]); err == nil {
		moment = t
	} else if len(words) > 2 { // RFC 3164, section 4.1.2: no year, and no zone
		if t, err := time.ParseInLocation("Jan 2 15:04:05", strings.Join(words[:3], " "), now.Location()); err == nil {
			moment = t.AddDate(now.Year(), 0, 0)
			if moment.After(now.Add(24 * time.Hour)) {
				moment = moment.AddDate(-1, 0, 0)
			}
		}
	}
	line = afterData(line)
	if i := strings.Index(line, "server="); i >= 0 {
		return moment, line[i:]
	}
	return moment, ""
}

// afterData returns what comes after the structured data of an event in a syslog message
// (RFC 5424, section 6.3), which says the same as the text does.
func afterData(line string) string {
	i := strings.Index(line, "[event@")
	if i < 0 {
		return line
	}
	for i < len(line) && line[i] != ']' {
		if line[i] == '\\' {
			i++
		}
		i++
	}
	return line[min(i+1, len(line)):]
}
