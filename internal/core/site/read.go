package site

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/nearest"
)

// Source is one file of a site: its name as it is to be shown, and its text.
type Source struct {
	Name string
	Text []byte
}

// reader turns the nodes of one file into values and notes every problem, so
// that one run reports all of them.
type reader struct {
	file     int32
	source   Source
	problems *Problems
	secrets  bool // in a part of the file whose values are not shown
}

func (r *reader) place(n *yaml.Node) Place {
	return Place{File: r.file, Line: int32(n.Line), Column: int32(n.Column)}
}

func (r *reader) ref(n *yaml.Node) Ref { return Ref{Name: n.Value, Place: r.place(n)} }

// wrong notes a problem at n.
func (r *reader) wrong(n *yaml.Node, format string, args ...any) {
	r.wrongAt(r.place(n), fmt.Sprintf(format, args...))
}

func (r *reader) wrongAt(p Place, what string) {
	line := lineOf(r.source.Text, int(p.Line))
	if at := strings.IndexByte(line, ':'); r.secrets && at >= 0 {
		line = line[:at] + ": (not shown)"
	}
	*r.problems = append(*r.problems, Problem{
		Where: fmt.Sprintf("%s:%d:%d", r.source.Name, p.Line, p.Column),
		What:  what, Line: line, place: p,
	})
}

// lineOf returns line number n of text, from 1, without its end, or "" where it
// is not printable. What may be a secret is taken out of it: see hidden.
func lineOf(text []byte, n int) string {
	for ; n > 1; n-- {
		at := bytes.IndexByte(text, '\n')
		if at < 0 {
			return ""
		}
		text = text[at+1:]
	}
	if at := bytes.IndexByte(text, '\n'); at >= 0 {
		text = text[:at]
	}
	line := strings.ReplaceAll(strings.TrimRight(string(text), "\r"), "\t", " ")
	if !utf8.ValidString(line) || strings.ContainsFunc(line, func(c rune) bool { return c < ' ' || c == 0x7f }) {
		return "" // not text that helps anyone
	}
	return hidden(line)
}

// hidden takes what could be a clear secret out of a line that is to be
// printed: what follows the word clear, password or key value.
func hidden(line string) string {
	for _, word := range []string{"clear ", "password:", "$argon2", "$2", "$5$", "$6$", "$scrypt", "$pbkdf2"} {
		if at := strings.Index(line, word); at >= 0 {
			return line[:at] + strings.TrimRight(word, " ") + " (not shown)"
		}
	}
	return line
}

// field is one key of a mapping: how it is read into v, and what may stand
// there, for the schema.
type field[T any] struct {
	read func(r *reader, n *yaml.Node, v *T)
	form form
}

// shape is what a mapping may hold: the keys that are read, and those that
// must be there.
type shape[T any] struct {
	what   string // "a server", for messages
	fields map[string]field[T]
	must   []string
}

// form returns the schema of the mapping.
func (s shape[T]) form() form {
	properties := form{}
	for name, f := range s.fields {
		properties[name] = f.form
	}
	f := form{"type": "object", "additionalProperties": false, "properties": properties}
	if len(s.must) > 0 {
		f["required"] = s.must
	}
	return f
}

// read reads the mapping n into v. It reports keys that are unknown, given
// twice, or missing.
func (s shape[T]) read(r *reader, n *yaml.Node, v *T) {
	if !r.is(n, yaml.MappingNode, s.what, "keys and values") {
		return
	}
	seen := make(map[string]*yaml.Node, len(n.Content)/2)
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, value := n.Content[i], n.Content[i+1]
		if first, twice := seen[k.Value]; twice {
			r.wrong(k, "the key %q stands twice in %s, first in line %d; keep one", k.Value, s.what, first.Line)
			continue
		}
		seen[k.Value] = k
		if f, known := s.fields[k.Value]; known {
			f.read(r, value, v)
		} else {
			r.wrong(k, "unknown key %q in %s%s", k.Value, s.what, nearest.Suggest(k.Value, s.names()))
		}
	}
	for _, key := range s.must {
		if seen[key] == nil {
			r.wrong(n, "%s needs the key %q", s.what, key)
		}
	}
}

