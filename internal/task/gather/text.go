package gather

import (
	"bytes"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/textread"
)

// logText is a text of a log, and what it was found to say.
type logText struct {
	file   string
	at     phrase.Moment
	device string // whose text it is, where the text does not say it
	site   *site.Site
}

// readLog reads a log in any form: what a stand-in keeps, what a service tells of its
// events, or a make's own text by its phrasebook.
func (f Files) readLog(e *evidence.Evidence, s *site.Site, notes []string) ([]string, error) {
	if f.Log == "" {
		return notes, nil
	}
	text, err := files.ReadFile(f.Log)
	if err != nil {
		return notes, err
	}
	t := logText{file: f.Log, device: f.Device, site: s}
	if t.at, err = momentOf(f.Log, f.Zone); err != nil {
		return notes, err
	}
	if lines := t.own(e, text); lines > 0 {
		if whole := bytes.Count(bytes.TrimSpace(text), []byte("\n")) + 1; lines < whole && lines > whole/2 {
			notes = append(notes, fmt.Sprintf("%s: %d of %d lines are about something else", f.Log, whole-lines, whole))
		}
		if f.Phrases == "" {
			return notes, nil
		}
	}
	book, err := f.phrasebook(s)
	if err != nil || book == "" {
		if len(e.Log)+len(e.Events) > 0 || err != nil {
			return notes, err
		}
		return notes, fmt.Errorf("%s holds no line that can be read. Lines of this program are read as they are; a "+
			"device's own text by the phrasebook of its make: -phrases FILE, or phrasebook of its platform in the site",
			f.Log)
	}
	return t.byBook(e, book, text, notes)
}

// momentOf gives the year and the zone to times of a file that have none.
func momentOf(file, zone string) (phrase.Moment, error) {
	moment := phrase.Moment{Now: time.Now(), Zone: time.Local}
	if zone != "" {
		var err error
		if moment.Zone, err = time.LoadLocation(zone); err != nil {
			return moment, fmt.Errorf("-zone is %q; the name of a zone is wanted, such as Europe/Dublin or UTC", zone)
		}
	}
	if info, err := os.Stat(file); err == nil { // a log without years is of the year in which it was saved
		moment.Now = info.ModTime()
	}
	return moment, nil
}

// phrasebook returns the file of the phrasebook to read by: the one that is named, or
// that of the device's platform; "" for none.
func (f Files) phrasebook(s *site.Site) (string, error) {
	if f.Phrases != "" || s == nil || f.Device == "" || s.Device(f.Device) == nil {
		return f.Phrases, nil
	}
	ref := s.Device(f.Device).Platform.Phrasebook
	if ref.Name == "" {
		return "", nil
	}
	return files.At(f.Base, ref.Name), nil
}

// own reads the lines that are in a form of this program, and returns how many.
func (t logText) own(e *evidence.Evidence, text []byte) int {
	n := 0
	for line := range strings.SplitSeq(string(text), "\n") {
		line = strings.TrimSpace(line)
		if v, ok := evidence.ReadEvent(line, t.at.Now.In(t.at.Zone)); ok {
			e.Events, n = append(e.Events, v), n+1
		} else if v, ok := state.LogLine(line); ok {
			e.Log, n = append(e.Log, v), n+1
		}
	}
	return n
}

// byBook reads a make's own text.
func (t logText) byBook(e *evidence.Evidence, file string, text []byte, notes []string) ([]string, error) {
	b, err := textread.OpenBook(file)
	if err != nil {
		return notes, err
	}
	log, err := b.Load().ReadLog(bytes.NewReader(text), t.at)
	if err != nil {
		return notes, fmt.Errorf("%s: %w", t.file, err)
	}
	if log.Read == 0 {
		return notes, fmt.Errorf("%s: no phrase under tells of %s reads a line of it: it may be of another make",
			t.file,
			file)
	}
	for _, told := range log.Told {
		switch told.About {
		case phrase.Event:
			if line, ok := t.line(told); ok {
				e.Log = append(e.Log, line)
			}
		case phrase.Count:
			e.Counts = append(e.Counts, t.count(told))
		}
	}
	return notes, nil
}

// Understood reads the lines that devices sent as they are, by the phrasebooks of their
// platforms; base is the folder of the site. A line that no phrase reads stays as it is.
func Understood(logLines []evidence.LogLine, s *site.Site, base string) (understood []evidence.LogLine,
	notes []string) {
	raw := map[string][]int{}
	for i, l := range logLines {
		if l.Raw && s != nil && s.Device(l.Device) != nil && s.Device(l.Device).Platform.Phrasebook.Name != "" {
			raw[l.Device] = append(raw[l.Device], i)
		}
	}
	logLines = slices.Clone(logLines)
	for device, at := range raw {
		b, err := textread.OpenBook(files.At(base, s.Device(device).Platform.Phrasebook.Name))
		if err != nil {
			notes = append(notes, err.Error())
			continue
		}
		var text strings.Builder
		for _, i := range at {
			text.WriteString(logLines[i].Text + "\n")
		}
		log, err := b.Load().ReadLog(strings.NewReader(text.String()), phrase.Moment{Now: time.Now(), Zone: time.Local})
		if err != nil {
			notes = append(notes, err.Error())
			continue
		}
		t := logText{device: device, site: s}
		for _, told := range log.Told {
			if line, ok := t.line(told); ok && told.Line >= 1 && told.Line <= len(at) {
				// When it came is by our own clock; the device's may be any.
				line.Time = logLines[at[told.Line-1]].Time
				line.Device = device
				line.Text = logLines[at[told.Line-1]].Text
				logLines[at[told.Line-1]] = line
			}
		}
	}
	slices.Sort(notes)
	return logLines, notes
}

