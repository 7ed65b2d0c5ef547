// Package rights decides what a person may do: which grant gives which role on
// which device, what a role's command rules say, and what the attributes of
// each protocol mean. Decide is the one decision of the service; it is a pure
// function of the site, the question, the verified credential and the time.
package rights

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"mellowgate/internal/core/nearest"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
)

// Credential is what checking a password gave.
type Credential int

const (
	Unchecked Credential = iota // the question carries none: authorization, accounting
	Right
	Wrong
	CodeWanted  // the password is right, and a one-time code is needed beside it
	WrongCode   // the password is right, the one-time code is not
	LateCode    // a code for a challenge that is not known, or not any more
	Stale       // the password is right, and the directory takes it no more until it is changed
	Uncheckable // CHAP or MS-CHAPv2 for a person whose password is only a one-way hash
)

// Question is what a server is asked about a person.
type Question struct {
	Purpose    site.Purpose // Login, Session or Commands
	Device     *site.Device // nil: a client that is no device of the site
	Access     string       // the way in, "" when the device does not say
	Port       string       // the port as the device names it, "" when it does not say
	Person     string
	Credential Credential   // for Login
	Code       Code         // for Login, what checking a one-time code found
	Prompts    bool         // for Login: the device can be asked for a one-time code
	Args       []string     // for Commands, the command and its arguments as the device sent them
	Line       string       // for Commands, the command as typed, where there are no Args; and as it is shown
	Wants      int          // for an elevation, the level that is asked for; else 0
	Known      *site.Person // found in a directory, where the site has nobody of that name
	Unproven   bool         // the device says that nobody has proven who this is (RFC 8907, section 6.1)
	From       netip.Addr   // where the person comes from; the zero Addr when the device does not say
	// AssumeFrom and AssumeHours take addresses and hours of grants as met: for what
	// is foreseen, and comes from nowhere or happens at no known time.
	AssumeFrom, AssumeHours bool
}

// Decision is the answer to a Question.
type Decision struct {
	Allow  bool
	Asks   bool // the password is right, and the person is to be asked for a one-time code
	Unsure bool // the service could not find out: it must give no answer, so that the device goes on
	Reason reason.Reason
	Text   string      // one sentence, plain words
	Place  site.Place  // the grant or the command rule that decided, or came nearest
	Role   *site.Role  // when a grant matched
	Grant  *site.Grant // when a grant matched
	Rule   string      // for commands: the rule that decided
}

// Decide answers q from the site at the time now.
func Decide(s *site.Site, q Question, now time.Time) Decision {
	p, refusal := knows(s, q, now)
	if p == nil {
		return refusal
	}
	g, nearest := match(s, p, q, now)
	if g == nil {
		return nearest
	}
	if q.Wants > g.Role.Level {
		return refuse(reason.NoGrant, g.Place, "%s has the role %s here, level %d, and asks for level %d", p.Name,
			g.Role.Name, g.Role.Level, q.Wants)
	}
	d := Decision{Allow: true, Reason: reason.Accepted, Role: g.Role, Grant: g, Place: g.Place,
		Text: p.Name + " has the role " + g.Role.Name + " here, level " + levelOf(g.Role) + q.Code.drift()}
	if q.Purpose != site.Commands {
		return d
	}
	return command(d, q)
}

func levelOf(r *site.Role) string { return strconv.Itoa(r.Level) }

