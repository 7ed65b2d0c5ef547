package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/login"
	"mellowgate/internal/live/manage"
	"mellowgate/internal/live/send"
	"mellowgate/internal/live/state"
)

func sendCommand() *Command {
	return &Command{
		Name: "send", Args: "DEVICE... [SITE]", Short: "put the design on devices, with proof, or have it taken back", MaxArgs: manyDevices,
		Long: `Puts the site's design on devices over NETCONF so that nobody is locked out. For each device, one after the other:

1.  check finds no error for it, and foresee says that whoever logs in here will get in afterwards too.
2.  What is on it is read. The difference is shown and asked about; -yes agrees, -dry-run only shows.
3.  What was on it is kept in a file of the folder -keep (it holds secrets: only you can read it).
4.  The change is made in the candidate, checked by the device, and committed for a time only.
5.  From new connections: the person gets in, at the right level; a wrong password is refused; where the servers run here, their event is seen. The old session still works.
6.  Only then it is confirmed. When a proof fails, or at Ctrl-C, it is taken back at once, and a new connection proves that the device is as it was. When this program dies, the device takes the change back by itself.

A device must offer candidate and confirmed commit (RFC 6241): to another nothing is sent. What its models cannot carry is
said before. Accounts on the device that the site does not have stay there, and compare goes on naming them. It stops at the first device that fails; run it again to go on: devices that hold the design already are left
alone. Try it in a lab first.

Exit status 1 when a change was taken back or nobody agreed, 3 when nothing could be sent.`,
		Examples: []Example{
			{"mellowgate send -dry-run -person ines.marsh -password-file demo/as-reviewed/passwords/ines.marsh north-sw-1 demo/as-reviewed", "what would be changed, on a device of the lab that runs here"},
			{"mellowgate send -person ines.marsh -agent switch-1 my-site", "a real device, asked about before"},
		},
		Prepare: func(c *Call) func() error {
			c.report()
			f := &sendFlags{managing: c.managingFlags()}
			c.Flags.BoolVar(&f.yes, "yes", false, "agree to the change; for scripts")
			c.Flags.BoolVar(&f.dry, "dry-run", false, "show what would be changed, and change nothing")
			c.Flags.StringVar(&f.keep, "keep", "mellowgate-sent", "the `folder` for what was on the devices, and for the record of what was sent")
			return func() error { return c.send(f) }
		},
	}
}

type sendFlags struct {
	*managing
	yes, dry bool
	keep     string
}

// sent is what came of one device.
type sent struct {
	Time        time.Time `json:"time"`
	Device      string    `json:"device"`
	Person      string    `json:"person"`
	Differences []string  `json:"differences"`
	NotCarried  []string  `json:"not_carried"`
	send.Report
}

func (c *Call) send(f *sendFlags) error {
	devices, l, err := c.devicesOfSite(false, true)
	if err != nil {
		return err
	}
	if f.address != "" && len(devices) > 1 {
		return wrong("-address is that of one device, and %d are named", len(devices))
	}
	found := c.check(l)
	for _, d := range devices {
		if errors := errorsFor(found, d); len(errors) > 0 {
			return wrong("check finds %s for %s (%s): repair that first; nothing was sent", show.Count(len(errors), "error"), d.Name, strings.Join(errors, ", "))
		}
		if _, err := foreseenIn(l, d, f.person); err != nil {
			return err
		}
	}
	var all []sent
	var failed error
	for _, d := range devices {
		r, err := c.sendOne(f, l, d)
		all = append(all, r)
		if err != nil || r.Outcome != send.Kept && r.Outcome != send.Same && !(f.dry && r.Outcome == send.Declined) {
			if failed = errNo; err != nil {
				failed = err
			}
			break
		}
	}
	if *c.json {
		if err := show.JSON(c.Out, struct {
			Devices []sent `json:"devices"`
		}{all}); err != nil {
			return err
		}
		if failed != nil && !errors.Is(failed, errNo) {
			failed = failure{ExitCannot, errors.New("")}
		}
		return failed
	}
	c.printSent(all, len(devices))
	return failed
}

