package rights

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/site"
)

// longestCarried is the most octets that the value of an attribute of a vendor has
// (RFC 2865, section 5.26).
const longestCarried = 247

// CommandAttributes returns the attributes that carry a role's command rules to a device
// of a platform, none for a platform that takes none. A rule that does not fit is left out.
func CommandAttributes(role *site.Role, platform *site.Platform) []Attribute {
	c := platform.Commands
	if c == nil {
		return nil
	}
	rules := slices.Clone(role.Commands)
	if all := func(r site.Rule) bool { return len(r.Words) == 1 && r.Words[0] == "**" }; !slices.ContainsFunc(rules,
		all) &&
		(c.NeitherAllowed || len(rules) == 0) {
		rules = append(rules, site.Rule{Words: []string{"**"}}) // what no rule names is refused: the device is told
	}
	var values []Attribute
	places := map[string]int{}
	for _, r := range rules {
		name, form := c.Refuse, c.RefuseForm
		if r.Allow {
			name, form = c.Allow, c.AllowForm
		}
		if name == "" {
			continue
		}
		value := strings.Replace(form, site.CommandPlace, c.Written(r.Words), 1)
		i, has := places[name]
		switch {
		case len(value) > longestCarried:
		case c.Between == "" || !has:
			places[name] = len(values)
			values = append(values, Attribute{Name: name, Value: value})
		case len(values[i].Value)+len(c.Between)+len(value) <= longestCarried:
			values[i].Value += c.Between + value
		}
	}
	return values
}

// CarriedCommands returns the command rules that the attributes of an answer carry to a
// device of a platform, in the order in which the device takes them; the last stands for
// every command that no other names. It is false where they carry none: then nothing
// limits commands there.
func CarriedCommands(attributes []Attribute, platform *site.Platform) ([]site.Rule, bool) {
	c := platform.Commands
	if c == nil {
		return nil, false
	}
	var inOrder, allowed, refused []site.Rule
	for _, a := range attributes {
		if a.Name != c.Allow && a.Name != c.Refuse {
			continue
		}
		values := []string{a.Value}
		if c.Between != "" {
			values = strings.Split(a.Value, c.Between)
		}
		for _, v := range values {
			r, ok := c.Read(a.Name, v)
			if !ok {
				continue
			}
			inOrder = append(inOrder, r)
			if r.Allow {
				allowed = append(allowed, r)
			} else {
				refused = append(refused, r)
			}
		}
	}
	switch {
	case len(inOrder) == 0:
		return nil, false
	case c.Allow == c.Refuse:
	case c.BothAllowed:
		inOrder = slices.Concat(allowed, refused)
	default:
		inOrder = slices.Concat(refused, allowed)
	}
	rest := site.Rule{Allow: c.NeitherAllowed, Words: []string{"**"}, Text: "refuse **"}
	if rest.Allow {
		rest.Text = "allow **"
	}
	return append(inOrder, rest), true
}

// Passes reports whether a command passes rules that a device holds, and which of them
// decides.
func Passes(rules []site.Rule, line string) (bool, site.Rule) {
	args, whole := SplitLine(line)
	if !whole {
		return false, site.Rule{}
	}
	for _, r := range rules {
		if Matches(r.Words, args, false) {
			return r.Allow, r
		}
	}
	return false, site.Rule{}
}

// MiscarriedCommand returns a command about which a role and the rules that a device of a
// platform is given for it differ: one that the role refuses and the device would allow before
// any other. It is "" where they agree about every command.
func MiscarriedCommand(role *site.Role, platform *site.Platform) (command string, allowed bool) {
	held, any := CarriedCommands(CommandAttributes(role, platform), platform)
	if !any {
		held = []site.Rule{{Allow: true, Words: []string{"**"}}}
	}
	stricter := ""
	for _, args := range samples(append(slices.Clone(role.Commands), held...)) {
		line := strings.Join(args, " ")
		passes, _ := Passes(held, line)
		d := permits(role, args)
		switch {
		case passes && !d:
			return line, true
		case !passes && d && stricter == "":
			stricter = line
		}
	}
	return stricter, false
}

// permits reports whether a role allows a command.
func permits(role *site.Role, args []string) bool {
	for _, r := range role.Commands {
		if Applies(r, args, role.Exact) {
			return r.Allow
		}
	}
	return false
}

// Allowed returns a command that a role allows, "" where it allows none.
func Allowed(role *site.Role) string {
	for _, args := range samples(role.Commands) {
		if permits(role, args) {
			return strings.Join(args, " ")
		}
	}
	return ""
}

// samples returns a command for each set of commands that the rules can tell apart by two
// of them: for what any two have in common, its most general members, of each length that
// matters.
func samples(rules []site.Rule) [][]string {
	longest := 1
	for _, r := range rules {
		longest = max(longest, len(r.Words)+1)
	}
	seen := map[string]bool{}
	var commands [][]string
	add := func(words []string) {
		for n := 1; n <= longest; n++ {
			args, fits := general(words, n)
			if key := strings.Join(args, " "); fits && !seen[key] {
				seen[key] = true
				commands = append(commands, args)
			}
		}
	}
	for i, a := range rules {
		add(a.Words)
		for _, b := range rules[:i] {
			if words, meet := common(a.Words, b.Words); meet {
				add(words)
			}
		}
	}
	return commands
}

// general returns the most general command of n words that fits the words of a rule:
// with words of its own where the rule takes any.
func general(words []string, n int) ([]string, bool) {
	open := len(words) > 0 && words[len(words)-1] == "**"
	if open {
		words = words[:len(words)-1]
	}
	if n < len(words) || !open && n != len(words) {
		return nil, false
	}
	args := make([]string, n)
	for i := range args {
		if args[i] = fmt.Sprintf("any%d", i+1); i < len(words) && words[i] != "*" {
			args[i] = words[i]
		}
	}
	return args, true
}

// common returns the words of a rule for what two rules both name; false for nothing.
func common(a, b []string) ([]string, bool) {
	var words []string
	for i := 0; ; i++ {
		endA, endB := i == len(a), i == len(b)
		switch {
		case !endA && a[i] == "**":
			return append(words, b[min(i, len(b)):]...), true
		case !endB && b[i] == "**":
			return append(words, a[min(i, len(a)):]...), true
		case endA && endB:
			return words, true
		case endA || endB:
			return nil, false
		case a[i] == "*" || strings.EqualFold(a[i], b[i]):
			words = append(words, b[i])
		case b[i] == "*":
			words = append(words, a[i])
		default:
			return nil, false
		}
	}
}
