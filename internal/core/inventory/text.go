package inventory

import (
	"encoding/json"
	"net/netip"
	"regexp"
	"slices"
	"strings"
)

// plainName is a text that YAML takes for a text without quotes.
var plainName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9._-]*( [A-Za-z][A-Za-z0-9._-]*)*$`)

// notText are words that YAML takes for something else.
var notText = []string{"true", "false", "null", "yes", "no", "on", "off", "y", "n"}

// scalar writes a text so that YAML reads just that.
func scalar(text string) string {
	if plainName.MatchString(text) && !slices.Contains(notText, strings.ToLower(text)) {
		return text
	}
	if a, err := netip.ParseAddr(text); err == nil && a.Is4() {
		return text
	}
	return quoted(text)
}

func quoted(text string) string {
	out, _ := json.Marshal(text) // what JSON quotes, YAML 1.2 reads
	return string(out)
}

// pairs are the keys of a mapping, in order.
type pairs []string

func (p *pairs) add(key, value string) {
	if value != "" {
		*p = append(*p, key+": "+value)
	}
}

func (p *pairs) text(key, value string) {
	if value != "" {
		p.add(key, scalar(value))
	}
}

func (p pairs) String() string { return "{" + strings.Join(p, ", ") + "}" }

// whole is the mapping, "" for an empty one.
func (p pairs) whole() string {
	if len(p) == 0 {
		return ""
	}
	return p.String()
}

func sequence(all []string) string {
	var out []string
	for _, text := range all {
		out = append(out, scalar(text))
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// asking is what is said of how servers are asked.
type asking []asked

type asked struct {
	server string
	says   pairs
}

func (a *asking) add(server string, says pairs) {
	if len(says) > 0 {
		*a = append(*a, asked{server, says})
	}
}

// with adds what another one says.
func (a asking) with(other asking) asking {
	all := slices.Clone(a)
	for _, o := range other {
		if i := slices.IndexFunc(all, func(have asked) bool { return have.server == o.server }); i >= 0 {
			all[i].says = slices.Concat(all[i].says, o.says)
			continue
		}
		all = append(all, o)
	}
	return all
}

// String is the mapping, "" for an empty one.
func (a asking) String() string {
	var p pairs
	for _, one := range a {
		p.add(one.server, one.says.String())
	}
	return p.whole()
}

// siteName returns a name that a site can have: letters, digits and . _ - inside, at most 64.
func siteName(text string) string {
	name := strings.Map(func(c rune) rune {
		if c < 128 && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' ||
			strings.ContainsRune("._-", c)) {
			return c
		}
		return '-'
	}, text)
	name = strings.TrimLeft(name, "._-")
	return name[:min(len(name), 64)]
}

// nameOfFile is the name of a file without its folder and its last ending.
func nameOfFile(file string) string {
	name := file[strings.LastIndexAny(file, `/\`)+1:]
	if index := strings.LastIndexByte(name, '.'); index > 0 {
		name = name[:index]
	}
	return siteName(name)
}
