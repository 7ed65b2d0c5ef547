// Package keep compares what is worked out of sites that are made at random with what was worked out of them
// before, for the tests of the rooms that work it out. A kept line has the digest of what it stands for; what
// that was is printed where it differs.
package keep

import (
	"crypto/sha256"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
	"mellowgate/internal/randomsite"
)

var makeKept = flag.Bool("make-kept", false, "write the kept digests anew, and what they stand for beside them")

// hash is a password of every person and account; what it opens does not matter.
const hash = "$argon2id$v=19$m=64,t=1,p=1$/DK4+9eTk2nKWXODz0M2jg$zGdMTbpjrhYAJNqtzSU0WdiIqGHWGv2I2pNLlKPVFEw"

// Now is when everything is worked out.
var Now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// Made returns the site of a seed.
func Made(t testing.TB, seed int64) *site.Site {
	t.Helper()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(randomsite.Text(seed, hash, hash))})
	require.NoError(t, err)
	return s
}

// Of works out the forecast of a site.
func Of(s *site.Site) foresee.Forecaster {
	return foresee.Forecaster{Site: s, Now: Now,
		Keys: site.Keys{"a": site.NewSecret("the key of a"), "b": site.NewSecret("the key of b")}}
}

// Same compares texts with those that are kept in a file of the caller's testdata, each by its name.
func Same(t *testing.T, file string, names []string, texts map[string]string) {
	t.Helper()
	path := filepath.Join("testdata", file)
	var kept strings.Builder
	for _, name := range names {
		fmt.Fprintf(&kept, "%s %x\n", name, sha256.Sum256([]byte(texts[name])))
	}
	if *makeKept {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(path, []byte(kept.String()), 0o644))
	}
	before, err := os.ReadFile(path)
	require.NoError(t, err, "make it: go test -run %s -make-kept", t.Name())
	have := strings.Split(kept.String(), "\n")
	for i, line := range strings.Split(string(before), "\n") {
		if i >= len(have) || have[i] != line {
			name, _, _ := strings.Cut(line, " ")
			t.Fatalf("%s is not what it was; read whether it is right, and compare with a checkout of before:\n%s",
				name,
				texts[name])
		}
	}
}

// Logins writes down every login of a device, with all that is known of it.
func Logins(f foresee.Forecaster, d *site.Device) string {
	var text strings.Builder
	for _, c := range f.Depending(f.Behaving(d, d)).Cases {
		write(&text, c)
		for _, x := range c.Depends {
			fmt.Fprintf(&text, "    with %s %s", x.Aspect, x.Value)
			when(&text, x.When)
			write(&text, *x.Case)
		}
	}
	series(&text, f, d)
	return text.String()
}

// series writes down logins that follow each other: one while the first server is silent, and two after it.
func series(text *strings.Builder, f foresee.Forecaster, d *site.Device) {
	whos := f.Whos(d)
	for _, w := range d.Ways {
		servers := w.Lists[site.Login].Servers()
		for i, who := range whos {
			var silent []foresee.Condition
			if len(servers) > 0 {
				silent = append(silent, foresee.Condition{Server: servers[i%len(servers)], State: foresee.Down})
			}
			ended, consulted := f.Series(d, d, []foresee.Login{{Way: w, Who: who, When: silent},
				{Way: w, Who: whos[(i+1)%len(whos)], After: 3 * time.Second},
				{Way: w, Who: who, When: silent, After: time.Minute}})
			fmt.Fprintf(text, "series %s %s %v\n", w.Name(), who.Name, consulted)
			for _, e := range ended {
				fmt.Fprintf(text, "  %+v %d steps", e.Entry, len(e.Steps))
				for _, s := range servers {
					if left, rests := e.Rests[s]; rests {
						fmt.Fprintf(text, ", %s for %s", s.Name, left)
					}
				}
				text.WriteString("\n")
			}
		}
	}
}

func when(text *strings.Builder, conditions []foresee.Condition) {
	for _, w := range conditions {
		fmt.Fprintf(text, " %s %s,", w.Server.Name, w.State)
	}
}

func write(text *strings.Builder, c foresee.Case) {
	fmt.Fprintf(text, "%s %s", c.Way.Name(), c.Who.Name)
	for _, w := range c.SameOutcome {
		fmt.Fprintf(text, "=%s", w.Name)
	}
	when(text, c.When)
	fmt.Fprintf(text, ": %s %d by %q why %q wait %s of %s, stuck %t %q, promised %d raised %d %q %t, rests %t",
		c.Outcome,
		c.Level, c.By, c.Reason, c.Wait, c.Needs, c.Stuck, c.StuckWhy, c.Promised, c.Raised, c.RaiseWhy, c.RaiseTried,
		c.Rests)
	if a := c.Again; a != nil {
		fmt.Fprintf(text, ", again %s %d by %q why %q wait %s", a.Outcome, a.Level, a.By, a.Reason, a.Wait)
	}
	for _, r := range c.Rules {
		fmt.Fprintf(text, ", rule %q", r.Text)
	}
	text.WriteString("\n")
	for _, s := range c.Steps {
		fmt.Fprintf(text, "  %s %s %s %q by %q %s", s.Purpose, s.Method, s.Result, s.Reason, s.By, s.Took)
		for _, t := range s.Tries {
			fmt.Fprintf(text, " [%s %d %s %q %q %q %s %v]", t.Server.Name, t.N, t.Reply.Result, t.Reply.Reason,
				t.Reply.Message, t.Reply.Answer, t.Reply.Took, t.Reply.Attributes)
		}
		for _, r := range s.Rested {
			fmt.Fprintf(text, " (%s rests)", r.Name)
		}
		text.WriteString("\n")
	}
}

