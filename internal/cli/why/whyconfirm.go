package why

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	trialcmd "mellowgate/internal/cli/trial"
	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/task/gather"
)

// probe asks the servers that a device uses.
func probe(c *call.Call, f *WhyFlags, k *gather.Found) error {
	if k.Opened == nil {
		return call.Usagef("-probe needs the site, for the servers of %s and their keys: name it at the end",
			f.Symptom.Device)
	}
	d, err := call.Loaded{Opened: *k.Opened}.DeviceNamed(f.Symptom.Device)
	if err != nil {
		return err
	}
	var servers []*site.Server
	for _, w := range d.Ways {
		if f.Symptom.Access != "" && w.Access != f.Symptom.Access {
			continue
		}
		for _, l := range w.Lists {
			for _, s := range l.Servers() {
				if !slices.Contains(servers, s) {
					servers = append(servers, s)
				}
			}
		}
	}
	ask := &askFlags{state: f.State, as: d.Name}
	as := d.Name
	if !k.Lab { // this host does not have the device's address
		as, ask.as = "", ""
		c.Note("the questions come from this host and not from %s: they tell whether the servers are up, and "+
			"nothing of keys",
			d.Name)
	}
	for _, s := range servers {
		if s.Secured() && as == "" {
			continue
		}
		t, err := ask.target(c, call.Loaded{Opened: *k.Opened}, d, s, k.Places, len(k.Places.Servers) > 0)
		if err != nil {
			return err
		}
		done := c.Working("asking " + s.Name)
		k.Probes = append(k.Probes, gather.Probe(c.Context, t, as)...)
		done()
	}
	if *c.AsJSON {
		return nil
	}
	for _, b := range k.Probes {
		c.Note("asked: %s", b.Text)
	}
	return nil
}

// proof is the result of repeating a login.
type proof struct {
	Time    time.Time    `json:"time"`
	Works   bool         `json:"works"`
	Outcome walk.Outcome `json:"outcome"`
	Level   int          `json:"level"`
	Seconds float64      `json:"seconds"`
	Detail  string       `json:"detail,omitempty"`
}

func (p *proof) String() string {
	if p.Works {
		return fmt.Sprintf("repeated at %s: in at level %d after %.1f s", p.Time.Local().Format("15:04:05 MST"),
			p.Level,
			p.Seconds)
	}
	text := fmt.Sprintf("repeated at %s: %s after %.1f s", p.Time.Local().Format("15:04:05 MST"), p.Outcome, p.Seconds)
	if p.Detail != "" {
		text += " (" + p.Detail + ")"
	}
	return text
}

func (p *proof) print(c *call.Call) {
	if p == nil {
		return
	}
	style := c.Style()
	if p.Works {
		c.Say("\n%s: %s\n", style.Paint(show.Good, "it works now"), p)
		return
	}
	c.Say("\n%s: %s\n", style.Paint(show.Bad, "it still fails"), show.Safe(p.String()))
}

// confirm repeats the login that was judged, in the lab.
func confirm(c *call.Call, f *WhyFlags, k *gather.Found, v diagnose.Verdict) (*proof, error) {
	if !k.Lab {
		return nil, call.Usagef("-confirm repeats a login in a lab; on a real device use: mellowgate login "+
			"-address ADDRESS:22 -person %s", v.Story.Person)
	}
	access, _, _ := strings.Cut(v.Story.Access, " ")
	if access == "" {
		access = site.SSH
	}
	dir := f.State
	if dir == "" {
		dir = call.DefaultState
	}
	attempt, _, err := trialcmd.LoginFlags{State: dir, Device: v.Story.Device, Person: v.Story.Person,
		Access: access}.Attempt()
	if err != nil {
		return nil, err
	}
	if attempt.Password, err = f.password(v.Story.Person); err != nil {
		return nil, err
	}
	seen, err := login.Do(c.Context, attempt)
	if err != nil {
		return nil, call.TaskError(err)
	}
	return &proof{Time: time.Now().UTC(), Works: seen.Outcome == walk.OutcomeIn, Outcome: seen.Outcome,
		Level:   seen.Level,
		Seconds: seen.Took.Seconds(), Detail: seen.Detail}, nil
}

