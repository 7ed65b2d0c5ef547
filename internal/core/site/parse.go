package site

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v4"
)

// Parse reads the files of a site, joined in the order given, and checks that
// every name leads somewhere. The error, if any, is Problems: all that is
// wrong, ordered by place; the site then has what could be read, for further
// checks, and is nil where that is nothing. A site that takes devices from other
// files needs ParseWith.
func Parse(sources ...Source) (*Site, error) { return ParseWith(nil, sources...) }

// ParseWith is Parse with a function that reads a file that devices-from names.
func ParseWith(read func(path string) (Source, error), sources ...Source) (*Site, error) {
	return parseAs(read, false, sources...)
}

// ParseDesign is ParseWith for the design alone: what devices are known to hold
// besides is left out.
func ParseDesign(read func(path string) (Source, error), sources ...Source) (*Site, error) {
	return parseAs(read, true, sources...)
}

func parseAs(read func(path string) (Source, error), design bool, sources ...Source) (*Site, error) {
	s := &Site{Lab: Lab{Network: netip.MustParsePrefix("127.77.0.0/16")}, Service: DefaultService(),
		Rates: DefaultRates()}
	var problems Problems
	readers := make([]*reader, 0, len(sources))
	add := func(source Source) *reader {
		s.Files = append(s.Files, source.Name)
		readers = append(readers, &reader{file: int32(len(readers)), source: source, problems: &problems})
		return readers[len(readers)-1]
	}
	for i, source := range sources {
		if source.Lines != nil {
			if s.lines == nil {
				s.lines = map[int32][]int{}
			}
			s.lines[int32(i)] = source.Lines
		}
	}
	empty, unread := true, false
	for _, source := range sources {
		r, before := add(source), len(problems)
		if top := r.document(); top != nil && top.Kind == yaml.SequenceNode {
			r.wrong(top, "the site file is a list; keys and values wanted; a list of devices that devices-from "+
				"names ends in .json or .csv, or lies in a folder of its own")
			empty, unread = false, true
		} else if top != nil {
			siteShape().read(r, top, s)
			empty = false
		} else if len(problems) > before {
			empty, unread = false, true
		}
	}
	for _, ref := range s.Inventories {
		where := readers[ref.Place.File]
		if read == nil {
			where.wrongAt(ref.Place, "the file of devices cannot be read here")
			unread = true
			continue
		}
		source, err := read(ref.Name)
		if err != nil {
			text := err.Error()
			if slices.ContainsFunc(s.Exports, func(e Export) bool { return e.Into == ref }) {
				text += "; the program beside it writes it: mellowgate check -refresh"
			}
			where.wrongAt(ref.Place, text)
			unread = true
			continue
		}
		add(source).inventory(s)
	}
	for i, source := range sources {
		if source.Replaces {
			s.replace(int32(i))
		}
	}
	if empty {
		name := "the site"
		if len(sources) > 0 {
			name = sources[0].Name
		}
		return nil, Problems{{Where: name, What: "there is no site in this file; start one with: mellowgate new DIR"}}
	}
	for _, r := range readers {
		s.Renamed = append(s.Renamed, r.renamed...)
	}
	if unread { // what is missing here would be missed everywhere
		return nil, problems.sorted()
	}
	(&linker{site: s, readers: readers, design: design, partial: len(problems) > 0}).link()
	if len(problems) > 0 {
		return s, problems.sorted()
	}
	return s, nil
}

// replace lets the devices of a file take the place of others of their names.
func (s *Site) replace(file int32) {
	for _, d := range s.Devices {
		if d.Place.File != file {
			continue
		}
		i := slices.IndexFunc(s.Devices, func(o *Device) bool { return o.Name == d.Name && o.Place.File != file })
		if i < 0 {
			continue
		}
		old := s.Devices[i]
		if d.PlatformRef.Name == "" {
			d.PlatformRef = old.PlatformRef
		}
		if len(d.Addresses) == 0 {
			d.Addresses = old.Addresses
		}
		if !d.SourceSet {
			d.Source = old.Source
			d.sources = old.sources
			d.SourceSet = old.SourceSet
		}
		if d.Interfaces == nil {
			d.Interfaces = old.Interfaces
		}
		d.Labels, d.Shows = old.Labels, old.Shows
		s.Devices = slices.Delete(s.Devices, i, i+1)
		s.replace(file)
		return
	}
}

func topText(what string, at func(*Site) *string) field[Site] {
	return field[Site]{form: textForm(), read: func(r *reader, n *yaml.Node, s *Site) {
		if text, ok := r.scalar(n, what); ok {
			if *at(s) != "" {
				r.wrong(n, "%q is said already in another file of this site; keep one", what)
			}
			*at(s) = text
		}
	}}
}