// knows is the first half of Decide: who the person is, and whether they are
// let in at all, before any grant. The person is nil with a refusal.
func knows(s *site.Site, q Question, now time.Time) (*site.Person, Decision) {
	p := q.Known
	if p == nil {
		p = s.Person(q.Person)
	}
	if p == nil {
		return nil, refuse(reason.UnknownPerson, site.Place{}, "nobody is called %q here", q.Person)
	}
	if q.Purpose == site.Login && q.Credential == Uncheckable {
		return nil, refuse(reason.PasswordForm, p.Password.Place,
			"CHAP and MS-CHAPv2 cannot be checked for %s, whose password is a one-way hash; let the device send "+
				"PAP, or write the password as \"key NAME\"", p.Name)
	}
	if d, decided := secondFactor(p, q); decided {
		return nil, d
	}
	if q.Purpose == site.Login && q.Credential == Stale {
		return nil, refuse(reason.PasswordExpired, p.Place,
			"the password of %s is right and has expired; the directory wants a new one first", p.Name)
	}
	if q.Purpose == site.Login && q.Credential != Right {
		return nil, refuse(reason.WrongPassword, p.Place, "the password given for %s is wrong", p.Name)
	}
	if team := s.NeedsCode(p); team != nil && p.OneTime == nil {
		return nil, refuse(reason.SecondFactor, team.Place,
			"the team %s needs a one-time code, and the site has none for %s: write one-time-code: key NAME in an "+
				"entry of people",
			team.Name, p.Name)
	}
	if d, out := closed(p, now); out {
		return nil, d
	}
	return p, Decision{}
}

// AtDirectory returns what a directory that a device asks itself decides of somebody whose password is right: it
// knows whose time is over, and neither grants nor one-time codes.
func AtDirectory(p *site.Person, now time.Time) Decision {
	if d, out := closed(p, now); out {
		return d
	}
	return Decision{Allow: true}
}

// closed decides about somebody who is disabled, or whose time is over; it stands in out.go too, for sessions that
// are open.
func closed(p *site.Person, now time.Time) (Decision, bool) {
	if p.Disabled {
		return refuse(reason.Disabled, p.Place, "%s is disabled", p.Name), true
	}
	if p.Expired(now) {
		return refuse(reason.Disabled, p.Place, "%s was allowed until %s", p.Name,
			p.Until.AddDate(0, 0, -1).Format(time.DateOnly)), true
	}
	return Decision{}, false
}

func refuse(r reason.Reason, place site.Place, format string, args ...any) Decision {
	return Decision{Reason: r, Place: place, Text: fmt.Sprintf(format, args...)}
}

// LikeName says which known name an unknown one looks like, "" for none. It is
// for what only administrators read: a person who tries names must not see it.
func LikeName(s *site.Site, name string) string {
	names := make([]string, len(s.People))
	for i, p := range s.People {
		names[i] = p.Name
		if strings.EqualFold(p.Name, name) {
			return fmt.Sprintf("; %s differs only in upper and lower case", p.Name)
		}
	}
	for _, n := range names {
		if nearest.Slips(n, name) == 1 {
			return fmt.Sprintf("; %s is one typing slip away", n)
		}
	}
	return ""
}

// match finds the first grant that holds, or the decision that names the grant
// that came nearest and the part of it that did not match.
func match(s *site.Site, p *site.Person, q Question, now time.Time) (*site.Grant, Decision) {
	near := ""
	nearParts := -1
	nearAt := site.Place{}
	for _, g := range s.Grants {
		if !names(g, p) {
			continue
		}
		missing, parts := misfit(g, q, now)
		if missing == "" {
			return g, Decision{}
		}
		if parts > nearParts {
			near = missing
			nearParts = parts
			nearAt = g.Place
		}
	}
	where := "a client that is no device of this site"
	if q.Device != nil {
		where = q.Device.Name
	}
	if q.Access != "" {
		where += " by " + q.Access
	}
	if nearParts < 0 {
		return nil, refuse(reason.NoGrant, p.Place, "no grant names %s or a team of theirs%s", p.Name, teamsOf(p))
	}
	return nil, refuse(reason.NoGrant, nearAt, "no grant lets %s in on %s; the nearest does not match: %s", p.Name,
		where,
		near)
}

func teamsOf(p *site.Person) string {
	if len(p.Teams) == 0 {
		return " (in no team)"
	}
	return " (" + strings.Join(p.Teams, ", ") + ")"
}

// names reports whether a grant is for p.
func names(g *site.Grant, p *site.Person) bool {
	for _, w := range g.Who {
		if w.Person == p.Name || w.Team != "" && slices.Contains(p.Teams, w.Team) {
			return true
		}
	}
	return false
}

