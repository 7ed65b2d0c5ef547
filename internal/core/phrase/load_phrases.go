package phrase

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/phrase/pattern"
	"mellowgate/internal/core/site"
)

// deepest bounds sections within sections.
const deepest = 20

func (l *loader) phrases(n *yaml.Node, above About) (all []*phrase) {
	if n.Kind == yaml.AliasNode { // the same section below several lines
		n = n.Alias
	}
	if l.depth++; l.depth > deepest {
		l.wrong(n, "sections stand in sections more than %d deep", deepest)
		return nil
	}
	defer func() { l.depth-- }()
	if n.Kind != yaml.SequenceNode {
		l.wrong(n, "phrases must be a list: - {about: server, say: ...}")
		return nil
	}
	for _, item := range n.Content {
		all = append(all, l.phrase(item, above))
	}
	return all
}

func (l *loader) phrase(n *yaml.Node, above About) *phrase {
	p := &phrase{place: Place{Line: n.Line, Column: n.Column}, about: above, where: map[string][]string{}}
	said := About("")
	var below, say, typed, undo *yaml.Node
	anyOrder := false
	before := len(l.problems)
	l.fields(n, "a phrase", map[string]func(*yaml.Node){
		"about": func(n *yaml.Node) { said = About(l.oneOf(n, "about", abouts())) },
		"say":   func(n *yaml.Node) { say, p.say, p.text = n, l.pattern(n, "the phrase"), n.Value },
		"typed": func(n *yaml.Node) { typed, p.types = n, l.pattern(n, "what is typed") },
		"undo":  func(n *yaml.Node) { undo, p.undo = n, l.pattern(n, "what takes it back") },
		"where": func(n *yaml.Node) {
			l.pairs(n, "where", func(key, value *yaml.Node) {
				for _, v := range l.texts(value, "where") {
					p.where[key.Value] = append(p.where[key.Value], v.Value)
				}
			})
		},
		"again": func(n *yaml.Node) {
			if l.oneOf(n, "again", []string{againReplaces, "adds"}); n.Value == againReplaces {
				p.again = againReplaces
			}
		},
		"order": func(n *yaml.Node) { p.order = l.oneOf(n, "order", []string{byMark, lastFirst}) },
		"lists": func(n *yaml.Node) {
			for _, v := range l.texts(n, "lists") {
				p.lists = append(p.lists, l.oneOf(v, "a purpose", purposes()))
			}
		},
		"below": func(n *yaml.Node) { below = n },
		"since": func(n *yaml.Node) { p.when.since = l.version(n, "since") },
		"until": func(n *yaml.Node) { p.when.until = l.version(n, "until") },
		"any-order": func(n *yaml.Node) {
			if l.oneOf(n, "any-order", []string{"yes", "no", "true", "false"}); n.Value == "yes" || n.Value == "true" {
				anyOrder = true
			}
		},
	})
	if said != "" {
		p.about, p.own = said, true // a phrase at the top always says it
	}
	switch {
	case say == nil:
		l.wrong(n, "a phrase wants the line: say: ...")
		return p
	case p.about == "":
		l.wrong(n, "a phrase wants what it is about: about: %s", strings.Join(abouts(), " | "))
		return p
	}
	if anyOrder {
		p.say = p.say.AnyOrder()
	}
	if len(l.problems) > before { // more would only be said of the same
		return p
	}
	l.holes(say, p)
	for n, other := range map[*yaml.Node]pattern.Pattern{typed: p.types, undo: p.undo} {
		if n != nil {
			one := *p
			one.say = other
			l.holes(n, &one)
			l.book.learn(other)
		}
	}
	if said != "" && identified(p) == nil {
		l.wrong(say, "this line does not tell one %s from another: it wants %s, as a hole or with where", p.about,
			identities(p.about))
	}
	l.book.all = append(l.book.all, p)
	l.book.learn(p.say)
	if below != nil {
		p.below = l.phrases(below, p.about)
	}
	return p
}

// holes checks the holes of a phrase.
func (l *loader) holes(n *yaml.Node, p *phrase) {
	seen := map[string]bool{}
	p.say.Holes(func(hole, as string, many bool) {
		if !l.hasField(n, p.about, hole) {
			return
		}
		if seen[hole] {
			l.wrong(n, "<%s> stands twice in the line", hole)
		}
		seen[hole] = true
		if many && !fields[p.about][hole] {
			l.wrong(n, "<%s>+ takes several values, and a %s has one", hole, p.about)
		}
		if as != "" && l.book.tables[as] == nil && l.book.types[as] == nil {
			l.wrong(n, "there is no type or table %q%s", as, hint(as, l.named()))
			return
		}
		if t := l.book.tables[as]; t != nil {
			l.siteWords(n, t, hole)
		}
	})
	for field, values := range p.where {
		if l.hasField(n, p.about, field) && len(values) > 1 && !seen[field] {
			l.wrong(n, "where says several values of %s: then <%s> must stand in the line", field, field)
		}
	}
}