// Forecast writes down, by name, what is foreseen of sites of so many seeds.
func Forecast(t testing.TB, seeds int64) (names []string, texts map[string]string) {
	texts = map[string]string{}
	for seed := range seeds {
		f := Of(Made(t, seed))
		f.Faults, f.Records = seed%8 == 0, seed%3 == 0
		if seed%5 == 1 {
			f.At, f.From = Now, netip.MustParseAddr("198.51.100.7")
		}
		shapes := fmt.Sprintf("%d/shapes", seed)
		names, texts[shapes] = append(names, shapes), shapesOf(f)
		for _, d := range f.Site.Devices {
			name := fmt.Sprintf("%d/%s", seed, d.Name)
			names = append(names, name)
			texts[name] = Logins(f, d)
		}
	}
	return names, texts
}

// shapesOf writes down which devices are worked out once, what changes where one person less is there, and who
// is tried first.
func shapesOf(f foresee.Forecaster) string {
	var text strings.Builder
	for shape := range f.Each(f.Site.Devices) {
		for _, d := range shape.Devices {
			way, who, found := f.Usual(d)
			fmt.Fprintf(&text, "%s (%t", d.Name, found)
			if found {
				fmt.Fprintf(&text, " %s %s", way.Name(), who.Name)
			}
			text.WriteString(") ")
		}
		fmt.Fprintf(&text, "%d cases\n", len(shape.Cases))
		for _, c := range shape.Cases {
			fmt.Fprintf(&text, "  %v\n", c.Summary())
		}
		for _, w := range shape.Devices[0].Ways {
			for _, c := range f.Cases(shape.Devices[0], w, foresee.InTeams("ebba", []string{"net", "other"})) {
				write(&text, c)
			}
		}
	}
	after := f
	site := *f.Site
	if len(site.Devices) > 1 {
		site.Devices = site.Devices[1:]
	}
	after.Site = &site
	for _, change := range foresee.Compare(f, after) {
		fmt.Fprintf(&text, "%+v\n", change.Devices)
	}
	return text.String()
}

// Decisions writes down what a service would decide of questions about a site, and how it explains that.
func Decisions(s *site.Site) string {
	var text strings.Builder
	names := []string{"Ines", "innes", "nobody", ""}
	for _, p := range s.People {
		names = append(names, p.Name)
	}
	devices := append([]*site.Device{nil}, s.Devices...)
	for _, d := range devices {
		for _, access := range append([]string{""}, site.Accesses()...) {
			for _, name := range names {
				for n, p := range []site.Purpose{site.Login, site.Session, site.Commands} {
					for c := rights.Unchecked; c <= rights.Uncheckable; c++ {
						q := rights.Question{Purpose: p, Device: d, Access: access, Person: name, Credential: c,
							Line: "look ports", Args: []string{"look", "ports"}, Unproven: n == 1 && c == rights.Wrong,
							Port: []string{"", "con 7"}[n%2], Wants: []int{0, 15}[int(c)%2]}
						if c == rights.Right {
							q.From, q.AssumeHours = netip.MustParseAddr("198.51.100.7"), true
						}
						decision(&text, s, q)
					}
				}
			}
		}
	}
	return text.String()
}

func decision(text *strings.Builder, s *site.Site, q rights.Question) {
	steps, decided := rights.Explain(s, q, Now)
	d := rights.Decide(s, q, Now)
	fmt.Fprintf(text, "%v %s %q %s %d: %s\n", q.Device != nil, q.Access, q.Person, q.Purpose, q.Credential, said(d))
	if d.Reason != decided.Reason {
		fmt.Fprintf(text, "  explained as %s\n", decided.Reason)
	}
	for _, step := range steps {
		fmt.Fprintf(text, "  %+v\n", step)
	}
	if q.Device != nil {
		for _, protocol := range []site.Protocol{site.RADIUS, site.TACACS} {
			fmt.Fprintf(text, "  %v\n", rights.Attributes(protocol, q.Purpose, d, q.Device.Platform))
		}
	}
}

func said(d rights.Decision) string {
	role := ""
	if d.Role != nil {
		role = d.Role.Name
	}
	return fmt.Sprint(d.Allow, d.Unsure, d.Asks, d.Reason, d.Text, d.Rule, role)
}
