package call

import (
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/findings"
	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

var SeverityTone = map[findings.Severity]show.Tone{findings.Error: show.Bad, findings.Warning: show.Careful,
	findings.Note: show.Faint}

func NamesIn[T any](values []T, name func(T) string) []string {
	names := make([]string, len(values))
	for i, one := range values {
		names[i] = name(one)
	}
	return names
}

func FewNames(names []string) string {
	const most = 8
	if len(names) > most {
		return strings.Join(names[:most], ", ") + fmt.Sprintf(", %d more", len(names)-most)
	}
	return strings.Join(names, ", ")
}

// RulesText shows rules that a device holds; the last of them is about the rest.
func RulesText(rules []site.Rule) string {
	if len(rules) == 0 {
		return ""
	}
	var some []string
	for _, r := range rules[:len(rules)-1] {
		some = append(some, r.Text)
	}
	rest := "; the rest is refused"
	if rules[len(rules)-1].Allow {
		rest = "; the rest is allowed"
	}
	return strings.Join(some, ", ") + rest
}

func WhenText(c foresee.Case) string {
	when := make([]foresee.Named, len(c.When))
	for i, w := range c.When {
		when[i] = foresee.Named{Server: w.Server.Name, State: w.State}
	}
	return NamedText(when)
}

// NamedText puts states into words, those that are not up first.
func NamedText(when []foresee.Named) string {
	var parts []string
	for _, state := range []foresee.State{foresee.Down, foresee.Closed, foresee.KeyDiffers, foresee.ClientUnknown,
		foresee.InError, foresee.Up} {
		var servers []string
		for _, w := range when {
			if w.State == state {
				servers = append(servers, w.Server)
			}
		}
		if len(servers) > 0 {
			parts = append(parts, strings.Join(servers, ", ")+" "+string(state))
		}
	}
	if len(parts) == 0 {
		return "always"
	}
	return strings.Join(parts, "; ")
}

func Times(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return fmt.Sprintf("%d times", n)
}

func AddNew(all []string, name string) []string {
	if name == "" || slices.Contains(all, name) {
		return all
	}
	return append(all, name)
}
