// Package demo has the command demo, which shows the whole job on the demo data.
package demo

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"mellowgate/demo"
	"mellowgate/internal/cli/begin"
	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/check"
	foreseecmd "mellowgate/internal/cli/foresee"
	"mellowgate/internal/cli/service"
	"mellowgate/internal/cli/show"
	trialcmd "mellowgate/internal/cli/trial"
	"mellowgate/internal/core/diagnose"
	"mellowgate/internal/core/findings"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/inventory"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/lab"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/state"
	"mellowgate/internal/task/textread"
)

func Command() *call.Command {
	return &call.Command{
		Name: "demo", NoArgs: true, Short: "the whole story on the demo data, in seconds",
		Long: `Checks the first draft of a made-up ferry company's site, and its reviewed state; foresees an
outage; runs the site's servers and devices on loopback addresses; logs in as several people; loses the servers;
breaks a key; names the causes; and shows what was recorded. Everything is real: the packets, the logins, the
records. It needs no privilege and leaves nothing behind.`,
		Examples: []call.Example{
			{Call: "mellowgate demo", Shows: "the story, and then the end"},
			{Call: "mellowgate demo -keep", Shows: "the same, and the lab stays up to log in to, until Ctrl-C"},
			{Call: "mellowgate demo -write my-demo",
				Shows: "the two states of the demo site, to read and to change, and saved texts"},
		},
		Prepare: func(c *call.Call) func() error {
			c.Plain = c.Flags.Bool("plain", false, "no colour")
			keep := c.Flags.Bool("keep", false, "leave the lab up at the end, until Ctrl-C")
			write := c.Flags.String("write", "", "only write the demo site into this `folder`")
			network := c.Flags.String("network", "127.79.0.0/16", "the loopback `addresses` of the lab")
			return func() error {
				if *write != "" {
					return writeDemo(c, *write)
				}
				return runDemo(c, *network, *keep)
			}
		},
	}
}

func writeDemo(c *call.Call, dir string) error {
	if err := demo.Write(dir); err != nil {
		return call.UsageError(err)
	}
	c.Say(`%[1]s/as-drafted and %[1]s/as-reviewed are the two states of the demo site.
Try: mellowgate check %[1]s/as-drafted
     mellowgate lab %[1]s/as-reviewed
The passwords are in %[1]s/as-reviewed/passwords; they open nothing else.
%[1]s/saved is what ten devices say of themselves, and %[1]s/phrasebooks reads it.
Try: mellowgate phrasebook try %[1]s/phrasebooks/quay-switch.yaml %[1]s/saved/south-sw-1.txt
     mellowgate new -from %[1]s/saved -book %[1]s/phrasebooks/quay-switch.yaml \
       -book %[1]s/phrasebooks/hull-router.yaml estate
`, dir)
	return nil
}

// story is the demo as it goes.
type story struct {
	*call.Call
	style      show.Style
	dir        string
	site       call.Loaded
	lab        *lab.Lab
	state      *state.Folder
	step       int
	mismatches int
}

