package phrase

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/phrase/pattern"
	"mellowgate/internal/core/site"
)

// Problem is one thing that is wrong in a phrasebook.
type Problem struct {
	File  string
	Place Place
	What  string
}

// Error returns the place and what is wrong.
func (p Problem) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Place.Line, p.Place.Column, p.What)
}

// Problems is all that is wrong in a phrasebook, in the order of the file.
type Problems []Problem

// Error returns one problem a line.
func (p Problems) Error() string {
	var all []string
	for _, one := range p {
		all = append(all, one.Error())
	}
	return strings.Join(all, "\n")
}

// Load reads a phrasebook. The error, if any, is Problems.
func Load(file string, text []byte) (*Book, error) {
	l := &loader{book: &Book{File: file, tables: map[string]*table{}, types: map[string]*valueType{},
		known: map[string]bool{}, telling: map[string]bool{}}}
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return nil, Problems{{File: file, Place: Place{Line: 1, Column: 1}, What: "it is not YAML: " + err.Error()}}
	}
	if len(doc.Content) == 0 {
		return nil, Problems{{File: file, Place: Place{Line: 1, Column: 1}, What: "the file is empty"}}
	}
	l.top(doc.Content[0])
	if len(l.problems) == 0 {
		l.ambiguous(l.book.phrases, false)
	}
	if len(l.problems) > 0 {
		slices.SortStableFunc(l.problems, func(a, b Problem) int {
			if a.Place.Line != b.Place.Line {
				return a.Place.Line - b.Place.Line
			}
			return a.Place.Column - b.Place.Column
		})
		return nil, slices.Compact(l.problems) // of a section that stands below several lines all is said once
	}
	for w := range l.book.known {
		l.book.literals = append(l.book.literals, w)
	}
	slices.Sort(l.book.literals)
	return l.book, nil
}

type loader struct {
	book     *Book
	depth    int // of the section that is read
	problems Problems
}

func (l *loader) wrong(n *yaml.Node, format string, args ...any) {
	l.problems = append(l.problems, Problem{File: l.book.File, Place: Place{Line: n.Line, Column: n.Column},
		What: fmt.Sprintf(format, args...)})
}

// fields reads a map of which the fields are known.
func (l *loader) fields(n *yaml.Node, what string, read map[string]func(*yaml.Node)) {
	l.pairs(n, what, func(key, value *yaml.Node) {
		do, known := read[key.Value]
		if !known {
			var names []string
			for name := range read {
				names = append(names, name)
			}
			slices.Sort(names)
			l.wrong(key, "%s has no %q%s", what, key.Value, hint(key.Value, names))
			return
		}
		do(value)
	})
}

// hint says which word may be meant, or else which there are.
func hint(word string, known []string) string {
	if len(known) == 1 {
		return "; write " + known[0]
	}
	if near := nearest.Suggest(word, known); near != "" || len(known) == 0 {
		return near
	}
	return "; write one of " + strings.Join(known, ", ")
}

// pairs calls do for each pair of a map.
func (l *loader) pairs(n *yaml.Node, what string, do func(key, value *yaml.Node)) {
	if n.Kind != yaml.MappingNode {
		l.wrong(n, "%s must be a map: NAME: VALUE", what)
		return
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i]
		if seen[key.Value] {
			l.wrong(key, "%q is said twice; keep one", key.Value)
			continue
		}
		seen[key.Value] = true
		do(key, n.Content[i+1])
	}
}

func (l *loader) text(n *yaml.Node, what string) string {
	if n.Kind != yaml.ScalarNode {
		l.wrong(n, "%s must be a text", what)
		return ""
	}
	return n.Value
}

// texts reads a text, or several.
func (l *loader) texts(n *yaml.Node, what string) (all []*yaml.Node) {
	if n.Kind == yaml.SequenceNode {
		for _, item := range n.Content {
			if item.Kind != yaml.ScalarNode {
				l.wrong(item, "%s must be texts", what)
				continue
			}
			all = append(all, item)
		}
		return all
	}
	if n.Kind != yaml.ScalarNode {
		l.wrong(n, "%s must be a text, or several", what)
		return nil
	}
	return []*yaml.Node{n}
}