// siteShape is the top of a site file.
var siteShape = sync.OnceValue(func() *shape[Site] {
	return &shape[Site]{
		what:    "the site file",
		renamed: renamedInSite,
		fields: map[string]field[Site]{
			"$schema":   {read: func(*reader, *yaml.Node, *Site) {}, form: textForm()}, // for editors
			"site":      topText("site", func(s *Site) *string { return &s.Name }),
			"about":     topText("about", func(s *Site) *string { return &s.About }),
			"keys":      {read: readKeys, form: mapForm(patternForm("^(sealed|env .+|file .+|clear .+)$"))},
			"servers":   list(&serverShape, func(s *Site) *[]*Server { return &s.Servers }, freshServer),
			"groups":    list(&groupShape, func(s *Site) *[]*Group { return &s.Groups }, blank[Group]),
			"lists":     list(&listShape, func(s *Site) *[]*List { return &s.Lists }, freshList),
			"platforms": list(&platformShape, func(s *Site) *[]*Platform { return &s.Platforms }, freshPlatform),
			"profiles":  list(&profileShape, func(s *Site) *[]*Profile { return &s.Profiles }, freshProfile),
			"devices":   list(&deviceShape, func(s *Site) *[]*Device { return &s.Devices }, freshDevice),
			"devices-from": {read: readInventories, form: oneOrMore(
				form{"anyOf": []any{textForm(), exportShape.form()}})},
			"accounts": list(&accountShape, func(s *Site) *[]*Account { return &s.Accounts }, freshAccount),
			"elevation-secrets": list(&elevationShape, func(s *Site) *[]*ElevationSecret { return &s.Elevations },
				freshElevation),
			"people":      list(&personShape, func(s *Site) *[]*Person { return &s.People }, blank[Person]),
			"teams":       list(&teamShape, func(s *Site) *[]*Team { return &s.Teams }, blank[Team]),
			"directories": refsField("directories", func(s *Site) *[]Ref { return &s.directories }),
			"roles":       list(&roleShape, func(s *Site) *[]*Role { return &s.Roles }, blank[Role]),
			"grants":      list(&grantShape, func(s *Site) *[]*Grant { return &s.Grants }, freshGrant),
			"clients":     list(&clientShape, func(s *Site) *[]*Client { return &s.Clients }, freshClient),
			"vendors":     list(&vendorShape, func(s *Site) *[]*Vendor { return &s.Vendors }, blank[Vendor]),
			"accept":      list(&acceptanceShape, func(s *Site) *[]*Acceptance { return &s.Accepted }, freshAcceptance),
			"labels":      list(&labelShape, func(s *Site) *[]*LabelValue { return &s.LabelValues }, freshLabel),
			"service":     {read: readService, form: serviceShape.form()},
			"rates":       {read: readRates, form: ratesShape.form()},
			"lab":         {read: readLab, form: labShape.form()},
		},
	}
})

// readKeys reads the keys: NAME: sealed | env VARIABLE | file PATH | clear VALUE.
func readKeys(r *reader, n *yaml.Node, s *Site) {
	if n.Tag == "!!null" {
		return
	}
	r.secrets = true
	defer func() { r.secrets = false }()
	r.pairs(n, "keys", "one line for each key", func(name, value *yaml.Node) {
		ref, ok := r.name(name, "a key")
		if !ok {
			return
		}
		text, ok := r.scalar(value, "the key "+ref.Name)
		if !ok {
			s.Keys = append(s.Keys, &Key{Ref: ref})
			return
		}
		how, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
		rest = strings.TrimSpace(rest)
		k := &Key{Ref: ref, Source: KeySource(how), From: rest}
		switch {
		case how == "sealed" && rest == "":
		case how == "clear" && rest != "":
			k.From, k.Clear = "", NewSecret(rest)
		case (how == "env" || how == "file") && rest != "":
		default:
			r.wrong(value, "the key %s must be written as \"sealed\", \"env VARIABLE\", \"file PATH\" or \"clear "+
				"VALUE\"",
				ref.Name)
		}
		s.Keys = append(s.Keys, k)
	})
}

// Export is a program that gives the devices of a file. It is run by who serves the site,
// or asks for it, and never by who only reads it.
type Export struct {
	Run   []string // the program and its arguments; a path in it starts from the site's folder
	Into  Ref      // the file, which is replaced when what came out is a site without a mistake
	Every time.Duration
	Place Place
}

