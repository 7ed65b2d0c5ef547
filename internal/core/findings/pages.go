package findings

import "strings"

// Page is what there is to know of one finding: what it means, and the smallest
// change to the smallest site that shows it.
type Page struct {
	Code     string
	Severity Severity
	About    string
	// Shows is how a part of the file is written where it is found, and Good how
	// it is written where it is not.
	Shows, Good string
	Outside     string   // what shows it, where that is no part of the file
	setup       []string // changes that Smallest needs before Good is in it: old, new, old, new
	unassumed   bool     // it is found only where unsaid aspects are not taken for what the open standards give
}

// Sites returns two whole sites: one in which the finding is found, and the same
// one repaired. They are empty for what is no part of a file.
func (p Page) Sites() (bad, good string) {
	if p.Good == "" {
		return "", ""
	}
	good = strings.NewReplacer(p.setup...).Replace(Smallest)
	return strings.Replace(good, p.Good, p.Shows, 1), good
}

// Smallest is a small site in which nothing is found.
const Smallest = `site: Test
lab: {only: true}
keys: {k: file k, k2: file k2}
servers:
  - {name: t1, protocol: tacacs, address: 192.0.2.1, key: k, timeout: 1s, dead-time: 1m}
  - {name: t2, protocol: tacacs, address: 192.0.2.2, key: k2, timeout: 1s, dead-time: 1m}
groups: [{name: t, servers: [t1, t2]}]
platforms: [{name: switch, behaviour: {refusal: ends-list}}]
lists:
  - {name: login, authenticate: login, methods: [group t, local]}
  - {name: session, authorize: session, methods: [group t, local]}
  - {name: commands, authorize: commands, methods: [group t, local]}
  - {name: record, account: commands, methods: [group t]}
profiles:
  - name: p
    defaults: {login: login, session: session, commands: commands, record-commands: record}
    access: {console: {login: login}, ssh: {}}
    accounts: [keeper]
devices:
  - {name: sw-1, platform: switch, profile: p, addresses: [192.0.2.11]}
  - {name: sw-2, platform: switch, profile: p, addresses: [192.0.2.12]}
accounts: [{name: keeper, level: 15, password: $6$a$b}]
people: [{name: ines, teams: [net], password: $6$c$d}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
`