// line makes a line of a log of what a phrase says.
func (t logText) line(told phrase.Told) (evidence.LogLine, bool) {
	facts := told.Facts
	l := evidence.LogLine{Time: told.Time, Device: facts["device"], What: evidence.LogEvent(facts["event"]),
		Person: facts["person"], Access: facts["access"], Server: t.server(facts["server"]),
		Asked: site.Question(facts["asked"]), Reason: reason.Reason(facts["reason"]), By: t.server(facts["by"]),
		Text: fmt.Sprintf("line %d: %s, %s", told.Line, facts["event"], told)}
	if l.Device == "" {
		l.Device = t.device
	}
	l.Level, _ = strconv.Atoi(facts["level"])
	switch l.What {
	case evidence.LogNoAnswer:
		if l.Asked == "" {
			l.Asked = site.AskLogin
		}
		if l.Reason == "" {
			l.Reason = reason.Silent
		}
	case evidence.LogRefused:
		if l.By == "" {
			l.By = l.Server
		}
		if l.Reason == "" && l.By != string(site.ByLocal) {
			l.Reason = reason.RefusedByServer
		} else if l.Reason == "" {
			l.Reason = reason.WrongPassword
		}
	case evidence.LogIn:
		if l.By == "" {
			l.By = l.Server
		}
	case evidence.LogAgain:
	default: // what was asked on the way
		return l, false
	}
	return l, true
}

// count makes counters of what a phrase says.
func (t logText) count(told phrase.Told) evidence.Count {
	n := func(name string) int { v, _ := strconv.Atoi(told.Facts[name]); return v }
	c := evidence.Count{Device: t.device, Server: t.server(told.Facts["server"]), Sent: n("sent"),
		Accepted: n("accepted"),
		Refused:  n("refused"), Question: site.Question(told.Facts["asked"]), Lost: map[reason.Reason]int{}}
	if c.Question == "" {
		c.Question = site.AskLogin
	}
	if lost := n(string(reason.NoAnswer)); lost > 0 {
		c.Lost[reason.Silent] = lost
	}
	return c
}

// server returns the site's name of a server that a text names by its address.
func (t logText) server(name string) string {
	address, err := netip.ParseAddr(name)
	if t.site == nil || err != nil {
		return name
	}
	if i := slices.IndexFunc(t.site.Servers, func(
		v *site.Server) bool {
		return v.Address == address.String()
	}); i >= 0 {
		return t.site.Servers[i].Name
	}
	return name
}

// readCounters reads counters: as a stand-in's API gives them, as values of SNMP, or
// by a phrasebook. Of two files, the older one first, it is what was counted between.
func (f Files) readCounters(e *evidence.Evidence, s *site.Site) error {
	if f.Counters == "" {
		return nil
	}
	names := several(f.Counters)
	if len(names) > 2 {
		return fmt.Errorf("-counters takes one file, or two readings, the older one first: OLD,NEW")
	}
	var readings [][]evidence.Count
	for _, file := range names {
		counts, err := f.countersOf(file, s)
		if err != nil {
			return err
		}
		readings = append(readings, counts)
	}
	if len(readings) == 2 {
		readings = [][]evidence.Count{evidence.Since(readings[0], readings[1])}
	}
	e.Counts = append(e.Counts, readings[0]...)
	return nil
}

func (f Files) countersOf(file string, s *site.Site) ([]evidence.Count, error) {
	text, err := files.ReadFile(file)
	if err != nil {
		return nil, err
	}
	t := logText{file: file, device: f.Device, site: s}
	if counts := evidence.SNMPCounts(string(text)); len(counts) > 0 {
		for i := range counts {
			counts[i].Device, counts[i].Server = f.Device, t.server(counts[i].Server)
		}
		return counts, nil
	}
	if book, err := f.phrasebook(s); book != "" && err == nil && !bytes.HasPrefix(bytes.TrimSpace(text), []byte("{")) {
		if t.at, err = momentOf(file, f.Zone); err != nil {
			return nil, err
		}
		var e evidence.Evidence
		_, err := t.byBook(&e, book, text, nil)
		return e.Counts, err
	}
	return state.ReadCounters(file)
}

// several splits the names of files by commas; a file whose name has one is itself.
func several(names string) []string {
	if _, err := os.Stat(names); err == nil || names == "-" {
		return []string{names}
	}
	return strings.Split(names, ",")
}