var exportShape = shape[Export]{
	what: "a program of devices-from",
	fields: map[string]field[Export]{
		"run": {form: listForm(textForm()), read: func(r *reader, n *yaml.Node, e *Export) {
			r.each(n, "run", func(item *yaml.Node) {
				if text, ok := r.scalar(item, "run"); ok {
					e.Run = append(e.Run, text)
				}
			})
		}},
		"into": {form: textForm(), read: func(r *reader, n *yaml.Node, e *Export) {
			text, _ := r.scalar(n, "into")
			e.Into = Ref{Name: text, Place: r.place(n)}
		}},
		"every": durationField("every", time.Minute, 7*24*time.Hour,
			func(e *Export) *time.Duration { return &e.Every }),
	},
	must: []string{"run", "into"},
}

func readInventories(r *reader, n *yaml.Node, s *Site) {
	if n.Kind == yaml.MappingNode {
		readExport(r, n, s)
		return
	}
	r.each(n, "devices-from", func(item *yaml.Node) {
		if item.Kind == yaml.MappingNode {
			readExport(r, item, s)
		} else if text, ok := r.scalar(item, "devices-from"); ok {
			s.Inventories = append(s.Inventories, Ref{Name: text, Place: r.place(item)})
		}
	})
}

func readExport(r *reader, n *yaml.Node, s *Site) {
	e := Export{Place: r.place(n)}
	exportShape.read(r, n, &e)
	if e.Into.Name != "" && len(e.Run) > 0 {
		s.Exports = append(s.Exports, e)
		s.Inventories = append(s.Inventories, e.Into)
	}
}

func freshAcceptance(r *reader, n *yaml.Node) Acceptance { return Acceptance{Place: r.place(n)} }

var acceptanceShape = shape[Acceptance]{
	what: "an accepted finding",
	fields: map[string]field[Acceptance]{
		"code": {read: func(r *reader, n *yaml.Node, a *Acceptance) {
			a.Code, _ = r.scalar(r.currentValue(n, renamedFindings), "code")
		}, form: textForm()},
		"device": nameField("device", func(a *Acceptance) *Ref { return &a.Device }),
		"why":    textOf("why", func(a *Acceptance) *string { return &a.Why }),
		"until":  {read: func(r *reader, n *yaml.Node, a *Acceptance) { r.day(n, &a.Until) }, form: dayForm()},
	},
	must: []string{"code", "why"},
}

func freshLabel(r *reader, n *yaml.Node) LabelValue {
	return LabelValue{Trusted: true, Place: r.place(n)}
}

var labelShape = shape[LabelValue]{
	what: "a label value",
	fields: map[string]field[LabelValue]{
		"label":   textOf("label", func(l *LabelValue) *string { return &l.Label }),
		"value":   textOf("value", func(l *LabelValue) *string { return &l.Value }),
		"trusted": boolField("trusted", func(l *LabelValue) *bool { return &l.Trusted }),
	},
	must: []string{"label", "value", "trusted"},
}

func dayForm() form { return form{"type": "string", "pattern": "^[0-9]{4}-[0-9]{2}-[0-9]{2}$"} }

// readLab reads where a lab puts the site's addresses.
func readLab(r *reader, n *yaml.Node, s *Site) {
	s.Lab.Place = r.place(n)
	labShape.read(r, n, &s.Lab)
}

var labShape = shape[Lab]{
	what: "lab",
	fields: map[string]field[Lab]{
		"network": {read: func(r *reader, n *yaml.Node, l *Lab) {
			text, ok := r.scalar(n, "network")
			if !ok {
				return
			}
			p, err := ParseLabNetwork(text)
			if err != nil {
				r.wrong(n, "%s", err)
				return
			}
			l.Network = p
		}, form: textForm()},
		"only":   boolField("only", func(l *Lab) *bool { return &l.Only }),
		"people": list(&personShape, func(l *Lab) *[]*Person { return &l.People }, blank[Person]),
	},
}

// ParseLabNetwork reads a network of loopback addresses for a lab: an IPv4
// prefix within 127.0.0.0/8 of /8 to /24, not holding 127.0.0.1.
func ParseLabNetwork(text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(text)
	loop := netip.MustParsePrefix("127.0.0.0/8")
	if err != nil || !p.Addr().Is4() || !loop.Contains(p.Addr()) || p.Bits() < 8 || p.Bits() > 24 ||
		p.Masked().Contains(netip.MustParseAddr("127.0.0.1")) {
		return p, fmt.Errorf("the lab's network is %q; a loopback network such as 127.77.0.0/16 is wanted, from /9 "+
			"to /24 and without 127.0.0.1", shorten(text))
	}
	return p.Masked(), nil
}