// Changes to Smallest that several pages share.
var (
	withDirectory = []string{"groups: [", "  - {name: book, protocol: ldap, address: 192.0.2.9, base: o=x, tls: " +
		"start}\n" +
		"directories: [book]\ngroups: ["}
	withClient    = []string{"people: [", "clients: [{from: 192.0.2.99, key: k2, servers: [t1]}]\npeople: ["}
	withElevation = []string{
		"  - {name: session, authorize: session, methods: [group t, local]}\n",
		"  - {name: raise, authenticate: elevation, methods: [group t, secret bridge]}\n",
		"session: session", "elevation: raise",
		"people:", "elevation-secrets: [{name: bridge, password: $6$e$f}]\npeople:",
		"behaviour: {", "behaviour: {local-level-needs-session: true, ",
	}
	withTemplate = []string{
		"level: 15, commands", "level: 15, account: watch, commands",
		"behaviour: {", "behaviour: {account-attribute: local-user, ",
		"accounts: [{", "accounts: [{name: watch, level: 15, password: $6$e$f}, {",
		"accounts: [keeper]", "accounts: [keeper, watch]",
	}
	withUnsessioned = []string{
		"  - {name: session, authorize: session, methods: [group t, local]}\n", "",
		"session: session, ", "",
		"behaviour: {", "behaviour: {level-without-session: 15, ",
	}
	withBuiltin = []string{
		"  - {name: session, authorize: session, methods: [group t, local]}\n", "",
		"session: session, ", "",
		"behaviour: {", "behaviour: {default-login: local, level-without-session: 15, ",
		"defaults: {login: login, ", "defaults: {",
	}
	withLines = []string{
		"lists:\n", "lists:\n  - {name: other, authenticate: login, methods: [group t, local]}\n",
		"ssh: {}", "ssh: [{lines: 0-3, login: other}, {lines: 4-9, login: other}]",
	}
	withWatch = []string{
		"people: [", "people: [{name: tobin, teams: [watch], password: $6$e$f}, ",
		"[team net]", "[team net, team watch]",
	}
	withRules = []string{
		"commands: [allow **]", "commands: [refuse look secrets, allow look **]",
	}
	withRadius = []string{
		"groups: [", "  - {name: r1, protocol: radius, address: 192.0.2.3, key: k, timeout: 1s, dead-time: 1m}\n  " +
			"- {name: r2, protocol: radius, address: 192.0.2.4, key: k, timeout: 1s, dead-time: 1m}\ngroups: " +
			"[{name: r, servers: [r1, r2]}, ",
		"lists:\n", "lists:\n  - {name: visits, account: sessions, when: start and stop, methods: [group r]}\n",
		"record-commands: record}", "record-commands: record, record-sessions: visits}",
	}
	withPlaces = []string{
		"profile: p, addresses: [192.0.2.11]", "profile: p, labels: {place: near}, addresses: [192.0.2.11]",
		"lab:", "labels: [{label: place, value: far, trusted: false}]\nlab:",
	}
	withForm = []string{"behaviour: {refusal: ends-list}",
		"behaviour: {refusal: ends-list, password-form: {tacacs: ascii}}"}
	withVisits = []string{
		"lists:\n", "lists:\n  - {name: visits, account: sessions, when: start and stop, methods: [group t]}\n",
		"record-commands: record}", "record-commands: record, record-sessions: visits}",
	}
	withOneRecord = []string{
		"groups: [", "groups: [{name: one, servers: [t1]}, ",
		"account: commands, methods: [group t]", "account: commands, methods: [group one, group t]",
	}
	withOneLogin = []string{
		"groups: [", "groups: [{name: one, servers: [t1]}, ",
		"authenticate: login, methods: [group t, local]", "authenticate: login, methods: [group one, group t, local]",
	}
	withSame = []string{
		"{name: t1,", "{name: t1, labels: {place: hq},",
		"{name: t2,", "{name: t2, labels: {place: pier},",
	}
)

