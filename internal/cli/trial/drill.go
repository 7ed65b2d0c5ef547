package trial

import (
	"cmp"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"mellowgate/internal/cli/call"
	foreseecmd "mellowgate/internal/cli/foresee"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/lab/drill"
	"mellowgate/internal/live/store/files"
)

func DrillCommand() *call.Command {
	return &call.Command{
		Name: "drill", Args: "[SITE]", Short: "break it on purpose, and compare every login with what was foreseen",
		Long: `Runs the site's servers on loopback addresses, and for each login that foresee tells apart a
stand-in of the device; puts the servers into the state of the case (up or silent, and with -faults closed, with
another key, not knowing the device, in error, alone and together); logs in with real packets as an ordinary
client; and holds outcome, level, who decided and the wait against what was foreseen. Where servers rest
afterwards, a second login is compared with foresee too.

Where people raise their level, an elevation is tried too. What grants ask of hours and addresses is taken as
met. Time is scaled down: waits, rests and patience are a tenth of the site's (-factor), and are shown as in the
site. With -behaves stand-ins of a platform behave otherwise, and what is foreseen is foreseen with it. Passwords
are made up for the drill, and nobody has a second factor. A login that does not match while others run
is tried again. Exit status 1 when any does not match.`,
		Examples: []call.Example{
			{Call: "mellowgate drill demo/as-reviewed", Shows: "every login in every outage"},
			{Call: "mellowgate drill -faults -device mv-avocet-rtr -access ssh demo/as-reviewed",
				Shows: "one device with every fault, alone and in pairs"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			var f drillFlags
			c.Flags.StringVar(&f.Device, "device", "", "only this `device`")
			c.Flags.StringVar(&f.Person, "person", "", "only this `name`: a person, a local account, unknown or anyone")
			c.Flags.StringVar(&f.Access, "access", "", "only this `access`: console, ssh, telnet, web, api or netconf")
			c.Flags.Var(&f.Labels, "label", "only devices with this `LABEL=VALUE`; may be given several times")
			c.Flags.BoolVar(&f.faults, "faults", false, "every state of a server, not only up and silent")
			c.Flags.IntVar(&f.factor, "factor", 10, "scale time down by `N`, from 1 to 20")
			c.Flags.StringVar(&f.network, "network", "",
				"other loopback `addresses` than the site's lab.network, such as 127.78.0.0/16")
			f.behaves = behaveFlag(c)
			return func() error { return runDrill(c, f) }
		},
	}
}

type drillFlags struct {
	foreseecmd.Narrowing
	faults  bool
	factor  int
	network string
	behaves *behaves
}

type storyJSON struct {
	Outcome     walk.Outcome         `json:"outcome"`
	Level       int                  `json:"level"`
	Raised      int                  `json:"raised_level"`
	By          string               `json:"by"`
	Reason      reason.Reason        `json:"reason"`
	WaitSeconds float64              `json:"wait_seconds"`
	Steps       []evidence.TraceStep `json:"steps"`
}

type DrillRunJSON struct {
	Device   string    `json:"device"`
	Access   string    `json:"access"`
	Person   string    `json:"person"`
	Fault    string    `json:"fault"` // the state of each server that is asked; "none" when all are up
	Again    bool      `json:"again"`
	Foreseen storyJSON `json:"foreseen"`
	Seen     storyJSON `json:"seen"`
	Match    bool      `json:"match"`
	Why      string    `json:"why"`
}

func runDrill(c *call.Call, f drillFlags) error {
	if f.factor < 1 || f.factor > 20 {
		return call.Usagef("-factor is from 1 to 20")
	}
	l, err := c.Load(true)
	if err != nil {
		return err
	}
	choose, err := f.choose(l)
	if err != nil {
		return err
	}
	config := lab.Config{SitePath: files.Absolute(l.Path), Network: l.Lab.Network}
	if f.network != "" {
		if config.Network, err = site.ParseLabNetwork(f.network); err != nil {
			return call.UsageError(err)
		}
	}
	if config.Behaves, err = f.behaves.of(l); err != nil {
		return err
	}
	done := progress(c, "logins tried")
	r, err := drill.Start(c.Context, drill.Options{Site: l.Site, Keys: l.Keys, Choose: choose, Faults: f.faults,
		Factor: f.factor, Lab: config, Done: done})
	done(0, 0)
	if err != nil {
		return call.TaskError(err)
	}
	if len(r.Runs) == 0 {
		return call.Usagef("no login of the site fits; foresee with the same flags shows what there is")
	}
	if *c.AsJSON {
		err = show.JSON(c.Out, drillJSON(r))
	} else {
		printDrill(c, r)
	}
	if err == nil && r.Matched < len(r.Runs) {
		return call.ErrVerdict
	}
	return err
}

// choose returns the filter of the flags.
func (f drillFlags) choose(l call.Loaded) (func(foresee.Case) bool, error) {
	devices, err := f.Devices(l)
	if err != nil {
		return nil, err
	}
	if f.Access != "" && !slices.Contains(site.Accesses(), f.Access) {
		return nil, call.Usagef("there is no way in %q%s\nthe ways in are %s", f.Access,
			nearest.Suggest(f.Access, site.Accesses()),
			strings.Join(site.Accesses(), ", "))
	}
	if f.Person != "" {
		r, known := l.Reckoner(), false
		for _, d := range devices {
			known = known || slices.ContainsFunc(r.Whos(d), func(w foresee.Who) bool { return w.Called(f.Person) })
		}
		if !known {
			return nil, call.Usagef("nobody is called %q here%s", f.Person,
				nearest.Suggest(f.Person, call.EveryName(l.Site)))
		}
	}
	chosen := map[*site.Device]bool{}
	for _, d := range devices {
		chosen[d] = true
	}
	return func(k foresee.Case) bool {
		return chosen[k.Device] && (f.Access == "" || k.Way.Access == f.Access) &&
			(f.Person == "" || k.Who.Called(f.Person))
	}, nil
}

// progress shows on a terminal how much of something is done; called with a
// total of 0 it ends.
func progress(c *call.Call, what string) func(done, total int) {
	f, ok := c.Err.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return func(int, int) {}
	}
	var mu sync.Mutex
	var bar *progressbar.ProgressBar
	return func(done, total int) {
		mu.Lock()
		defer mu.Unlock()
		switch {
		case total == 0 && bar != nil:
			_ = bar.Finish()
		case total == 0:
		case bar == nil:
			bar = progressbar.NewOptions(total, progressbar.OptionSetWriter(f), progressbar.OptionSetDescription(what),
				progressbar.OptionShowCount(),
				progressbar.OptionClearOnFinish(), progressbar.OptionThrottle(100*time.Millisecond))
			fallthrough
		default:
			_ = bar.Set(done)
		}
	}
}

