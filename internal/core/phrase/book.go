// Package phrase reads what a device says of its own configuration, and says what it should
// hold, by a phrasebook: a file in which a user has written down, for a make of device, how
// it says each fact. A phrase is a line with holes, such as "gate <name> at <address>".
//
// A text is read line by line and nothing of it is kept but the facts: layout.go makes
// statements of lines, compare.go compares them with phrases, read.go makes records of
// them. The other way, write.go says records in the phrases that read them, and plan.go goes
// from what a text says to what is wanted: steps.go has the lines, numbers.go and order.go
// what has a place among others, arrange.go an order in which each step is safe. The package
// knows no make, opens no file, and shows no secret that it was not asked for.
package phrase

import (
	"maps"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/phrase/pattern"
	"mellowgate/internal/core/phrase/talk"
)

// Book is a phrasebook.
type Book struct {
	Make         string
	File         string
	layout       layout
	tables       map[string]*table
	types        map[string]*valueType
	defaultRules []defaultRule
	every        []every
	known        map[string]bool   // literal words of the phrases, folded
	literals     []string          // the same, in order
	telling      map[string]bool   // those after which a secret may follow
	territory    []pattern.Pattern // of statements that are ours
	pass         []pattern.Pattern // of statements of ours that are of no concern
	version      pattern.Pattern   // the line that says the version of a text, "" for none
	limits       Limits
	talk         *talk.Talk
	given        version   // that of the texts, nil where it is not given
	phrases      []*phrase // at the top, in the order of the file
	all          []*phrase // every phrase
	logPatterns  []*phrase // of logs and counters
}

// Place is a position in a phrasebook or a text.
type Place struct{ Line, Column int }

// layout is how lines are put together.
type layout struct {
	sections string // indent, braces, end-word or paths
	endWords []string
	takeBack map[string]string // words before a line that take it back, and what stands there otherwise, "" for nothing
	escape   byte              // before a mark within quotes that is a letter of it, 0 for none
	comment  string
	quote    byte // 0 for none
	anyCase  bool
	cell     string   // between the cells of a row of a table, "" for none
	heading  []string // the words above the columns of a table that are told by where they begin
	noise    []pattern.Pattern
	opens    []pattern.Pattern // of lines that open a section and that no phrase reads, for end-word
	keyedBy  []string          // elements that name the one around them, for tags
	around   []pattern.Pattern // of lines whose sections only surround: what stands in them is read as at the top
	block    pattern.Pattern   // begins a text of several lines that is never looked into
	blockEnd string            // the hole of block whose value ends it
	end      pattern.Pattern   // the last line of a whole text
	goesOn   string            // a line that ends with it goes on in the next, "" for none
	wrapped  int               // a line of as many characters goes on in the next, 0 for none
}

// Sections that a layout can have.
const (
	byIndent  = "indent"
	byBraces  = "braces"
	byEndWord = "end-word"
	byPaths   = "paths"
	byFields  = "fields" // [heading], and name = value below it
	byTags    = "tags"   // elements with tags
)

var sectionKinds = []string{byIndent, byBraces, byEndWord, byPaths, byFields, byTags}

// About is what a phrase says something of.
type About string

// What there is to say something of.
const (
	Device    About = "device"
	Interface About = "interface"
	Server    About = "server"
	Group     About = "group"
	List      About = "list"
	Way       About = "way"
	Account   About = "account"
	Secret    About = "secret"   // of an elevation
	Template  About = "template" // what others are like
)

// fields are what can be said of each, by name; those with true take several values in
// order.
var fields = withTemplates(map[About]map[string]bool{
	Device: {"timeout": false, "attempts": false, "dead-time": false, "source": false, "network": false, "key": false,
		"active": false, "name": false, "address": false, "interface": false, "protocol": false},
	Interface: {"name": false, "address": true},
	Server: {"name": false, "mark": false, "protocol": false, "address": false, "port": false,
		"authentication-port": false, "accounting-port": false, "key": false, "timeout": false, "attempts": false,
		"dead-time": false, "source": false, "network": false, "interface": false, "message-authenticator": false},
	Group: {"name": false, "protocol": false, "servers": true, "network": false, "source": false, "interface": false},
	List: {"name": false, "purpose": false, "mark": false, "levels": false, "when": false, "methods": true,
		"only": true, "ways": true},
	Way: {"open": true, "access": false, "lines": false, "state": false, "purpose": false, "list": false,
		"methods": true,
		"from":    true},
	Account: {"name": false, "mark": false, "level": false, "password": false, "role": false, "login": false},
	Secret:  {"name": false, "level": false, "password": false},
})

