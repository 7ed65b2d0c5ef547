// Package talk says how a device of a make is talked to at its command line: its prompts, what it asks, what
// it refuses, when what is typed takes effect, and how it goes back by itself.
package talk

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/phrase/pattern"
)

// Talk is how a device of the make is talked to at its command line. What is empty, it does
// not have.
type Talk struct {
	Prompts []Prompt
	Page    string                                       // what it shows when a page is full
	Press   string                                       // and what is pressed then
	Enter   []string                                     // what is typed to come where it is configured
	Leave   []string                                     // and to leave
	Show    string                                       // shows the configuration
	Save    string                                       // keeps it over a restart
	Asks    map[string]string                            // what it may ask, and what is answered
	Effect  Effect                                       // when what is typed takes effect
	Commit  string                                       // makes it take effect, with AtCommit
	WayBack *WayBack                                     // nil where it has none
	Refused []pattern.Pattern                            // the lines with which it refuses what was typed
	Remarks []pattern.Pattern                            // and with which it takes it, with a remark
	Fits    func(p pattern.Pattern, words []string) bool // whether words are a pattern, in the make's language
}

// Prompt is what a device shows when it waits for a line.
type Prompt struct {
	Name        string // of the state that it is in
	Shows       string // the end of the line, with <host> for the name of the device
	Configuring bool
}

// Effect is when what is typed takes effect.
type Effect string

// When it does.
const (
	AtOnce   Effect = "at-once"
	AtCommit Effect = "commit"
	AtSave   Effect = "save"
)

// WayBack is how a make goes back by itself.
type WayBack struct {
	Set      string // what is typed, with <minutes>
	CallOff  string
	Restores string // what it goes back to: saved, or before, what held when it was set
	OnLoss   bool   // it also comes when the session that set it is lost
}

// Restores of a way back.
const (
	ToSaved  = "saved"
	ToBefore = "before"
)

// SetFor returns what sets the way back for a time, in whole minutes, one at least.
func (w WayBack) SetFor(d time.Duration) string {
	return strings.ReplaceAll(w.Set, "<minutes>", strconv.Itoa(int(w.Lasts(d)/time.Minute)))
}

// Lasts returns after how long a device goes back that is told to after d: whole minutes, at
// least one, and none less than d.
func (w WayBack) Lasts(d time.Duration) time.Duration {
	return max(1, (d+time.Minute-1)/time.Minute) * time.Minute
}

// Refuses reports whether a line of a device refuses what was typed.
func (t *Talk) Refuses(line string) bool { return t.matches(t.Refused, line) }

// Warns reports whether a line of a device is a remark, and what was typed is taken.
func (t *Talk) Warns(line string) bool { return t.matches(t.Remarks, line) }

func (t *Talk) matches(patterns []pattern.Pattern, line string) bool {
	words := strings.Fields(line)
	for _, p := range patterns {
		if len(words) > 0 && t.Fits(p, words) {
			return true
		}
	}
	return false
}

// Answer returns what is answered to a question of the device; false where it is none.
func (t *Talk) Answer(shown string) (answer string, asks bool) {
	for question, answer := range t.Asks {
		if strings.HasSuffix(strings.TrimRight(shown, " "), strings.TrimRight(question, " ")) {
			return answer, true
		}
	}
	return "", false
}

// At returns the prompt with which a text ends, nil for none. host is the name of the device.
func (t *Talk) At(shown, host string) *Prompt {
	last := shown[strings.LastIndexByte(shown, '\n')+1:]
	last = strings.Trim(last, " \r")
	for i, p := range t.Prompts {
		if last == strings.Trim(strings.ReplaceAll(p.Shows, "<host>", host), " ") {
			return &t.Prompts[i]
		}
	}
	return nil
}

// Refusal returns how a device of the make refuses a line.
func (t *Talk) Refusal(line string) string {
	if len(t.Refused) == 0 {
		return "refused: " + line
	}
	return strings.Replace(t.Refused[0].Text, "*", line, 1)
}

// Minutes reports whether a line sets the way back, and for how many minutes.
func (t *Talk) Minutes(line string) (minutes int, sets bool) {
	if t.WayBack == nil {
		return 0, false
	}
	before, after, holed := strings.Cut(t.WayBack.Set, "<minutes>")
	rest, starts := strings.CutPrefix(line, before)
	rest, ends := strings.CutSuffix(rest, after)
	n, err := strconv.Atoi(strings.TrimSpace(rest))
	return n, holed && starts && ends && err == nil && n > 0
}

// Prompt returns the prompt of a state: where it is configured, or of a person with full rights
// or with less.
func (t *Talk) Prompt(host string, configuring, full bool) string {
	chosen := ""
	for _, p := range t.Prompts {
		if p.Configuring == configuring && (configuring || full || chosen == "") {
			chosen = p.Shows
		}
	}
	return strings.ReplaceAll(chosen, "<host>", host)
}

// HasConfiguring reports whether a prompt is that of the place where a device is configured.
func (t *Talk) HasConfiguring() bool {
	return slices.ContainsFunc(t.Prompts, func(p Prompt) bool { return p.Configuring })
}
