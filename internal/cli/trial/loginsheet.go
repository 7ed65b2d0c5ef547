package trial

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	sheetcmd "mellowgate/internal/cli/sheet"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/sheet"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/task/sheetrun"
)

// sheetTrial is a change sheet that is being tried.
type sheetTrial struct {
	c       *call.Call
	f       LoginFlags
	l       call.Loaded
	sheet   sheet.Sheet
	device  *site.Device
	places  evidence.Places // of the lab; none for a real device
	noted   map[string]sheet.Seen
	rows    [][]string
	logins  []loginJSON
	servers []*site.Server
}

// trySheet tries every login of the change sheet of a device, on a stand-in or on the
// device itself, and writes the sheet with what was seen.
func trySheet(c *call.Call, f LoginFlags) error {
	t := &sheetTrial{c: c, f: f, noted: map[string]sheet.Seen{}}
	if err := t.open(); err != nil {
		return err
	}
	if err := t.earlier(); err != nil {
		return err
	}
	config := sheetrun.Config{Sheet: &t.sheet, Attempt: t.attempt, Do: login.Do, Noted: t.note, Now: time.Now,
		Fits: func(k foresee.Case, s login.Seen) bool { return t.expected(k).Fits(s) }}
	if !f.noOutage && (t.places.Control != nil || c.AskAtTerminal() != nil) {
		config.Outage = t.outage
	}
	r, err := sheetrun.Run(c.Context, config)
	if err != nil && !errors.Is(err, sheetrun.ErrDiffers) {
		if c.Context.Err() != nil {
			return c.Context.Err()
		}
		return call.TaskError(err)
	}
	if err := t.write(); err != nil {
		return err
	}
	return t.say(r)
}

// open reads the site, and where the device is.
func (t *sheetTrial) open() (err error) {
	path := t.c.SitePath()
	if t.f.address == "" {
		_, places, err := call.RunIn(t.f.State)
		if err != nil {
			return err
		}
		t.places = places
		if len(t.c.Args) == 0 {
			path = t.places.SitePath
		}
		if t.places.Control != nil {
			now, err := t.c.AskLab(t.f.State, t.places, lab.Change{})
			if err != nil {
				return err
			}
			faults := slices.DeleteFunc(now.Faults, func(f string) bool { // those of other devices alone
				_, of, only := strings.Cut(f, " for ")
				return only && of != t.f.Device
			})
			if len(faults) > 0 {
				return call.Usagef("in the lab is in effect: %s; the sheet begins with nothing wrong: mellowgate "+
					"lab -lift all",
					strings.Join(faults, ", "))
			}
		}
	}
	if t.l, err = t.c.LoadFrom(path, false); err != nil {
		return err
	}
	if t.device, err = t.l.DeviceNamed(t.f.Device); err != nil {
		return err
	}
	r := t.l.Reckoner()
	t.sheet = sheetcmd.SheetOf(t.l, t.device, nil)
	t.servers = foresee.Shape{Devices: []*site.Device{t.device}, Cases: r.Device(t.device)}.Servers()
	return nil
}

// keyOf names a login of the sheet, with what is foreseen of it: a design that changes is
// tried again.
func keyOf(t sheet.Test) string {
	return fmt.Sprintf("%s|%s|%s|%t|%s", t.Way, t.Person, t.Password, t.Dark, t.Expect)
}

// progress is the file beside the sheet that has what was seen.
func (t *sheetTrial) progress() string { return t.f.write + ".seen.json" }

// earlier takes what an earlier run has seen.
func (t *sheetTrial) earlier() error {
	if t.f.write == "" {
		return nil
	}
	text, err := os.ReadFile(t.progress())
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return call.UsageError(err)
	}
	if err := json.Unmarshal(text, &t.noted); err != nil {
		return call.UsageError(fmt.Errorf(
			"%s, with what was seen before, is damaged (%w): take it away to begin anew", t.progress(), err))
	}
	for i := range t.sheet.Sections {
		for j := range t.sheet.Sections[i].Tests {
			one := &t.sheet.Sections[i].Tests[j]
			if seen, has := t.noted[keyOf(*one)]; has {
				one.Seen = seen
			}
		}
	}
	return nil
}