// misfit says which part of a grant does not match the question, "" when all
// do, and how many parts do match.
func misfit(g *site.Grant, q Question, now time.Time) (missing string, parts int) {
	labels := make([]string, 0, len(g.Where))
	for l := range g.Where {
		labels = append(labels, l)
	}
	slices.Sort(labels)
	for _, l := range labels {
		has, bears := "", false
		if q.Device != nil {
			has, bears = q.Device.Labels[l]
		}
		switch {
		case bears && slices.Contains(g.Where[l], has):
			parts++
		case missing == "" && !bears:
			missing = fmt.Sprintf("it is for devices with the label %s (%s), and this one has none", l,
				strings.Join(g.Where[l], ", "))
		case missing == "":
			missing = fmt.Sprintf("it is for %s %s, and this device has %s %s", l, strings.Join(g.Where[l], ", "), l,
				has)
		}
	}
	switch device := q.Device; {
	case len(g.Devices) == 0 || device != nil && g.Names(device):
		parts++
	case missing == "" && device == nil:
		missing = "it is for the devices " + refs(g.Devices) + ", and the client is no device of this site"
	case missing == "":
		missing = "it is for " + refs(g.Devices) + ", and not for " + device.Name
	}
	switch {
	case len(g.Through) == 0 || slices.Contains(g.Through, q.Access):
		parts++
	case missing == "" && q.Access == "" && q.Port != "":
		missing = fmt.Sprintf("it is for %s, and the device names its port %q, of which port-names of its platform "+
			"says nothing",
			strings.Join(g.Through, ", "), q.Port)
	case missing == "" && q.Access == "":
		missing = "it is for " + strings.Join(g.Through, ", ") + ", and the device does not say by which access"
	case missing == "":
		missing = "it is for " + strings.Join(g.Through, ", ") + ", not for " + q.Access
	}
	for _, part := range []struct {
		met  bool
		text string
	}{{!q.Unproven || g.Unproven,
		"the device says that nobody has proven who this is (authentication method none or not set), and proven-by " +
			"of the grant does not name none"}, {q.AssumeFrom || fromThere(g, q.From),
		"it is for those who come from " + prefixes(g.From) + ", and the person comes from " + address(q.From)},
		{q.AssumeHours || atThatHour(g, now), "it holds at " + hours(g.Hours) + " only"}} {
		switch {
		case part.met:
			parts++
		case missing == "":
			missing = part.text
		}
	}
	return missing, parts
}

// refs returns the names of references.
func refs(all []site.Ref) string {
	names := make([]string, len(all))
	for i, r := range all {
		names[i] = r.Name
	}
	return strings.Join(names, ", ")
}

func fromThere(g *site.Grant, from netip.Addr) bool {
	return len(g.From) == 0 || slices.ContainsFunc(g.From, func(p netip.Prefix) bool { return p.Contains(from) })
}

func atThatHour(g *site.Grant, now time.Time) bool {
	return len(g.Hours) == 0 || slices.ContainsFunc(g.Hours, func(h site.Hours) bool { return h.Hold(now) })
}

func prefixes(all []netip.Prefix) string {
	names := make([]string, len(all))
	for i, p := range all {
		names[i] = p.String()
	}
	return strings.Join(names, ", ")
}

func address(a netip.Addr) string {
	if !a.IsValid() {
		return "an address that the device does not say"
	}
	return a.String()
}

func hours(all []site.Hours) string {
	names := make([]string, len(all))
	for i, h := range all {
		names[i] = h.String()
	}
	return strings.Join(names, " or ")
}

// MayDoSomething reports whether a role's rules allow any command at all.
func MayDoSomething(r *site.Role) bool {
	if r == nil {
		return false
	}
	for _, rule := range r.Commands {
		if rule.Allow {
			return true
		}
		if len(rule.Words) == 1 && rule.Words[0] == "**" {
			return false
		}
	}
	return false
}