// NotMade says why a new file cannot be written.
func NotMade(path string, err error) error {
	switch {
	case errors.Is(err, fs.ErrExist):
		return call.Usagef("%s is there already; name a new file with -write", path)
	case errors.Is(err, fs.ErrNotExist):
		return call.Usagef("%s cannot be made: its folder is not there", path)
	}
	return call.TaskError(fmt.Errorf("%s cannot be made: %w", path, err))
}

// writeIncident writes the record of an incident.
func writeIncident(c *call.Call, f *WhyFlags, k *gather.Found, v diagnose.Verdict, p *proof) error {
	if err := WriteNew(f.write, Incident(v, f.Symptom, k.From, p)); err != nil {
		return err
	}
	c.Note("%s has the record of the incident", f.write)
	return nil
}

// WriteNew writes a text that is not secret from who runs the program into a new file.
func WriteNew(path string, text []byte) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return NotMade(path, err)
	}
	_, err = io.WriteString(file, show.Safe(string(text)))
	return call.TaskError(errors.Join(err, file.Close()))
}

// Incident is the record of an incident, as Markdown.
func Incident(v diagnose.Verdict, y diagnose.Symptom, from string, p *proof) []byte {
	var b bytes.Buffer
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	title := storyLine(v.Story)
	if len(v.Causes) > 0 {
		line("# %s: %s\n", v.Causes[0].Cause, v.Causes[0].Where)
	} else {
		line("# Healthy: %s\n", title)
	}
	line("- Symptom: %s", title)
	if y.Saw != "" {
		line("- Seen: %s", y.Saw)
	}
	if y.Read != "" {
		line("- Read on the screen: %s", y.Read)
	}
	if !v.Story.Time.IsZero() {
		line("- When: %s", v.Story.Time.UTC().Format(time.RFC3339))
	}
	line("- Evidence read: %s", from)
	for _, text := range v.Clocks {
		line("- Clocks: %s", text)
	}
	for i, found := range v.Causes {
		line("\n## Cause %d: %s\n", i+1, found.Cause)
		line("%s (%s; layer: %s; %.0f %% sure).\n", show.Safe(found.Says), show.Safe(found.Where), found.Layer,
			100*found.Confidence)
		for _, e := range found.Evidence {
			line("- for: %s", show.Safe(e))
		}
		for _, e := range found.Against {
			line("- against: %s", show.Safe(e))
		}
		line("\nRepair: %s", show.Safe(found.Repair))
	}
	if v.Story.Login != nil {
		line("\n## The login, step by step\n")
		line("| purpose | list | method | result | took | servers |\n|---|---|---|---|---|---|")
		for _, s := range v.Story.Login.Steps {
			line("| %s | %s | %s | %s %s | %.1f s | %s |", s.Purpose, s.List, s.Method, s.Result, s.Reason, s.Seconds,
				cell(triesText(s)))
		}
	} else if rows := timeline(v.Story); len(rows) > 0 {
		line("\n## What was noted\n")
		line("| time | by | about | what |\n|---|---|---|---|")
		for _, r := range rows {
			line("| %s | %s | %s | %s |", r[0], cell(r[1]), r[2], cell(r[3]))
		}
	}
	line("\n## Proof that it works now\n")
	if p == nil {
		line("Not repeated yet: mellowgate why -device %s -person %s -confirm", v.Story.Device, v.Story.Person)
	} else {
		line("%s", show.Safe(p.String()))
	}
	return b.Bytes()
}

// cell makes a text fit for a cell of a Markdown table.
func cell(text string) string {
	return strings.NewReplacer("|", `\|`, "\n", " ").Replace(show.Safe(text))
}
