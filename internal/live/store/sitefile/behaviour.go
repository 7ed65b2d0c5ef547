package sitefile

import (
	"fmt"
	"strings"

	"mellowgate/internal/core/site"
)

// WriteBehaviour writes behaviour of a platform, that the site does not say yet, into its file. Each
// is written as the file has it: a key, and its value.
func WriteBehaviour(s *site.Site, path string, k *site.Platform, behaviour [][2]string) error {
	edits, err := aspectEdits(s, k, behaviour)
	if err != nil {
		return fmt.Errorf("%s: %w: %s", s.Where(k.Place), err, BehaviourText(behaviour))
	}
	return Change(s, path, edits)
}

// BehaviourText returns aspects as one mapping.
func BehaviourText(behaviour [][2]string) string {
	all := make([]string, len(behaviour))
	for i, t := range behaviour {
		all[i] = t[0] + ": " + t[1]
	}
	return "behaviour: {" + strings.Join(all, ", ") + "}"
}

func aspectEdits(s *site.Site, k *site.Platform, behaviour [][2]string) ([]Edit, error) {
	if !k.BehaviourAt.Known() {
		e, err := afterName(s, k.Ref, BehaviourText(behaviour))
		return []Edit{e}, err
	}
	var edits []Edit
	var here [][2]string
	for _, t := range behaviour {
		if inner, ok := strings.CutPrefix(t[1], "{"); ok && k.FormsAt.Known() && t[0] == site.SendsPasswords {
			e, err := into(s, k.FormsAt, strings.TrimSuffix(inner, "}"))
			if err != nil {
				return nil, err
			}
			edits = append(edits, e)
			continue
		}
		here = append(here, t)
	}
	if len(here) == 0 {
		return edits, nil
	}
	line := LineAt(s, k.BehaviourAt)
	if strings.HasPrefix(line[min(len(line), int(k.BehaviourAt.Column-1)):], "{") {
		text := BehaviourText(here)
		e, err := into(s, k.BehaviourAt, text[len("behaviour: {"):len(text)-1])
		return append(edits, e), err
	}
	lines := make([]string, len(here))
	for i, t := range here {
		lines[i] = t[0] + ": " + t[1]
	}
	indent := "\n" + strings.Repeat(" ", int(k.BehaviourAt.Column-1))
	return append(edits, Edit{Place: k.BehaviourAt, New: strings.Join(lines, indent) + indent}), nil
}

// into puts entries into a mapping at its beginning: one in braces, or one with an entry on
// each line.
func into(s *site.Site, p site.Place, entries string) (Edit, error) {
	line := LineAt(s, p)
	rest := line[min(len(line), int(p.Column-1)):]
	switch {
	case !strings.HasPrefix(rest, "{"):
		return EntryBefore(s, p, entries), nil
	case strings.HasPrefix(strings.TrimSpace(rest[1:]), "}"):
		return Edit{Place: p, Old: "{", New: "{" + entries}, nil
	}
	return Edit{Place: p, Old: "{", New: "{" + entries + ", "}, nil
}