// siteWords checks that what a table makes of the words of a device is what the site has.
func (l *loader) siteWords(n *yaml.Node, t *table, field string) {
	known := map[string][]string{"purpose": purposes(), "protocol": protocols, "state": {"on", "off"}}[field]
	for _, w := range t.words {
		if known != nil && !strings.Contains(w.site, "<") && !slices.Contains(known, w.site) {
			l.wrong(n, "the table %s makes %q of a word, and the site has no such %s%s", t.name, w.site, field,
				hint(w.site, known))
		}
	}
}

// logPatterns reads what is said of logs and counters: phrases that only read.
func (l *loader) logPatterns(n *yaml.Node) {
	if n.Kind != yaml.SequenceNode {
		l.wrong(n, "tells must be a list: - {say: ..., where: {event: refused}}")
		return
	}
	for _, item := range n.Content {
		p := &phrase{place: Place{Line: item.Line, Column: item.Column}, about: Event, where: map[string][]string{}}
		var say *yaml.Node
		l.fields(item, "what is told", map[string]func(*yaml.Node){
			"about": func(n *yaml.Node) {
				p.about = About(
					l.oneOf(n, "about", []string{string(Event), string(Count)}))
			},
			"say": func(n *yaml.Node) { say, p.say, p.text = n, l.pattern(n, "what is told"), n.Value },
			"where": func(n *yaml.Node) {
				l.pairs(n, "where", func(key, value *yaml.Node) {
					for _, v := range l.texts(value, "where") {
						p.where[key.Value] = append(p.where[key.Value], v.Value)
						if key.Value == "event" {
							l.oneOf(v, "an event", events)
						}
					}
				})
			},
		})
		if say == nil {
			l.wrong(item, "what is told wants the line: say: ...")
			continue
		}
		known := tellFields[p.about]
		check := func(field string) {
			if !slices.Contains(known, field) {
				l.wrong(say, "nothing is told as %q%s", field, hint(field, known))
			}
		}
		p.say.Holes(func(hole, as string, _ bool) {
			check(hole)
			switch t := l.book.types[as]; {
			case as != "" && t == nil && l.book.tables[as] == nil:
				l.wrong(say, "there is no type or table %q%s", as, hint(as, l.named()))
			case hole == "time" && (t == nil || t.time == ""):
				l.wrong(say, "<time> wants a type with the form of the time: types: {stamp: {time: \"MMM D "+
					"hh:mm:ss\"}}, <time as stamp>")
			}
		})
		for field := range p.where {
			check(field)
		}
		l.book.logPatterns = append(l.book.logPatterns, p)
	}
}

func purposes() (all []string) {
	for p := range site.PurposeCount {
		all = append(all, p.String())
	}
	return all
}

func (l *loader) named() (all []string) {
	for name := range l.book.tables {
		all = append(all, name)
	}
	for name := range l.book.types {
		all = append(all, name)
	}
	slices.Sort(all)
	return all
}

// identified returns the fields by which a phrase tells one record from another; nil for none.
func identified(p *phrase) []string {
	have := map[string]bool{}
	p.say.Holes(func(hole, _ string, _ bool) { have[hole] = true })
	for field := range p.where {
		have[field] = true
	}
	if p.about == List && len(p.lists) > 0 {
		have["purpose"] = true
	}
	for _, set := range identity[p.about] {
		if !slices.ContainsFunc(set, func(f string) bool { return !have[f] }) {
			return append([]string{}, set...)
		}
	}
	return nil
}

func identities(a About) string {
	var all []string
	for _, set := range identity[a] {
		all = append(all, "<"+strings.Join(set, "> and <")+">")
	}
	return strings.Join(all, ", or ")
}

// learnWords keeps the literal words of a pattern.
func (b *Book) learnWords(p pattern.Pattern) {
	for _, e := range p.Elements {
		if e.Literal != "" {
			b.known[b.layout.folded(e.Literal)] = true
		}
		for _, o := range e.Options {
			b.learnWords(o)
		}
	}
}

// learn keeps the literal words of a pattern, and which of them a secret may follow.
func (b *Book) learn(p pattern.Pattern) {
	last := ""
	for _, e := range p.Elements {
		switch {
		case e.Literal != "":
			last = b.layout.folded(e.Literal)
			b.known[last] = true
			continue
		case secretFields[e.Hole] && last != "":
			b.telling[last] = true
		}
		for _, o := range e.Options {
			b.learn(o)
		}
	}
}

// numeric are fields whose values are numbers.
var numeric = map[string]bool{"port": true, "authentication-port": true, "accounting-port": true, "attempts": true,
	"mark": true, "level": true}