// oneOf reads a text that must be one of some.
func (l *loader) oneOf(n *yaml.Node, what string, words []string) string {
	text := l.text(n, what)
	if text != "" && !slices.Contains(words, text) {
		l.wrong(n, "%s is not %q%s", what, text, hint(text, words))
	}
	return text
}

func (l *loader) pattern(n *yaml.Node, what string) pattern.Pattern {
	text := l.text(n, what)
	p, err := pattern.Parse(text)
	if err != nil && n.Kind == yaml.ScalarNode {
		l.wrong(n, "%s cannot be read: %v", what, err)
	}
	return p
}

func (l *loader) patterns(n *yaml.Node, what string) (all []pattern.Pattern) {
	for _, item := range l.texts(n, what) {
		all = append(all, l.pattern(item, what))
	}
	return all
}

func (l *loader) top(n *yaml.Node) {
	b := l.book
	var phrases, tells *yaml.Node
	if n.Kind == yaml.MappingNode && !slices.ContainsFunc(n.Content,
		func(n *yaml.Node) bool { return n.Value == "phrasebook" }) {
		l.wrong(n, "it does not say \"phrasebook: 1\", so it is another kind of file; start one with: mellowgate "+
			"phrasebook new FILE")
		return
	}
	l.fields(n, "a phrasebook", map[string]func(*yaml.Node){
		"phrasebook": func(n *yaml.Node) { l.oneOf(n, "the version of a phrasebook", []string{"1"}) },
		"make":       func(n *yaml.Node) { b.Make = l.text(n, "make") },
		"layout":     l.layout,
		"tables": func(n *yaml.Node) {
			l.pairs(n, "tables", func(key, value *yaml.Node) { b.tables[key.Value] = l.table(key.Value, value) })
		},
		"types": func(n *yaml.Node) {
			l.pairs(n, "types", func(key, value *yaml.Node) { b.types[key.Value] = l.valueType(key.Value, value) })
		},
		"version": func(n *yaml.Node) {
			b.version = l.pattern(n, "the line with the version")
			found := false
			b.version.Holes(func(hole, _ string, _ bool) { found = found || hole == versionHole })
			if !found {
				l.wrong(n, "the line with the version wants <version>, such as \"release <version>\"")
			}
		},
		"unsaid": func(n *yaml.Node) { l.pairs(n, "unsaid", l.unsaid) },
		"every-server": func(n *yaml.Node) {
			l.pairs(n, "every-server", func(key, value *yaml.Node) {
				b.every = append(b.every, every{group: value.Value, protocol: l.oneOf(key, "the protocol", protocols)})
			})
		},
		"territory": func(n *yaml.Node) { b.territory = l.patterns(n, "the territory") },
		"pass":      func(n *yaml.Node) { b.pass = l.patterns(n, "pass") },
		"limits":    l.limits,
		"talk":      l.talk,
		"names":     l.names,
		"phrases":   func(n *yaml.Node) { phrases = n },
		"tells":     func(n *yaml.Node) { tells = n },
	})
	switch {
	case n.Kind != yaml.MappingNode:
		return
	case b.layout.sections == "":
		l.wrong(n, "it says no layout: layout: {sections: %s}", strings.Join(sectionKinds, " | "))
	case phrases == nil:
		l.wrong(n, "it has no phrases")
	}
	for _, t := range b.tables {
		for _, w := range t.words {
			b.learnWords(w.device)
		}
	}
	for _, p := range slices.Concat(b.territory, b.pass) {
		b.learnWords(p)
	}
	if phrases != nil && len(l.problems) == 0 {
		b.phrases = l.phrases(phrases, "")
	}
	if tells != nil {
		l.logPatterns(tells)
	}
}

var protocols = []string{string(site.RADIUS), string(site.TACACS)}