func runDemo(c *call.Call, network string, keep bool) error {
	if _, err := site.ParseLabNetwork(network); err != nil {
		return call.UsageError(err)
	}
	dir, err := os.MkdirTemp("", "mellowgate-demo-")
	if err != nil {
		return call.TaskError(err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	if err := demo.Write(dir); err != nil {
		return call.TaskError(err)
	}
	s := &story{Call: c, style: c.Style(), dir: dir}
	if s.site, err = c.LoadFrom(filepath.Join(dir, demo.AsReviewed, "site.yaml"), true); err != nil {
		return err
	}
	began := time.Now()
	for _, part := range []func() error{s.estate, s.draft, s.reviewed, s.outage,
		func() error { return s.start(network) }, s.people, s.wrongPassword, s.lostLink, s.wrongKey, s.records,
		s.typed} {
		if err := part(); err != nil {
			s.end()
			return err
		}
		if c.Context.Err() != nil {
			s.end()
			return nil
		}
	}
	defer s.end()
	s.closing(time.Since(began), keep)
	if keep {
		c.EndAfter(0)
	}
	if s.mismatches > 0 {
		return call.ErrVerdict
	}
	return nil
}

func (s *story) end() {
	if s.lab != nil {
		s.lab.Shutdown()
		_ = s.state.Close()
	}
}

// title begins a step: what it does, and why that matters.
func (s *story) title(what, why string) {
	s.step++
	s.Say("\n%s\n", s.style.Paint(show.Strong, fmt.Sprintf("%d. %s", s.step, what)))
	s.style.Wrap(s.Out, "   ", why)
	s.Say("\n")
}

// estate makes a site of what the devices have saved, and checks it.
func (s *story) estate() error {
	s.Say("Saltmarsh Ferries: a head office, two piers, and three ships that lose the link at sea.\n")
	s.title("What do the devices say of themselves?",
		"Nobody has written the site down. new -from makes one of the texts that the devices have saved, by a "+
			"phrasebook for each of their two makes, and check says what is wrong with what they hold.")
	books, err := begin.OpenBooks([]string{filepath.Join(s.dir, "phrasebooks", "quay-switch.yaml"),
		filepath.Join(s.dir, "phrasebooks", "hull-router.yaml")})
	if err != nil {
		return err
	}
	taken, err := textread.Estate(s.Context, filepath.Join(s.dir, "saved"), books)
	if err != nil {
		return call.TaskError(err)
	}
	unread := 0
	var devices []*inventory.Device
	for _, t := range taken {
		devices = append(devices, t.Device)
		unread += len(t.Unread)
	}
	made := inventory.Make(devices, inventory.Options{Name: "Saltmarsh Ferries, as saved", Hash: secrets.Known})
	of, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(made.Site)})
	if err != nil {
		return call.TaskError(err)
	}
	s.Say("   %s of %s become a site with %s, %s and %s; one text is cut off, and left out.\n"+
		"   Of the lines about logins %d were not understood: a slip in each.\n\n",
		show.Count(len(taken), "saved text"),
		show.Count(len(books), "make"), show.Count(len(of.Devices), "device"), show.Count(len(of.Servers), "server"),
		show.Count(len(of.Lists), "list"), unread)
	s.worst(findings.Check(foresee.Forecaster{Site: of, Keys: made.Keys, Now: time.Now()}, findings.Facts{}))
	return nil
}

func (s *story) draft() error {
	s.title("Is the first draft safe?",
		"check works out every login in every outage, before a device is touched. This is the worst of what it "+
			"finds; mellowgate check prints all of it, with the repairs.")
	l, err := s.LoadFrom(filepath.Join(s.dir, demo.AsDrafted, "site.yaml"), true)
	if err != nil {
		return err
	}
	s.worst(check.Check(s.Call, l, nil, false))
	return nil
}

// worst prints an error of each platform that was found, and how much was.
func (s *story) worst(r findings.Report) {
	var rows [][]string
	seen := map[string]bool{}
	for _, f := range r.Findings {
		if f.Severity != findings.Error || seen[f.Code] {
			continue
		}
		seen[f.Code] = true
		device := ""
		if len(f.Devices) > 0 {
			device = f.Devices[0].Name
		}
		rows = append(rows, []string{s.style.Paint(show.Bad, f.Code), device, f.Text})
	}
	s.style.Table(s.Out, []string{"finding", "for example", "what would happen"}, rows, 2)
	s.Say("\n   %s\n", check.ReportSummary(r))
}

func (s *story) reviewed() error {
	s.title("Is the reviewed site safe?", "The same check on the repaired file: every login in every outage again.")
	s.style.Wrap(s.Out, "   ", s.style.Paint(show.Good, check.ReportSummary(check.Check(s.Call, s.site, nil, false))))
	return nil
}

const (
	ship   = "mv-avocet-rtr"
	pier   = "north-sw-1"
	broken = "south-sw-1"
)

func (s *story) outage() error {
	s.title("What will happen when a ship loses its link?",
		"foresee says who gets in, at what level, by whom, and after how long. The steps below will show the same "+
			"with real packets.")
	var shown foresee.Shape
	for _, person := range []string{"ines.marsh", "master", "anyone"} {
		shapes, err := foreseecmd.Narrowing{Device: ship, Access: site.SSH, Person: person}.Shapes(
			s.site, s.site.Reckoner())
		if err != nil {
			return err
		}
		for sh := range shapes { // one device, one shape
			shown.Devices, shown.Cases = sh.Devices, append(shown.Cases, sh.Cases...)
		}
	}
	foreseecmd.PrintCases(s.Out, s.style, []foresee.Shape{shown})
	return nil
}

