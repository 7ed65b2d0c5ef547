package site

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"
)

// PortNames are how devices of a platform name their ports to servers, by access. A
// name stands for itself with any number behind it, unless it ends in a digit;
// * stands for anything. Upper and lower case are one.
type PortNames map[string][]string

// Access tells the way in from the port that a device names: "ssh4", "console0";
// "" where the name says nothing. Of several names that fit, the one with the most
// letters and digits counts. An access of which the platform says nothing goes by its
// own name.
func (p PortNames) Access(port string) string {
	best, most := "", -1
	for _, access := range accesses {
		names, said := p[access]
		if !said {
			if strings.HasPrefix(strings.ToLower(port), access) && len(access) > most {
				best, most = access, len(access)
			}
			continue
		}
		for _, name := range names {
			if n := strings.ReplaceAll(name, "*", ""); len(n) > most &&
				namesPort(strings.ToLower(name), strings.ToLower(port)) {
				best, most = access, len(n)
			}
		}
	}
	return best
}

// Port returns how a device names a line of a way in to its servers.
func (p PortNames) Port(access string, line int) string {
	name := access
	if names := p[access]; len(names) > 0 {
		name = names[0]
	}
	text := ""
	for n := line; n < line+mostLine; n++ { // a line may have the name of another way in
		switch {
		case strings.Contains(name, "*"):
			text = strings.ReplaceAll(strings.Replace(name, "*", fmt.Sprint(n), 1), "*", "")
		case endsInDigit(name):
			return name
		default:
			text = name + fmt.Sprint(n)
		}
		if p.Access(text) == access {
			break
		}
	}
	return text
}

func endsInDigit(name string) bool {
	return name != "" && name[len(name)-1] >= '0' && name[len(name)-1] <= '9'
}

// namesPort reports whether a port has a name, both in lower case.
func namesPort(name, port string) bool {
	first, rest, any := strings.Cut(name, "*")
	if !any {
		after, has := strings.CutPrefix(port, name)
		letter := after != "" && after[0] >= 'a' && after[0] <= 'z'
		return has && (after == "" || !endsInDigit(name) && !letter)
	}
	port, has := strings.CutPrefix(port, first)
	if !has {
		return false
	}
	for {
		part, more, again := strings.Cut(rest, "*")
		if !again {
			return strings.HasSuffix(port, part)
		}
		position := strings.Index(port, part)
		if position < 0 {
			return false
		}
		port, rest = port[position+len(part):], more
	}
}

// twice returns a name that two ways in have, "" for none.
func (p PortNames) twice() (name, first, second string) {
	by := map[string]string{}
	for _, access := range accesses {
		for _, n := range p[access] {
			n = strings.ToLower(n)
			if other, known := by[n]; known && other != access {
				return n, other, access
			}
			by[n] = access
		}
	}
	return "", "", ""
}

// portNamesShape is port-names: for each way in one name or more.
var portNamesShape = func() shape[PortNames] {
	sh := shape[PortNames]{what: "port-names", fields: map[string]field[PortNames]{}}
	for _, access := range accesses {
		sh.fields[access] = itemsField(access, textForm(), func(r *reader, n *yaml.Node, text string, p *PortNames) {
			if strings.Trim(text, "* ") == "" {
				r.wrong(n, "port-names has %q for %s; the name of a port is wanted, such as line or \"line *\"",
					shorten(text),
					access)
				return
			}
			if *p == nil {
				*p = PortNames{}
			}
			(*p)[access] = append((*p)[access], text)
			if name, first, second := p.twice(); name != "" {
				r.wrong(n, "the port name %q is that of %s and of %s; a server could not tell them apart", name, first,
					second)
			}
		})
	}
	return sh
}()
