package standin

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/walk"
)

// command is one command of the shell.
type command struct {
	words []string // the words it begins with
	args  string   // what may follow, for help
	level int      // the level of the command itself
	about string
	run   func(sh *shell, args []string) bool
}

// commands are what the shell knows. Commands of level 1 only look; those of
// level 15 change something; level 0 is for everyone and asks nobody.
func commands() []command {
	return []command{
		{[]string{"look", "session"}, "", 1, "who you are here and at what level", (*shell).lookSession},
		{[]string{"look", "servers"}, "", 1, "the AAA servers and what came of asking them", (*shell).lookServers},
		{[]string{"look", "settings"}, "", 1, "the banner and the ports", (*shell).lookSettings},
		{[]string{"look", "secrets"}, "", 1, "which keys are set, not their values", (*shell).lookSecrets},
		{[]string{"set", "port"}, "NUMBER on|off", 15, "switch a port", (*shell).setPort},
		{[]string{"set", "banner"}, "TEXT", 15, "the text before the login", (*shell).setBanner},
		{[]string{"save"}, "", 15, "keep the settings over a restart", (*shell).save},
		{[]string{"help"}, "", 0, "this list", (*shell).help},
		{[]string{"leave"}, "", 0, "end the session", nil},
	}
}

// shell is the small shell of a stand-in.
type shell struct {
	v *visitor
	t *terminal
}

func newShell(v *visitor, t *terminal) *shell { return &shell{v, t} }

func (sh *shell) say(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	_, _ = io.WriteString(sh.t.out, text+"\n")
}

// Prompt is how the shell's prompt looks: "[NAME level N] ".
func Prompt(device string, level int) string { return fmt.Sprintf("[%s level %d] ", device, level) }

// run reads and runs commands until the person leaves.
func (sh *shell) run() {
	sh.t.prompt(Prompt(sh.v.device.config.Device.Name, sh.v.entry.Level))
	for {
		line, err := sh.t.read()
		if err != nil || strings.TrimSpace(line) == "leave" {
			return
		}
		if strings.TrimSpace(line) != "" {
			sh.one(line)
		}
	}
}

// longest is the longest command: what one TACACS+ argument carries.
const longest = 240

// one runs one command line and tells whether it was allowed and done.
func (sh *shell) one(line string) bool {
	words := rights.SplitLine(line)
	if len(words) == 0 {
		return false
	}
	if len(line) > longest || strings.ContainsFunc(line, func(c rune) bool { return c < ' ' || c == 0x7f }) {
		sh.say("unknown: a command has at most %d characters, all of them printable", longest)
		return false
	}
	c, args := find(words)
	if c == nil {
		sh.say("unknown command; help lists the commands")
		return false
	}
	if sh.v.entry.Level < c.level {
		sh.say("refused: this command needs level %d, and you have level %d", c.level, sh.v.entry.Level)
		return false
	}
	if c.level > 0 {
		verdict := sh.v.command(strings.Join(words, " "), c.level)
		if !verdict.Allowed {
			sh.say("refused: %s", whyNot(verdict))
			return false
		}
	}
	if c.run == nil {
		return true
	}
	return c.run(sh, args)
}

func whyNot(v walk.Verdict) string {
	switch v.Reason {
	case walk.RefusedByServer:
		return "the server " + v.By + " does not allow this command"
	case walk.ListEnded:
		return "no server answered, and nothing else may decide"
	}
	return "this command is not allowed (" + string(v.Reason) + ")"
}

func find(words []string) (*command, []string) {
	for _, c := range commands() {
		if len(words) >= len(c.words) && slices.Equal(words[:len(c.words)], c.words) {
			return &c, words[len(c.words):]
		}
	}
	return nil, nil
}

func (sh *shell) help([]string) bool {
	for _, c := range commands() {
		sh.say("  %-26s level %-2d  %s", strings.TrimSpace(strings.Join(c.words, " ")+" "+c.args), c.level, c.about)
	}
	return true
}

func (sh *shell) lookSession([]string) bool {
	v := sh.v
	sh.say("name     %s\nlevel    %d\nway in   %s, line %s\nlet in   by %s\nsince    %s", v.person, v.entry.Level,
		v.visit.Way.Name(), v.line, v.entry.By, v.entered.Format(time.TimeOnly))
	return true
}

func (sh *shell) lookServers([]string) bool {
	names, all := sh.v.device.sortedCounts()
	if len(names) == 0 {
		sh.say("no server has been asked yet")
	}
	for _, name := range names {
		c := all[name]
		sh.say("%-12s asked %d, answered %d (refused %d), no answer %d%s", name, c.Asked, c.Answered, c.Refused, c.Lost, sh.resting(name))
	}
	return true
}

func (sh *shell) resting(name string) string {
	d := sh.v.device
	for s := range d.config.Targets {
		if s.Name != name {
			continue
		}
		byTime := !d.config.Device.Kind.Traits.RestEndsWithLast
		if until, rests := d.rests.Until(s, d.now(), byTime); rests {
			if !byTime {
				return ", rests until all do"
			}
			return fmt.Sprintf(", rests for %s more", (until - d.now()).Round(time.Second))
		}
	}
	return ""
}

func (sh *shell) lookSettings([]string) bool {
	d := sh.v.device
	d.mu.Lock()
	defer d.mu.Unlock()
	sh.say("banner   %s", d.board.Banner)
	for n := 1; n <= len(d.board.Ports); n++ {
		state := "off"
		if d.board.Ports[n] {
			state = "on"
		}
		sh.say("port %d   %s", n, state)
	}
	if !d.board.Saved {
		sh.say("there are changes that are not saved")
	}
	return true
}

func (sh *shell) lookSecrets([]string) bool {
	names := []string{}
	for s := range sh.v.device.config.Targets {
		names = append(names, s.Name)
	}
	slices.Sort(names)
	for _, n := range names {
		sh.say("%-12s a key is set (not shown)", n)
	}
	return true
}

// change changes the board.
func (sh *shell) change(do func(*board)) bool {
	d := sh.v.device
	d.mu.Lock()
	defer d.mu.Unlock()
	d.board.Saved = false
	do(&d.board)
	sh.say("done")
	return true
}

func (sh *shell) setPort(args []string) bool {
	if len(args) == 2 && (args[1] == "on" || args[1] == "off") {
		if n, err := strconv.Atoi(args[0]); err == nil && n >= 1 && n <= 4 {
			return sh.change(func(b *board) { b.Ports[n] = args[1] == "on" })
		}
	}
	sh.say("write: set port 1|2|3|4 on|off")
	return false
}

func (sh *shell) setBanner(args []string) bool {
	if len(args) == 0 {
		sh.say("write: set banner TEXT")
		return false
	}
	return sh.change(func(b *board) { b.Banner = strings.Join(args, " ") })
}

func (sh *shell) save([]string) bool { return sh.change(func(b *board) { b.Saved = true }) }