func (s *story) start(network string) error {
	s.title("Start the lab", "The site's servers, and every device as a stand-in, on loopback addresses of this "+
		"machine.")
	spoken, err := s.spoken()
	if err != nil {
		return call.TaskError(err)
	}
	if s.lab, s.state, err = trialcmd.StartLab(s.site, filepath.Join(s.dir, "state"), network,
		lab.Config{Speech: trialcmd.SpeechOf(spoken)}); err != nil {
		return err
	}
	s.Say("   %s and %s are up.\n", show.Count(len(s.lab.Places.Servers), "server"),
		show.Count(len(s.lab.Places.Devices), "device"))
	return nil
}

// login makes a real login and compares it with what was foreseen for the
// given silent servers. An empty password is the person's own.
func (s *story) login(device, person, password string, silent []string, commands ...string) error {
	way, err := call.LabWayOf(s.lab.Places, device, site.SSH)
	if err != nil {
		return err
	}
	a := login.Attempt{Access: site.SSH, Address: way.Address, Person: person, HostKey: way.HostKey,
		Commands: commands, Password: site.NewSecret(password)}
	if password == "" {
		if a.Password, err = secrets.SecretFile(filepath.Join(
			s.dir, demo.AsReviewed, "passwords", person)); err != nil {
			return err
		}
	}
	seen, err := login.Do(s.Context, a)
	if err != nil {
		return err
	}
	outcome := string(seen.Outcome)
	if seen.Outcome == walk.OutcomeIn {
		outcome = fmt.Sprintf("in at level %d", seen.Level)
	}
	s.Say("   %-14s at %-14s %s after %.1f s%s\n", person, device,
		s.style.Paint(show.OutcomeTone(seen.Outcome), fmt.Sprintf("%-14s", outcome)),
		seen.Took.Seconds(), s.foreseen(device, person, password, silent, seen))
	for _, command := range seen.Commands {
		s.Say("      %s  %s\n", s.style.Paint(show.OutcomeTone(command.Result), fmt.Sprintf("%-7s", command.Result)),
			command.Command)
	}
	return nil
}

// foreseen compares what was seen with foresee.
func (s *story) foreseen(device, person, password string, silent []string, seen login.Seen) string {
	r := s.site.Reckoner()
	d := s.site.Device(device)
	who, _ := r.Find(d, person)
	if password != "" {
		who, _ = r.Find(d, "anyone")
	}
	down, err := s.site.ServersNamed(strings.Join(silent, ","))
	if err != nil {
		return ""
	}
	for _, c := range r.Cases(d, d.Way(site.SSH), who) {
		if !c.Holds(down) {
			continue
		}
		want := trialcmd.ExpectedOf(c)
		if want.Fits(seen) {
			return s.style.Paint(show.Good, "   as foreseen")
		}
		s.mismatches++
		return s.style.Paint(show.Bad, "   foreseen was: "+want.String())
	}
	return ""
}

func (s *story) people() error {
	s.title("Three people at a pier switch",
		"Real SSH, then TACACS+ from the switch to the server. Each command is asked about, and recorded. The "+
			"looks-only person is refused one command by a rule. Odd, who left the company, does not get in.")
	if err := s.login(pier, "ines.marsh", "", nil, "look session", "set port 3 off"); err != nil {
		return err
	}
	if err := s.login(pier, "odd.larsen", "", nil); err != nil {
		return err
	}
	if err := s.login(pier, "tobin.reed", "", nil, "look settings", "look secrets"); err != nil {
		return err
	}
	return s.why(diagnose.Symptom{Device: pier, Person: "tobin.reed"}, 2)
}

func (s *story) wrongPassword() error {
	s.title("A wrong password", "The server says no, and a no is final: the local account is not asked.")
	if err := s.login(pier, "ines.marsh", "not-her-password", nil); err != nil {
		return err
	}
	return s.why(diagnose.Symptom{Device: pier, Person: "ines.marsh"}, 2)
}

func (s *story) lostLink() error {
	s.title("The link to a ship is lost",
		"No packet gets through, and nothing says so. The router waits for each server in turn. Ines is known to "+
			"the servers only, and is refused; the ship's own account saves the day. The servers then rest for a "+
			"minute, so the second login does not wait.")
	everyServer := []string{"sanderling", "tern", "plover"}
	if err := s.login(ship, "master", "", nil); err != nil {
		return err
	}
	s.Say("   %s\n\n", s.style.Paint(show.Faint,
		"while servers answer the local account is refused: as designed. Now the link goes down."))
	s.lab.Cut(s.site.Device(ship), true)
	if err := s.login(ship, "ines.marsh", "", everyServer); err != nil {
		return err
	}
	if err := s.why(diagnose.Symptom{Device: ship, Person: "ines.marsh"}, 1); err != nil {
		return err
	}
	if err := s.login(ship, "master", "", everyServer, "look servers"); err != nil {
		return err
	}
	return s.why(diagnose.Symptom{Device: ship, Person: "master"}, 2)
}

