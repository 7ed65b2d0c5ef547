package site

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/nearest"
)

// Aspect is one of the behaviour of a platform that a login can show. One that the site does
// not say is unknown: what stands in Behaviour for it is then only what the open standards
// give, or the safe side.
type Aspect uint8

// The aspects that a login can show, in the order in which they are shown.
const (
	AspectRefusal Aspect = iota
	AspectUnknownAccount
	AspectAllResting
	AspectRestEnds
	AspectHeedsICMP
	AspectLoginWindow
	AspectBuiltInLogin
	AspectConsoleObeys
	AspectLevelWithoutSession
	AspectLocalLevelNeedsSession
	AspectLevelFrom
	AspectRightsWithLogin
	AspectAccountByName
	AspectWebNeedsLevel
	AspectAPINeedsLevel
	AspectBelowLevel
	AspectRecordFailure
	AspectCommandRules
	AspectPasswordRADIUS
	AspectPasswordTACACS
	AspectDefaultPorts
	AspectNetworks
	aspectCount
)

// aspectSet has a bit for each Aspect.
type aspectSet uint32

// Unsent stands in Behaviour.LevelFrom for some attribute that no server sends: what a
// platform whose level-attribute is unknown may look for. It is no value of the site file.
const Unsent = "an attribute that is not sent"

// shown is what is known of a Aspect: its name, and the values with which a login is worked
// out where it is unknown: each one, or where there are many, those between which a
// difference would show.
type shown struct {
	name string
	try  []string
}

var showable = [aspectCount]shown{
	AspectRefusal:                {"refusal", []string{"ends-list", "tries-next"}},
	AspectUnknownAccount:         {"unknown-account", []string{"tries-next", "ends-list"}},
	AspectAllResting:             {"all-dead", []string{"asks-first", "passes"}},
	AspectRestEnds:               {"dead-time-ends", []string{"by-time", "with-last"}},
	AspectHeedsICMP:              {"notices-closed-port", []string{"false", "true"}},
	AspectLoginWindow:            {"login-timeout", []string{"10s", "30s", "2m"}},
	AspectBuiltInLogin:           {"default-login", []string{string(ByLocal), string(ByNone), string(LinePassword)}},
	AspectConsoleObeys:           {"console-obeys-authorization", []string{"false", "true"}},
	AspectLevelWithoutSession:    {"level-without-session", []string{"0", "1", "15"}},
	AspectLocalLevelNeedsSession: {"local-level-needs-session", []string{"false", "true"}},
	AspectLevelFrom:              {"level-attribute", []string{"radius-standard", Unsent}},
	AspectRightsWithLogin:        {"rights-with-login", []string{"false", "true"}},
	AspectAccountByName:          {"account-by-name", []string{"false", "true"}},
	AspectWebNeedsLevel:          {"web-needs-level", []string{"0", "15"}},
	AspectAPINeedsLevel:          {"api-needs-level", []string{"0", "15"}},
	AspectBelowLevel:             {"below-level", []string{"refused", "reads"}},
	AspectRecordFailure:          {"accounting-failure", []string{"ignores", "blocks"}},
	AspectCommandRules:           {"command-rules-over-radius", []string{"none", "by-name"}},
	AspectPasswordRADIUS:         {passwordAs + string(RADIUS), FormsOf(RADIUS)},
	AspectPasswordTACACS:         {passwordAs + string(TACACS), FormsOf(TACACS)},
	AspectDefaultPorts:           {"default-ports", []string{"modern", "legacy"}},
	AspectNetworks:               {"networks", []string{AnyNetwork, DefaultOnly, DefaultAndOneMore}},
}

// SendsPasswords is the key of the form in which passwords are sent, by protocol.
const SendsPasswords = "password-form"

// passwordAs begins the names of the two aspects that the site file writes as one.
const passwordAs = SendsPasswords + " "

// ShownAspects returns every aspect that a login can show.
func ShownAspects() []Aspect {
	all := make([]Aspect, aspectCount)
	for i := range all {
		all[i] = Aspect(i)
	}
	return all
}

// AspectOf returns the aspect of a name.
func AspectOf(name string) (Aspect, bool) {
	i := slices.IndexFunc(showable[:], func(s shown) bool { return s.name == name })
	return Aspect(max(i, 0)), i >= 0
}

// String returns the name, such as "refusal" or "password-form radius".
func (t Aspect) String() string { return showable[t].name }

// Values returns the values with which a login is worked out where the aspect is unknown.
func (t Aspect) Values() []string { return showable[t].try }

// Written returns a value as the site file has it: "refusal: ends-list".
func (t Aspect) Written(value string) string {
	if protocol, ok := strings.CutPrefix(t.String(), passwordAs); ok {
		return "password-form: {" + protocol + ": " + value + "}"
	}
	return t.String() + ": " + value
}

// Value returns the value of an aspect in t, as the site file has it.
func (t Behaviour) Value(of Aspect) string {
	switch of {
	case AspectPasswordRADIUS:
		return t.PasswordAs.RADIUS
	case AspectPasswordTACACS:
		return t.PasswordAs.TACACS
	}
	return behaviour[of.String()].get(t)
}

