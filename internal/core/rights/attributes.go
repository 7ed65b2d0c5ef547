package rights

import (
	"strconv"

	"mellowgate/internal/core/site"
)

// Attribute is one attribute of an answer by name: a RADIUS attribute, or the
// name of a TACACS+ argument.
type Attribute struct {
	Name     string `json:"name"`
	Value    string `json:"value"`
	Optional bool   `json:"optional,omitempty"` // a TACACS+ argument that may be ignored
}

// The names of the attributes that carry a level.
const (
	ManagementPrivilegeLevel = "Management-Privilege-Level" // RFC 5607, section 6.4
	ServiceType              = "Service-Type"               // RFC 2865, section 5.6
	PrivLvl                  = "priv-lvl"                   // RFC 8907, section 8.2
)

// Attributes returns what a server returns with an accepting decision to a device
// of a platform. RADIUS carries the rights with the login; TACACS+ with the
// session's authorization.
func Attributes(protocol site.Protocol, p site.Purpose, d Decision, platform *site.Platform) []Attribute {
	if !d.Allow || d.Role == nil {
		return nil
	}
	var attributes []Attribute
	var sent []site.SentAttribute
	level := strconv.Itoa(d.Role.Level)
	switch {
	case protocol == site.RADIUS && p == site.Login:
		service := "NAS-Prompt"
		if d.Role.Level == 15 {
			service = "Administrative"
		}
		attributes, sent = []Attribute{{Name: ServiceType, Value: service},
			{Name: ManagementPrivilegeLevel, Value: level}},
			d.Role.SendRADIUS
		if platform != nil && platform.Behaviour.LevelFrom != "" {
			attributes = append(attributes, Attribute{
				Name: platform.Behaviour.LevelFrom, Value: platform.Behaviour.LevelText(d.Role.Level)})
		}
		if platform != nil {
			attributes = append(attributes, CommandAttributes(d.Role, platform)...)
		}
	case protocol == site.TACACS && p == site.Session:
		attributes, sent = []Attribute{{Name: PrivLvl, Value: level}}, d.Role.SendTACACS
	default:
		return nil
	}
	if platform != nil && platform.Behaviour.AccountFrom != "" && d.Role.Template.Name != "" {
		attributes = append(attributes, Attribute{Name: platform.Behaviour.AccountFrom, Value: d.Role.Template.Name})
	}
	for _, a := range sent {
		attributes = append(attributes, Attribute{Name: a.Name, Value: a.Value, Optional: a.Optional})
	}
	return attributes
}

// Level reads the level out of the attributes of an answer: TACACS+ priv-lvl;
// RADIUS Management-Privilege-Level, else Service-Type; or for a platform that
// reads another RADIUS attribute, that one. It is false when none of them
// gives one from 0 to 15.
func Level(attributes []Attribute, platform *site.Platform) (int, bool) {
	from := platform.Behaviour.LevelFrom
	level, found := 0, false
	for _, a := range attributes {
		switch {
		case from != "" && a.Name == from:
			if n, ok := platform.Behaviour.LevelIn(a.Value); ok {
				return n, true
			}
		case a.Name == PrivLvl, from == "" && a.Name == ManagementPrivilegeLevel:
			if n, err := strconv.Atoi(a.Value); err == nil && n >= 0 && n <= 15 {
				return n, true
			}
		case from == "" && a.Name == ServiceType:
			switch a.Value {
			case "Administrative":
				level, found = 15, true
			case "NAS-Prompt":
				level, found = 1, true
			}
		}
	}
	return level, found
}

// Template returns the local account that the attributes of an answer name for a
// platform that reads one, "" for none.
func Template(attributes []Attribute, platform *site.Platform) string {
	for _, a := range attributes {
		if platform.Behaviour.AccountFrom != "" && a.Name == platform.Behaviour.AccountFrom {
			return a.Value
		}
	}
	return ""
}
