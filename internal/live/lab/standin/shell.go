package standin

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/reason"
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
		{words: []string{"look", "session"}, args: "", level: 1, about: "who you are here and at what level",
			run: (*shell).lookSession},
		{words: []string{"look", "sessions"}, args: "", level: 1, about: "who is in", run: (*shell).lookSessions},
		{words: []string{"look", "servers"}, args: "", level: 1,
			about: "the AAA servers and the results of asking them",
			run:   (*shell).lookServers},
		{words: []string{"look", "counters"}, args: "", level: 1,
			about: "each server and kind of question, with round-trip times", run: (*shell).lookCounters},
		{words: []string{"look", "trace"}, args: "", level: 1, about: "what the trace noted; trace switches it on",
			run: (*shell).lookTrace},
		{words: []string{"look", "log"}, args: "", level: 1, about: "the system log", run: (*shell).lookLog},
		{words: []string{"look", "settings"}, args: "", level: 1, about: "the banner and the ports",
			run: (*shell).lookSettings},
		{words: []string{"look", "secrets"}, args: "", level: 1, about: "which keys are set, not their values",
			run: (*shell).lookSecrets},
		{words: []string{"set", "port"}, args: "NUMBER on|off", level: 15, about: "switch a port",
			run: (*shell).setPort},
		{words: []string{"set", "banner"}, args: "TEXT", level: 15, about: "the text before the login",
			run: (*shell).setBanner},
		{words: []string{"save"}, args: "", level: 15, about: "keep the settings over a restart", run: (*shell).save},
		{words: []string{"trace"}, args: "PLATFORM on|off", level: 15,
			about: "authentication, authorization, accounting or packets", run: (*shell).setTrace},
		{words: []string{"raise"}, args: "[LEVEL]", level: 0,
			about: "to a higher level, 15 unless said; asks for a password",
			run:   (*shell).raise},
		{words: []string{"help"}, args: "", level: 0, about: "this list", run: (*shell).help},
		{words: []string{"leave"}, args: "", level: 0, about: "end the session", run: nil},
	}
}

// shell is the small shell of a stand-in.
type shell struct {
	v *visitor
	t *terminal
}

func newShell(v *visitor, t *terminal) *shell { return &shell{v: v, t: t} }

func (sh *shell) say(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	_, _ = io.WriteString(sh.t.out, text+"\n")
}

// Prompt is how the shell's prompt looks: "[NAME level N] ".
func Prompt(device string, level int) string { return fmt.Sprintf("[%s level %d] ", device, level) }

// run reads and runs commands until the person leaves.
func (sh *shell) run() {
	if s := sh.v.device.speaks; s != nil {
		(&spoken{shell: sh, of: s}).run()
		return
	}
	for {
		sh.t.prompt(Prompt(sh.v.device.design().Name, sh.v.level))
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
	words, whole := rights.SplitLine(line)
	if !whole {
		sh.say("a quote is not closed")
		return false
	}
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
	if sh.v.level < c.level {
		sh.say("refused: this command needs level %d, and you have level %d", c.level, sh.v.level)
		return false
	}
	if c.level > 0 {
		verdict := sh.v.command(rights.JoinArgs(words), c.level)
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
	case reason.RefusedByServer:
		return "the server " + v.By + " does not allow this command"
	case reason.ListEnded:
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
	sh.say("name     %s\nlevel    %d\nway in   %s, line %s\nlet in   by %s\nsince    %s", v.person, v.level,
		v.visit.Way.Name(), v.line, v.entry.By, v.entered.Format(time.TimeOnly))
	return true
}

func (sh *shell) lookServers([]string) bool {
	servers := sh.v.device.Servers()
	if len(servers) == 0 {
		sh.say("this device asks no server")
	}
	for _, h := range servers {
		sh.say("%-12s %s", h.Server, h.Summary)
	}
	return true
}

func (sh *shell) lookSessions([]string) bool {
	for _, s := range sh.v.device.Sessions() {
		sh.say("%-12s level %-2d  %-10s line %-9s from %-15s since %s, let in by %s", printed(s.Person), s.Level,
			s.Access,
			s.Line, s.From, s.Since.Format(time.TimeOnly), s.By)
	}
	return true
}

func (sh *shell) lookCounters([]string) bool {
	counts := sh.v.device.Counts()
	if len(counts) == 0 {
		sh.say("no server has been asked yet")
	}
	for _, c := range counts {
		lost := ""
		for _, reason := range slices.Sorted(maps.Keys(c.Lost)) {
			lost += fmt.Sprintf(", %s %d", reason, c.Lost[reason])
		}
		times := ""
		if c.Accepted+c.Refused > 0 {
			times = fmt.Sprintf("; answers in %.1f to %.1f ms, %.1f on average", c.Least*1000, c.Most*1000, c.Mean*1000)
		}
		sh.say("%-12s %-15s sent %d, accepted %d, refused %d%s; connections %d%s", c.Server, c.Question, c.Sent,
			c.Accepted,
			c.Refused, lost, c.Connections, times)
	}
	return true
}

func (sh *shell) lookTrace([]string) bool {
	notes := sh.v.device.Notes()
	if len(notes) == 0 {
		sh.say("nothing was traced; switch it on with: trace PLATFORM on")
	}
	for _, n := range notes {
		sh.say("%s %-14s %s", n.Time.Format("15:04:05.000"), n.Kind, n.Text)
	}
	return true
}

func (sh *shell) lookLog([]string) bool {
	for _, l := range sh.v.device.Log() {
		sh.say("%s %s", l.Time.Format(time.TimeOnly), l.Text)
	}
	return true
}

func (sh *shell) setTrace(args []string) bool {
	if len(args) != 2 || args[1] != "on" && args[1] != "off" || !sh.v.device.SetTrace(args[0], args[1] == "on") {
		sh.say("write: trace %s on|off", strings.Join(TraceKinds, "|"))
		return false
	}
	sh.say("done")
	return true
}

// raise asks for the password of a higher level.
func (sh *shell) raise(args []string) bool {
	level := 15
	if len(args) > 0 {
		n, err := strconv.Atoi(args[0])
		if err != nil || n < 1 || n > 15 || len(args) > 1 {
			sh.say("write: raise LEVEL, from 1 to 15")
			return false
		}
		level = n
	}
	switch {
	case sh.v.level >= level:
		sh.say("you have level %d already", sh.v.level)
		return true
	case sh.t.secret == nil:
		sh.say("refused: nobody can be asked for a password here")
		return false
	}
	password, err := sh.t.secret("password for the level: ")
	if err != nil {
		return false
	}
	verdict := sh.v.raise(level, password)
	if !verdict.Allowed {
		sh.say("refused: %s", whyNoLevel(verdict))
		return false
	}
	sh.say("level %d", level)
	return true
}

func whyNoLevel(v walk.Verdict) string {
	switch v.Reason {
	case reason.NoList:
		return "this way in has no list for a higher level"
	case reason.RefusedByServer:
		return "the server " + v.By + " does not allow it"
	}
	return "no higher level (" + string(v.Reason) + ")"
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
	for _, h := range sh.v.device.Servers() {
		names = append(names, h.Server)
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
