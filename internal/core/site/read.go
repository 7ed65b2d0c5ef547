package site

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
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
	// Lines says for each line which line of Name it stands for, 0 for none; nil for text
	// that stands in Name as it is.
	Lines []int
	// Replaces lets its devices take the place of those of the same names in sources before
	// it, with the platform, addresses and labels that it does not say.
	Replaces bool
}

// reader turns the nodes of one file into values and notes every problem, so
// that one run reports all of them.
type reader struct {
	file     int32
	source   Source
	problems *Problems
	secrets  bool     // in a part of the file whose values are not shown
	broken   []extent // entries in which something is wrong
	starts   []int    // where each line begins, once a line was looked for
	renamed  []Renamed
}

// mostProblems is how many problems of a site are noted; with so many, more say
// nothing new.
const mostProblems = 1000

// mostParts is how many lists, mappings and entries of them a file may have: what
// takes a few seconds to read.
const mostParts = 2_000_000

// parts counts what begins or parts entries in a text, roughly.
func parts(text []byte) int {
	n := bytes.Count(text, []byte("{")) + bytes.Count(text, []byte("[")) + bytes.Count(text, []byte(","))
	return n + bytes.Count(text, []byte("\n"))
}

// extent is the lines that an entry takes up.
type extent struct{ first, last int32 }

// breaks notes that an entry could not be read whole.
func (r *reader) breaks(n *yaml.Node) {
	r.broken = append(r.broken, extent{first: int32(n.Line), last: lastLine(n)})
}

// lastLine is the line on which the last part of a node begins.
func lastLine(n *yaml.Node) int32 {
	last := int32(n.Line)
	for _, c := range n.Content {
		last = max(last, lastLine(c))
	}
	return last
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
	if len(*r.problems) >= mostProblems {
		return
	}
	line := r.line(int(p.Line))
	if position := strings.IndexByte(line, ':'); r.secrets && position >= 0 {
		line = line[:position] + ": (not shown)"
	}
	*r.problems = append(*r.problems, Problem{
		Where: fmt.Sprintf("%s:%d:%d", r.source.Name, p.Line, p.Column),
		What:  what, Line: line, place: p,
	})
}

// longestLine is how much of a line is looked at, in octets.
const longestLine = 4096