// withTemplates adds what others are like: anything can be like a template, and a template
// can say what anything can.
func withTemplates(of map[About]map[string]bool) map[About]map[string]bool {
	template := map[string]bool{}
	for _, about := range []About{Server, Group, List, Way, Account} {
		maps.Copy(template, of[about])
	}
	for _, purpose := range purposes() { // a way names its list for each
		of[Way][purpose], template[purpose] = false, false
	}
	of[Template] = template
	for _, fields := range of {
		fields["template"] = true
	}
	return of
}

// identity is the field that tells one record from another of its kind.
// A phrase binds one of these sets; the first that it binds holds.
var identity = map[About][][]string{
	Device:    {{"protocol"}, {}},
	Interface: {{"name"}},
	Server:    {{"name"}, {"protocol", "mark"}, {"address"}},
	Group:     {{"name"}, {"protocol"}},
	List:      {{"name", "purpose"}},
	Way:       {{"access", "lines"}, {"access"}},
	Account:   {{"name"}},
	Secret:    {{"name"}, {"level"}},
	Template:  {{"name"}},
}

// phrase is one way to say something.
type phrase struct {
	place Place
	about About
	own   bool // it names its subject itself, and does not take the one of its section
	say   pattern.Pattern
	text  string          // as the book has it
	types pattern.Pattern // what is typed, where that differs from what is shown
	undo  pattern.Pattern // what takes it back, where the layout has no word for that
	where map[string][]string
	again string   // what a second line does to a field with several values: "" adds to them
	order string   // of a field with several values: "", byMark or lastFirst
	lists []string // in a way: the purposes of a list without a name; about a list: its purposes
	when  span
	below []*phrase
	used  int
}

// Orders of the lines that say one value each.
const (
	byMark    = "mark"       // by the number that the line has
	lastFirst = "last-first" // what stands last comes first
)

// againReplaces is that the line says all values at once, and another one other values.
const againReplaces = "replaces"

// every is a group that no line names, of every server of a protocol.
type every struct{ group, protocol string }

// table translates the words of a device.
type table struct {
	name  string
	words []word
}

// word is a word of a device, or several with a hole, and the site's word for it.
type word struct {
	device pattern.Pattern
	site   string // "<hole>" stands for what the hole has
}

// valueType is the form of a value.
type valueType struct {
	name  string
	unit  time.Duration // a number of these; 0: none
	add   int           // the number on the device is less by this
	forms []form        // of secrets
	time  string        // the form of a time, as Go writes it
}

// form is one form of a secret.
type form struct {
	say pattern.Pattern
	as  Secrecy
}

// defaultRule is what holds of a record where no line says it.
type defaultRule struct {
	place Place
	about About
	field string
	value string // a constant
	from  string // "device.FIELD", "device[PROTOCOL].FIELD", or a field of the same record; "" for a constant
	plus  int    // added to it
	which string // the protocol of servers and groups, purpose of lists, access of ways; "" for all
	when  span
}

// Phrases returns how many phrases the book has, and the texts of those that no line was
// read by since it was loaded, in the order of the book.
func (b *Book) Phrases() (all int, unused []string) {
	for _, p := range b.all {
		if p.used == 0 {
			unused = append(unused, p.text)
		}
	}
	return len(b.all), unused
}

// fieldsOf returns the names of the fields of something.
func fieldsOf(a About) []string {
	var names []string
	for f := range fields[a] {
		names = append(names, f)
	}
	slices.Sort(names)
	return names
}

// same reports whether two words are the same for the device.
func (l layout) same(a, b string) bool { return a == b || l.anyCase && strings.EqualFold(a, b) }

// folded is a word as it is compared.
func (l layout) folded(w string) string {
	if l.anyCase {
		return strings.ToLower(w)
	}
	return w
}
