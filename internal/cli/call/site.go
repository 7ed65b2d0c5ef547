package call

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/attributes"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/secrets"
	"mellowgate/internal/live/store/sitefile"
)

// Refresh runs the programs that the site has its devices from, and says what changed.
func (c *Call) Refresh() error {
	changed, err := sitefile.Refresh(c.Context, c.SitePath())
	for _, name := range changed {
		c.Note("%s has other devices now", name)
	}
	if err != nil {
		return UsageError(err)
	}
	return nil
}

func (l Loaded) Reckoner() foresee.Forecaster {
	return foresee.Forecaster{Site: l.Site, Keys: l.Keys, Now: time.Now()}
}

// SitePath returns the site that a call means: its argument, else
// $MELLOWGATE_SITE, else site.yaml, else the folder site.
func (c *Call) SitePath() string {
	if len(c.Args) > 0 {
		return c.Args[0]
	}
	if path := os.Getenv("MELLOWGATE_SITE"); path != "" {
		return path
	}
	if _, err := os.Stat("site.yaml"); err == nil {
		return "site.yaml"
	}
	if info, err := os.Stat("site"); err == nil && info.IsDir() {
		return "site"
	}
	return "site.yaml"
}

// Loaded is a site with the values of its keys.
type Loaded struct{ sitefile.Opened }

// Load reads the site of a call. With needKeys, a key without a value is an
// error; else it is noted.
func (c *Call) Load(needKeys bool) (Loaded, error) {
	return c.LoadFrom(c.SitePath(), needKeys)
}

func (c *Call) LoadFrom(path string, needKeys bool) (Loaded, error) {
	return c.loadBy(sitefile.Load, path, needKeys)
}

// LoadDesign is load for the design alone: what devices are known to hold
// besides is left out.
func (c *Call) LoadDesign(needKeys bool) (Loaded, error) {
	return c.loadBy(sitefile.LoadDesign, c.SitePath(), needKeys)
}

func (c *Call) loadBy(read func(string) (*site.Site, string, error), path string, needKeys bool) (Loaded, error) {
	done := c.Working("reading " + path)
	s, base, err := read(path)
	done()
	wrongs, readable := err, true
	var problems site.Problems
	if err != nil {
		readable = errors.As(err, &problems)
	}
	if s != nil && readable { // all that is wrong is said in one run
		if problems = problems.With(append(secrets.CheckHashes(s), attributes.Check(s)...)...); len(problems) > 0 {
			wrongs = problems
		}
	}
	switch {
	case wrongs == nil:
	case len(problems) > 0:
		return Loaded{}, c.mistaken(problems)
	case errors.Is(wrongs, fs.ErrNotExist) && len(c.Args) == 0:
		return Loaded{}, Usagef("%w\nname a site: SITE, $MELLOWGATE_SITE, site.yaml or the folder site/; or start "+
			"one: mellowgate new DIR", wrongs)
	default:
		return Loaded{}, UsageError(wrongs)
	}
	keys, missing := secrets.Keys(s, base, c.Unlocking())
	if len(missing) > 0 && needKeys {
		return Loaded{}, UsageError(errors.Join(missing...))
	}
	for _, m := range missing {
		c.Note("%v; keys are then compared by name only", m)
	}
	c.noteRenamed(s, path)
	return Loaded{Opened: sitefile.Opened{Site: s, Path: path, Base: base, Keys: keys}}, nil
}

// mistakeJSON is one mistake of a site.
type mistakeJSON struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Text   string `json:"text"`
}

// mistaken is the error of a site with mistakes; with -json they are printed as
// data too.
func (c *Call) mistaken(problems site.Problems) error {
	if c.AsJSON != nil && *c.AsJSON {
		mistakes := []mistakeJSON{}
		for _, p := range problems {
			file, line, column := p.At()
			mistakes = append(mistakes, mistakeJSON{File: file, Line: line, Column: column, Text: p.What})
		}
		if err := show.JSON(c.Out, struct {
			Mistakes []mistakeJSON `json:"mistakes"`
		}{mistakes}); err != nil {
			return err
		}
	}
	return UsageError(problems)
}

// DeviceNamed returns a device of the site by name.
func (l Loaded) DeviceNamed(name string) (*site.Device, error) {
	if d := l.Device(name); d != nil {
		return d, nil
	}
	names := make([]string, len(l.Devices))
	for i, d := range l.Devices {
		names[i] = d.Name
	}
	return nil, Usagef("the site %s has no device %q%s", l.Path, name, nearest.Suggest(name, names))
}

// ServersNamed returns the servers of a list of names such as "tern,plover".
func (l Loaded) ServersNamed(list string) (map[*site.Server]bool, error) {
	some := map[*site.Server]bool{}
	for name := range strings.SplitSeq(list, ",") {
		if name = strings.TrimSpace(name); name == "" {
			continue
		}
		s := l.Server(name)
		if s == nil {
			names := make([]string, len(l.Servers))
			for i, s := range l.Servers {
				names[i] = s.Name
			}
			return nil, Usagef("the site %s has no server %q%s", l.Path, name, nearest.Suggest(name, names))
		}
		some[s] = true
	}
	return some, nil
}

// ManyDevices bounds the devices that a call names.
const ManyDevices = 1000

func EveryName(s *site.Site) []string {
	names := []string{"unknown", "anyone"}
	for _, p := range s.People {
		names = append(names, p.Name)
	}
	for _, a := range s.Accounts {
		names = append(names, a.Name)
	}
	for _, m := range s.Members() {
		if m.Team != "" {
			names = append(names, "team "+m.Team)
		}
	}
	return names
}

// Somebody returns for whom a login is foreseen: the one of a name or, where only a
// directory has the name, somebody with the teams that it gives.
func (l Loaded) Somebody(r foresee.Forecaster, d *site.Device, name, teams string) (foresee.Who, bool, error) {
	if who, known := r.Find(d, name); known || teams == "" {
		return who, known, nil
	}
	var granted []string
	for _, m := range l.Site.Members() {
		granted = append(granted, m.Team)
	}
	all := strings.Split(teams, ",")
	if !slices.ContainsFunc(all, func(t string) bool { return t != "" && slices.Contains(granted, t) }) {
		return foresee.Who{}, false, Usagef("-teams %s: no grant names such a team, or the site asks no directory "+
			"that gives teams%s", teams, nearest.Suggest(all[0], granted))
	}
	return foresee.InTeams(name, all), true, nil
}

// Nobody says that the site does not have a name, and who else may.
func (l Loaded) Nobody(name string) string {
	text := fmt.Sprintf("the site has nobody called %q", name) + nearest.Suggest(name, EveryName(l.Site))
	if len(l.Site.Books()) > 0 {
		text += "; where a directory has the name, say what it gives with -teams TEAM"
	}
	return text
}

// noteRenamed says in one line where a site has words of a version before.
func (c *Call) noteRenamed(s *site.Site, path string) {
	if len(s.Renamed) == 0 {
		return
	}
	first, more := s.Renamed[0], ""
	if n := len(s.Renamed) - 1; n > 0 {
		more = fmt.Sprintf(", and %d more", n)
	}
	c.Note("%s: %s%s; write the new words with: mellowgate migrate %s", s.Where(first.Place), first, more, path)
}