// faultOf puts the state of the servers of a case into a few words.
func faultOf(k foresee.Case) string {
	var parts []string
	for _, w := range k.When {
		if w.State != foresee.Up {
			parts = append(parts, w.Server.Name+" "+string(w.State))
		}
	}
	if len(parts) == 0 {
		return "none"
	}
	return strings.Join(parts, ", ")
}

func drillJSON(r drill.Report) any {
	story := func(s drill.Story) storyJSON {
		j := storyJSON{Outcome: s.Outcome, Level: s.Level, Raised: s.Raised, By: s.By, Reason: s.Reason,
			WaitSeconds: call.SecondsOf(time.Duration(s.Wait * float64(time.Second))), Steps: []evidence.TraceStep{}}
		j.Steps = append(j.Steps, s.Steps...)
		return j
	}
	all := struct {
		Runs    []DrillRunJSON `json:"runs"`
		Matched int            `json:"matched"`
		Total   int            `json:"total"`
		Skipped map[string]int `json:"skipped"`
		Seconds float64        `json:"seconds"`
	}{[]DrillRunJSON{}, r.Matched, len(r.Runs), r.Skipped, call.SecondsOf(r.Took)}
	for _, run := range r.Runs {
		all.Runs = append(all.Runs, DrillRunJSON{Device: run.Case.Device.Name, Access: run.Case.Way.Name(),
			Person: run.Case.Who.Name, Fault: faultOf(run.Case), Again: run.Again,
			Foreseen: story(run.Foreseen), Seen: story(run.Seen), Match: run.Match, Why: run.Why})
	}
	return all
}

