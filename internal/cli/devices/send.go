package devices

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/check"
	sheetcmd "mellowgate/internal/cli/sheet"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/cli/why"
	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/device"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/rollout"
)

func SendCommand() *call.Command {
	return &call.Command{
		Name: "send", Args: "DEVICE... [SITE]", Short: "put the design on devices, with proof, or have it taken back",
		MaxArgs: call.ManyDevices,
		Long: `Puts the site's design on devices over NETCONF so that nobody is locked out. For each device:

1.  check finds no error for it, and foresee says that whoever logs in here will get in afterwards too. In a lab
    every server of the design must answer with its key, at its ports.
2.  What is on it is read. The difference is shown and asked about; -yes agrees, -dry-run only shows.
3.  What was on it is kept in the folder -keep, with a record of what is done (it holds secrets: only you can
    read it; mellowgate ledger -state FOLDER reads the record).
4.  Local accounts that are new or changed go first, alone. Where the device lets a local account in now,
    -fallback-password-file proves it by a login.
5.  The rest is made in the candidate, checked by the device, and committed for a time only, longer than the
    worst wait.
6.  From new connections: the person of -person gets in and may change the configuration; a wrong password is refused;
    where lab or serve runs the servers here, their event is seen; in a lab, the level by ssh. The old session
    still works.
7.  Only then it is confirmed. When a proof fails, or at Ctrl-C, it is taken back at once, a new connection
    proves that the device is as it was, and why names the cause. When this program dies, the device takes the
    change back by itself.

Where nobody gets in both before and after the change, two do: -now NAME makes it (the local account, before the first
central login, or while a wrong key keeps servers silent), and -person proves it. Each has a password of its own.

A device must offer candidate and confirmed commit (RFC 6241): to another nothing is sent, unless -without-way-back
says that this program may put back what was there. So it is with RESTCONF (RFC 8040), by which a device is managed
that has no way in by netconf and whose platform says restconf: true. What its models cannot carry is said before.
Accounts on the device that the site does not have stay there, and compare goes on naming them. What found says of a
device is not sent.

A device without NETCONF whose platform names a phrasebook is changed at its command line, in the lines of its make, by
ssh, or by -access: telnet, or the console at a console server. The same holds there: what is on it is read and kept,
only the lines that differ are typed, in an order in which nobody is locked out; the make's timed way back is set
before and called off after the proofs from new connections; and only then it is saved. A line that is refused, or a
proof that fails, has what was typed taken back by lines. A make without a timed way back wants -without-way-back.

Of several devices the first, or -canary, goes alone. The others follow, -at-once at a time, never two with the
same label pair. After the first that fails none is begun; -resume goes on with those that are left. Try it in a
lab first.

Exit status 1 when a change was taken back or nobody agreed, 3 when nothing could be sent.`,
		Examples: []call.Example{
			{Call: "mellowgate send -dry-run -person ines.marsh -password-file " +
				"demo/as-reviewed/passwords/ines.marsh north-sw-1 demo/as-reviewed",
				Shows: "what would be changed, on a device of the lab that runs here"},
			{Call: "mellowgate send -now harbourmaster -person ines.marsh switch-1 my-site",
				Shows: "the first central login: the local account makes the change, the person proves it"},
			{Call: "mellowgate send -person ines.marsh -agent switch-1 my-site",
				Shows: "a real device, asked about before"},
			{Call: "mellowgate send -yes -person ines.marsh -agent -canary switch-9 -at-once 4 switch-1 switch-2 " +
				"switch-9 my-site", Shows: "switch-9 alone first, then the others"},
			{Call: "mellowgate send -yes -person ines.marsh -agent -resume my-site",
				Shows: "go on where the last run stopped"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			f := &sendFlags{managing: managingFlags(c)}
			c.Flags.BoolVar(&f.yes, "yes", false, "agree to the change; for scripts")
			c.Flags.BoolVar(&f.dry, "dry-run", false, "show what would be changed, and change nothing")
			c.Flags.BoolVar(&f.data, "data", false, "show also what is sent, as data, without its secrets")
			c.Flags.StringVar(&f.keep, "keep", "mellowgate-sent",
				"the `folder` for what was on the devices, and for the record of what was sent")
			c.Flags.StringVar(&f.canary, "canary", "", "the `device` that goes first, alone (default the first one "+
				"named)")
			c.Flags.IntVar(&f.atOnce, "at-once", 1,
				"how many devices, `N`, after the first one are worked on at the same time, up to 50")
			c.Flags.BoolVar(&f.resume, "resume", false,
				"go on with the last run of the folder -keep: the devices that it named and that do not hold the "+
					"design yet")
			c.Flags.StringVar(&f.teams, "teams", "",
				"the `teams` that a directory gives the person, where the site has nobody of that name: netops,watch")
			c.Flags.StringVar(&f.now, "now", "",
				"who gets in now and makes the change, a `name`, where -person gets in only after it; -person then "+
					"proves it")
			f.nowPassword, _ = c.PasswordOf("now-", "the password of -now")
			c.Flags.StringVar(&f.fallback, "fallback", "",
				"the local `account` to prove by a login (default the first one of level 15)")
			f.fallbackPassword, f.fallbackGiven = c.PasswordOf("fallback-", "the local account's password")
			c.Flags.BoolVar(&f.withoutWayBack, "without-way-back", false,
				"also change devices that cannot take a change back by themselves")
			c.Flags.StringVar(&f.over, "access", "",
				"change the device at its command line, in the lines of its make, by this `way`: ssh, telnet or "+
					"console (default ssh, for a device without netconf whose platform names a phrasebook)")
			c.Flags.StringVar(&f.book, "book", "", "with -access: the phrasebook of the make, a `file`; by default "+
				"that of the device's platform")
			c.Flags.StringVar(&f.bookVersion, "version", "",
				"with -access: the `version` of what runs on the device, where it does not say it: 6.2")
			c.Flags.BoolVar(&f.mayBeDown, "servers-may-be-down", false,
				"in a lab: send though a server does not answer")
			return func() error { return send(c, f) }
		},
	}
}

type sendFlags struct {
	*managing
	yes, dry, resume, data, withoutWayBack, mayBeDown bool
	keep, canary, fallback, teams, now                string
	over, book, bookVersion                           string
	atOnce                                            int
	fallbackPassword, nowPassword                     func(string) (site.Secret, error)
	nowSecret                                         *site.Secret // asked once
	fallbackGiven                                     func() bool
	fallbackSecret                                    *site.Secret // asked once
	ran                                               *call.Loaded // the site that the lab runs, once it is read
	mu                                                sync.Mutex   // one question, or one plan, at a time
}

// mostAtOnce bounds the devices that are worked on at the same time.
const mostAtOnce = 50

// result is the result of one device.
type result struct {
	Time        time.Time   `json:"time"`
	Device      string      `json:"device"`
	Person      string      `json:"person"`
	Differences []string    `json:"differences"`
	Data        string      `json:"data"`
	NotCarried  []string    `json:"not_carried"`
	Causes      []sentCause `json:"causes"` // why a login did not go as foreseen, the most likely first
	rollout.Report
}

func send(c *call.Call, f *sendFlags) error {
	devices, l, err := devicesToSend(c, f)
	if err != nil {
		return err
	}
	canary, err := f.order(l, devices)
	if err != nil {
		return err
	}
	found := check.Check(c, l, nil, true)
	for _, d := range devices {
		if errors := sheetcmd.ErrorsFor(found, d); len(errors) > 0 {
			return call.Usagef("check finds %s for %s (%s): repair that first; nothing was sent",
				show.Count(len(errors), "error"),
				d.Name, strings.Join(errors, ", "))
		}
	}
	jobs := map[*site.Device]*job{}
	for _, d := range devices { // what is asked for is asked for before anything runs
		if jobs[d], err = prepareSending(c, f, l, d); err != nil {
			return err
		}
	}
	var book *rollout.Book
	if !f.dry {
		if book, err = rollout.OpenBook(f.keep, f.person, time.Now()); err != nil {
			return call.TaskError(fmt.Errorf("the record of what is sent cannot be kept: %w", err))
		}
		defer func() { _ = book.Close() }()
		if err := book.Name(devices); err != nil {
			return call.TaskError(fmt.Errorf("the record of what is sent cannot be kept: %w", err))
		}
	}
	results := []result{}
	var failed error
	left := rollout.Each(c.Context, devices, rollout.Order{Canary: canary, AtOnce: f.atOnce},
		func(d *site.Device) bool {
			r, err := sendOne(c, f, jobs[d], book)
			f.mu.Lock()
			defer f.mu.Unlock()
			results = append(results, r)
			if len(devices) > 1 {
				c.Note("%d of %d: %s: %s", len(results), len(devices), d.Name, r.Outcome)
			}
			ok := err == nil && (r.Outcome == rollout.Kept || r.Outcome == rollout.Same || f.dry &&
				r.Outcome == rollout.Declined)
			if !ok && failed == nil {
				if failed = call.ErrVerdict; err != nil {
					failed = err
				}
			}
			return ok
		})
	if failed == nil && c.Context.Err() != nil {
		failed = c.Context.Err()
	}
	if *c.AsJSON {
		if err := show.JSON(c.Out, struct {
			Devices []result `json:"devices"`
			Left    []string `json:"left"`
		}{results, deviceNames(left)}); err != nil {
			return err
		}
		if failed != nil && !errors.Is(failed, call.ErrVerdict) && c.Context.Err() == nil {
			failed = call.ErrCannot
		}
		return failed
	}
	printSent(c, results, left)
	if err := staleHolds(c, l, results); err != nil {
		return err
	}
	if failed != nil && !errors.Is(failed, call.ErrVerdict) && c.Context.Err() == nil {
		return call.ErrCannot // the table says why
	}
	return failed
}

func deviceNames(devices []*site.Device) []string {
	names := []string{}
	for _, d := range devices {
		names = append(names, d.Name)
	}
	return names
}

func sendOne(c *call.Call, f *sendFlags, s *job, book *rollout.Book) (result, error) {
	if s.lines != nil {
		return sendLines(c, f, s, book)
	}
	d := s.d
	r := result{Time: time.Now().UTC(), Device: d.Name, Person: f.person, Differences: []string{},
		NotCarried: []string{},
		Causes:     []sentCause{}}
	cannotSend := func(err error) (result, error) {
		r.Report = rollout.Report{Outcome: rollout.Stopped, Why: err.Error(), Proofs: []rollout.Proof{}}
		noteSent(c, book, r)
		return r, call.TaskError(fmt.Errorf("%s: %w", d.Name, err))
	}
	if s.lab != nil && !f.mayBeDown {
		switch err := s.lab.answering(c.Context, f); {
		case err != nil && f.dry:
			c.Note("%s: it would not be sent: %v", d.Name, err)
		case err != nil:
			return cannotSend(err)
		}
	}
	began := time.Now()
	config := rollout.Config{Site: s.l.Site, Device: d, Keys: s.l.Keys, Say: s.prover.Say, Access: s.t.Access(),
		Window: windowOf(s.foreseen.worst), WithoutWayBack: f.withoutWayBack,
		Open: func(ctx context.Context) (rollout.Device, error) { return s.open(ctx) },
		Keep: func(h device.Held) (string, error) { return book.Keep(d.Name, ".xml", h.Data) },
		Agree: func(p rollout.Plan) bool {
			for _, x := range p.Differences {
				r.Differences = append(r.Differences, fmt.Sprintf("%s (%s)", x, x.Place))
			}
			r.NotCarried, r.Data = append(r.NotCarried, p.NotCarried...), p.Data
			f.mu.Lock()
			defer f.mu.Unlock()
			return agree(c, f, s, p)
		},
		Prove: s.prover.Prove, ProveFallback: s.prover.ProveFallback,
	}
	var err error
	r.Report, err = rollout.Run(c.Context, config)
	if f.dry && r.Outcome == rollout.Declined {
		r.Why = "only shown (-dry-run)"
	}
	if failed := r.FailedLogin(); failed != nil {
		r.Causes = causesAfter(c, f, s, *failed, began)
	}
	noteSent(c, book, r)
	if err != nil {
		if errors.Is(err, device.ErrRefused) && s.prover.Changer == nil {
			err = fmt.Errorf("%w, before anything was changed; where somebody else gets in now, such as the local "+
				"account, name who that is: -now NAME", err)
			if r.Outcome == rollout.Stopped {
				r.Why = err.Error()
			}
		}
		return r, call.TaskError(fmt.Errorf("%s: %w", d.Name, err))
	}
	return r, nil
}

func noteSent(c *call.Call, book *rollout.Book, r result) {
	if book == nil {
		return
	}
	if err := book.Note(r.Device, r.Report, r); err != nil {
		c.Note("the record of this could not be written: %v", err)
	}
}

// agree shows what would be changed, and asks.
func agree(c *call.Call, f *sendFlags, s *job, p rollout.Plan) bool {
	printPlan(c, f, s, p)
	return askAgreement(c, f, s.d.Name)
}

// askAgreement asks for what was shown.
func askAgreement(c *call.Call, f *sendFlags, device string) bool {
	switch {
	case f.dry:
		c.Note("%s: nothing was changed (-dry-run)", device)
		return false
	case f.yes:
		return true
	}
	if c.AskAtTerminal() == nil {
		c.Note("%s: nobody is here to be asked; agree with -yes", device)
		return false
	}
	_, _ = fmt.Fprintf(c.Err, "put this on %s? Type its name to agree: ", device)
	line, _ := bufio.NewReader(c.In).ReadString('\n')
	return strings.TrimSpace(line) == device
}

// causesAfter asks why a login of a proof did not go as foreseen.
func causesAfter(c *call.Call, f *sendFlags, s *job, p rollout.Proof, began time.Time) []sentCause {
	w := &why.WhyFlags{State: f.state}
	w.Symptom.Person = p.Person
	w.Symptom.Device = s.d.Name
	w.Symptom.Access = p.Access
	if p.Person == "" {
		w.Symptom.Person = f.person
	}
	quiet := *c
	if s.lab != nil {
		quiet.Args = nil
	}
	k, err := why.Evidence(&quiet, w)
	if err != nil {
		return []sentCause{}
	}
	sentCauses := causesOf(k, w.Symptom, began)
	for i := range sentCauses {
		if text := s.keyOfDesign(sentCauses[i]); text != "" {
			sentCauses[i].Repair = text
		}
	}
	return sentCauses
}

// keyOfDesign is the repair where it is the design that has another key than the server:
// to put the design's key on the device once more would mend nothing.
func (s *job) keyOfDesign(c sentCause) string {
	if c.Cause != diagnose.KeyDiffers || s.lab == nil {
		return ""
	}
	design, runs := s.l.Server(c.server), s.lab.ran.Server(c.server)
	if design == nil || runs == nil || s.d.Shares(design) == nil || runs.Key == nil {
		return ""
	}
	sent := s.d.Shares(design)
	if s.l.Keys[sent.Name].Equal(s.lab.ran.Keys[runs.Key.Name]) {
		return ""
	}
	return fmt.Sprintf("the value of the key %s in the site that was sent is not the one that %s has: put the "+
		"right value there (%s), then send again", sent.Name, c.server, keptIn(sent))
}

// keptIn says where the value of a key is kept.
func keptIn(k *site.Key) string {
	switch k.Source {
	case site.KeyFile:
		return "the file " + k.From + " beside the site"
	case site.KeyEnv:
		return "the environment variable " + k.From
	case site.KeySealed:
		return "mellowgate keys seal " + k.Name
	}
	return "the site file"
}

// stateOf opens the state folder of a call.
func (f *managing) stateOf() (*state.Folder, error) {
	dir := f.state
	if dir == "" {
		dir = call.DefaultState
	}
	return state.Open(dir)
}
