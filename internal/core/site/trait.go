package site

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/nearest"
)

// Trait is one of the traits of a kind that a login can show. One that the site does
// not say is unknown: what stands in Traits for it is then only what the open standards
// give, or the safe side.
type Trait uint8

// The traits that a login can show, in the order in which they are shown.
const (
	TraitRefusal Trait = iota
	TraitUnknownAccount
	TraitAllResting
	TraitRestEnds
	TraitHeedsICMP
	TraitLoginWindow
	TraitBuiltInLogin
	TraitConsoleObeys
	TraitLevelWithoutSession
	TraitLocalLevelNeedsSession
	TraitLevelFrom
	TraitRightsWithLogin
	TraitAccountByName
	TraitWebNeedsLevel
	TraitAPINeedsLevel
	TraitBelowLevel
	TraitRecordFailure
	TraitCommandRules
	TraitPasswordRADIUS
	TraitPasswordTACACS
	TraitDefaultPorts
	TraitNetworks
	traitCount
)

// traitSet has a bit for each Trait.
type traitSet uint32

// Unsent stands in Traits.LevelFrom for some attribute that no server sends: what a
// kind whose level-attribute is unknown may look for. It is no value of the site file.
const Unsent = "an attribute that is not sent"

// shown is what is known of a Trait: its name, and the values with which a login is worked
// out where it is unknown: each one, or where there are many, those between which a
// difference would show.
type shown struct {
	name string
	try  []string
}

var showable = [traitCount]shown{
	TraitRefusal:                {"refusal", []string{"ends-list", "tries-next"}},
	TraitUnknownAccount:         {"unknown-account", []string{"tries-next", "ends-list"}},
	TraitAllResting:             {"all-dead", []string{"asks-first", "passes"}},
	TraitRestEnds:               {"dead-time-ends", []string{"by-time", "with-last"}},
	TraitHeedsICMP:              {"notices-closed-port", []string{"false", "true"}},
	TraitLoginWindow:            {"login-timeout", []string{"10s", "30s", "2m"}},
	TraitBuiltInLogin:           {"default-login", []string{string(ByLocal), string(ByNone), string(LinePassword)}},
	TraitConsoleObeys:           {"console-obeys-authorization", []string{"false", "true"}},
	TraitLevelWithoutSession:    {"level-without-session", []string{"0", "1", "15"}},
	TraitLocalLevelNeedsSession: {"local-level-needs-session", []string{"false", "true"}},
	TraitLevelFrom:              {"level-attribute", []string{"radius-standard", Unsent}},
	TraitRightsWithLogin:        {"rights-with-login", []string{"false", "true"}},
	TraitAccountByName:          {"account-by-name", []string{"false", "true"}},
	TraitWebNeedsLevel:          {"web-needs-level", []string{"0", "15"}},
	TraitAPINeedsLevel:          {"api-needs-level", []string{"0", "15"}},
	TraitBelowLevel:             {"below-level", []string{"refused", "reads"}},
	TraitRecordFailure:          {"accounting-failure", []string{"ignores", "blocks"}},
	TraitCommandRules:           {"command-rules-over-radius", []string{"none", "by-name"}},
	TraitPasswordRADIUS:         {passwordAs + string(RADIUS), FormsOf(RADIUS)},
	TraitPasswordTACACS:         {passwordAs + string(TACACS), FormsOf(TACACS)},
	TraitDefaultPorts:           {"default-ports", []string{"modern", "legacy"}},
	TraitNetworks:               {"networks", []string{AnyNetwork, DefaultOnly, DefaultAndOneMore}},
}

// SendsPasswords is the key of the form in which passwords are sent, by protocol.
const SendsPasswords = "password-form"

// passwordAs begins the names of the two traits that the site file writes as one.
const passwordAs = SendsPasswords + " "

// ShownTraits returns every trait that a login can show.
func ShownTraits() []Trait {
	all := make([]Trait, traitCount)
	for i := range all {
		all[i] = Trait(i)
	}
	return all
}

// TraitOf returns the trait of a name.
func TraitOf(name string) (Trait, bool) {
	i := slices.IndexFunc(showable[:], func(s shown) bool { return s.name == name })
	return Trait(max(i, 0)), i >= 0
}

// String returns the name, such as "refusal" or "password-form radius".
func (t Trait) String() string { return showable[t].name }

// Values returns the values with which a login is worked out where the trait is unknown.
func (t Trait) Values() []string { return showable[t].try }

// Written returns a value as the site file has it: "refusal: ends-list".
func (t Trait) Written(value string) string {
	if protocol, ok := strings.CutPrefix(t.String(), passwordAs); ok {
		return "password-form: {" + protocol + ": " + value + "}"
	}
	return t.String() + ": " + value
}

// Value returns the value of a trait in t, as the site file has it.
func (t Traits) Value(of Trait) string {
	switch of {
	case TraitPasswordRADIUS:
		return t.PasswordAs.RADIUS
	case TraitPasswordTACACS:
		return t.PasswordAs.TACACS
	}
	return traits[of.String()].get(t)
}