func printDrill(c *call.Call, r drill.Report) {
	style := c.Style()
	type line struct{ tried, matched, outages int }
	var order []string
	lines := map[string]*line{}
	retried := 0
	for _, run := range r.Runs {
		name := run.Case.Device.Name
		if lines[name] == nil {
			lines[name] = &line{}
			order = append(order, name)
		}
		lines[name].tried++
		if run.Match {
			lines[name].matched++
		}
		if faultOf(run.Case) != "none" {
			lines[name].outages++
		}
		if run.Retried {
			retried++
		}
	}
	var rows [][]string
	for _, name := range order {
		l := lines[name]
		tone := show.Good
		if l.matched < l.tried {
			tone = show.Bad
		}
		rows = append(rows, []string{name, fmt.Sprint(l.tried), fmt.Sprint(l.outages),
			style.Paint(tone, fmt.Sprint(l.matched))})
	}
	style.Table(c.Out, []string{"device", "logins tried", "in an outage", "as foreseen"}, rows)
	for _, run := range r.Runs {
		if !run.Match {
			printMismatch(c, style, run)
		}
	}
	var reasons []string
	for why, n := range r.Skipped {
		reasons = append(reasons, fmt.Sprintf("%d not tried: %s", n, why))
	}
	slices.Sort(reasons)
	c.Say("\n")
	for _, why := range reasons {
		style.Wrap(c.Out, "", why)
	}
	if retried > 0 {
		c.Say("%s tried again: this machine was busy, or they do not match\n", show.Count(retried, "login"))
	}
	text := fmt.Sprintf("%d of %d logins came out as foreseen, in %.0f s", r.Matched, len(r.Runs), r.Took.Seconds())
	if r.Matched == len(r.Runs) {
		c.Say("%s\n", style.Paint(show.Good, text))
	} else {
		c.Say("%s\n", style.Paint(show.Bad, text))
	}
}

// printMismatch shows both stories of a login side by side.
func printMismatch(c *call.Call, style show.Style, run drill.Run) {
	second := ""
	if run.Again {
		second = ", the second login"
	}
	c.Say("\n%s\n", style.Paint(show.Bad, fmt.Sprintf("%s by %s, %s, fault: %s%s", run.Case.Device.Name,
		run.Case.Way.Name(), run.Case.Who.Name, faultOf(run.Case), second)))
	c.Say("  %s\n", run.Why)
	var rows [][]string
	for i := range max(len(run.Foreseen.Steps), len(run.Seen.Steps)) {
		rows = append(rows, []string{stepText(run.Foreseen.Steps, i), stepText(run.Seen.Steps, i)})
	}
	rows = append(rows, []string{storyText(run.Foreseen), storyText(run.Seen)})
	style.Table(c.Out, []string{"foreseen", "seen"}, rows, 0, 1)
}

func stepText(steps []evidence.TraceStep, i int) string {
	if i >= len(steps) {
		return ""
	}
	s := steps[i]
	text := fmt.Sprintf("%s: %s %s", s.Purpose, s.Method, s.Result)
	if s.Reason != "" {
		text += " (" + string(s.Reason) + ")"
	}
	if s.By != "" && s.By != s.Method {
		text += " by " + s.By
	}
	return text
}

func storyText(s drill.Story) string {
	text := string(s.Outcome)
	if s.Level > 0 {
		text += fmt.Sprintf(" at level %d", s.Level)
	}
	if why := cmp.Or(string(s.Reason), s.Detail); why != "" {
		text += " (" + why + ")"
	}
	return text + fmt.Sprintf(" after %.1f s", s.Wait)
}
