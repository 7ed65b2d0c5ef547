package devices

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	sheetcmd "mellowgate/internal/cli/sheet"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/cli/texts"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/task/cliplan"
	"mellowgate/internal/task/compare"
	"mellowgate/internal/task/rollout"
)

// typedPorts are the ports at which a command line is reached.
var typedPorts = map[string]string{site.SSH: "22", site.Telnet: "23"}

// commandLine is the way in at whose command line a device is managed: the one that is named,
// or ssh for a device without NETCONF whose platform names a phrasebook, in a lab where it speaks;
// "" for one that is managed over NETCONF or RESTCONF.
func (f *managing) commandLine(c *call.Call, d *site.Device, over string) string {
	if over != "" || d.Managed() != nil || d.Platform.Phrasebook.Name == "" {
		return over
	}
	if places, inLab := f.lab(c); inLab && f.address == "" {
		if place, _ := places.Device(d.Name); !place.Speaks {
			return ""
		}
	}
	return site.SSH
}

// prepareLines makes a device ready to be changed at its command line.
func prepareLines(c *call.Call, f *sendFlags, l call.Loaded, d *site.Device, access string) (*job, error) {
	if !slices.Contains([]string{site.SSH, site.Telnet, site.Console}, access) {
		return nil, call.Usagef("-access is %q; ssh, telnet or console is wanted", access)
	}
	if d.Way(access) == nil {
		return nil, call.Usagef("%s has no way in by %s in the site: after the change nobody could confirm it", d.Name,
			access)
	}
	s := &job{d: d, l: l}
	var err error
	if s.foreseen, err = foreseenBy(l, d, d.Way(access), f.person, f.teams); err != nil {
		return nil, err
	}
	design, err := sheetcmd.LinesOf(c, &texts.Reading{Book: f.book, Version: f.bookVersion}, d, l)
	if err != nil {
		return nil, err
	}
	if design.Book.Talk() == nil {
		return nil, call.Usagef("the phrasebook of %s does not say how its make is talked to: it wants talk", d.Name)
	}
	attempt, err := attemptAt(c, f.managing, d, access)
	if err != nil {
		return nil, err
	}
	s.lines = &cliplan.Session{Design: design, Window: max(windowOf(s.foreseen.worst), 2*time.Minute),
		WithoutWayBack: f.withoutWayBack, Person: f.person, Access: access,
		Say: func(step string) { c.Note("%s: %s", d.Name, step) },
		Open: func(ctx context.Context) (*login.Line, error) {
			return login.Open(ctx, attempt, design.Book.Talk(), d.Name)
		},
		Refused: func(ctx context.Context) (bool, error) {
			wrongly := attempt
			wrongly.Password, wrongly.Signers = site.NewSecret("this is not the password of anybody"), nil
			line, err := login.Open(ctx, wrongly, design.Book.Talk(), d.Name)
			if errors.Is(err, login.ErrRefused) {
				return true, nil
			}
			if err == nil {
				line.Close()
			}
			return false, err
		}}
	return s, nil
}

// attemptAt returns how the person logs in at a command line: in a running lab where the
// device is there, else at its own address.
func attemptAt(c *call.Call, f *managing, d *site.Device, access string) (login.Attempt, error) {
	a := login.Attempt{Access: access, Person: f.person, Address: f.address, Patience: f.timeout}
	if places, ok := f.lab(c); ok && f.address == "" {
		way, err := call.LabWayOf(places, d.Name, access)
		if err != nil {
			return a, err
		}
		a.Address, a.HostKey = way.Address, way.HostKey
	} else {
		a.Real = true
		if a.Address == "" {
			if access == site.Console {
				return a, call.Usagef("where is the console of %s? Give the console server and the port of its "+
					"line: -address", d.Name)
			}
			var err error
			if a.Address, err = call.OwnAddress(d, typedPorts[access]); err != nil {
				return a, err
			}
		}
		if access == site.SSH {
			var err error
			if a.HostKey, err = c.HostKey(a.Address, f.knownHosts, f.acceptKey,
				login.Through(nil, f.timeout)); err != nil {
				return a, err
			}
		}
	}
	if f.agent || f.sshKey != "" {
		if access != site.SSH {
			return a, call.Usagef("-ssh-key and -agent are for ssh; by %s a password proves who logs in", access)
		}
		signers, err := call.SignersOf(f.sshKey, f.agent)
		a.Signers = signers
		return a, err
	}
	if _, err := f.auth(); err != nil { // asks for the password, once
		return a, err
	}
	a.Password = *f.secret
	return a, nil
}

