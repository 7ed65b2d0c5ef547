package phrase

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Limits are what a make has room for: a design beyond them cannot be on a device of it.
type Limits struct {
	Servers    map[string]int      // the most of a protocol
	Groups     map[string]int      // the most of a protocol
	SameForAll []string            // fields of servers that a device says once for all of them
	Names      map[About]NameLimit // of what it has by name
}

// NameLimit is what a name can be. Zero fields bound nothing.
type NameLimit struct {
	Longest    int
	Characters string // those that it can have: letters, digits, and the signs themselves
}

// Limits returns what the make has room for.
func (b *Book) Limits() Limits { return b.limits }

// Takes tells what is wrong with a name, "" for nothing.
func (n NameLimit) Takes(name string) string {
	if n.Longest > 0 && len([]rune(name)) > n.Longest {
		return "it is longer than the make takes"
	}
	if n.Characters == "" {
		return ""
	}
	words := strings.Fields(n.Characters)
	for _, c := range name {
		letter, digit := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z', c >= '0' && c <= '9'
		if letter && slices.Contains(words, "letters") || digit && slices.Contains(words, "digits") ||
			slices.Contains(words, string(c)) {
			continue
		}
		return "the make takes no " + string(c) + " in it"
	}
	return ""
}

func (l *loader) limits(n *yaml.Node) {
	counts := func(what string, to *map[string]int) func(*yaml.Node) {
		return func(n *yaml.Node) {
			*to = map[string]int{}
			l.pairs(n, what, func(key, value *yaml.Node) {
				most := atoi(l.text(value, what))
				if most < 1 {
					l.wrong(value, "%s of a protocol are bounded by a number from 1 on", what)
				}
				(*to)[l.oneOf(key, "the protocol", protocols)] = most
			})
		}
	}
	o := &l.book.limits
	l.fields(n, "limits", map[string]func(*yaml.Node){
		"servers": counts("servers", &o.Servers),
		"groups":  counts("groups", &o.Groups),
		"same-for-all": func(n *yaml.Node) {
			for _, v := range l.texts(n, "same-for-all") {
				if l.hasField(v, Server, v.Value) {
					o.SameForAll = append(o.SameForAll, v.Value)
				}
			}
		},
	})
}

func (l *loader) names(n *yaml.Node) {
	l.book.limits.Names = map[About]NameLimit{}
	l.pairs(n, "names", func(key, value *yaml.Node) {
		about := About(l.oneOf(key, "what has names", []string{
			string(Server), string(Group), string(List), string(Account)}))
		var limit NameLimit
		l.fields(value, "the names of a "+string(about), map[string]func(*yaml.Node){
			"longest": func(n *yaml.Node) {
				if limit.Longest = atoi(l.text(n, "longest")); limit.Longest < 1 {
					l.wrong(n, "longest is a number of characters, from 1 on")
				}
			},
			"characters": func(n *yaml.Node) { limit.Characters = l.text(n, "characters") },
		})
		l.book.limits.Names[about] = limit
	})
}