// foreseenIn gives the worst wait of a login of a person by netconf after the
// change, and an error where they would not get in with full rights.
func foreseenIn(l loaded, d *site.Device, person string) (time.Duration, error) {
	if person == "" {
		return 0, wrong("who logs in? Name somebody with -person")
	}
	way := d.Way(site.NETCONF)
	if way == nil {
		return 0, wrong("%s has no way in by netconf in the site: after the change nobody could confirm it", d.Name)
	}
	r := l.reckoner()
	who, known := r.Find(d, person)
	if !known {
		names := make([]string, len(l.Site.People))
		for i, p := range l.Site.People {
			names[i] = p.Name
		}
		return 0, wrong("the site has nobody called %s%s: after the change nobody could confirm it", person, nearest.Suggest(person, names))
	}
	worst, in := time.Duration(0), false
	for _, k := range r.Cases(d, way, who) {
		worst = max(worst, k.Wait)
		if k.Holds(nil) {
			in = k.Outcome == foresee.In
		}
	}
	if !in {
		return 0, wrong("foresee says that %s will not get into %s by netconf after the change: nobody could confirm it", person, d.Name)
	}
	return worst, nil
}

// windowOf is how long a change runs without a confirmation.
func windowOf(worst time.Duration) time.Duration {
	return time.Minute + 4*worst.Round(time.Second)
}

func (c *Call) sendOne(f *sendFlags, l loaded, d *site.Device) (sent, error) {
	r := sent{Time: time.Now().UTC(), Device: d.Name, Person: f.person, Differences: []string{}, NotCarried: []string{}}
	t, err := f.targetOf(c, d)
	if err != nil {
		return r, err
	}
	worst, err := foreseenIn(l, d, f.person)
	if err != nil {
		return r, err
	}
	say := func(step string) { c.note("%s: %s", d.Name, step) }
	config := send.Config{Site: l.Site, Device: d, Keys: l.Keys, Say: say, Window: windowOf(worst),
		Open: func(ctx context.Context) (send.Device, error) { return opened(manage.Open(ctx, t)) },
		Keep: func(h manage.Held) (string, error) { return keep(f.keep, d.Name, h.Data, r.Time) },
		Agree: func(p send.Plan) bool {
			for _, x := range p.Differences {
				r.Differences = append(r.Differences, x.String())
			}
			r.NotCarried = append(r.NotCarried, p.NotCarried...)
			return c.agree(f, d, p)
		},
		Prove: func(ctx context.Context) []send.Proof { return c.prove(ctx, f, l, d, t) },
	}
	r.Report, err = send.Run(c.Context, config)
	if f.dry && r.Outcome == send.Declined {
		r.Why = "only shown (-dry-run)"
	}
	if r.Outcome != send.Same && !f.dry {
		if noted := note(f.keep, r); noted != nil {
			c.note("the record of this could not be written: %v", noted)
		}
	}
	if r.Outcome == send.TakenBack || r.Outcome == send.Unsure {
		c.note("%s: find the cause with: mellowgate why -device %s -who %s", d.Name, d.Name, f.person)
	}
	if err != nil {
		var usage failure
		if errors.As(err, &usage) {
			return r, err
		}
		return r, cannot(fmt.Errorf("%s: %w; nothing was changed", d.Name, err))
	}
	return r, nil
}

// opened keeps a nil session from becoming a Device that is not nil.
func opened(s *manage.Session, err error) (send.Device, error) {
	if err != nil {
		return nil, err
	}
	return s, nil
}

// keep writes what was on a device before a change.
func keep(dir, device string, data []byte, at time.Time) (string, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	path := filepath.Join(dir, device+"-"+at.Format("20060102T150405.000Z")+".xml")
	return path, os.WriteFile(path, data, 0o600)
}

// note adds a line to the record of what was sent.
func note(dir string, r sent) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	file, err := os.OpenFile(filepath.Join(dir, "sent.jsonl"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = file.Close() }()
	text, err := json.Marshal(r)
	if err == nil {
		_, err = file.Write(append(text, '\n'))
	}
	return err
}

// agree shows what would be changed, and asks.
func (c *Call) agree(f *sendFlags, d *site.Device, p send.Plan) bool {
	style := c.style()
	out := c.Out
	if *c.json {
		out = c.Err
	}
	_, _ = fmt.Fprintf(out, "%s: %s\n", d.Name, show.Count(len(p.Differences), "difference"))
	for _, x := range p.Differences {
		style.Item(out, "  - ", show.Safe(fmt.Sprintf("%s (%s)", x, x.Place)))
	}
	for _, text := range p.NotCarried {
		style.Item(out, "  not carried: ", text)
	}
	switch {
	case f.dry:
		c.note("%s: nothing was changed (-dry-run)", d.Name)
		return false
	case f.yes:
		return true
	}
	if c.typed() == nil {
		c.note("%s: nobody is here to be asked; agree with -yes", d.Name)
		return false
	}
	_, _ = fmt.Fprintf(c.Err, "put this on %s? Type its name to agree: ", d.Name)
	line, _ := bufio.NewReader(c.In).ReadString('\n')
	return strings.TrimSpace(line) == d.Name
}

