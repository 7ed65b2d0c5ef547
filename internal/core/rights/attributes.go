package rights

import (
	"strconv"
	"strings"

	"mellowgate/internal/core/site"
)

// Attribute is one attribute of an answer by name: a RADIUS attribute, or the
// name of a TACACS+ argument.
type Attribute struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// The names of the attributes that carry a level.
const (
	ManagementPrivilegeLevel = "Management-Privilege-Level" // RFC 5607, section 6.4
	ServiceType              = "Service-Type"               // RFC 2865, section 5.6
	PrivLvl                  = "priv-lvl"                   // RFC 8907, section 8.2
)

// Attributes gives what a server returns with an accepting decision. RADIUS
// carries the rights with the login; TACACS+ with the session's authorization.
func Attributes(protocol site.Protocol, p site.Purpose, d Decision) []Attribute {
	if !d.Allow || d.Role == nil {
		return nil
	}
	level := strconv.Itoa(d.Role.Level)
	switch {
	case protocol == site.RADIUS && p == site.Login:
		service := "NAS-Prompt"
		if d.Role.Level == 15 {
			service = "Administrative"
		}
		return []Attribute{{ServiceType, service}, {ManagementPrivilegeLevel, level}}
	case protocol == site.TACACS && p == site.Session:
		return []Attribute{{PrivLvl, level}}
	}
	return nil
}

// Level reads the level out of the attributes of an answer: TACACS+ priv-lvl;
// RADIUS Management-Privilege-Level, else Service-Type. It is false when none
// of them gives one from 0 to 15.
func Level(all []Attribute) (int, bool) {
	level, found := 0, false
	for _, a := range all {
		switch a.Name {
		case PrivLvl, ManagementPrivilegeLevel:
			if n, err := strconv.Atoi(a.Value); err == nil && n >= 0 && n <= 15 {
				return n, true
			}
		case ServiceType:
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

// AccessOfPort tells the way in from the port that a device names, such as
// "ssh4" or "console0"; "" when the name says nothing.
func AccessOfPort(port string) string {
	low := strings.ToLower(port)
	for _, access := range site.Accesses() {
		if strings.HasPrefix(low, access) {
			return access
		}
	}
	return ""
}