func (l *loader) layout(n *yaml.Node) {
	o := &l.book.layout
	l.fields(n, "the layout", map[string]func(*yaml.Node){
		"sections": func(n *yaml.Node) { o.sections = l.oneOf(n, "sections", sectionKinds) },
		"end-word": func(n *yaml.Node) {
			for _, v := range l.texts(n, "end-word") {
				o.endWords = append(o.endWords, v.Value)
			}
		},
		"take-back": func(n *yaml.Node) {
			o.takeBack = map[string]string{}
			if n.Kind == yaml.MappingNode { // the word stands in the place of another one
				l.pairs(n, "take-back", func(back, instead *yaml.Node) {
					o.takeBack[back.Value] = l.text(instead, "the word in whose place it stands")
				})
				return
			}
			for _, v := range l.texts(n, "take-back") {
				o.takeBack[v.Value] = ""
			}
		},
		"comment": func(n *yaml.Node) { o.comment = l.text(n, "comment") },
		"cell":    func(n *yaml.Node) { o.cell = l.text(n, "cell") },
		"table": func(n *yaml.Node) {
			if o.heading = strings.Fields(l.text(n, "table")); len(o.heading) < 2 {
				l.wrong(n, "table has the words above the columns of a table, such as \"name rank word\"")
			}
		},
		"goes-on": func(n *yaml.Node) { o.goesOn = l.text(n, "goes-on") },
		"wrapped": func(n *yaml.Node) {
			if o.wrapped = atoi(l.text(n, "wrapped")); o.wrapped < 20 || o.wrapped > 1000 {
				l.wrong(n, "wrapped is the width at which the device breaks lines, 20 to 1000")
			}
		},
		"quote": func(n *yaml.Node) {
			if text := l.text(n, "quote"); len(text) == 1 {
				o.quote = text[0]
			} else {
				l.wrong(n, "quote must be one mark, such as '\"'")
			}
		},
		"escape": func(n *yaml.Node) {
			if text := l.text(n, "escape"); len(text) == 1 {
				o.escape = text[0]
			} else {
				l.wrong(n, "escape must be one mark, such as '\\'")
			}
		},
		"words": func(n *yaml.Node) {
			o.anyCase = l.oneOf(n, "words", []string{"any-case", "exact"}) == "any-case"
		},
		"noise": func(n *yaml.Node) { o.noise = l.patterns(n, "noise") },
		"opens": func(n *yaml.Node) { o.opens = l.patterns(n, "opens") },
		"keyed-by": func(n *yaml.Node) {
			for _, v := range l.texts(n, "keyed-by") {
				o.keyedBy = append(o.keyedBy, v.Value)
			}
		},
		"around": func(n *yaml.Node) { o.around = l.patterns(n, "around") },
		"end":    func(n *yaml.Node) { o.end = l.pattern(n, "end") },
		"block": func(n *yaml.Node) {
			l.fields(n, "block", map[string]func(*yaml.Node){
				"starts": func(n *yaml.Node) { o.block = l.pattern(n, "starts") },
				"ends":   func(n *yaml.Node) { o.blockEnd = l.text(n, "ends") },
			})
			found := false
			o.block.Holes(func(hole, _ string, _ bool) { found = found || hole == o.blockEnd })
			if !found {
				l.wrong(n, "ends must name the hole of starts whose value ends the text, such as {starts: "+
					"\"greeting <mark>\", ends: mark}")
			}
		},
	})
	if o.goesOn != "" && o.wrapped > 0 {
		l.wrong(n, "goes-on is for a mark at the end of a line, and wrapped for lines that break without one: keep one")
	}
	if o.sections == byEndWord && len(o.endWords) == 0 {
		l.wrong(n, "sections: end-word wants the word: end-word: WORD")
	}
}

func (l *loader) table(name string, n *yaml.Node) *table {
	t := &table{name: name}
	l.pairs(n, "the table "+name, func(key, value *yaml.Node) {
		t.words = append(t.words, word{device: l.pattern(key, "a word of the table "+name),
			site: l.text(value, "the site's word")})
	})
	// Words without a hole come first: "<n>" takes what no other word is.
	slices.SortStableFunc(t.words, func(a, b word) int { return openness(a.device) - openness(b.device) })
	return t
}

// openness returns how many holes a pattern has.
func openness(p pattern.Pattern) (n int) {
	p.Holes(func(string, string, bool) { n++ })
	return n
}