// line returns line number n of the file, from 1, without its end, or "" where it
// is not printable. What may be a secret is taken out of it: see hidden.
func (r *reader) line(n int) string {
	if r.starts == nil {
		r.starts = []int{0}
		for i, c := range r.source.Text {
			if c == '\n' {
				r.starts = append(r.starts, i+1)
			}
		}
	}
	if n < 1 || n > len(r.starts) {
		return ""
	}
	text := r.source.Text[r.starts[n-1]:]
	if position := bytes.IndexByte(text, '\n'); position >= 0 {
		text = text[:position]
	}
	if len(text) > longestLine {
		text = text[:longestLine]
		for len(text) > 0 && !utf8.Valid(text[len(text)-1:]) { // not in the middle of a character
			text = text[:len(text)-1]
		}
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
		if position := strings.Index(line, word); position >= 0 {
			return line[:position] + strings.TrimRight(word, " ") + " (not shown)"
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
	what    string // "a server", for messages
	fields  map[string]field[T]
	must    []string
	renamed map[string]string // keys of a version before, by what they are called now
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
	seen, cut := make(map[string]*yaml.Node, len(n.Content)/2), false
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, value := n.Content[i], n.Content[i+1]
		key := r.current(k, s.renamed)
		if first, twice := seen[key]; twice {
			r.twice(k, first, key, s.what)
			continue
		}
		seen[key] = k
		switch f, known := s.fields[key]; {
		case known:
			f.read(r, value, v)
		case ofHash(k.Value):
			if !cut { // each comma of it makes a key
				r.wrong(n, "a password hash in {...} is cut at its commas; put it in quotes: password: "+
					"\"$argon2id$...\"")
			}
			cut = true
		default:
			r.wrong(k, "unknown key %q in %s%s", shorten(k.Value), s.what, s.meant(k.Value))
		}
	}
	for _, key := range s.must {
		if seen[key] == nil {
			r.wrong(n, "%s needs the key %q", s.what, key)
		}
	}
}

// ofHash reports whether a key is a part of a password hash that YAML cut at its
// commas, such as t=2 and p=1$SALT$HASH.
var ofHash = regexp.MustCompile(`^([a-z]{1,8}=[0-9]|.*\$)`).MatchString

// meant suggests the key that was meant: the nearest one, or ours for a word of
// the trade.
func (s shape[T]) meant(typed string) string {
	names := s.names()
	for _, ours := range tradeWords[strings.ToLower(strings.ReplaceAll(typed, "_", "-"))] {
		if contains(names, ours) {
			return `; here it is called "` + ours + `"`
		}
	}
	return nearest.Suggest(typed, names)
}

// tradeWords are words that people of the trade use for keys of the site file,
// with the keys that may be meant: the first that may stand in a place is.
var tradeWords = map[string][]string{
	"secret": {"key", "password"}, "shared-secret": {"key"}, "shared-key": {"key"}, "secrets": {"keys"},
	"pass": {"password"}, "host": {"address", "addresses"}, "hosts": {"addresses", "devices"},
	"hostname": {"name", "address"}, "ip": {"address", "addresses"}, "ip-address": {"address", "addresses"},
	"addr": {"address", "addresses"}, "addresses": {"address"}, "address": {"addresses"},
	"fqdn": {"name", "address"}, "id": {"name"}, "title": {"site", "name"}, "wait": {"timeout"},
	"retries": {"attempts"}, "tries": {"attempts"}, "retry": {"attempts"}, "retransmit": {"attempts"},
	"rest": {"dead-time"}, "deadtime": {"dead-time"}, "hold-time": {"dead-time"}, "type": {"protocol", "platform"},
	"proto": {"protocol"}, "auth-port": {"ports", "port"}, "acct-port": {"ports", "port"},
	"udp-port": {"ports", "port"}, "tcp-port": {"port"}, "members": {"servers"}, "order": {"methods"},
	"method": {"methods"}, "sources": {"methods"}, "model": {"platform"}, "make": {"platform"}, "vendor": {"platform"},
	"os":    {"platform"},
	"types": {"platforms"}, "models": {"platforms"}, "makes": {"platforms"},
	"template": {"profile"}, "templates": {"profiles"}, "users": {"people"}, "user": {"people", "name", "who"},
	"username": {"name"}, "persons": {"people"}, "administrators": {"people"}, "admins": {"people"},
	"nas": {"devices"}, "routers": {"devices"}, "switches": {"devices"}, "policies": {"grants"},
	"policy": {"grants"}, "permissions": {"grants"}, "rights": {"grants", "role"},
	"rules": {"grants", "commands"}, "roles": {"role"}, "group": {"teams", "groups"}, "groups": {"teams"},
	"team": {"teams"}, "privilege": {"level"}, "priv": {"level"}, "privilege-level": {"level"},
	"priv-lvl": {"level"}, "local-users": {"accounts"}, "local": {"accounts"},
	"authentication": {"authenticate", "login"}, "authorization": {"authorize"}, "accounting": {"account"},
	"hash": {"password"}, "aaa": {"lists"}, "method-lists": {"lists"}, "server-groups": {"groups"},
	"enabled": {"disabled"}, "active": {"disabled"}, "expiry": {"expires"}, "valid-until": {"expires"},
	"tags": {"labels"}, "enable": {"elevation"}, "source-address": {"source"}, "source-ip": {"source"},
	"certificate": {"tls"}, "inventory": {"devices-from"}, "description": {"about"}, "comment": {"about", "why"},
	"line": {"lines"},
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
		r.wrong(n, "%q cannot be %s: a name starts with a letter or digit, then letters, digits, '.', '_' or '-', "+
			"64 at most",
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
	if n := parts(r.source.Text); n > mostParts {
		r.wrongAt(Place{File: r.file, Line: 1, Column: 1}, fmt.Sprintf(
			"the file has about %d entries, and %d are the most; split the site into several files in a folder", n,
			mostParts))
		return nil
	}
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
	place, what := Place{File: r.file, Line: 1, Column: 1}, err.Error()
	var load *yaml.LoadError
	if errors.As(err, &load) {
		what = load.Message
		if load.Mark.Line > 0 {
			place.Line, place.Column = int32(load.Mark.Line), int32(load.Mark.Column+1)
		}
	}
	if bytes.IndexByte(r.source.Text, 0) >= 0 {
		what = "it holds binary data"
	}
	if line, column := indentedByTab(r.source.Text, int(place.Line)); line > 0 {
		r.wrongAt(Place{File: r.file, Line: int32(line), Column: int32(column)},
			"a tab stands before the text of this line; YAML takes only blanks there: put two blanks in place of "+
				"each tab")
		return
	}
	r.wrongAt(place, "this is not YAML: "+strings.TrimPrefix(
		what, "yaml: ")+"; look at this line and the one before it")
}

// indentedByTab finds a tab before the text of a line, from the line before the
// given one to the next, and returns its line and column, or 0.
func indentedByTab(text []byte, near int) (line, column int) {
	for i, l := range bytes.Split(text, []byte("\n")) {
		if i+1 < near-1 || i > near {
			continue
		}
		indent := l[:len(l)-len(bytes.TrimLeft(l, " \t-"))]
		if position := bytes.IndexByte(indent, '\t'); position >= 0 {
			return i + 1, position + 1
		}
	}
	return 0, 0
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}
