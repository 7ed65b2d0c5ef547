package trial

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	core "mellowgate/internal/core/learn"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/sitefile"
	"mellowgate/internal/task/learn"
)

type learnedJSON struct {
	Kind        string        `json:"kind"`
	Device      string        `json:"device"`
	Claimed     []claimedJSON `json:"claimed"`
	Left        []leftJSON    `json:"left"`
	Differs     []claimedJSON `json:"differs"`
	Odd         []string      `json:"odd"`
	Measured    meterJSON     `json:"measured"`
	Experiments int           `json:"experiments"`
	Logins      int           `json:"logins"`
	Seconds     float64       `json:"seconds"`
	Patience    float64       `json:"patience_seconds"` // so long a login waited that then got in
	Whole       bool          `json:"whole"`            // it came to its end
}

type claimedJSON struct {
	Aspect string   `json:"trait"`
	Value  string   `json:"value"`
	Shown  []string `json:"shown_by"`
}

type leftJSON struct {
	Aspect string   `json:"trait"`
	Values []string `json:"values"`
}

type spreadJSON struct {
	Server string  `json:"server"`
	Low    float64 `json:"low_seconds"`
	High   float64 `json:"high_seconds"`
	Count  int     `json:"count"`
	Sent   int     `json:"sent_at_most"` // how often one question was sent, 0 for a connection
}

// listedJSON is what goes by a name.
type listedJSON struct {
	Of  string   `json:"of"`
	Are []string `json:"are"`
}

type meterJSON struct {
	Between []spreadJSON `json:"between"`
	Gives   []spreadJSON `json:"gives_up"`
	Alone   []spreadJSON `json:"left_alone"`
	Sources []string     `json:"sources"`
	Ports   bool         `json:"ports_change"`
	Names   []listedJSON `json:"port_names"`
	Forms   []listedJSON `json:"forms"`
	Carries []listedJSON `json:"attributes"`
}

type plannedJSON struct {
	Open    []string `json:"open"`
	Steps   []string `json:"steps"`
	Logins  int      `json:"logins"`
	Seconds float64  `json:"seconds"`
}

func planJSON(p learn.Plan) plannedJSON {
	j := plannedJSON{Open: []string{}, Steps: append([]string{}, p.Steps...), Logins: p.Logins,
		Seconds: call.SecondsOf(p.Took)}
	for _, t := range p.Open {
		j.Open = append(j.Open, t.String())
	}
	return j
}

func measuredJSON(m core.Measured) meterJSON {
	return meterJSON{Between: spreadsOf(m.Between, m.Attempts), Gives: spreadsOf(m.Gives, nil),
		Alone:   spreadsOf(m.Alone, nil),
		Sources: append([]string{}, m.Sources...), Ports: m.Ports, Names: listed(m.Names), Forms: listed(m.Forms),
		Carries: listed(m.Carries)}
}

func listed(of map[string][]string) []listedJSON {
	rows := []listedJSON{}
	for _, name := range sortedKeys(of) {
		rows = append(rows, listedJSON{Of: name, Are: of[name]})
	}
	return rows
}

func spreadsOf(of map[string]*core.Spread, sent map[string]int) []spreadJSON {
	spreads := []spreadJSON{}
	for _, name := range sortedKeys(of) {
		s := of[name]
		spreads = append(spreads, spreadJSON{Server: name, Low: call.SecondsOf(s.Low),
			High:  call.SecondsOf(s.High),
			Count: s.Count,
			Sent:  sent[name]})
	}
	return spreads
}

func sortedKeys[T any](of map[string]T) []string {
	return slices.Sorted(maps.Keys(of))
}

