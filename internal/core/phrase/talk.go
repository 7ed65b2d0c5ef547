package phrase

import (
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/phrase/pattern"
)

// Talk is how a device of the make is talked to at its command line. What is empty, it does
// not have.
type Talk struct {
	Prompts  []Prompt
	Page     string            // what it shows when a page is full
	Press    string            // and what is pressed then
	Enter    []string          // what is typed to come where it is configured
	Leave    []string          // and to leave
	Show     string            // shows the configuration
	Save     string            // keeps it over a restart
	Asks     map[string]string // what it may ask, and what is answered
	Effect   Effect            // when what is typed takes effect
	Commit   string            // makes it take effect, with AtCommit
	WayBack  *WayBack          // nil where it has none
	refused  []pattern.Pattern
	warns    []pattern.Pattern
	language *Book
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

// Talk returns how devices of the make are talked to, nil where the phrasebook does not say.
func (b *Book) Talk() *Talk { return b.talk }

// Refuses reports whether a line of a device refuses what was typed.
func (t *Talk) Refuses(line string) bool { return t.says(t.refused, line) }

// Warns reports whether a line of a device is a remark, and what was typed is taken.
func (t *Talk) Warns(line string) bool { return t.says(t.warns, line) }

func (t *Talk) says(all []pattern.Pattern, line string) bool {
	words := strings.Fields(line)
	for _, p := range all {
		if len(words) > 0 && t.language.fits(p, words) {
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

func (l *loader) talk(n *yaml.Node) {
	t := &Talk{Effect: AtOnce, language: l.book}
	line := func(to *string, what string) func(*yaml.Node) {
		return func(n *yaml.Node) { *to = l.text(n, what) }
	}
	all := func(to *[]string, what string) func(*yaml.Node) {
		return func(n *yaml.Node) {
			for _, v := range l.texts(n, what) {
				*to = append(*to, v.Value)
			}
		}
	}
	l.fields(n, "talk", map[string]func(*yaml.Node){
		"prompts": func(n *yaml.Node) {
			l.pairs(n, "prompts", func(key, value *yaml.Node) {
				t.Prompts = append(t.Prompts, Prompt{Name: key.Value, Shows: l.text(value, "a prompt"),
					Configuring: key.Value == "configuring"})
			})
		},
		"page": func(n *yaml.Node) {
			l.fields(n, "page", map[string]func(*yaml.Node){"shows": line(&t.Page, "shows"),
				"press": func(n *yaml.Node) {
					t.Press = map[string]string{"space": " ",
						"enter": "\r"}[l.oneOf(n, "press", []string{"space", "enter"})]
				}})
		},
		"enter": all(&t.Enter, "enter"),
		"leave": all(&t.Leave, "leave"),
		"show":  line(&t.Show, "show"),
		"save": func(n *yaml.Node) {
			if n.Kind == yaml.ScalarNode {
				t.Save = n.Value
				return
			}
			l.fields(n, "save", map[string]func(*yaml.Node){"say": line(&t.Save, "say"), "asks": func(n *yaml.Node) {
				t.Asks = map[string]string{}
				l.pairs(n, "asks", func(key, value *yaml.Node) { t.Asks[key.Value] = l.text(value, "an answer") })
			}})
		},
		"refused": func(n *yaml.Node) { t.refused = l.patterns(n, "refused") },
		"warns":   func(n *yaml.Node) { t.warns = l.patterns(n, "warns") },
		"takes-effect": func(n *yaml.Node) {
			if n.Kind == yaml.ScalarNode {
				t.Effect = Effect(l.oneOf(n, "takes-effect", []string{string(AtOnce), string(AtSave)}))
				return
			}
			l.fields(n, "takes-effect", map[string]func(*yaml.Node){
				"at":  func(n *yaml.Node) { t.Effect = Effect(l.oneOf(n, "at", []string{string(AtCommit)})) },
				"say": line(&t.Commit, "say")})
		},
		"way-back": func(n *yaml.Node) {
			if n.Kind == yaml.ScalarNode {
				l.oneOf(n, "way-back", []string{"none"})
				return
			}
			w := &WayBack{}
			l.fields(n, "way-back", map[string]func(*yaml.Node){"set": line(&w.Set, "set"),
				"call-off": line(&w.CallOff, "call-off"),
				"also-on":  func(n *yaml.Node) { w.OnLoss = l.oneOf(n, "also-on", []string{"lost-session"}) != "" },
				"restores": func(n *yaml.Node) { w.Restores = l.oneOf(n, "restores", []string{ToSaved, ToBefore}) }})
			if w.Set == "" || w.CallOff == "" || w.Restores == "" {
				l.wrong(n, "a way back wants three: set, call-off, and restores: saved or before")
			}
			t.WayBack = w
		},
	})
	switch {
	case len(t.Prompts) == 0:
		l.wrong(n, "talk wants the prompts: prompts: {full: \"<host>#\"}, with configuring for where it is configured")
	case len(t.Enter) > 0 && !hasConfiguring(t.Prompts):
		l.wrong(n, "talk says how to come where it is configured, and no prompt of that place: prompts: "+
			"{configuring: ...}")
	}
	l.book.talk = t
}

func hasConfiguring(all []Prompt) bool {
	for _, p := range all {
		if p.Configuring {
			return true
		}
	}
	return false
}

// Refusal returns how a device of the make refuses a line.
func (t *Talk) Refusal(line string) string {
	if len(t.refused) == 0 {
		return "refused: " + line
	}
	return strings.Replace(t.refused[0].Text, "*", line, 1)
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
		switch {
		case p.Configuring == configuring && (configuring || full || chosen == ""):
			chosen = p.Shows
		}
	}
	return strings.ReplaceAll(chosen, "<host>", host)
}