// prove tries logins from new connections while a change runs.
func (c *Call) prove(ctx context.Context, f *sendFlags, l loaded, d *site.Device, t manage.Target) []send.Proof {
	var all []send.Proof
	began := time.Now()
	add := func(what string, ok bool, saw string) bool {
		all = append(all, send.Proof{What: what, OK: ok, Saw: saw})
		return ok
	}
	s, err := manage.Open(ctx, t)
	if err != nil {
		add(f.person+" gets in by netconf, from a new connection", false, err.Error())
		return all
	}
	s.End()
	add(f.person+" gets in by netconf, from a new connection", true, "in")
	wrongly := t
	wrongly.Auth = passwordAuth(site.NewSecret("this is not the password of anybody"))
	s, err = manage.Open(ctx, wrongly)
	if err == nil {
		s.End()
	}
	saw := "in"
	if err != nil {
		saw = "refused"
	}
	if !add("a wrong password is refused", errors.Is(err, manage.ErrRefused), saw) {
		return all
	}
	if places, ok := f.lab(c); ok && f.secret != nil && f.address == "" {
		c.proveInLab(ctx, f, l, d, places, began, add)
	}
	return all
}

// proveInLab tries a login that shows the level, and looks for the server's
// event: in a lab both can be seen.
func (c *Call) proveInLab(ctx context.Context, f *sendFlags, l loaded, d *site.Device, places state.Places, began time.Time, add func(string, bool, string) bool) {
	at, _ := places.Device(d.Name)
	i := slices.IndexFunc(at.Ways, func(w state.WayPlace) bool { return w.Access == site.SSH })
	way := d.Way(site.SSH)
	if i < 0 || way == nil {
		return
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(at.HostKey))
	if err != nil {
		return
	}
	r := l.reckoner()
	who, _ := r.Find(d, f.person)
	want := expected{}
	for _, k := range r.Cases(d, way, who) {
		if k.Holds(nil) {
			want = expectedOf(k)
		}
	}
	seen, err := login.Do(ctx, login.Attempt{Access: site.SSH, Address: at.Ways[i].Address, Person: f.person, Password: *f.secret, HostKey: key, ServerName: d.Name, Patience: time.Minute})
	saw := expected{outcome: seen.Outcome, level: seen.Level}
	if err != nil {
		seen.Outcome = login.NoAnswer
	}
	if !add(fmt.Sprintf("%s by ssh: %s", f.person, want), err == nil && want.fits(seen), saw.String()) || want.outcome != login.In {
		return
	}
	dir := f.state
	if dir == "" {
		dir = defaultState
	}
	folder, err := state.Open(dir)
	if err != nil {
		return
	}
	for deadline := time.Now().Add(5 * time.Second); ; {
		e, _, err := folder.Evidence()
		if err != nil {
			return
		}
		for _, v := range e.Events {
			if v.Device == d.Name && v.Person == f.person && v.Answer == "accept" && v.Time.After(began) {
				add("a server's event of the login", true, v.Server+" accepted it")
				return
			}
		}
		if time.Now().After(deadline) || ctx.Err() != nil {
			add("a server's event of the login", false, "no server noted it")
			return
		}
		timer := time.NewTimer(100 * time.Millisecond)
		select {
		case <-timer.C:
		case <-ctx.Done():
		}
		timer.Stop()
	}
}

// tonesOfSent are the colours of outcomes.
var tonesOfSent = map[string]show.Tone{send.Kept: show.Good, send.Same: show.Good, send.TakenBack: show.Bad, send.Stopped: show.Bad, send.Unsure: show.Bad}

func (c *Call) printSent(all []sent, named int) {
	style := c.style()
	var rows [][]string
	for _, r := range all {
		what := r.Why
		switch r.Outcome {
		case send.Kept:
			what = "the design is on it; what was there is in " + r.Kept
		case send.Same:
			what = "it holds the design already"
		}
		rows = append(rows, []string{r.Device, style.Paint(tonesOfSent[r.Outcome], r.Outcome), show.Safe(what)})
	}
	if len(rows) > 0 {
		c.say("\n")
		style.Table(c.Out, []string{"device", "came of it", ""}, rows, 2)
	}
	if left := named - len(all); left > 0 {
		c.say("%s not tried; run it again to go on\n", show.Count(left, "device"))
	}
}