// tellLearned prints what was found out, and writes it where that is wished.
func tellLearned(c *call.Call, f *learnFlags, l call.Loaded, r learn.Report, ended error) error {
	j := learnedJSON{Kind: f.platform.Name, Device: f.device, Claimed: []claimedJSON{}, Left: []leftJSON{},
		Differs: []claimedJSON{}, Odd: append([]string{}, r.Odd...), Measured: measuredJSON(r.Measured),
		Experiments: r.Experiments, Logins: r.Logins, Seconds: call.SecondsOf(r.Took),
		Patience: call.SecondsOf(r.Patience), Whole: ended == nil}
	var fresh []site.Aspect
	for _, t := range site.ShownAspects() {
		if value, ok := r.Claimed[t]; ok {
			one := claimedJSON{Aspect: t.String(), Value: value, Shown: append([]string{}, r.Proof[t]...)}
			j.Claimed = append(j.Claimed, one)
			switch {
			case !f.platform.Says(t):
				fresh = append(fresh, t)
			case f.platform.Behaviour.Value(t) != value:
				j.Differs = append(j.Differs, one)
			}
		}
		if values, found := r.Left[t]; found {
			j.Left = append(j.Left, leftJSON{Aspect: t.String(), Values: values})
		}
	}
	behaviour := entriesOf(f.platform, fresh, r)
	if text := patienceText(r, f); text != "" {
		behaviour = append(behaviour, [2]string{"login-timeout", text})
	}
	var err error
	if *c.AsJSON {
		err = show.JSON(c.Out, j)
	} else {
		printLearned(c, f, j, behaviour)
	}
	if f.write && ended != nil {
		c.Note("nothing was written: it did not come to its end")
	} else if err == nil && f.write {
		err = writeLearned(c, f, l, behaviour)
	}
	switch {
	case ended != nil:
		return call.TaskError(ended)
	case err == nil && len(j.Differs) > 0:
		return call.ErrVerdict
	}
	return err
}

func printLearned(c *call.Call, f *learnFlags, j learnedJSON, behaviour [][2]string) {
	style := c.Style()
	var rows [][]string
	var proofs []string // each once; the table has their numbers
	for _, one := range j.Claimed {
		number := ""
		for _, text := range one.Shown {
			i := slices.Index(proofs, text)
			if i < 0 {
				i, proofs = len(proofs), append(proofs, text)
			}
			number = fmt.Sprint(i + 1)
		}
		rows = append(rows, []string{one.Aspect, one.Value, number})
	}
	if len(rows) > 0 {
		style.Table(c.Out, []string{"behaviour", "is", "shown by"}, rows)
		_, _ = fmt.Fprintln(c.Out)
	}
	for i, text := range proofs {
		style.Wrap(c.Out, "   ", fmt.Sprintf("%d. %s", i+1, text))
	}
	_, _ = fmt.Fprintln(c.Out)
	var open []string
	for _, one := range j.Left {
		open = append(open, fmt.Sprintf("%s (%s)", one.Aspect, valuesText(one.Values)))
	}
	if len(open) > 0 {
		style.Wrap(c.Out, "", "not shown, as no login here hangs on it alone: "+strings.Join(open, ", "))
	}
	if j.Patience >= 2 {
		style.Wrap(c.Out, "", fmt.Sprintf("a login waited %.0f s and then got in: the way in waits so long at "+
			"least (login-timeout)", j.Patience))
	}
	for _, text := range j.Odd {
		style.Wrap(c.Out, "", "nothing explains: "+text)
	}
	for _, one := range j.Differs {
		t, _ := site.AspectOf(one.Aspect)
		style.Wrap(c.Out, "", style.Paint(show.Bad, fmt.Sprintf("the site says %s, and it is %s",
			t.Written(f.platform.Behaviour.Value(t)), one.Value)))
	}
	_, _ = fmt.Fprintln(c.Out)
	printMeter(c, j.Measured)
	if len(behaviour) > 0 {
		style.Wrap(c.Out, "", fmt.Sprintf("\nfor the platform %s: %s", f.platform.Name,
			sitefile.BehaviourText(behaviour)))
	}
	c.Say("%s in %s\n", show.Count(j.Logins, "login"), call.Shortly(time.Duration(j.Seconds*float64(time.Second))))
}

func valuesText(values []string) string {
	if len(values) > 6 {
		return fmt.Sprintf("%s to %s", values[0], values[len(values)-1])
	}
	return strings.Join(values, " or ")
}