func (l *loader) valueType(name string, n *yaml.Node) *valueType {
	t := &valueType{name: name}
	l.fields(n, "the type "+name, map[string]func(*yaml.Node){
		"unit": func(n *yaml.Node) {
			var err error
			if t.unit, err = time.ParseDuration(l.text(n, "unit")); err != nil || t.unit <= 0 {
				l.wrong(n, "unit is a time such as 1s, 100ms or 1m")
			}
		},
		"add": func(n *yaml.Node) {
			var err error
			if t.add, err = strconv.Atoi(l.text(n, "add")); err != nil {
				l.wrong(n, "add is a number: what is to be added to the number on the device")
			}
		},
		"time": func(n *yaml.Node) {
			var ok bool
			if t.time, ok = timeLayout(l.text(n, "time")); !ok {
				l.wrong(n, "time is the form of a time, such as \"YYYY-MM-DD hh:mm:ss\" or \"MMM D hh:mm:ss\"")
			}
		},
		"forms": func(n *yaml.Node) {
			l.pairs(n, "forms", func(key, value *yaml.Node) {
				as := Secrecy(l.oneOf(value, "a form",
					[]string{string(Clear), string(Hidden), string(Hash), string(Mark)}))
				t.forms = append(t.forms, form{say: l.pattern(key, "a form"), as: as})
			})
		},
	})
	return t
}

// Unsaid values are written ABOUT.FIELD or ABOUT[WHICH].FIELD: VALUE.
var (
	unsaidKey  = regexp.MustCompile(`^([a-z]+)(?:\[([a-z0-9+-]+)\])?\.([a-z-]+)$`)
	unsaidFrom = regexp.MustCompile(`^(device(?:\[[a-z]+\])?\.)?([a-z]+(?:-[a-z]+)*)(?: \+ ([0-9]{1,5}))?$`)
)

func (l *loader) unsaid(key, value *yaml.Node) {
	m := unsaidKey.FindStringSubmatch(key.Value)
	if m == nil {
		l.wrong(key, "what is unsaid is written WHAT.FIELD: VALUE or WHAT[WHICH].FIELD: VALUE, such as "+
			"server[radius].authentication-port: 1812")
		return
	}
	u := defaultRule{place: Place{Line: key.Line, Column: key.Column}, about: About(m[1]), which: m[2], field: m[3]}
	if !l.hasField(key, u.about, u.field) {
		return
	}
	if value.Kind != yaml.MappingNode {
		l.unsaidValue(u, l.text(value, "what is unsaid"))
		return
	}
	l.pairs(value, "what is unsaid, by versions", func(since, value *yaml.Node) {
		one := u
		one.when.since = l.version(since, "the version since which this holds")
		l.unsaidValue(one, l.text(value, "what is unsaid"))
	})
	// the newest first: the first that holds is taken
	slices.SortStableFunc(l.book.defaultRules, func(a, b defaultRule) int {
		if a.place != b.place || a.when.since == "" {
			return 0
		}
		return versionOf(b.when.since).compare(versionOf(a.when.since))
	})
}

// version reads a version that bounds something.
func (l *loader) version(n *yaml.Node, what string) string {
	text := l.text(n, what)
	if versionOf(text) == nil {
		l.wrong(n, "%s is no version: it begins with a number, such as \"6.2\"", what)
		return ""
	}
	return text
}

func (l *loader) unsaidValue(u defaultRule, text string) {
	u.value = text
	if f := unsaidFrom.FindStringSubmatch(u.value); f != nil {
		of := u.about
		if f[1] != "" {
			of = Device
		}
		if _, ok := fields[of][f[2]]; ok {
			u.from, u.plus = f[1]+f[2], atoi(f[3])
		}
	}
	l.book.defaultRules = append(l.book.defaultRules, u)
}

func atoi(text string) int {
	n, _ := strconv.Atoi(text)
	return n
}

// hasField reports whether something has a field, and says so where it has not.
func (l *loader) hasField(n *yaml.Node, about About, field string) bool {
	if fields[about] == nil {
		l.wrong(n, "nothing is called %q%s", about, hint(string(about), abouts()))
		return false
	}
	if _, ok := fields[about][field]; !ok {
		l.wrong(n, "a %s has no field %q%s", about, field, hint(field, fieldsOf(about)))
		return false
	}
	return true
}

func abouts() (all []string) {
	for a := range fields {
		all = append(all, string(a))
	}
	slices.Sort(all)
	return all
}
