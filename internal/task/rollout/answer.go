package rollout

import (
	"context"
	"fmt"

	"mellowgate/internal/core/site"
	"mellowgate/internal/core/walk"
	"mellowgate/internal/live/client/aaa"
)

// Silent is a server that does not answer a device as the design has it ask.
type Silent struct {
	Server *site.Server
	Port   string // "" or "accounting"
	Why    string
}

func (s Silent) String() string {
	text := s.Server.Name
	if s.Port != "" {
		text += " (" + s.Port + ")"
	}
	return fmt.Sprintf("%s: %s", text, s.Why)
}

// Unanswered asks every server that a device would ask, as the design has it:
// from the device's address, at the port and with the key of the design. It
// gives those without an answer that can be read: a login would go past them,
// and nobody would notice until the others are silent too.
func Unanswered(ctx context.Context, d *site.Device, reach func(*site.Server) aaa.Target, person string,
	password site.Secret) []Silent {
	var silent []Silent
	asked := map[*site.Server]bool{}
	for _, w := range d.Ways {
		for _, l := range w.Lists {
			if l == nil {
				continue
			}
			for _, m := range l.Methods {
				for _, s := range m.Servers() {
					if !asked[s] && s.Protocol != site.LDAP && !s.Secured() {
						asked[s] = true
						silent = append(silent, unanswered(ctx, d, w, reach(s), person, password)...)
					}
				}
			}
		}
	}
	return silent
}

func unanswered(ctx context.Context, d *site.Device, w *site.Way, t aaa.Target, person string,
	password site.Secret) []Silent {
	a := aaa.Asker{Device: d.Name, Port: d.Platform.Behaviour.PortNames.Port(w.Access, 0), Session: "send",
		Password: password.Reveal()}
	exchanges := map[string]func() walk.Exchange{"": func() walk.Exchange {
		return aaa.Begin(ctx, t, walk.Question{Purpose: site.Login, Device: d, Way: w, Person: person}, a)
	}}
	if t.Server.Protocol == site.RADIUS {
		exchanges[""] = func() walk.Exchange { return aaa.Status(ctx, t, a, false) }
		if all := (site.Uses{}); t.Server.For == all || t.Server.For.Accounting {
			exchanges["accounting"] = func() walk.Exchange { return aaa.Status(ctx, t, a, true) }
		}
	}
	var silent []Silent
	for _, port := range []string{"", "accounting"} {
		if exchanges[port] == nil {
			continue
		}
		if why := answered(exchanges[port](), t.Server.Attempts); why != "" {
			silent = append(silent, Silent{Server: t.Server, Port: port, Why: why})
		}
	}
	return silent
}

// answered tries an exchange as often as the design has it; "" is an answer.
func answered(e walk.Exchange, tries int) string {
	defer e.Close()
	why := ""
	for n := 1; n <= max(tries, 1); n++ {
		r := e.Try(n)
		if r.Result != walk.Unavailable || r.Answer == walk.SaidAlive || r.Answer == walk.SaidChallenge {
			return ""
		}
		why = string(r.Reason)
		if r.Message != "" {
			why += ", " + r.Message
		}
	}
	return why
}