// pages are the findings, in the order of the guide.
var pages = []Page{
	{Code: "locked-out", Severity: Error,
		About: "In some outage nobody with full rights gets in by any way, the console included. Someone must then " +
			"reset the device by hand.",
		Shows: "roles: [{name: all, level: 14,", Good: "roles: [{name: all, level: 15,"},
	{Code: "locked-out-remotely", Severity: Warning,
		About: "In some outage full rights are left on the console only. Someone must travel to the device.",
		Shows: "grants: [{who: [team net], access: [console], role: all}]",
		Good:  "grants: [{who: [team net], role: all}]"},
	{Code: "no-way-back", Severity: Error,
		About: "A login list ends with servers only. When they are silent, nobody gets in by the ways that use it.",
		Shows: "authenticate: login, methods: [group t]", Good: "authenticate: login, methods: [group t, local]"},
	{Code: "no-account", Severity: Error,
		About: "A login list falls back to local accounts, and the device has none. The fallback lets nobody in.",
		Shows: "accounts: []", Good: "accounts: [keeper]"},
	{Code: "account-too-low", Severity: Error,
		About: "The local account gets in when servers are silent, and reaches no full rights: one can look and " +
			"not mend.",
		Shows: "{name: keeper, level: 1,", Good: "{name: keeper, level: 15,"},
	{Code: "session-stuck", Severity: Error,
		About: "The login falls back to a local account, and then the session still needs a server that is silent.",
		Shows: "authorize: session, methods: [group t]", Good: "authorize: session, methods: [group t, local]"},
	{Code: "commands-stuck", Severity: Error,
		About: "People get in when servers are silent, and no command works, because each one is asked of a server.",
		Shows: "authorize: commands, methods: [group t]", Good: "authorize: commands, methods: [group t, local]"},
	{Code: "elevation-stuck", Severity: Error,
		About: "People get in at a low level when servers are silent, and cannot reach a higher one without them.",
		Shows: "authenticate: elevation, methods: [group t]",
		Good:  "authenticate: elevation, methods: [group t, secret bridge]", setup: withElevation},
	{Code: "gives-up-first", Severity: Error,
		About: "The waits for silent servers add up to more than the patience of the way in. The fallback exists " +
			"and is never reached.",
		Shows: "behaviour: {login-timeout: 1s, refusal: ends-list}", Good: "behaviour: {refusal: ends-list}"},
	{Code: "depends-on-behaviour", Severity: Warning,
		About: "Behaviour of a platform is not said in the site, and with one of its values somebody is " +
			"locked out or let in who is not with another. What is worked out stands on the value that the open " +
			"standards give, or on the safe side. mellowgate learn finds out by experiments what the device " +
			"really does; -assume leaves the question out.",
		Shows: "behaviour: {refusal: ends-list}", Good: "behaviour: {refusal: ends-list, password-form: {tacacs: " +
			"ascii}}",
		setup: withForm, unassumed: true},
	{Code: "template-missing", Severity: Error,
		About: "A role gives people the rights of a local account that the device does not have. It refuses them.",
		Shows: "accounts: [keeper]", Good: "accounts: [keeper, watch]", setup: withTemplate},
	{Code: "records-shut-out", Severity: Error,
		About: "A platform refuses a session whose start is not recorded. Servers that answer logins and keep no " +
			"records, which is the commonest half of an outage (a full disk, a filtered port), then let nobody in " +
			"by any way.",
		Shows: "accounting-failure: blocks", Good: "accounting-failure: ignores",
		setup: []string{"behaviour: {refusal", "behaviour: {accounting-failure: ignores, refusal",
			"lists:\n", "lists:\n  - {name: visits, account: sessions, when: start and stop, methods: [group t]}\n",
			"defaults: {login: login", "defaults: {record-sessions: visits, login: login"}},
	{Code: "not-supported", Severity: Error,
		About: "A list asks servers in a way that this platform does not have: a protocol, or a routing " +
			"instance. It never gets an answer.",
		Shows: "behaviour: {speaks: [radius], refusal: ends-list}", Good: "behaviour: {refusal: ends-list}"},
	{Code: "cannot-verify", Severity: Error,
		About: "The device sends passwords as CHAP or MS-CHAPv2, and the server keeps one-way hashes: it cannot " +
			"tell a right password from a wrong one, and refuses.",
		Shows: "behaviour: {password-form: {tacacs: chap}, refusal: ends-list}",
		Good:  "behaviour: {refusal: ends-list}"},

	{Code: "open-when-silent", Severity: Error,
		About: "When servers are silent, a list reaches none: anyone gets in with any name and any password.",
		Shows: "authenticate: login, methods: [group t, none]", Good: "authenticate: login, methods: [group t, local]"},
	{Code: "open-always", Severity: Error, About: "A list reaches none while servers are up: anyone gets in at any " +
		"time.",
		Shows: "authenticate: login, methods: [none]", Good: "authenticate: login, methods: [group t, local]",
		setup: withUnsessioned},
	{Code: "open-built-in", Severity: Error,
		About: "A way in has no login list, and this platform then asks for nothing.",
		Shows: "default-login: none,", Good: "default-login: local,", setup: withBuiltin},
	{Code: "weak-account", Severity: Error,
		About: "The password of a local account is its name, the site's name or a password that everybody tries " +
			"first.",
		Outside: "an account with the hash of such a password"},
	{Code: "shared-fallback", Severity: Note,
		About:   "One account with one password is on very many devices. Whoever learns it from one opens all of them.",
		Outside: "an account on more than 25 devices"},

	{Code: "local-first", Severity: Warning,
		About: "A list asks local accounts before the servers. Whoever uses such an account is never seen by the " +
			"servers.",
		Shows: "authenticate: login, methods: [local, group t]",
		Good:  "authenticate: login, methods: [group t, local]"},
	{Code: "shared-login", Severity: Warning,
		About: "A list takes a secret that many share in place of a person's password: whoever knows it is in " +
			"under any name, and no record says who it was.",
		Shows: "login, methods: [group t, local, secret bridge]", Good: "login, methods: [group t, local]",
		setup: []string{"people:", "elevation-secrets: [{name: bridge, password: $6$e$f}]\npeople:",
			"  - {name: session, authorize: session, methods: [group t, local]}\n",
			"  - {name: session, authorize: session, methods: [group t, local]}\n  - {name: raise, authenticate: " +
				"elevation, methods: [group t, secret bridge]}\n", "session: session",
			"session: session, elevation: raise"}},
	{Code: "same-name", Severity: Warning,
		About: "A local account and a person have one name. Which of the two passwords works depends on whether " +
			"servers answer.",
		Shows: "people: [{name: keeper,", Good: "people: [{name: ines,"},
	{Code: "lines-left-out", Severity: Warning,
		About: "Some lines of a way in have no login list of their own and take another one than the lines beside " +
			"them.",
		Shows: "ssh: [{lines: 0-3, login: other}, {lines: 4-9}]",
		Good:  "ssh: [{lines: 0-3, login: other}, {lines: 4-9, login: other}]", setup: withLines},
	{Code: "default-surprise", Severity: Warning,
		About: "The device-wide list also governs the console, the last way in, and nothing says that this is meant.",
		Shows: "access: {ssh: {}}", Good: "access: {console: {login: login}, ssh: {}}"},
	{Code: "dead-method", Severity: Warning,
		About: "A method of a list can never be reached, because one before it always decides.",
		Shows: "authorize: commands, methods: [group t, signed-in, local]",
		Good:  "authorize: commands, methods: [group t, local]"},
	{Code: "unused", Severity: Warning,
		About: "A list, group, server, role, key or other part is used by nothing: it may be a slip, or a leftover.",
		Shows: "keys: {spare: file spare, k: file k,", Good: "keys: {k: file k,"},
	{Code: "clear-text-way", Severity: Warning,
		About: "Telnet is open: names, passwords and all that is typed cross the network in clear.",
		Shows: "access: {telnet: {}, console: {login: login}, ssh: {}}",
		Good:  "access: {console: {login: login}, ssh: {}}"},

	{Code: "commands-miscarried", Severity: Warning,
		About: "Devices are told over RADIUS which commands a role allows, in their own form, and in that form " +
			"some command comes out otherwise. An error where they allow one that the role refuses.",
		Shows: "commands: [allow look **, refuse look secrets]", Good: "commands: [refuse look secrets, allow look **]",
		setup: append([]string{"lists:\n  - {name: login, authenticate: login, methods: [group t, local]}\n  - " +
			"{name: session, authorize: session, methods: [group t, local]}\n  - {name: commands, authorize: " +
			"commands, methods: [group t, local]}\n", "vendors: [{name: x, number: 32473, attributes: [{name: " +
			"May, number: 1, type: text}, {name: Not, number: 2, type: text}], commands: {allow: May, " +
			"refuse: Not, both: refused}}]\nlists:\n  - {name: login, authenticate: login, methods: " +
			"[group r, local]}\n  - {name: session, authorize: session, methods: [group r, " +
			"local]}\n", ", commands: commands", "", "behaviour: {", "behaviour: {commands-from: x, ",
			"people: [",
			"people: [{name: tobin, teams: [watch], password: $6$e$f}, ", "roles: [",
			"roles: [{name: look, level: 1, commands: [refuse look secrets, allow look **]}, ", "grants: [",
			"grants: [{who: [team watch], role: look}, "},
			withRadius[:2]...)},
	{Code: "from-left-out", Severity: Warning,
		About: "One way in over the network may be opened from some addresses only, and another one from everywhere.",
		Shows: "ssh: {from: 192.0.2.0/24}, netconf: {}}", Good: "ssh: {}}"},
	{Code: "ssh-version-1", Severity: Warning,
		About: "Version 1 of SSH can be read and changed on the way. RFC 4251 and those after it are version 2.",
		Shows: "ssh: {versions: 1 and 2}}", Good: "ssh: {}}"},
	{Code: "shut-when-switched-on", Severity: Error,
		About: "Devices of this platform begin to ask for logins centrally at one moment, for every way in. Until " +
			"the " +
			"lists are in use they ask for a local account, and there is none.",
		Shows: "password: none}", Good: "password: $6$a$b}",
		setup: []string{"behaviour: {", "behaviour: {aaa-switch: once, "}},
	{Code: "hangs-on-names", Severity: Warning,
		About: "Devices find a server by its name, which a name service must answer, also in an outage.",
		Shows: "address: tacacs.saltmarsh.example, key: k,", Good: "address: 192.0.2.1, key: k,"},

	{Code: "lands-low", Severity: Warning,
		About: "A person is granted a level and arrives below it: the session's level is not asked for, or not in " +
			"a form that the device reads.",
		Shows: "defaults: {login: login, commands", Good: "defaults: {login: login, session: session, commands"},
	{Code: "refused-though-granted", Severity: Error,
		About: "A person has a grant, gives the right password, and is refused all the same while every server is " +
			"up: the session list does not know them, or the level that they reach is below what the way in needs. " +
			"A warning where others get in by that way.",
		Shows: "authorize: session, methods: [local]", Good: "authorize: session, methods: [group t, local]"},
	{Code: "admits-a-directory", Severity: Warning,
		About: "Devices ask a directory by themselves, which knows passwords, and neither grants nor one-time codes: " +
			"whoever it knows gets in, by the password alone. An error where they reach full rights.",
		Shows: "groups: [{name: t, servers: [book]}]", Good: "directories: [book]\ngroups: [{name: t, servers: " +
			"[t1, t2]}]",
		setup: withDirectory},
	{Code: "port-names-unsaid", Severity: Warning,
		About: "A grant holds for some ways in alone. A server knows the way in from the port that a device names, " +
			"and makes of devices name their ports in ways of their own: one that is not known is no way in of any " +
			"grant.",
		Shows: "behaviour: {refusal: ends-list}", Good: "behaviour: {port-names: {console: con, ssh: line}, refusal: " +
			"ends-list}",
		setup: []string{"grants: [{who: [team net], role", "grants: [{who: [team net], access: [console, ssh], role",
			"behaviour: {refusal", "behaviour: {port-names: {console: con, ssh: line}, refusal"}},
	{Code: "no-grant", Severity: Warning, About: "A person or team that no grant names, or a grant that can never " +
		"match.",
		Shows: "grants: [{who: [team net], role: all}]", Good: "grants: [{who: [team net, team watch], role: all}]",
		setup: withWatch},
	{Code: "label-slip", Severity: Warning,
		About: "One device bears a label that is a typing slip away from one that others bear or a grant asks for: " +
			"what holds for them does not hold for it.",
		Shows: "place: north-peir}", Good: "place: north-pier}",
		setup: []string{"192.0.2.11]}", "192.0.2.11], labels: {place: north-pier}}",
			"192.0.2.12]}\naccounts",
			"192.0.2.12]}\n  - {name: sw-3, platform: switch, profile: p, addresses: [192.0.2.13], labels: {place: " +
				"north-pier}}\n  - {name: sw-4, platform: switch, profile: p, addresses: [192.0.2.14], labels: " +
				"{place: " +
				"north-pier}}\naccounts"}},
	{Code: "rule-shadowed", Severity: Warning,
		About: "A command rule never decides, because an earlier one matches all that it matches.",
		Shows: "commands: [allow look **, refuse look secrets]", Good: "commands: [refuse look secrets, allow look **]",
		setup: withRules},
	{Code: "rule-without-effect", Severity: Warning,
		About: "A role limits commands, and on some devices nothing asks about commands: people may type any of " +
			"their level.",
		Shows: "session: session, record-commands", Good: "session: session, commands: commands, record-commands",
		setup: withRules},

	{Code: "key-differs", Severity: Error,
		About: "The key on the device is not the key of the server. Neither can read the other, which looks like " +
			"silence.",
		Shows: "profile: p, addresses: [192.0.2.11], found: {keys: {t1: k2}}",
		Good:  "profile: p, addresses: [192.0.2.11]"},
	{Code: "client-unknown", Severity: Error,
		About: "The device's requests come from an address that the server knows nobody by. It does not answer them.",
		Shows: "profile: p, addresses: [192.0.2.11], found: {source: 192.0.2.99}",
		Good:  "profile: p, addresses: [192.0.2.11]"},
	{Code: "no-source", Severity: Error,
		About: "The server's address is of one family (IPv4 or IPv6), and the device has no address of it to ask " +
			"from. It never asks that server.",
		Shows: "address: 2001:db8::1, key", Good: "address: 192.0.2.1, key"},
	{Code: "source-unset", Severity: Warning,
		About: "The device has several addresses and no fixed source for its requests. The server knows one of them.",
		Shows: "profile: p, addresses: [192.0.2.11, 192.0.2.13]", Good: "profile: p, addresses: [192.0.2.11]"},
	{Code: "ports-differ", Severity: Error,
		About: "The device asks at other ports than those at which the server listens: the old pair 1645 and 1646 " +
			"against 1812 and 1813, or one of the two.",
		Shows: "profile: p, addresses: [192.0.2.11], found: {ports: {r1: {accounting: 1646}}}",
		Good:  "profile: p, addresses: [192.0.2.11]", setup: withRadius},
	{Code: "not-for-this", Severity: Error,
		About: "A list asks a server for what the server is not for, such as records. It never answers that.",
		Shows: "{name: t1, for: [authentication, authorization],", Good: "{name: t1,"},
	{Code: "key-weak", Severity: Warning,
		About: "A shared secret is short, of few different characters, or made of common words. Who records one " +
			"exchange can find it by trying.",
		Shows: "keys: {k: clear autumn,", Good: "keys: {k: file k,"},
	{Code: "key-everywhere", Severity: Note,
		About:   "All servers have one key. Who learns it on one device can play every server to every device.",
		Outside: "three servers or more whose keys have one value"},
	{Code: "clear-in-file", Severity: Error,
		About: "A key stands in clear in the site file. Whoever reads the file, or a copy of it, has it.",
		Shows: "keys: {k: clear a-key-for-this-test,", Good: "keys: {k: file k,"},
	{Code: "certificate-unusable", Severity: Error,
		About: "The certificate of a server over TLS is over, not good yet, does not fit its key, or cannot be " +
			"read. Every login over it fails.",
		Outside: "a certificate that ended yesterday"},
	{Code: "certificate-ends-soon", Severity: Warning,
		About:   "The certificate of a server over TLS ends within thirty days.",
		Outside: "a certificate that ends in three days"},
	{Code: "certificate-names-nobody", Severity: Error,
		About:   "The certificate of a server bears neither its name nor its address. Devices that look refuse it.",
		Outside: "a certificate with the name of another server"},
	{Code: "rule-can-be-passed", Severity: Warning,
		About: "A rule refuses something, and a later one allows everything. Many devices take shortened words; " +
			"where one sends them as they were typed, the rule that refuses does not see what it is about.",
		Shows: "commands: [refuse look secrets **, allow **]}", Good: "commands: [allow **]}"},
	{Code: "clear-text-directory", Severity: Error,
		About: "A directory is asked without TLS. Whoever sits between reads every password of its people.",
		Shows: "base: o=x, tls: none", Good: "base: o=x, tls: start", setup: withDirectory},
	{Code: "client-shadowed", Severity: Error,
		About: "An entry of clients covers the address of a device. The device counts, with the key of the server: " +
			"the key of the entry is never used for it.",
		Shows: "from: 192.0.2.11,", Good: "from: 192.0.2.99,", setup: withClient},
	{Code: "shared-fate", Severity: Warning,
		About: "All servers that a device asks are on the device itself, or behind it: when it is in trouble, so " +
			"is the way to them, just when somebody must get in.",
		Shows: "192.0.2.2, key: k2, timeout: 1s, dead-time: 1m, behind: sw-1}",
		Good:  "192.0.2.2, key: k2, timeout: 1s, dead-time: 1m}",
		setup: []string{"192.0.2.1, key: k, timeout: 1s, dead-time: 1m}",
			"192.0.2.1, key: k, timeout: 1s, dead-time: 1m, behind: sw-1}"}},
	{Code: "same-port", Severity: Error,
		About: "Two servers have one address and port. Only one of them can run.",
		Shows: "address: 192.0.2.1, key: k2,", Good: "address: 192.0.2.2, key: k2,"},
	{Code: "readable-by-others", Severity: Error, About: "Other users of this machine can read a file that holds " +
		"secrets.",
		Outside: "a key file with the mode 644"},

	{Code: "forgeable", Severity: Warning,
		About: "RADIUS packets without a Message-Authenticator are taken. Who sits on the way can turn a refusal " +
			"into an acceptance (found in 2024).",
		Shows: "{name: r1, message-authenticator: if-present,", Good: "{name: r1,", setup: withRadius},
	{Code: "readable-on-the-way", Severity: Warning,
		About: "A server is asked without TLS across a network that the site does not trust.",
		Shows: "labels: {place: far}", Good: "labels: {place: near}", setup: withPlaces},

	{Code: "not-recorded", Severity: Warning,
		About: "People type commands at a level, or by a way in, that nothing records.",
		Shows: "account: commands, levels: 2-15,", Good: "account: commands,"},
	{Code: "starts-without-stops", Severity: Warning, About: "Records say when sessions begin and not when they end.",
		Shows: "when: start,", Good: "when: start and stop,", setup: withVisits},
	{Code: "records-lost", Severity: Warning,
		About: "Only one server takes records. When it is silent, what people do leaves no trace, and nobody is told.",
		Shows: "account: commands, methods: [group one]", Good: "account: commands, methods: [group one, group t]",
		setup: withOneRecord},
	{Code: "recorded-in-clear", Severity: Note, About: "Commands are recorded as typed, with the passwords in them.",
		Shows: "behaviour: {secrets-in-accounting: in-clear, refusal: ends-list}",
		Good:  "behaviour: {refusal: ends-list}"},

	{Code: "one-server", Severity: Warning,
		About: "A login hangs on one server. With that one silent, only local accounts get in.",
		Shows: "authenticate: login, methods: [group one, local]",
		Good:  "authenticate: login, methods: [group one, group t, local]", setup: withOneLogin},
	{Code: "same-place", Severity: Note,
		About: "All servers of a group are in one place, or share another label. What takes that away takes all of " +
			"them.",
		Shows: "{name: t2, labels: {place: hq},", Good: "{name: t2, labels: {place: pier},", setup: withSame},
	{Code: "never-rests", Severity: Note,
		About: "A silent server is asked first by every login, again and again, because its dead-time is 0.",
		Shows: "address: 192.0.2.1, key: k, timeout: 1s}", Good: "address: 192.0.2.1, key: k, timeout: 1s, " +
			"dead-time: 1m}"},
	{Code: "slow-fallback", Severity: Note,
		About: "A login succeeds after more than ten seconds of waiting. People will think that it is broken.",
		Shows: "key: k, timeout: 9s,", Good: "key: k, timeout: 1s,"},
}

var severities = func() map[string]Severity {
	all := make(map[string]Severity, len(pages))
	for _, p := range pages {
		all[p.Code] = p.Severity
	}
	return all
}()

// Pages returns the page of every finding.
func Pages() []Page { return pages }

// PageOf returns the page of a finding.
func PageOf(code string) (Page, bool) {
	for _, p := range pages {
		if strings.EqualFold(p.Code, code) {
			return p, true
		}
	}
	return Page{}, false
}