// linesShown returns what reads the configuration of a device at its command line.
func linesShown(c *call.Call, f *managing, r *texts.Reading, l call.Loaded, d *site.Device, access string) (
	func(context.Context) (compare.Text, error), error) {
	book, err := r.BookOf(l, d.Name)
	if err != nil {
		return nil, err
	}
	talk := book.Talk()
	if talk == nil || talk.Show == "" {
		return nil, call.Usagef("the phrasebook of %s does not say how its make is talked to: it wants talk", d.Name)
	}
	attempt, err := attemptAt(c, f, d, access)
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context) (compare.Text, error) {
		line, err := login.Open(ctx, attempt, talk, d.Name)
		if err != nil {
			return compare.Text{}, err
		}
		defer line.Close()
		says, err := line.Do(talk.Show, talk.Show)
		if err != nil {
			return compare.Text{}, err
		}
		text, err := book.Read(strings.NewReader(strings.Join(append(says, ""), "\n")), nil)
		return compare.Text{File: d.Name + " by " + access, Text: text, Book: book}, err
	}, nil
}

// sendLines types the design of one device, and notes what came of it.
func sendLines(c *call.Call, f *sendFlags, s *job, book *rollout.Book) (result, error) {
	r := result{Time: time.Now().UTC(), Device: s.d.Name, Person: f.person, Differences: []string{},
		NotCarried: []string{},
		Causes:     []sentCause{}}
	s.lines.Keep = func(text []byte) (string, error) { return book.Keep(s.d.Name, ".txt", text) }
	if book != nil {
		book.Over(s.d.Name, s.lines.Access)
	}
	s.lines.Agree = func(p *cliplan.Plan) bool {
		for _, step := range p.Steps {
			shown, _ := s.lines.Book.Text(step.Lines, false)
			r.Differences = append(r.Differences, shown...)
		}
		r.NotCarried = append(r.NotCarried, p.Left...)
		f.mu.Lock()
		defer f.mu.Unlock()
		return agreeLines(c, f, s, p)
	}
	if s.lab != nil && !f.mayBeDown {
		s.lines.Ready = func(ctx context.Context) error { return s.lab.answering(ctx, f) }
	}
	began := time.Now()
	var err error
	r.Report, err = cliplan.Send(c.Context, *s.lines)
	if f.dry && r.Outcome == rollout.Declined {
		r.Why = "only shown (-dry-run)"
	}
	if failed := r.FailedLogin(); failed != nil {
		r.Causes = causesAfter(c, f, s, *failed, began)
	}
	noteSent(c, book, r)
	if err != nil {
		return r, call.TaskError(fmt.Errorf("%s: %w", s.d.Name, err))
	}
	return r, nil
}

// agreeLines shows the lines that would be typed, and asks.
func agreeLines(c *call.Call, f *sendFlags, s *job, p *cliplan.Plan) bool {
	var out bytes.Buffer
	style := c.Style()
	_, _ = fmt.Fprintf(&out, "%s: %s\n", s.d.Name, show.Count(len(p.Steps), "step"))
	for _, step := range p.Steps {
		typed, _ := s.lines.Book.Text(step.Lines, false)
		for _, line := range typed {
			_, _ = fmt.Fprintln(&out, "    "+show.Safe(line))
		}
	}
	for _, text := range p.Left {
		style.Item(&out, "  not carried: ", show.Safe(text))
	}
	back := "none: what is typed is taken back by lines, from the session that stays open"
	if w := s.lines.Book.Talk().WayBack; w != nil {
		back = w.SetFor(s.lines.Window) + ": the device goes back by itself"
	}
	style.Item(&out, "  way back:    ", back)
	s.foreseen.say(style, &out, f.person, s.lines.Access)
	to := c.Out
	if *c.AsJSON {
		to = c.Err
	}
	_, _ = to.Write(out.Bytes())
	return askAgreement(c, f, s.d.Name)
}

// foreseenBy is foreseenIn for a way in.
func foreseenBy(l call.Loaded, d *site.Device, way *site.Way, person, teams string) (foreseen, error) {
	if person == "" {
		return foreseen{}, call.Usagef("who logs in? Name somebody with -person")
	}
	r := l.Reckoner()
	who, known, err := l.Somebody(r, d, person, teams)
	if err != nil {
		return foreseen{}, err
	}
	if !known {
		return foreseen{}, call.Usagef("after the change nobody could confirm it: %s", l.Nobody(person))
	}
	f := foreseen{who: who}
	in := false
	for _, k := range r.Cases(d, way, who) {
		f.worst = max(f.worst, k.Wait)
		if k.Holds(nil) {
			in, f.person = k.Outcome == walk.OutcomeIn, k
		}
	}
	if !in {
		return f, call.Usagef("foresee says that %s will not get into %s by %s after the change: nobody could "+
			"confirm it",
			person, d.Name, way.Access)
	}
	f.silent = whenSilent(r, d)
	return f, nil
}
