package site

import (
	"cmp"
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Renamed is a word of a site file that has another name now. It is read all the same.
type Renamed struct {
	Old, Now string
	Place    Place
}

func (r Renamed) String() string { return fmt.Sprintf("%q is now called %q", r.Old, r.Now) }

// What keys were called in versions before, by the mapping that they stand in.
var (
	renamedInSite   = map[string]string{"kinds": "platforms"}
	renamedInDevice = map[string]string{"kind": "platform", "asks": "requests-to", "holds": "found"}
	renamedInShared = map[string]string{"asks": "requests-to"}
	renamedInServer = map[string]string{"find": "filter", "teams-from": "team-attribute",
		"wait": "timeout", "tries": "attempts", "rest": "dead-time"} // the last three of 0.1
	renamedInBind     = map[string]string{"as": "dn"}
	renamedInGrant    = map[string]string{"through": "access"}
	renamedInLimits   = map[string]string{"questions-per-client": "requests-per-client"}
	renamedInPlatform = map[string]string{"traits": "behaviour"}
	renamedBehaviour  = map[string]string{
		"all-resting": "all-dead", "rest-ends": "dead-time-ends", "heeds-icmp": "notices-closed-port",
		"login-window": "login-timeout", "built-in-login": "default-login", "record-failure": "accounting-failure",
		"recorded-secrets": "secrets-in-accounting", "takes-back": "rollback", "password-as": "password-form",
		"level-from": "level-attribute", "account-from": "account-attribute",
	}
)

// renamedWhen are values of when, in lists.
var renamedWhen = map[string]string{"start-stop": "start and stop"}

// renamedFindings are the codes of findings, for accept and for whoever looks one up.
var renamedFindings = map[string]string{"depends-on-trait": "depends-on-behaviour"}

// CurrentWord returns what a key, a value or a finding of a version before is called now.
func CurrentWord(old string) (now string, renamed bool) {
	for _, words := range []map[string]string{renamedInSite, renamedInPlatform, renamedInDevice, renamedInServer,
		renamedInBind, renamedInGrant, renamedInLimits, renamedBehaviour, renamedWhen, renamedFindings} {
		if now, renamed := words[old]; renamed {
			return now, true
		}
	}
	return "", false
}

// CurrentFinding returns what the code of a finding is called now.
func CurrentFinding(code string) string { return cmp.Or(renamedFindings[code], code) }

// CurrentBehaviour returns what a behaviour is called now, with what follows its name.
func CurrentBehaviour(text string) string {
	name, rest, more := strings.Cut(text, " ")
	if name = cmp.Or(renamedBehaviour[name], name); more {
		name += " " + rest
	}
	return name
}

// currentValue gives a value the word that it has now, and notes where that is another one.
func (r *reader) currentValue(n *yaml.Node, renamed map[string]string) *yaml.Node {
	now, old := renamed[n.Value]
	if !old {
		return n
	}
	r.renamed = append(r.renamed, Renamed{Old: n.Value, Now: now, Place: r.place(n)})
	changed := *n
	changed.Value = now
	return &changed
}

// current returns what a key is called now, and notes where that is another word.
func (r *reader) current(k *yaml.Node, renamed map[string]string) string {
	now, old := renamed[k.Value]
	if !old {
		return k.Value
	}
	r.renamed = append(r.renamed, Renamed{Old: k.Value, Now: now, Place: r.place(k)})
	return now
}

// twice notes a key that stands in a mapping for the second time, by the same word or by that of before.
func (r *reader) twice(k, first *yaml.Node, key, what string) {
	if k.Value != first.Value {
		r.wrong(k, "%q and %q are the same key, which is now called %q: %s has both, the first in line %d; keep one",
			first.Value, k.Value, key, what, first.Line)
		return
	}
	r.wrong(k, "the key %q stands twice in %s, first in line %d; keep one", k.Value, what, first.Line)
}
