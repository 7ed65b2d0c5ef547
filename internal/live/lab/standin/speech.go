package standin

import (
	"slices"
	"strings"
	"sync"
	"time"

	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/phrase/talk"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/lab/standin/config"
	"mellowgate/internal/routine"
)

// Speech is how a stand-in speaks at its command line, in the words of a make: it takes and
// shows lines, and obeys them.
type Speech struct {
	Book *phrase.Book // its own: nobody else uses it
	Text string       // what it holds at first, and has saved
	// Holds makes the device be as the text says from the beginning; else it is as its design.
	Holds bool
	// Replace returns the device that a text describes, with the keys that it shows.
	Replace func(text string) (*site.Device, site.Keys, error)
}

// speaking is the configuration of a stand-in that speaks. All sessions share it.
type speaking struct {
	Speech
	device *Device
	talk   *talk.Talk

	mu      sync.Mutex
	running *phrase.Model
	draft   *phrase.Model // what was typed and takes effect later; nil where nothing waits
	saved   string
	back    *goesBack
}

// goesBack is a timed way back that is set.
type goesBack struct {
	by    *visitor
	to    string
	timer *time.Timer
}

func newSpeaking(d *Device, s Speech) *speaking {
	return &speaking{Speech: s, device: d, talk: s.Book.Talk(), running: s.Book.NewModel(s.Text), saved: s.Text}
}

// use makes the device be as a text says. The text is kept even where the device cannot be as
// it says, such as with a group that has no server yet: what was in force stays so.
func (s *speaking) use(text string) {
	device, keys, err := s.Replace(text)
	if err != nil {
		s.device.logs("the configuration is not in force yet: %v", err)
		return
	}
	d := s.device
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, w := range d.config.Device.Ways { // ways in that the make has no words for stay as they are
		if !s.Book.Supports(phrase.Way, "access", w.Access) {
			device.Ways = append(device.Ways, w)
		}
	}
	for _, a := range device.Accounts { // what the lines have in the place of a password is that of the design
		if account := d.config.Device.Account(a.Name); account != nil && a.Password.Key != nil &&
			strings.HasSuffix(keys[a.Password.Key.Name].Reveal(), "the-password-of-"+a.Name) {
			a.Password = account.Password
		}
	}
	w := config.Replaced(device, keys, d.config.Targets, config.Surroundings{Known: d.known, From: d.config.From})
	d.current, d.config.Targets = w.Device, w.Targets
	for name, value := range keys {
		if _, known := d.config.Keys[name]; !known {
			d.shown[name] = value
		}
	}
}

// goBack puts another text in force.
func (s *speaking) goBack(to, why string) {
	s.running = s.Book.NewModel(to)
	s.draft = nil
	s.back = nil
	s.device.logs("went back: %s", why)
	s.use(to)
}

// gone ends a session: a way back that it set comes now.
func (s *speaking) gone(v *visitor) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if b := s.back; b != nil && b.by == v && s.talk.WayBack.OnLoss {
		b.timer.Stop()
		s.goBack(b.to, "the session that had set the way back was lost")
	}
}

// spoken is a session in the words of the make.
type spoken struct {
	*shell
	of          *speaking
	configuring bool
}

func (sh *spoken) run() {
	defer sh.of.gone(sh.v)
	for {
		sh.t.prompt(sh.of.talk.Prompt(sh.v.device.design().Name, sh.configuring, sh.v.level >= 15) + " ")
		line, err := sh.t.read()
		if err != nil || !sh.configuring && strings.TrimSpace(line) == "leave" {
			return
		}
		if strings.TrimSpace(line) != "" {
			sh.one(line)
		}
	}
}

