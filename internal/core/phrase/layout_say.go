package phrase

import (
	"fmt"
	"strings"
	"unicode"
)

// Text returns the lines of sentences, as the layout puts them; with secrets in them, or with
// marks in their place. The error says which word the layout cannot have.
func (b *Book) Text(sentences []*Sentence, secrets bool) ([]string, error) {
	s := saying{layout: b.layout, secrets: secrets}
	if b.layout.sections == byTags {
		return nil, fmt.Errorf("the make says its settings in elements, and this program reads those and does not " +
			"write them")
	}
	s.lines(sentences, 0)
	if s.wrong != nil {
		return nil, s.wrong
	}
	return s.out, nil
}

type saying struct {
	layout  layout
	secrets bool
	out     []string
	wrong   error
}

func (s *saying) lines(sentences []*Sentence, depth int) {
	for _, one := range sentences {
		text := s.line(one)
		indent := strings.Repeat(" ", depth)
		switch s.layout.sections {
		case byBraces:
			switch {
			case len(one.Below) > 0 || one.phrase != nil && len(one.phrase.below) > 0:
				s.out = append(s.out, strings.Repeat("  ", depth)+text+" {")
				s.lines(one.Below, depth+1)
				s.out = append(s.out, strings.Repeat("  ", depth)+"}")
			case s.row(one):
				s.out = append(s.out, text)
			default:
				s.out = append(s.out, strings.Repeat("  ", depth)+text+";")
			}
			continue
		case byFields:
			if depth == 0 {
				text = "[" + text + "]"
			}
			indent = ""
		case byPaths:
			indent = ""
		}
		s.out = append(s.out, indent+text)
		s.lines(one.Below, depth+1)
		if s.layout.sections == byEndWord && one.phrase != nil && len(one.phrase.below) > 0 {
			s.out = append(s.out, indent+s.layout.endWords[0])
		}
	}
}

// shown returns what stands in the place of a secret.
func (w spoken) shown() string {
	if w.stands != "" {
		return w.stands
	}
	return "…"
}

// row reports whether a sentence is a row of a table.
func (s *saying) row(one *Sentence) bool {
	return s.layout.cell != "" && len(one.words) > 0 && one.words[0].text == "row"
}

func (s *saying) line(one *Sentence) string {
	var words []string
	for _, w := range one.words {
		if w.secret && !s.secrets {
			words = append(words, w.shown())
			continue
		}
		words = append(words, s.word(w.text))
	}
	if s.row(one) {
		return strings.Join(words[1:], " "+s.layout.cell+" ")
	}
	return strings.Join(words, " ")
}

// word returns a word as it is typed, in quotes where it would else be several, or another.
func (s *saying) word(text string) string {
	l := s.layout
	special := " \t"
	if l.sections == byBraces {
		special += "{};"
	}
	plain := text != "" && !strings.ContainsAny(text, special) &&
		(l.comment == "" || !strings.Contains(text, l.comment)) &&
		(l.quote == 0 || strings.IndexByte(text, l.quote) < 0)
	switch {
	case strings.ContainsFunc(text, unicode.IsControl):
		s.wrong = fmt.Errorf("a word has a character that would end the line")
	case plain:
		return text
	case l.quote == 0:
		s.wrong = fmt.Errorf("%q is no one word of the make, and it has no quotes", text)
	case strings.IndexByte(text, l.quote) >= 0 && l.escape == 0:
		s.wrong = fmt.Errorf("a word has the make's own quote in it, which it cannot say")
	case l.escape != 0:
		marks := string(l.escape) + string(l.quote)
		var quoted strings.Builder
		for _, c := range text {
			if strings.ContainsRune(marks, c) {
				quoted.WriteByte(l.escape)
			}
			quoted.WriteRune(c)
		}
		text = quoted.String()
	}
	return string(l.quote) + text + string(l.quote)
}
