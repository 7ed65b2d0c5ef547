package device

import (
	"errors"
	"fmt"
	"slices"

	"mellowgate/internal/core/yang"
	"mellowgate/internal/wire/netconf"
)

// Models are the models that a device announces, of those that we write, and
// what of them it is without.
type Models struct {
	has   map[string]bool // by namespace
	Lacks yang.Lacks
	// Notes say what of the announcement is not as expected.
	Notes []string
}

// Has reports whether the device has a model.
func (m Models) Has(model yang.Model) bool { return m.has[model.Module().Namespace] }

// ModelsOf reads what a device announces.
func ModelsOf(announced map[string]netconf.Module) Models {
	m := Models{has: map[string]bool{}}
	say := func(format string, args ...any) { m.Notes = append(m.Notes, fmt.Sprintf(format, args...)) }
	for _, w := range yang.Modules {
		module, has := announced[w.Namespace]
		if !has {
			continue
		}
		switch {
		case module.Revision != "" && module.Revision < w.Revision && w.Drafts:
			say("%s is there in revision %s, a draft from before the standard (%s): it is not used", w.Name,
				module.Revision,
				w.Revision)
			continue
		case module.Revision != "" && module.Revision < w.Revision:
			say("%s is there in revision %s, older than the one that is written here (%s): the device may not know "+
				"every part",
				w.Name, module.Revision, w.Revision)
		case module.Revision > w.Revision:
			say("%s is there in revision %s, newer than the one that is written here (%s)", w.Name, module.Revision,
				w.Revision)
		}
		m.has[w.Namespace] = true
		if w.Namespace == yang.SystemNS && module.Features != nil {
			lacks := func(feature string) bool { return !slices.Contains(module.Features, feature) }
			m.Lacks = yang.Lacks{RADIUS: lacks("radius"), Users: lacks("local-users"),
				Authentication: lacks("authentication")}
		}
	}
	m.Lacks.TACACS = !m.has[yang.TACACSNS]
	if m.has[yang.TACACSNS] && !m.has[yang.SystemNS] {
		delete(m.has, yang.TACACSNS)
		say("ietf-system-tacacs-plus is there without ietf-system, which it is a part of: it is not used")
	}
	return m
}

// String names them.
func (m Models) String() string {
	text := ""
	for _, w := range yang.Modules {
		if m.has[w.Namespace] {
			text += ", " + w.Name
		}
	}
	if text == "" {
		return "none of ours"
	}
	return text[2:]
}

// Models tells what the device announces. It asks once.
func (s *Session) Models() Models {
	if s.models == nil {
		announced, err := s.Modules()
		m := ModelsOf(announced)
		if err != nil {
			m.Notes = append(m.Notes, fmt.Sprintf("its YANG library cannot be read (%v); what its hello says is taken",
				err))
		}
		s.models = &m
	}
	return *s.models
}

// deviceRefuses says what an error of a device that announces a model and does
// not have it comes to.
func deviceRefuses(err error, m Models) error {
	var said *netconf.Error
	if errors.As(err, &said) && (said.Tag == "unknown-namespace" || said.Tag == "unknown-element") {
		return fmt.Errorf("%w; the device announces %s, and does not know a part of what it announces", err, m)
	}
	return err
}