func (s *story) wrongKey() error {
	s.title("Somebody typed a key wrong",
		"Two letters are swapped in the key on one switch. Its servers run and its link works, and nobody gets in "+
			"with a good password. What is it?")
	d := s.site.Device(broken)
	typed := swapTwo(s.site.Keys["shore-key"])
	for _, name := range []string{"tern", "plover"} {
		s.lab.DeviceKey(d, s.site.Server(name), typed)
	}
	// To the switch, servers that it cannot read are servers that give no answer.
	if err := s.login(broken, "ines.marsh", "", []string{"tern", "plover"}); err != nil {
		return err
	}
	return s.why(diagnose.Symptom{Device: broken, Person: "ines.marsh"}, 2)
}

// swapTwo returns a key with two of its letters swapped.
func swapTwo(key site.Secret) site.Secret {
	b := []byte(key.Reveal())
	for i := len(b) / 2; i+1 < len(b); i++ {
		if b[i] != b[i+1] {
			b[i], b[i+1] = b[i+1], b[i]
			break
		}
	}
	return site.NewSecret(string(b))
}

// why prints the first causes of one login.
func (s *story) why(symptom diagnose.Symptom, most int) error {
	e, _, err := s.state.Evidence()
	if err != nil {
		return err
	}
	e.Site, e.Keys = s.site.Site, s.site.Keys
	v := diagnose.Explain(e, symptom)
	s.Say("   %s\n", s.style.Paint(show.Faint, "why -device "+symptom.Device+" -person "+symptom.Person))
	for i, found := range v.Causes {
		if i == most {
			break
		}
		s.Say("      %s: %s\n", s.style.Paint(show.Bad, found.Cause), found.Where)
		short := strings.NewReplacer(s.dir+string(filepath.Separator), "") // the folder is gone at the end
		s.style.Wrap(s.Out, "         ", short.Replace(found.Says))
		s.style.Wrap(s.Out, "         ", "repair: "+short.Replace(found.Repair))
	}
	return nil
}

func (s *story) records() error {
	s.title("What was done?",
		"The ledger: every login as a server decided it, and every session and command that a device reported. "+
			"Both are answered only once they are written.")
	no := false
	s.AsJSON = &no
	return service.PlainRecords(s.Call, service.LedgerView{}, ledger.Folder(s.state.Records()), ledger.Filter{})
}

func (s *story) closing(took time.Duration, keep bool) {
	s.Say("\n")
	if s.mismatches == 0 {
		s.Say("%s", s.style.Paint(show.Good, "Every login came out as foreseen."))
	} else {
		s.Say("%s", s.style.Paint(show.Bad,
			fmt.Sprintf("%s did not come out as foreseen.", show.Count(s.mismatches, "login"))))
	}
	s.Say(" The demo took %.0f s.\n", took.Seconds())
	if keep {
		stateDir := s.state.Dir
		d, _ := s.lab.Places.Device(pier)
		s.Say("\nThe lab stays up until Ctrl-C. From a second terminal:\n")
		for _, call := range []string{trialcmd.SshCall(d.Ways[len(d.Ways)-1].Address, stateDir, "ines.marsh"),
			fmt.Sprintf("mellowgate login -state %s -device %s -person ines.marsh -password-file %s", stateDir, pier,
				filepath.Join(s.dir, demo.AsReviewed, "passwords", "ines.marsh")),
			"mellowgate why -state " + stateDir, "mellowgate ledger -state " + stateDir} {
			s.style.Call(s.Out, "  ", call)
		}
		s.Say("The passwords are in %s.\n", filepath.Join(s.dir, demo.AsReviewed, "passwords"))
		return
	}
	s.Say(`
What to try next:
  mellowgate demo -keep            the same, and the lab stays up to play with
  mellowgate demo -write my-demo   both states of the site, to read and to break
  mellowgate drill my-demo/as-reviewed
                                   then: every login in every outage, tried and compared
  mellowgate new my-site           a site of your own
`)
}