func (s shape[T]) names() []string {
	names := make([]string, 0, len(s.fields))
	for k := range s.fields {
		names = append(names, k)
	}
	sort.Strings(names)
	return names
}

// is checks the form of a node and reports another one.
func (r *reader) is(n *yaml.Node, kind yaml.Kind, what, wanted string) bool {
	if n.Kind == kind {
		return true
	}
	found := map[yaml.Kind]string{yaml.ScalarNode: "a single value", yaml.SequenceNode: "a list",
		yaml.MappingNode: "keys and values", yaml.AliasNode: "an alias"}[n.Kind]
	switch {
	case n.Kind == yaml.AliasNode:
		r.wrong(n, "aliases (*name) are not used in a site file; put what is shared into a profile")
	case n.Kind == yaml.ScalarNode && n.Tag == "!!null":
		r.wrong(n, "%s is empty; %s wanted", what, wanted)
	default:
		r.wrong(n, "%s is %s; %s wanted", what, found, wanted)
	}
	return false
}

// scalar returns the text of a single value.
func (r *reader) scalar(n *yaml.Node, what string) (string, bool) {
	if !r.is(n, yaml.ScalarNode, what, "a single value") {
		return "", false
	}
	if n.Tag == "!!null" {
		r.wrong(n, "%s is empty; a value is wanted", what)
		return "", false
	}
	return n.Value, true
}

// each calls do for every item of a list. A single value stands for a list of one.
func (r *reader) each(n *yaml.Node, what string, do func(item *yaml.Node)) {
	if n.Kind == yaml.ScalarNode && n.Tag != "!!null" {
		do(n)
		return
	}
	if !r.is(n, yaml.SequenceNode, what, "a list") {
		return
	}
	for _, item := range n.Content {
		do(item)
	}
}

// name checks a name: [A-Za-z0-9][A-Za-z0-9._-]*, up to 64.
func (r *reader) name(n *yaml.Node, what string) (Ref, bool) {
	text, ok := r.scalar(n, what)
	if !ok {
		return Ref{}, false
	}
	if !isName(text) {
		r.wrong(n, "%q cannot be %s: a name starts with a letter or digit, then letters, digits, '.', '_' or '-', 64 at most",
			shorten(text), what)
		return Ref{}, false
	}
	return r.ref(n), true
}

func isName(s string) bool {
	if s == "" || len(s) > 64 {
		return false
	}
	for i, c := range []byte(s) {
		alnum := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
		if !alnum && (i == 0 || c != '.' && c != '_' && c != '-') {
			return false
		}
	}
	return true
}

// shorten cuts a value that is quoted in a message.
func shorten(s string) string {
	s = strings.ToValidUTF8(s, "\uFFFD")
	if r := []rune(s); len(r) > 40 {
		return string(r[:37]) + "..."
	}
	return s
}

// document parses one file to its top node. A nil node is a file with nothing
// in it.
func (r *reader) document() *yaml.Node {
	var top yaml.Node
	decoder := yaml.NewDecoder(bytes.NewReader(r.source.Text))
	if err := decoder.Decode(&top); err != nil {
		if !errors.Is(err, io.EOF) { // nothing in it, or comments only
			r.syntax(err)
		}
		return nil
	}
	var second yaml.Node
	if err := decoder.Decode(&second); err == nil {
		r.wrong(&second, "a site file is one document; take out the line \"---\" and what does not belong here")
		return nil
	} else if errors.As(err, new(*yaml.LoadError)) {
		r.syntax(err)
		return nil
	}
	if top.Kind != yaml.DocumentNode || len(top.Content) == 0 || top.Content[0].Tag == "!!null" {
		return nil
	}
	return top.Content[0]
}

// syntax reports text that is not YAML.
func (r *reader) syntax(err error) {
	at, what := Place{File: r.file, Line: 1, Column: 1}, err.Error()
	var load *yaml.LoadError
	if errors.As(err, &load) {
		what = load.Message
		if load.Mark.Line > 0 {
			at.Line, at.Column = int32(load.Mark.Line), int32(load.Mark.Column+1)
		}
	}
	if bytes.IndexByte(r.source.Text, 0) >= 0 {
		what = "it holds binary data"
	}
	r.wrongAt(at, "this is not YAML: "+strings.TrimPrefix(what, "yaml: ")+"; look at this line and the one before it")
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}
