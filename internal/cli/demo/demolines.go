package demo

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"time"

	"mellowgate/internal/cli/call"
	sheetcmd "mellowgate/internal/cli/sheet"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/cli/texts"
	"mellowgate/internal/core/phrase/talk"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/login"
	"mellowgate/internal/live/lab/standin"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/task/cliplan"
	"mellowgate/internal/task/rollout"
)

// typedDevice is the device of the demo that is changed at its command line.
const typedDevice = "mv-curlew-rtr"

// typedPerson changes it.
const typedPerson = "ines.marsh"

// spoken makes that device hold what it has saved of itself, and speak as its make.
func (s *story) spoken() (map[string]*standin.Speech, error) {
	held, err := os.ReadFile(filepath.Join(s.dir, "saved", typedDevice+".txt"))
	if err != nil {
		return nil, err
	}
	design, err := sheetcmd.LinesOf(s.Call, &texts.Reading{}, s.site.Device(typedDevice), s.site)
	if err != nil {
		return nil, err
	}
	speech, err := design.Speech(string(held))
	return map[string]*standin.Speech{typedDevice: speech}, err
}

// typed changes a ship's router at its command line: with a mistake, which its timed way back
// mends, and then as it should be done.
func (s *story) typed() error {
	s.title("A ship's router, changed in its make's own lines",
		"It has no NETCONF. Its phrasebook says how it is talked to, so the design is typed: only the lines that "+
			"differ, in an order in which nobody is locked out. First somebody types a mistake, and the line drops.")
	design, err := sheetcmd.LinesOf(s.Call, &texts.Reading{}, s.site.Device(typedDevice), s.site)
	if err != nil {
		return err
	}
	words := design.Book.Talk()
	attempt, err := s.attemptOver(typedDevice, site.SSH)
	if err != nil {
		return err
	}
	open := func(ctx context.Context) (*login.Line, error) { return login.Open(ctx, attempt, words, typedDevice) }
	if err := s.mistake(open, words); err != nil {
		return err
	}
	report, err := cliplan.Send(s.Context, cliplan.Session{Design: design, Open: open, Window: 2 * time.Minute,
		Person: typedPerson, Access: site.SSH, Keep: func([]byte) (string, error) { return "the state folder", nil },
		Agree: func(p *cliplan.Plan) bool {
			s.Say("   send reads what it holds, and types what differs:\n")
			for _, step := range p.Steps {
				typed, _ := design.Book.Text(step.Lines, false)
				for _, line := range typed {
					s.Say("      %s\n", line)
				}
			}
			return true
		},
		Refused: func(ctx context.Context) (bool, error) {
			wrongly := attempt
			wrongly.Password = site.NewSecret("not-her-password")
			line, err := login.Open(ctx, wrongly, words, typedDevice)
			if err == nil {
				line.Close()
			}
			return errors.Is(err, login.ErrRefused), nil
		},
		Say: func(string) {}})
	if err != nil {
		return call.TaskError(err)
	}
	for _, p := range report.Proofs {
		s.Say("   %s  %s\n", s.style.Paint(show.Good, "proven"), p.What)
	}
	if report.Outcome != rollout.Kept {
		s.mismatches++
		s.Say("   %s: %s\n", s.style.Paint(show.Bad, report.Outcome), report.Why)
		return nil
	}
	s.Say("   The way back is called off, and the router has saved.\n")
	return nil
}

// mistake types a wrong line under a timed way back, and loses the session.
func (s *story) mistake(open func(context.Context) (*login.Line, error), words *talk.Talk) error {
	const wrongLine = "lift entry who 30 h"
	line, err := open(s.Context)
	if err != nil {
		return call.TaskError(err)
	}
	var typed []string
	for _, one := range append([]string{words.WayBack.SetFor(5 * time.Minute)}, append(words.Enter, wrongLine)...) {
		if _, err := line.Do(one, one); err != nil {
			line.Close()
			return call.TaskError(err)
		}
		typed = append(typed, one)
	}
	line.Close()
	for _, one := range typed {
		s.Say("      %s\n", one)
	}
	again, err := open(s.Context)
	if err != nil {
		return call.TaskError(err)
	}
	defer again.Close()
	holds := false
	for deadline := time.Now().Add(10 * time.Second); !holds && time.Now().Before(deadline); {
		says, err := again.Do(words.Show, words.Show)
		if err != nil {
			return call.TaskError(err)
		}
		for _, one := range says {
			holds = holds || one == "put entry who 30 h"
		}
	}
	if !holds {
		s.mismatches++
		s.Say("   %s\n", s.style.Paint(show.Bad, "the router did not go back"))
		return nil
	}
	s.Say("   The line that let the local account in is gone, and so is the session. %s: the router went back by "+
		"itself.\n\n",
		s.style.Paint(show.Good, "mended"))
	return nil
}

// attemptOver is a login of the person who changes a device.
func (s *story) attemptOver(device, access string) (login.Attempt, error) {
	way, err := call.LabWayOf(s.lab.Places, device, access)
	if err != nil {
		return login.Attempt{}, err
	}
	a := login.Attempt{Access: access, Address: way.Address, Person: typedPerson, HostKey: way.HostKey,
		Patience: 20 * time.Second}
	a.Password, err = secrets.SecretFile(filepath.Join(s.dir, "as-reviewed", "passwords", typedPerson))
	return a, err
}
