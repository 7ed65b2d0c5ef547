package phrase

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// tags reads elements with tags: each is a statement NAME ATTRIBUTE=VALUE... TEXT, with its
// attributes in the order of their names, and stands below the element around it. Their
// comments and declarations mean nothing.
func (r *parser) tags(text io.Reader) error {
	counted := &counting{in: text}
	d := xml.NewDecoder(counted)
	d.Strict = false
	var open []openElement
	say := func(opens bool) { // of every element that is open, from the outside in, what was not said yet
		for i := range open {
			e := &open[i]
			if e.said {
				continue
			}
			e.said, e.key = true, false
			words := append(e.words, strings.Fields(e.body)...)
			r.statement(statement{words: words, line: e.line, depth: i, opens: opens || i < len(open)-1})
		}
	}
	for {
		token, err := d.Token()
		line, _ := d.InputPos()
		r.lines.line = line
		switch t := token.(type) {
		case xml.StartElement:
			n := len(open)
			key := n > 0 && !open[n-1].said && !open[n-1].key && slices.Contains(r.book.layout.keyedBy, t.Name.Local)
			if !key {
				say(true)
			}
			e := openElement{words: []string{t.Name.Local}, line: line, key: key}
			slices.SortFunc(t.Attr, func(a, b xml.Attr) int { return strings.Compare(a.Name.Local, b.Name.Local) })
			for _, a := range t.Attr {
				if a.Name.Space != "xmlns" && a.Name.Local != "xmlns" {
					e.words = append(e.words, a.Name.Local+"="+a.Value)
				}
			}
			open = append(open, e)
		case xml.EndElement:
			last := len(open) - 1
			if e := open[last]; e.key { // it names the element around it
				open[last-1].words = append(open[last-1].words,
					t.Name.Local+"="+strings.Join(strings.Fields(e.body), " "))
			} else {
				say(false)
			}
			open = open[:last]
		case xml.CharData:
			if n := len(open); n > 0 && len(open[n-1].body)+len(t) < longestLine {
				open[n-1].body += string(t)
			}
		case xml.Comment:
			r.findVersion(string(t))
		}
		if err == nil {
			continue
		}
		r.text.Lines = counted.lines + min(1, counted.since)
		var syntax *xml.SyntaxError
		switch {
		case errors.Is(err, io.EOF) && len(open) == 0:
			return nil
		case !errors.Is(err, io.EOF) && !errors.As(err, &syntax):
			return err
		}
		r.broken = true
		if len(open) > 0 && (syntax == nil || strings.Contains(syntax.Msg, "EOF")) {
			say(false)
			r.note(line, "the element %s has no end: the text is cut off", open[len(open)-1].words[0])
			return nil
		}
		r.note(line, "the elements are not well formed here (%s): what follows was not read", syntax.Msg)
		return nil
	}
}

// openElement is an element that is open.
type openElement struct {
	words []string
	body  string
	line  int
	said  bool
	key   bool // it may name the element around it: nothing of that was said yet
}

// counting counts lines, and refuses one that is too long for a configuration.
type counting struct {
	in    io.Reader
	lines int
	since int
}

func (c *counting) Read(to []byte) (n int, err error) {
	n, err = c.in.Read(to)
	for _, b := range to[:n] {
		c.since++
		if b == '\n' {
			c.lines, c.since = c.lines+1, 0
		}
	}
	if c.since > longestLine {
		return 0, fmt.Errorf("line %d has more than a million octets: this is no text of a device", c.lines+1)
	}
	return n, err
}
