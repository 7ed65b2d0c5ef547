package device

import (
	"errors"
	"fmt"
	"slices"

	"mellowgate/internal/core/yang"
	"mellowgate/internal/wire/netconf"
)

// Models are the models that a device announces, of those that we write, and
// what of them it has.
type Models struct {
	System, TACACS, Open bool
	// Of ietf-system: RFC 7317 makes these features.
	NoRADIUS, NoUsers, NoAuthentication bool
	// Notes say what of the announcement is not as expected.
	Notes []string
}

// has returns the mark of a model.
func (m *Models) has(namespace string) *bool {
	return map[string]*bool{yang.SystemNS: &m.System, yang.TACACSNS: &m.TACACS, yang.OpenNS: &m.Open}[namespace]
}

// modelsOf reads what a device announces.
func modelsOf(announced map[string]netconf.Module) Models {
	var m Models
	say := func(format string, args ...any) { m.Notes = append(m.Notes, fmt.Sprintf(format, args...)) }
	for _, w := range yang.Modules {
		module, has := announced[w.Namespace]
		if !has {
			continue
		}
		switch {
		case module.Revision != "" && module.Revision < w.Revision && w.Drafts:
			say("%s is there in revision %s, a draft from before the standard (%s): it is not used", w.Name, module.Revision,
				w.Revision)
			continue
		case module.Revision != "" && module.Revision < w.Revision:
			say("%s is there in revision %s, older than the one that is written here (%s): the device may not know every part",
				w.Name, module.Revision, w.Revision)
		case module.Revision > w.Revision:
			say("%s is there in revision %s, newer than the one that is written here (%s)", w.Name, module.Revision, w.Revision)
		}
		*m.has(w.Namespace) = true
		if w.Namespace == yang.SystemNS && module.Features != nil {
			lacks := func(feature string) bool { return !slices.Contains(module.Features, feature) }
			m.NoRADIUS, m.NoUsers, m.NoAuthentication = lacks("radius"), lacks("local-users"), lacks("authentication")
		}
	}
	if m.TACACS && !m.System {
		m.TACACS = false
		say("ietf-system-tacacs-plus is there without ietf-system, which it is a part of: it is not used")
	}
	return m
}

// String names them.
func (m Models) String() string {
	text := ""
	for _, w := range yang.Modules {
		if *m.has(w.Namespace) {
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
		m := modelsOf(announced)
		if err != nil {
			m.Notes = append(m.Notes, fmt.Sprintf("its YANG library cannot be read (%v); what its hello says is taken", err))
		}
		s.models = &m
	}
	return *s.models
}

// fit leaves out of data of ietf-system what the device does not have.
func (m Models) fit(s *yang.System) (left []string) {
	drop := func(name, says string) {
		s.Authentication.Order = slices.DeleteFunc(s.Authentication.Order,
			func(i yang.Identity) bool { return i.Name == name })
		left = append(left, says)
	}
	if !m.TACACS && s.TACACS != nil {
		s.TACACS = nil
		drop("tacacs-plus", "its TACACS+ servers: the device does not announce ietf-system-tacacs-plus")
	}
	if m.NoRADIUS && s.RADIUS != nil {
		s.RADIUS = nil
		drop("radius", "its RADIUS servers: the device's ietf-system comes without the feature radius")
	}
	if m.NoUsers && len(s.Authentication.Users) > 0 {
		s.Authentication.Users = nil
		drop("local-users", "its local accounts: the device's ietf-system comes without the feature local-users")
	}
	if m.NoAuthentication && len(s.Authentication.Order)+len(s.Authentication.Users) > 0 {
		s.Authentication = yang.Authentication{}
		left = append(left, "its order of authentication and its accounts: the device's ietf-system comes without the "+
			"feature authentication")
	}
	return left
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