// With returns t with another value of one aspect, and false where the aspect takes no
// such value.
func (t Behaviour) With(of Aspect, value string) (Behaviour, bool) {
	if of == AspectLevelFrom && value == Unsent {
		t.LevelFrom, t.LevelForm = value, ""
		return t, true
	}
	switch of {
	case AspectPasswordRADIUS:
		t.PasswordAs.RADIUS = value
		return t, slices.Contains(FormsOf(RADIUS), value)
	case AspectPasswordTACACS:
		t.PasswordAs.TACACS = value
		return t, slices.Contains(FormsOf(TACACS), value)
	}
	ok := behaviour[of.String()].set(&t, value)
	return t, ok
}

// Supposition is an aspect of how a platform behaves with a value, beside what the site says of it.
type Supposition struct {
	Platform *Platform
	Aspect   Aspect
	Value    string
}

// Supposition reads "PLATFORM BEHAVIOUR: VALUE", such as "pier-switch refusal: tries-next" or
// "pier-switch password-form tacacs: pap".
func (s *Site) Supposition(text string) (Supposition, error) {
	wrong := func(format string, args ...any) (Supposition, error) {
		return Supposition{}, fmt.Errorf("%q: %s\nPLATFORM BEHAVIOUR: VALUE is wanted, such as \"switch refusal: "+
			"tries-next\"",
			text,
			fmt.Sprintf(format, args...))
	}
	name, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
	platform, hint := s.Platform(name)
	if platform == nil {
		return wrong("there is no platform %q%s", name, hint)
	}
	aspect, value, _ := strings.Cut(rest, ":")
	t, known := AspectOf(CurrentBehaviour(strings.TrimSpace(aspect)))
	if !known {
		names := make([]string, aspectCount)
		for n := range names {
			names[n] = Aspect(n).String()
		}
		return wrong("%q is no behaviour that a login can show%s", strings.TrimSpace(aspect),
			nearest.Suggest(strings.TrimSpace(aspect), names))
	}
	b := Supposition{Platform: platform, Aspect: t, Value: strings.TrimSpace(value)}
	if _, ok := b.Platform.Behaviour.With(t, b.Value); !ok {
		return wrong("%s does not take %q; %s are some of its values", t, b.Value, strings.Join(t.Values(), ", "))
	}
	return b, nil
}

// Platform returns the platform of that name; or nil, and which one may be meant, as the end of a
// sentence.
func (s *Site) Platform(name string) (platform *Platform, hint string) {
	var names []string
	for _, k := range s.Platforms {
		if k.Name == name {
			return k, ""
		}
		names = append(names, k.Name)
	}
	return nil, nearest.Suggest(name, names)
}

// As returns the device as it is with some behaviours: those of its platform.
func (d *Device) As(suppositions []Supposition) *Device {
	behaviour := d.Platform.Behaviour
	changed := false
	for _, b := range suppositions {
		if b.Platform == d.Platform {
			behaviour, _ = behaviour.With(b.Aspect, b.Value)
			changed = true
		}
	}
	if !changed {
		return d
	}
	return d.Behaving(behaviour)
}

// says notes that the site says an aspect of the platform.
func (k *Platform) says(name string) {
	if t, can := AspectOf(name); can {
		k.said |= 1 << t
	}
}

// Says reports whether the site says an aspect of the platform. One that it does not say is
// unknown, and so is one of which it says only a bound.
func (k *Platform) Says(t Aspect) bool {
	return k.said&(1<<t) != 0 && (t != AspectLoginWindow || k.Behaviour.WindowAtLeast == 0)
}

// SaysAny reports whether the site says anything of an aspect, if only a bound.
func (k *Platform) SaysAny(t Aspect) bool { return k.said&(1<<t) != 0 }

// May reports whether an aspect that the site does not say may have a value.
func (k *Platform) May(t Aspect, value string) bool {
	if t != AspectLoginWindow {
		return true
	}
	d, err := time.ParseDuration(value)
	return err != nil || d >= k.Behaviour.WindowAtLeast
}

// Behaving returns the device as it would be with other aspects: everything else is
// shared with d, its ways in too as far as they are the same.
func (d *Device) Behaving(behaviour Behaviour) *Device {
	other, kind := *d, *d.Platform
	other.Platform, kind.Behaviour = &kind, behaviour
	if behaviour.ConsoleObeys != d.Platform.Behaviour.ConsoleObeys {
		other.Ways = make([]*Way, len(d.Ways))
		for i, w := range d.Ways {
			other.Ways[i] = w.obeying(behaviour.ConsoleObeys)
		}
	}
	return &other
}

// Rules reports whether lists of sessions or commands are named for the way in, and it
// is the console: whether they hold there is an aspect of the platform.
func (w *Way) Rules() bool {
	return w.Access == Console && (w.Lists[Session] != nil || w.Lists[Commands] != nil ||
		w.unobeyed[Session] != nil || w.unobeyed[Commands] != nil)
}

// obeying returns the way in as it is on a platform whose console obeys such lists, or not.
func (w *Way) obeying(obeys bool) *Way {
	if !w.Rules() {
		return w
	}
	other := *w
	for _, p := range []Purpose{Session, Commands} {
		switch {
		case obeys && w.unobeyed[p] != nil:
			other.Lists[p] = w.unobeyed[p]
			other.unobeyed[p] = nil
			other.Origins[p] = Own
		case !obeys && w.Lists[p] != nil:
			other.Lists[p] = nil
			other.unobeyed[p] = w.Lists[p]
			other.Origins[p] = Unobeyed
		}
	}
	return &other
}

// ShortTime writes a duration as people do: 2m, not 2m0s.
func ShortTime(d time.Duration) string {
	text := d.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}