// With returns t with another value of one trait, and false where the trait takes no
// such value.
func (t Traits) With(of Trait, value string) (Traits, bool) {
	if of == TraitLevelFrom && value == Unsent {
		t.LevelFrom, t.LevelForm = value, ""
		return t, true
	}
	switch of {
	case TraitPasswordRADIUS:
		t.PasswordAs.RADIUS = value
		return t, slices.Contains(FormsOf(RADIUS), value)
	case TraitPasswordTACACS:
		t.PasswordAs.TACACS = value
		return t, slices.Contains(FormsOf(TACACS), value)
	}
	ok := traits[of.String()].set(&t, value)
	return t, ok
}

// Behaviour is a trait of a kind with a value, beside what the site says of it.
type Behaviour struct {
	Kind  *Kind
	Trait Trait
	Value string
}

// Behaviour reads "KIND TRAIT: VALUE", such as "pier-switch refusal: tries-next" or
// "pier-switch password-form tacacs: pap".
func (s *Site) Behaviour(text string) (Behaviour, error) {
	wrong := func(format string, args ...any) (Behaviour, error) {
		return Behaviour{}, fmt.Errorf("%q: %s\nPLATFORM BEHAVIOUR: VALUE is wanted, such as \"switch refusal: "+
			"tries-next\"",
			text,
			fmt.Sprintf(format, args...))
	}
	name, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
	kind, hint := s.Kind(name)
	if kind == nil {
		return wrong("there is no platform %q%s", name, hint)
	}
	trait, value, _ := strings.Cut(rest, ":")
	t, known := TraitOf(CurrentBehaviour(strings.TrimSpace(trait)))
	if !known {
		names := make([]string, traitCount)
		for n := range names {
			names[n] = Trait(n).String()
		}
		return wrong("%q is no behaviour that a login can show%s", strings.TrimSpace(trait),
			nearest.Suggest(strings.TrimSpace(trait), names))
	}
	b := Behaviour{Kind: kind, Trait: t, Value: strings.TrimSpace(value)}
	if _, ok := b.Kind.Traits.With(t, b.Value); !ok {
		return wrong("%s does not take %q; %s are some of its values", t, b.Value, strings.Join(t.Values(), ", "))
	}
	return b, nil
}

// Kind returns the kind of that name; or nil, and which one may be meant, as the end of a
// sentence.
func (s *Site) Kind(name string) (kind *Kind, hint string) {
	var names []string
	for _, k := range s.Kinds {
		if k.Name == name {
			return k, ""
		}
		names = append(names, k.Name)
	}
	return nil, nearest.Suggest(name, names)
}

// As returns the device as it is with some behaviours: those of its kind.
func (d *Device) As(behaviours []Behaviour) *Device {
	traits := d.Kind.Traits
	changed := false
	for _, b := range behaviours {
		if b.Kind == d.Kind {
			traits, _ = traits.With(b.Trait, b.Value)
			changed = true
		}
	}
	if !changed {
		return d
	}
	return d.Behaving(traits)
}

// says notes that the site says a trait of the kind.
func (k *Kind) says(name string) {
	if t, can := TraitOf(name); can {
		k.said |= 1 << t
	}
}

// Says reports whether the site says a trait of the kind. One that it does not say is
// unknown, and so is one of which it says only a bound.
func (k *Kind) Says(t Trait) bool {
	return k.said&(1<<t) != 0 && (t != TraitLoginWindow || k.Traits.WindowAtLeast == 0)
}

// SaysAny reports whether the site says anything of a trait, if only a bound.
func (k *Kind) SaysAny(t Trait) bool { return k.said&(1<<t) != 0 }

// May reports whether a trait that the site does not say may have a value.
func (k *Kind) May(t Trait, value string) bool {
	if t != TraitLoginWindow {
		return true
	}
	d, err := time.ParseDuration(value)
	return err != nil || d >= k.Traits.WindowAtLeast
}

// Behaving returns the device as it would be with other traits: everything else is
// shared with d, its ways in too as far as they are the same.
func (d *Device) Behaving(traits Traits) *Device {
	other, kind := *d, *d.Kind
	other.Kind, kind.Traits = &kind, traits
	if traits.ConsoleObeys != d.Kind.Traits.ConsoleObeys {
		other.Ways = make([]*Way, len(d.Ways))
		for i, w := range d.Ways {
			other.Ways[i] = w.obeying(traits.ConsoleObeys)
		}
	}
	return &other
}

// Rules reports whether lists of sessions or commands are named for the way in, and it
// is the console: whether they hold there is a habit of the kind.
func (w *Way) Rules() bool {
	return w.Access == Console && (w.Lists[Session] != nil || w.Lists[Commands] != nil ||
		w.unobeyed[Session] != nil || w.unobeyed[Commands] != nil)
}

// obeying returns the way in as it is on a kind whose console obeys such lists, or not.
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