func printMeter(c *call.Call, m meterJSON) {
	style := c.Style()
	for _, s := range m.Between {
		style.Wrap(c.Out, "", fmt.Sprintf("%s is asked again after %s, %d times in all at most", s.Server,
			spreadText(s),
			s.Sent))
	}
	for _, s := range m.Gives {
		style.Wrap(c.Out, "", fmt.Sprintf("an answer of %s is waited for %s", s.Server, spreadText(s)))
	}
	for _, s := range m.Alone {
		text := fmt.Sprintf("%s is left alone for at least %.3g s after it gave no answer", s.Server, s.Low)
		switch {
		case s.High > 0 && s.Low > 0:
			text = fmt.Sprintf("%s is left alone for %.3g to %.3g s after it gave no answer", s.Server, s.Low, s.High)
		case s.High > 0:
			text = fmt.Sprintf("%s is left alone for %.3g s at most after it gave no answer", s.Server, s.High)
		}
		style.Wrap(c.Out, "", text)
	}
	for _, l := range m.Forms {
		style.Wrap(c.Out, "", fmt.Sprintf("passwords go to %s servers as %s", site.Protocol(l.Of).Title(),
			strings.Join(l.Are, ", ")))
	}
	for _, l := range m.Names {
		style.Wrap(c.Out, "", fmt.Sprintf("a login by %s comes from the port %s", l.Of, strings.Join(l.Are, ", ")))
	}
	if len(m.Sources) > 0 {
		ports := "one port"
		if m.Ports {
			ports = "ports that change"
		}
		style.Wrap(c.Out, "", fmt.Sprintf("questions come from %s, from %s", strings.Join(m.Sources, ", "), ports))
	}
	for _, l := range m.Carries {
		style.Wrap(c.Out, "", fmt.Sprintf("a question of %s carries %s", site.Protocol(l.Of).Title(),
			strings.Join(l.Are, ", ")))
	}
}

// spreadText shows a measured time: "2 s", "1.9 to 2.1 s, seen 4 times".
func spreadText(s spreadJSON) string {
	if s.High-s.Low < 0.05 {
		return fmt.Sprintf("%.2g s", s.Low)
	}
	return fmt.Sprintf("%.3g to %.3g s, seen %d times", s.Low, s.High, s.Count)
}

// portName returns the name of a port as port-names has it: without its number, which may be
// any; with * for it where it stands apart, as in "tty 7".
func portName(name string) string {
	base := strings.TrimRight(name, "0123456789")
	switch {
	case base == "":
		return "" // a number alone says nothing of the way in
	case strings.ContainsAny(name, " #:,'{}[]&*!|>%@\"\\"),
		base != name && strings.ContainsAny(base[len(base)-1:], "/-._"):
		if base != name {
			base += "*"
		}
		return strconv.Quote(base)
	}
	return base
}

// patienceText returns how long a way in waits at least, as the site file has it: where that is
// not said, and logins of the device are foreseen to wait. "" else.
func patienceText(r learn.Report, f *learnFlags) string {
	whole := r.Patience.Truncate(time.Second)
	if f.platform.SaysAny(site.AspectLoginWindow) || whole < 2*time.Second {
		return ""
	}
	return fmt.Sprintf("at-least %.0fs", whole.Seconds())
}

// entriesOf returns what is shown, as entries of the behaviour of a platform.
func entriesOf(platform *site.Platform, fresh []site.Aspect, r learn.Report) [][2]string {
	var all [][2]string
	var forms []string
	for _, t := range fresh {
		if r.Claimed[t] == site.Unsent { // which one it is, is not known
			continue
		}
		key, value, _ := strings.Cut(t.Written(r.Claimed[t]), ": ")
		if inner, ok := strings.CutPrefix(value, "{"); ok {
			forms = append(forms, strings.TrimSuffix(inner, "}"))
			continue
		}
		all = append(all, [2]string{key, value})
	}
	if len(forms) > 0 {
		all = append(all, [2]string{site.SendsPasswords, "{" + strings.Join(forms, ", ") + "}"})
	}
	if platform.Behaviour.PortNames == nil && len(r.Measured.Names) > 0 {
		var names []string
		for _, access := range sortedKeys(r.Measured.Names) {
			var plain []string
			for _, name := range r.Measured.Names[access] {
				if as := portName(name); as != "" && !slices.Contains(plain, as) {
					plain = append(plain, as)
				}
			}
			if len(plain) > 0 {
				names = append(names, fmt.Sprintf("%s: [%s]", access, strings.Join(plain, ", ")))
			}
		}
		if len(names) > 0 {
			all = append(all, [2]string{"port-names", "{" + strings.Join(names, ", ") + "}"})
		}
	}
	return all
}
