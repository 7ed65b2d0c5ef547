package phrase

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/phrase/pattern"
)

// ambiguous finds phrases of one section that read one line in two ways.
func (l *loader) ambiguous(phrases []*phrase, section bool) {
	for i, p := range phrases {
		for _, q := range phrases[i+1:] {
			if section && apart(p, q) || p.when.apart(q.when) {
				continue
			}
			if line, both := l.book.bothRead(p, q); both {
				l.problems = append(l.problems, Problem{File: l.book.File, Place: q.place,
					What: fmt.Sprintf("two phrases read the line %q: %s and %s", line, p.text, q.text)})
			}
		}
		l.ambiguous(p.below, true)
	}
}

// apart reports whether two phrases of a section want different things of what the section
// is about.
func apart(p, q *phrase) bool {
	for field, wanted := range p.where {
		other := q.where[field]
		if other != nil && !slices.ContainsFunc(wanted, func(w string) bool { return slices.Contains(other, w) }) {
			return true
		}
	}
	return false
}

// graph is a phrase as a graph: each way through it is a line, and each edge stands for one word.
type graph struct {
	edges [][]edge // from each node; the first node is the beginning
	end   int
}

// edge leads to a node, by a word that fits, or by none where fits is nil.
type edge struct {
	to   int
	fits func(word string) bool
	like []string // words that fit
}

func (g *graph) node() int {
	g.edges = append(g.edges, nil)
	return len(g.edges) - 1
}

func (g *graph) edge(from, to int, fits func(string) bool, like ...string) {
	g.edges[from] = append(g.edges[from], edge{to: to, fits: fits, like: like})
}

// graph returns the lines that a phrase reads.
func (b *Book) graph(p *phrase) *graph {
	g := &graph{}
	g.end = b.path(g, p, p.say.Elements, g.node())
	return g
}

// path adds elements from a node on, and returns the node where they end.
func (b *Book) path(g *graph, p *phrase, elements []pattern.Element, from int) int {
	for _, e := range elements {
		from = b.step(g, p, e, from)
	}
	return from
}

func anyWord(string) bool { return true }

func (b *Book) step(g *graph, p *phrase, e pattern.Element, from int) int {
	to := g.node()
	switch {
	case e.Rest:
		g.edge(from, from, anyWord)
		g.edge(from, to, nil)
	case e.Any:
		g.edge(from, to, anyWord)
	case e.Literal != "":
		g.edge(from, to, func(w string) bool { return b.layout.same(w, e.Literal) }, e.Literal)
	case len(e.Parts) > 0:
		g.edge(from, to, func(w string) bool {
			return e.FitsWord(comparing{b}, w)
		}, strings.Join(b.sample(&phrase{say: pattern.Pattern{Elements: []pattern.Element{e}}}), ""))
	case e.Unordered:
		g.edge(from, to, nil)
		for _, o := range e.Options { // once or more often: what is wrongly found is found early
			g.edge(b.path(g, p, o.Elements, from), from, nil)
		}
	case e.Optional:
		g.edge(from, to, nil)
		g.edge(b.path(g, p, e.Options[0].Elements, from), to, nil)
	case len(e.Options) > 0:
		for _, o := range e.Options {
			g.edge(b.path(g, p, o.Elements, from), to, nil)
		}
	case e.Commas:
		listed := func(w string) bool { return strings.HasSuffix(w, ",") }
		g.edge(from, from, listed, "x7,")
		g.edge(from, to, func(w string) bool { return !listed(w) }, b.sampleOf(e.Hole, e.As)...)
	case e.Between != "":
		begin := g.node()
		g.edge(from, begin, nil)
		b.hole(g, p, e, begin, to)
		g.edge(to, begin, func(w string) bool { return b.layout.same(w, e.Between) }, e.Between)
	case e.Many:
		begin := g.node()
		g.edge(from, begin, nil)
		b.hole(g, p, e, begin, to)
		g.edge(to, begin, nil)
	default:
		b.hole(g, p, e, from, to)
	}
	return to
}

// hole adds the words of a hole: one, or those of its table or of the forms of its type.
func (b *Book) hole(g *graph, p *phrase, e pattern.Element, from, to int) {
	wanted := p.where[e.Hole]
	one := func(w string) bool { _, ok := b.valueOf(e.Hole, e.As, []string{w}); return ok }
	say := func(device pattern.Pattern, site string) {
		if wanted == nil || strings.Contains(site, "<") || slices.Contains(wanted, site) {
			g.edge(b.path(g, &phrase{}, device.Elements, from), to, nil)
		}
	}
	t, of := b.tables[e.As], b.types[e.As]
	switch {
	case t != nil:
		for _, w := range t.words {
			say(w.device, w.site)
		}
	case of != nil && len(of.forms) > 0:
		for _, f := range of.forms {
			say(f.say, "<>")
		}
	default:
		g.edge(from, to, one, b.sampleOf(e.Hole, e.As)...)
	}
}

// bothRead returns a line that two phrases read.
func (b *Book) bothRead(p, q *phrase) (string, bool) {
	type state struct{ p, q int }
	one, two := b.graph(p), b.graph(q)
	words := []string{"x7"}
	for _, g := range []*graph{one, two} {
		for _, from := range g.edges {
			for _, e := range from {
				words = append(words, e.like...)
			}
		}
	}
	seen, queue := map[state]bool{{}: true}, []state{{}}
	line := map[state]string{{}: ""}
	visit := func(to state, text string) {
		if !seen[to] {
			seen[to], line[to] = true, text
			queue = append(queue, to)
		}
	}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		if at.p == one.end && at.q == two.end {
			text := strings.TrimSpace(line[at])
			return text, text != ""
		}
		for _, e := range one.edges[at.p] {
			if e.fits == nil {
				visit(state{e.to, at.q}, line[at])
				continue
			}
			for _, f := range two.edges[at.q] {
				if f.fits == nil {
					continue
				}
				some := slices.Concat(e.like, f.like, words)
				if i := slices.IndexFunc(some, func(w string) bool { return e.fits(w) && f.fits(w) }); i >= 0 {
					visit(state{e.to, f.to}, line[at]+" "+some[i])
				}
			}
		}
		for _, f := range two.edges[at.q] {
			if f.fits == nil {
				visit(state{at.p, f.to}, line[at])
			}
		}
	}
	return "", false
}

// sample returns the shortest line that a phrase reads.
func (b *Book) sample(p *phrase) []string {
	var words []string
	for _, e := range p.say.Elements {
		switch {
		case e.Literal != "":
			words = append(words, e.Literal)
		case len(e.Parts) > 0:
			text := ""
			for _, part := range e.Parts {
				text += part.Literal
				if part.Hole != "" {
					text += strings.Join(b.sampleOf(part.Hole, part.As), "")
				}
			}
			words = append(words, text)
		case e.Optional, e.Rest, e.Unordered:
		case len(e.Options) > 0:
			words = append(words, b.sample(&phrase{say: e.Options[0]})...)
		default:
			words = append(words, b.sampleOf(e.Hole, e.As)...)
		}
	}
	return words
}

// sampleOf returns words of a device for a value.
func (b *Book) sampleOf(hole, as string) []string {
	if t := b.tables[as]; t != nil && len(t.words) > 0 {
		return b.sample(&phrase{say: t.words[0].device})
	}
	t := b.types[as]
	switch {
	case t != nil && len(t.forms) > 0:
		return b.sample(&phrase{say: t.forms[0].say})
	case t != nil || as == "" && numeric[hole]:
		return []string{"7"}
	case hole == "address":
		return []string{"192.0.2.7"}
	}
	return []string{"x7"}
}