// attempt returns the login to make for a test.
func (t *sheetTrial) attempt(s sheet.Test) (a login.Attempt, why string, err error) {
	g := t.f
	g.Access, g.Person = s.Case.Way.Access, s.Case.Who.Typed()
	if s.Case.Who.Kind == foresee.Unknown {
		g.Person = "nobody-has-this-name"
	}
	if why = t.reached(s.Case.Way); why != "" {
		return a, why, nil
	}
	password, why, err := t.password(s)
	if why != "" || err != nil {
		return a, why, err
	}
	if t.f.address != "" {
		a, err = realDevice(t.c, g)
	} else {
		a, _, err = g.Attempt()
	}
	a.Password = password
	if err == nil && s.Case.RaiseTried && (t.f.address == "" || t.f.raiseCommand != "") {
		if a.Raise, why = t.raise(s); why != "" {
			t.c.Note("%s by %s: %s", s.Person, s.Way, why)
		}
	}
	return a, "", err
}

// reached says why a way in cannot be tried here, "" where it can.
func (t *sheetTrial) reached(w *site.Way) string {
	switch {
	case w != t.device.Way(w.Access):
		return w.Name() + ": which line a login gets is up to the device"
	case !login.Has(w.Access):
		return w.Name()
	case t.f.address == "":
		return ""
	case !site.HasShell(w.Access):
		return w.Name() + ": pages and APIs differ from make to make"
	}
	if _, _, err := net.SplitHostPort(t.f.address); err == nil && w.Access != t.f.Access {
		return fmt.Sprintf("%s: -address has the port of %s (-access says another)", w.Name(), t.f.Access)
	}
	if w.Access == site.Console && t.f.Access != site.Console {
		return "console"
	}
	return ""
}

// password returns what is typed for a test: a file of the folder, named as who logs in or
// as the secret.
func (t *sheetTrial) password(s sheet.Test) (site.Secret, string, error) {
	if s.Case.Who.Kind == foresee.Anyone || s.Case.Who.Kind == foresee.Unknown {
		return site.NewSecret("not the password of anybody"), "", nil
	}
	if secret := s.Case.SecretOf(site.Login); secret != nil {
		return t.secret(secret.Name)
	}
	return t.secret(s.Case.Who.Typed())
}

func (t *sheetTrial) secret(name string) (site.Secret, string, error) {
	secret, err := secrets.SecretFile(filepath.Join(t.f.fromSite, name))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return secret, "no file " + filepath.Join(t.f.fromSite, name), nil
	case err != nil:
		return secret, "", call.UsageError(err)
	}
	return secret, "", nil
}

// raise returns the elevation that belongs to a test; why says why it is left out.
func (t *sheetTrial) raise(s sheet.Test) (*login.Raise, string) {
	list := s.Case.Way.Lists[site.Elevation]
	names := []string{s.Case.Who.Typed()}
	for _, m := range list.Methods {
		if m.Kind == site.BySecret {
			names = append([]string{m.Ref.Name}, names...)
		}
	}
	if last := raisedBy(s.Case); last != "" {
		names = append([]string{last}, names...)
	}
	for _, name := range names {
		if secret, why, err := t.secret(name); err == nil && why == "" {
			return &login.Raise{Level: 15, Password: secret, Command: t.f.raiseCommand}, ""
		}
	}
	return nil, "the elevation is not tried: no file for it in " + t.f.fromSite
}

// raisedBy returns the name of the file for an elevation, by the method that decided it.
func raisedBy(k foresee.Case) string {
	for _, step := range k.Steps {
		if step.Purpose != site.Elevation || step.Result == walk.Unavailable {
			continue
		}
		if step.Method.Kind == site.BySecret {
			return step.Method.Ref.Name
		}
		return k.Who.Typed()
	}
	return ""
}

// expected is what is foreseen of a login, with its elevation where that is tried.
func (t *sheetTrial) expected(k foresee.Case) expected {
	want := ExpectedOf(k)
	if k.RaiseTried && want.outcome == walk.OutcomeIn && t.raises(k) {
		want.raised = k.Raised
	}
	return want
}

// raises reports whether the elevation of a case is tried.
func (t *sheetTrial) raises(k foresee.Case) bool {
	if t.f.address != "" && t.f.raiseCommand == "" {
		return false
	}
	r, _ := t.raise(sheet.Test{Case: k})
	return r != nil
}