// one takes one line, and reports whether it was taken.
func (sh *spoken) one(line string) bool {
	words, bare := sh.of.talk, strings.TrimSpace(line)
	minutes, sets := words.Minutes(bare)
	callsOff := words.WayBack != nil && bare == words.WayBack.CallOff
	ours := sets || callsOff || sh.configuring || bare == words.Show || bare == words.Save || bare == words.Commit &&
		bare != "" || slices.Contains(words.Enter, bare)
	switch {
	case !ours:
		if c, _ := find(strings.Fields(bare)); c != nil {
			return sh.shell.one(line)
		}
		sh.say("%s", words.Refusal(bare))
		return false
	case sh.v.level < 15:
		sh.say("%s", words.Refusal(bare))
		return false
	}
	asked := bare
	if sh.configuring && !slices.Contains(words.Leave, bare) && bare != words.Show && bare != words.Commit {
		sh.of.mu.Lock()
		asked = sh.of.holds().Shown(line) // no secret goes to a server
		sh.of.mu.Unlock()
	}
	if verdict := sh.v.command(asked, 15); !verdict.Allowed {
		sh.say("%s", words.Refusal(bare))
		return false
	}
	sh.of.mu.Lock()
	defer sh.of.mu.Unlock()
	switch {
	case slices.Contains(words.Enter, bare) && !sh.configuring:
		sh.configuring = true
	case slices.Contains(words.Leave, bare) && sh.configuring:
		sh.configuring = false
	case bare == words.Show:
		sh.pages(sh.of.holds().Show())
	case bare == words.Save:
		return sh.save()
	case bare == words.Commit && bare != "":
		sh.of.takeEffect()
		if callsOff {
			sh.of.callOff()
		}
	case sets:
		sh.of.setBack(sh.v, time.Duration(minutes)*time.Minute)
		if words.Effect == talk.AtCommit { // the timed form of the commit
			sh.of.takeEffect()
		}
	case callsOff:
		sh.of.callOff()
	case sh.configuring:
		return sh.typed(line)
	}
	return true
}

// holds is what is shown and typed into: what waits, else what is in force.
func (s *speaking) holds() *phrase.Model {
	if s.draft != nil {
		return s.draft
	}
	return s.running
}

func (sh *spoken) typed(line string) bool {
	into := sh.of.running
	if sh.of.talk.Effect != talk.AtOnce {
		if sh.of.draft == nil {
			sh.of.draft = sh.of.running.Copy()
		}
		into = sh.of.draft
	}
	if why := into.Type(line); why != "" {
		sh.say("%s", sh.of.talk.Refusal(strings.TrimSpace(line)))
		return false
	}
	if sh.of.talk.Effect == talk.AtOnce {
		sh.of.use(into.Text())
	}
	return true
}

// takeEffect puts what waits in force.
func (s *speaking) takeEffect() {
	if s.draft != nil {
		s.running, s.draft = s.draft, nil
		s.use(s.running.Text())
	}
}

// save keeps what is held over a restart, after the make's questions.
func (sh *spoken) save() bool {
	for question, wanted := range sh.of.talk.Asks {
		sh.t.prompt(question + " ")
		if answer, err := sh.t.read(); err != nil || strings.TrimSpace(answer) != wanted {
			sh.say("%s", sh.of.talk.Refusal(sh.of.talk.Save))
			return false
		}
	}
	if sh.of.talk.Effect == talk.AtSave {
		sh.of.takeEffect()
	}
	sh.of.saved = sh.of.running.Text()
	return true
}

func (s *speaking) setBack(v *visitor, after time.Duration) {
	s.callOff()
	to := s.saved
	if s.talk.WayBack.Restores == talk.ToBefore {
		to = s.running.Text()
	}
	b := &goesBack{by: v, to: to}
	b.timer = routine.AfterFunc(after, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.back == b {
			s.goBack(b.to, "the time of the way back is over")
		}
	})
	s.back = b
}

func (s *speaking) callOff() {
	if s.back != nil {
		s.back.timer.Stop()
		s.back = nil
	}
}

// close ends what runs by itself.
func (s *speaking) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.callOff()
}

// pageLines is how many lines are shown before the page is full.
const pageLines = 22

// pages prints lines, and waits after each page where somebody can press a key.
func (sh *spoken) pages(lines []string) {
	for i, line := range lines {
		if i > 0 && i%pageLines == 0 && sh.of.talk.Page != "" && sh.t.key != nil {
			_, _ = sh.t.out.Write([]byte(sh.of.talk.Page))
			if _, err := sh.t.key(); err != nil {
				return
			}
			sh.say("")
		}
		sh.say("%s", line)
	}
}