// outage takes the servers away from the device, and gives them back: by itself in a lab,
// by who sits here on a real network.
func (t *sheetTrial) outage(_ context.Context, dark bool) error {
	var names, faults []string
	for _, s := range t.servers {
		names = append(names, s.Name)
		faults = append(faults, s.Name+" silent for "+t.device.Name)
	}
	if t.places.Control != nil {
		change := lab.Change{Set: faults}
		if !dark {
			change = lab.Change{Lift: faults}
		}
		quiet := *t.c
		quiet.Context = context.WithoutCancel(t.c.Context)
		_, err := quiet.AskLab(t.f.State, t.places, change)
		return err
	}
	order := "now cut " + strings.Join(names, ", ") + " off from " + t.device.Name +
		" (a filter near the device that drops), and press Enter: "
	if !dark {
		order = "now take the filter away, and press Enter: "
	}
	_, _ = fmt.Fprint(t.c.Err, order)
	_, err := bufio.NewReader(t.c.In).ReadString('\n')
	return err
}

// note keeps what was seen of a test, and writes the sheet.
func (t *sheetTrial) note(s sheet.Test) error {
	t.noted[keyOf(s)] = s.Seen
	style := t.c.Style()
	mark := style.Paint(show.Good, "as expected")
	if !s.Seen.OK {
		mark = style.Paint(show.Bad, "not as expected")
	}
	when := "servers up"
	if s.Dark {
		when = "outage"
	}
	t.rows = append(t.rows, []string{s.Way, s.Person, s.Password, when, s.Expect, show.Safe(s.Seen.Text), mark})
	t.logins = append(t.logins, loginJSON{Device: t.f.Device, Access: s.Way, Person: s.Person, AsExpected: s.Seen.OK,
		Expected: s.Expect, Seen: s.Seen.Text, Commands: []login.Command{}, Given: []string{}})
	return t.write()
}

// write writes the sheet and what was seen of it.
func (t *sheetTrial) write() error {
	if t.f.write == "" {
		return nil
	}
	var page bytes.Buffer
	if err := sheetcmd.PrintSheet(&page, t.sheet, strings.HasSuffix(t.f.write, ".html")); err != nil {
		return err
	}
	text, err := json.MarshalIndent(t.noted, "", "  ")
	if err == nil {
		err = errors.Join(files.WriteWhole(t.f.write, page.Bytes()), files.WriteWhole(t.progress(), text))
	}
	if err != nil {
		return call.TaskError(err)
	}
	return nil
}

// say says what came of it.
func (t *sheetTrial) say(r sheetrun.Report) error {
	c := t.c
	if *c.AsJSON {
		if err := show.JSON(c.Out, struct {
			Logins  []loginJSON `json:"logins"`
			Matched int         `json:"matched"`
			Total   int         `json:"total"`
			Before  int         `json:"before"`
			Untried []string    `json:"untried"`
		}{append([]loginJSON{}, t.logins...), r.Matched, r.Tried, r.Before,
			append([]string{}, r.Untried...)}); err != nil {
			return err
		}
	} else {
		t.table(r)
	}
	if r.Differs != nil {
		return call.ErrVerdict
	}
	return nil
}

func (t *sheetTrial) table(r sheetrun.Report) {
	c := t.c
	if len(t.rows) > 0 {
		c.Style().Table(c.Out, []string{"access", "who", "password", "when", "expected", "seen", ""}, t.rows, 1, 4, 5)
		c.Say("\n")
	}
	switch {
	case r.Tried == 0 && r.Before > 0:
		c.Say("all %s of %s were as expected before; take %s away to try them again\n", show.Count(r.Before, "login"),
			t.f.Device, t.progress())
	case r.Before > 0:
		c.Say("%d of %d logins of %s were as expected, and %d before\n", r.Matched, r.Tried, t.f.Device, r.Before)
	default:
		c.Say("%d of %d logins of %s were as expected\n", r.Matched, r.Tried, t.f.Device)
	}
	for _, why := range r.Untried {
		c.Say("not tried: %s\n", why)
	}
	if t.f.write != "" {
		c.Say("the sheet with what was seen is %s\n", t.f.write)
	}
	if r.Differs == nil {
		return
	}
	c.Say("it stopped at the first that differs; repair that, and run it again: it goes on from there\nnext: ")
	f := t.f
	f.Person = r.Differs.Case.Who.Typed()
	call := whyOf(f)
	if f.address != "" {
		call = "mellowgate why -device " + f.Device + " -person " + f.Person + " -probe " + t.l.Path
	}
	c.Style().Call(c.Out, "", call)
}
