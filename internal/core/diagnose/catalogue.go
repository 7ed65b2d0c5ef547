package diagnose

import (
	"mellowgate/internal/core/evidence"
)

// Names of causes.
const (
	KeyDiffers                  = "key-differs"
	ClientUnknown               = "client-unknown"
	WrongPort                   = "wrong-port"
	ServerOff                   = "server-off"
	Unreachable                 = "unreachable"
	AccountingPort              = "accounting-port"
	WrongPassword               = "wrong-password"
	UnknownPerson               = "unknown-person"
	DisabledOrExpired           = "disabled-or-expired"
	SecondFactor                = "second-factor"
	NoGrant                     = "no-grant"
	NoRights                    = "no-rights"
	SessionRefused              = "session-refused"
	CommandRefused              = "command-refused"
	CommandStuck                = "command-stuck"
	TemplateMissing             = "template-missing"
	LocalWhileServerAnswers     = "local-while-server-answers"
	FallbackUsed                = "fallback-used"
	NoFallback                  = "no-fallback"
	WrongList                   = "wrong-list"
	PasswordForm                = "password-form"
	TooSlow                     = "too-slow"
	Resting                     = "resting"
	LockedForNow                = "locked-for-now"
	NotFromHere                 = "not-from-here"
	DirectoryDown               = "directory-down"
	DirectoryRefusesUs          = "directory-refuses-us"
	DirectoryNoEntry            = "directory-no-entry"
	DirectoryNoBase             = "directory-no-base"
	DirectoryTLS                = "directory-tls"
	ForgedOrStale               = "forged-or-stale"
	Malformed                   = "malformed"
	MixedProtocol               = "mixed-protocol"
	RecordNotKept               = "record-not-kept"
	TLSRefused                  = "tls-refused"
	ServerSaysError             = "server-error"
	MessageAuthenticatorMissing = "message-authenticator-missing"
	RateLimited                 = "rate-limited"
	ServerOverloaded            = "server-overloaded"
	AnswerFromElsewhere         = "answer-from-elsewhere"
	ReturnPath                  = "return-path"
	MTU                         = "mtu"
	AddressTranslated           = "address-translated"
	WrongServer                 = "wrong-server"
	LetInByNone                 = "let-in-by-none"
	BelowLevel                  = "below-level"
	ElevationRefused            = "elevation-refused"
	PasswordExpired             = "password-expired"
	CaptureCut                  = "capture-cut"
	NotKnown                    = "not-known" // the evidence does not tell
)

// pointKind is what went wrong, before it is known why.
type pointKind string

// Kinds of points: what went wrong, before it is known why.
const (
	unheardPoint  pointKind = "unheard"  // a server gave no answer
	refusedPoint  pointKind = "refused"  // an authentic no to a login
	localPoint    pointKind = "local"    // the device's own account said no
	sessionPoint  pointKind = "session"  // the session was refused
	lowPoint      pointKind = "low"      // in, and without the rights
	commandPoint  pointKind = "command"  // a command was refused
	endedPoint    pointKind = "ended"    // the list ended
	fallbackPoint pointKind = "fallback" // in by the local account
	patiencePoint pointKind = "patience" // the way in gave up
	restedPoint   pointKind = "rested"   // a server was left alone
	recordPoint   pointKind = "record"   // a record was not kept, and nobody let in for that
	listPoint     pointKind = "list"     // another list than the site says
	belowPoint    pointKind = "below"    // refused, for a level below what the way in needs
	raisePoint    pointKind = "raise"    // an elevation was refused
	nonePoint     pointKind = "none"     // in without a check, because no server answered
)

// knowledge is what is known of one cause at one kind of point: how likely it is
// before anything is seen, and how much each sign speaks for it (above 0) or
// against it (below 0), as the logarithm of odds. Texts have places for
// {device}, {server}, {person}, {way}, {list}, {command}, {asked}, {wait}, and
// {text}, what the strongest sign says.
type knowledge struct {
	cause  string
	at     pointKind
	layer  string // network | transport | protocol | identity | rights | records | design
	prior  float64
	signs  map[Shows]float64
	says   string
	guess  string // says, where no strong sign has words of its own
	repair string
	place  string // default: {device} to server {server}, or {device} by {way}
}

// proof is how much a sign counts that settles the matter.
const proof = 6

// catalogue is every cause. The order matters only where nothing tells two apart.
var catalogue = []knowledge{
	// A server gave no answer.
	{cause: Unreachable, at: unheardPoint, layer: "network", prior: 0.3,
		signs: map[Shows]float64{silentSign: 1.6, siteKeySign: -2, noWaySign: 3, noConnectionSign: 4,
			heardNothingSign: 1,
			heardOthersSign:  0.6, probeSilentSign: 2.5, nobodyAnswerSign: 0.5,
			answeredSign: -5, closedSign: -4, openSign: -2, aliveSign: -3, unfitSign: -4, unreadableSign: -4,
			unknownSign:   -4,
			saidErrorSign: -4, lateSign: -5,
			droppedConnSign: -4, tlsSign: -4, loginsAnswered: -3, heldKeySign: -1.5, heldPortSign: -2,
			legacyPortSign: -1,
			mixedSign:      -4, malformedSign: -3, forgedSign: -4, notForThisSign: -3, unackedSign: 1, noHostSign: 3,
			lostThereSign: 3,
			inTimeSign:    -5, unheardSign: -5, elsewhereSign: -5, unsignedAnswer: -5, unverifiedSign: -4,
			bigLostSign:     -2,
			wrongServerSign: -1, saysUnfitSign: -4, answerUnfitSign: -4},
		says:   "nothing comes back from {server}: the way to it is cut or filtered, or its host is down",
		repair: "look at the path from {device} to {server}: link, route, filter; then at the host itself"},
	{cause: Unreachable, at: unheardPoint, layer: "network", prior: -3,
		signs: map[Shows]float64{cutOffSign: 8, droppedConnSign: 2.6, answeredBefore: 1.6, closedSign: -3,
			unknownSign:   -4,
			unfitSign:     -4,
			saysUnfitSign: -4, malformedSign: -3, mixedSign: -3},
		says: "the connection between {device} and {server} does not last: {text}",
		repair: "look for what stands between {device} and {server} and resets connections (a filter with " +
			"inspection, a translator), then at the service of {server} itself: its events say whether the " +
			"question arrived"},
	{cause: Unreachable, at: unheardPoint, layer: "network", prior: -3,
		signs: map[Shows]float64{noWaySign: 8, closedSign: -2, answeredSign: -5},
		says:  "there is no way to {server}: {text}",
		repair: "look at who says so: its route to {server}, and its filters; where {device} itself says it, at " +
			"its own routes and at the address that it asks from"},
	{cause: Unreachable, at: unheardPoint, layer: "network", prior: -3,
		signs: map[Shows]float64{noHostSign: 9.5},
		says:  "nobody on the network answers for {server}: {text}",
		repair: "look whether the host of {server} is up and on that network, and at the mask of {device}: it " +
			"takes {server} for a neighbour"},
	{cause: Unreachable, at: unheardPoint, layer: "network", prior: -3,
		signs: map[Shows]float64{unackedSign: 8, answeredSign: -5},
		says:  "{device} connects to {server}, and what it says then never arrives: {text}",
		repair: "look for a filter that passes the handshake and not what follows it, and for a path that loses " +
			"larger packets (MTU)"},
	{cause: Unreachable, at: unheardPoint, layer: "network", prior: -3,
		signs:  map[Shows]float64{lostThereSign: 9, loginsAnswered: -4},
		says:   "what {device} sends to {server} is lost on the way: {text}",
		repair: "look at what lies between the two places of the captures: links, routes, filters"},
	{cause: WrongServer, at: unheardPoint, layer: "network", prior: -4,
		signs:  map[Shows]float64{wrongServerSign: 9, answeredSign: -6},
		says:   "{device} asks {server}, and no server of the site has that address",
		repair: "compare the addresses of the servers on {device} with the site; or add this one to the site"},
	{cause: AnswerFromElsewhere, at: unheardPoint, layer: "network", prior: -4,
		signs: map[Shows]float64{elsewhereSign: 11},
		says:  "{server} is asked at one address and answers from another, so {device} drops the answer: {text}",
		repair: "let {server} answer from the address that it was asked at (bind its service to that address), or " +
			"name the other address on {device} and in the site"},
	{cause: ReturnPath, at: unheardPoint, layer: "network", prior: -4,
		signs: map[Shows]float64{unheardSign: 10, inTimeSign: 8.5, answeredSign: 4.8, lateSign: -6},
		says:  "{server} hears {device} and answers, and the answers do not reach {device}: {text}",
		repair: "look at the way back from {server} to {device}: routes and filters for what comes from the " +
			"server's port, and whether {server} knows the way to the address that {device} asks from"},
	{cause: MTU, at: unheardPoint, layer: "network", prior: -4,
		signs: map[Shows]float64{bigLostSign: 10},
		says:  "small packets pass between {device} and {server}, and larger ones are lost: {text}",
		repair: "lower the MTU of the interface to the smallest of the path, or let ICMP \"too big\" through the " +
			"filters between {device} and {server}"},
	{cause: AddressTranslated, at: unheardPoint, layer: "network", prior: -4,
		signs: map[Shows]float64{translatedSign: 9.5, answeredSign: -5},
		says:  "addresses are translated on the way to {server}: {text}",
		repair: "take the translation off this path; if it must be: give the device that address in the site " +
			"(found: {source: ADDRESS}), and only where no other device is behind it"},
	{cause: ServerOff, at: unheardPoint, layer: "transport", prior: 0.2,
		signs: map[Shows]float64{closedSign: 3.5, siteKeySign: -4, heardOthersSign: -1.5, othersAnswerSign: -1.5,
			nobodyAnswerSign: 0.8, loginsAnswered: -4, answeredSign: -4,
			openSign: -3, aliveSign: -4, unfitSign: -3, unreadableSign: -3, unknownSign: -2, heldPortSign: -3,
			legacyPortSign: -2.5, otherPortSign: -3, noConnectionSign: -1, tlsSign: -2, saidErrorSign: -3,
			droppedConnSign: -2, lateSign: -4, noWaySign: -2, mixedSign: -2},
		says:   "the host of {server} is there and its port refuses: the service does not run",
		repair: "start the service: mellowgate serve -only {server}; if it runs, compare its port with the device's"},
	{cause: KeyDiffers, at: unheardPoint, layer: "protocol", prior: -2.5, place: "{device} and server {server}",
		signs: map[Shows]float64{unfitSign: 8, saysUnfitSign: 7, heldKeySign: 3, fitsSign: -6, answerUnfitSign: -1,
			answeredSign: -4, closedSign: -4, noWaySign: -3, noConnectionSign: -4, unknownSign: -3, tlsSign: -4,
			malformedSign: -2, loginsAnswered: -3, forgedSign: -3, mixedSign: -4, heardNothingSign: -2, cutOffSign: -5,
			inTimeSign: -4, unheardSign: -4, elsewhereSign: -5, unsignedAnswer: -5},
		says:   "{device} does not have the key that the site gives it for {server}{used}",
		repair: "put the key {key} on {device} for the server {server}"},
	{cause: KeyDiffers, at: unheardPoint, layer: "protocol", prior: -3, place: "server {server}, for {device}",
		signs: map[Shows]float64{answerUnfitSign: 8.5, saysUnfitSign: 5.5, fitsSign: 0.4, heldKeySign: -3,
			unfitSign:  -4,
			gaveUpSign: -4, openSign: -2, unreadableSign: 0.5, droppedConnSign: -3,
			answeredSign: -4, closedSign: -4, noWaySign: -3, noConnectionSign: -4, unknownSign: -3, tlsSign: -4,
			malformedSign: -2, loginsAnswered: -3, forgedSign: -3, mixedSign: -4, heardNothingSign: -2, cutOffSign: -5,
			inTimeSign: -4, unheardSign: -4, elsewhereSign: -5, unsignedAnswer: -5},
		says:   "{server} does not have the key that the site gives it for {device}{used}; {device} has the right one",
		repair: "put the key {key} on {server} for {device}, and leave {device} as it is"},
	{cause: KeyDiffers, at: unheardPoint, layer: "protocol", prior: 0, place: "{device} and server {server}",
		signs: map[Shows]float64{asDesignedSign: -0.3, siteKeySign: 0.5, unreadableSign: 3.5, unverifiedSign: 4.5,
			saysUnfitSign: 3.5, answerUnfitSign: 1, heldKeySign: 3, droppedConnSign: 0.3, othersAnswerSign: 0.6,
			silentSign: 0.2, fitsSign: -6, answeredBefore: -0.6,
			answeredSign: -4, closedSign: -4, noWaySign: -3, noConnectionSign: -4, unknownSign: -3, tlsSign: -4,
			malformedSign: -2, loginsAnswered: -3, forgedSign: -3, mixedSign: -4, heardNothingSign: -2, cutOffSign: -5,
			inTimeSign: -4, unheardSign: -4, elsewhereSign: -5, unsignedAnswer: -5, saidErrorSign: -1},
		says:   "{device} and {server} do not have the same key, so neither can read the other",
		repair: "compare the key {key} on {device} with that on {server}, and put it where it is another"},
	{cause: ClientUnknown, at: unheardPoint, layer: "protocol", prior: 0, place: "{device} and server {server}",
		signs: map[Shows]float64{asDesignedSign: -0.3, siteKeySign: -2.5, unknownSign: 5, droppedConnSign: 1.4,
			answeredBefore: -1.2, cutOffSign: -5, saysUnfitSign: -4, answerUnfitSign: -5, unackedSign: -4,
			unheardSign: -5,
			inTimeSign:  -4, elsewhereSign: -5, unsignedAnswer: -5, unverifiedSign: -4, translatedSign: -1,
			heldSourceSign: 4, othersAnswerSign: 0.4, silentSign: 0.1,
			answeredSign: -4, closedSign: -4, noWaySign: -3, noConnectionSign: -4, unfitSign: -4, loginsAnswered: -3,
			unreadableSign: -2, tlsSign: -3, saidErrorSign: -2},
		says:   "{server} does not know the address that {device} asks from: {text}",
		guess:  "{server} does not know the address that {device} asks from",
		repair: "give the device that source address in the site, or add the device"},
	{cause: WrongPort, at: unheardPoint, layer: "transport", prior: 0,
		signs: map[Shows]float64{asDesignedSign: -1.5, otherPortSign: proof, heldPortSign: 4, legacyPortSign: 3.5,
			closedSign: 0.8, othersAnswerSign: 0.6,
			noConnectionSign: -2, unfitSign: -3, answeredSign: -4, unreadableSign: -3, loginsAnswered: -6,
			openSign: -1},
		says:   "{device} asks {server} at a port that is not its port: {text}",
		guess:  "{device} asks {server} at a port that is not its port",
		repair: "compare the device's ports for {server} with the site's: authentication and accounting each have one"},
	{cause: AccountingPort, at: unheardPoint, layer: "transport", prior: -1,
		signs: map[Shows]float64{loginsAnswered: 4, lostThereSign: 3.5, otherPortSign: 3, heldPortSign: 3.5,
			legacyPortSign: 1.5, closedSign: 0.8,
			notForThisSign: 1.5, notKeptSign: -6,
			answeredSign: -4, saidErrorSign: -3, unfitSign: -4, noConnectionSign: -2},
		says: "{server} answers the logins of {device}, and not its records: the accounting port is filtered, " +
			"differs, or the service of records is off",
		repair: "compare the device's accounting port for {server} with the site's; then look at filters, and at " +
			"what {server} serves (for:)"},
	{cause: TooSlow, at: unheardPoint, layer: "network", prior: -0.3,
		signs: map[Shows]float64{lateSign: 5, answeredSign: 2.2, silentSign: 0.3, gaveUpSign: 2.5, openSign: 0.5,
			inTimeSign: -4, unheardSign: -4, unackedSign: -4, cutOffSign: -3, elsewhereSign: -5, unsignedAnswer: -5,
			unverifiedSign: -4, saysUnfitSign: -4, answerUnfitSign: -4, noHostSign: -4,
			aliveSign:  0.3,
			closedSign: -4, noWaySign: -4, noConnectionSign: -4, unfitSign: -3, unknownSign: -3, heardNothingSign: -3,
			droppedConnSign: -1, unreadableSign: -3},
		says:  "{server} answers, and {device} has given up by then: {text}",
		guess: "{server} answers too late for {device}",
		repair: "find what makes {server} slow (its disk, its directory, the path); until then give it a longer " +
			"timeout, within the patience of the way in"},
	{cause: Malformed, at: unheardPoint, layer: "protocol", prior: -1,
		signs: map[Shows]float64{malformedSign: 7, unfitSign: -1},
		says:  "what is sent between {device} and {server} breaks the protocol: {text}",
		repair: "capture the exchange and look at it: mellowgate listen -full -capture FILE; then renew the " +
			"software of the side that sends it"},
	{cause: MixedProtocol, at: unheardPoint, layer: "transport", prior: -1,
		signs:  map[Shows]float64{mixedSign: 7, tlsSign: 0.5, closedSign: -1},
		says:   "{device} speaks another protocol to {server} than its port takes: {text}",
		repair: "compare protocol, port and transport (TLS or not) of {server} on the device with the site"},
	{cause: TLSRefused, at: unheardPoint, layer: "transport", prior: -0.5,
		signs: map[Shows]float64{tlsSign: 5, mixedSign: -3, closedSign: -2},
		says:  "the TLS handshake between {device} and {server} failed: {text}",
		repair: "compare the two sides: each has a certificate in its time, and each trusts the authority of the " +
			"other"},
	{cause: ServerSaysError, at: unheardPoint, layer: "protocol", prior: -0.5,
		signs: map[Shows]float64{saidErrorSign: 3, notForThisSign: 3, dirDownSign: -2, dirRefusesSign: -2,
			dirNoBaseSign: -2, dirTLSSign: -2, tlsSign: -3,
			notKeptSign: -3},
		says:  "{server} answers that it cannot answer: {text}",
		guess: "{server} answers that it cannot answer",
		repair: "look at the events of {server}: what it needs may be down, or the question is one that it does " +
			"not take"},
	{cause: DirectoryDown, at: unheardPoint, layer: "network", prior: -1,
		signs:  map[Shows]float64{dirDownSign: 8, saidErrorSign: 0.3},
		says:   "{server} cannot ask its directory: {text}",
		repair: "look at the directory itself, and at the path from {server} to it",
		place:  "{device} by {way}, server {server}"},
	{cause: DirectoryRefusesUs, at: unheardPoint, layer: "identity", prior: -1,
		signs:  map[Shows]float64{dirRefusesSign: 8},
		says:   "the directory refuses {server} itself: {text}",
		repair: "give the directory the right name and password of who searches: bind: {dn: DN, key: NAME}",
		place:  "{device} by {way}, server {server}"},
	{cause: DirectoryNoBase, at: unheardPoint, layer: "identity", prior: -1,
		signs: map[Shows]float64{dirNoBaseSign: 8},
		says:  "the directory has nothing at the base below which people are searched: {text}",
		repair: "compare base of the directory in the site with the tree, letter by letter; if it is right, let " +
			"who searches see it",
		place: "{device} by {way}, server {server}"},
	{cause: DirectoryTLS, at: unheardPoint, layer: "transport", prior: -1,
		signs: map[Shows]float64{dirTLSSign: 8},
		says:  "{server} and its directory have no TLS with each other: {text}",
		repair: "compare tls of the directory in the site (start, ldaps) with what it offers, the name in its " +
			"certificate with its address in the site, and who signed it with those whom this host trusts",
		place: "{device} by {way}, server {server}"},
	{cause: ForgedOrStale, at: unheardPoint, layer: "protocol", prior: -1,
		signs: map[Shows]float64{forgedSign: 7, unfitSign: -2, unreadableSign: -1},
		says:  "answers come to {device} that {server} did not give, or gave to another question: {text}",
		repair: "look for a second host that answers for {server}; require Message-Authenticator; compare who " +
			"sends from which address"},
	{cause: RecordNotKept, at: unheardPoint, layer: "records", prior: -1,
		signs:  map[Shows]float64{notKeptSign: 8, loginsAnswered: 0.5},
		says:   "{server} could not keep a record, and says so: {text}",
		repair: "look at the disk of {server}, and at its ledger: records are answered only once they are safe"},

	{cause: MessageAuthenticatorMissing, at: unheardPoint, layer: "protocol", prior: -1,
		place: "{device} and server {server}",
		signs: map[Shows]float64{unsignedSign: 9},
		says:  "{device} sends requests without a Message-Authenticator, and {server} drops them: {text}",
		repair: "let {device} send a Message-Authenticator with each request; if it cannot: message-authenticator: " +
			"if-present for {server}"},
	{cause: MessageAuthenticatorMissing, at: unheardPoint, layer: "protocol", prior: -4,
		place: "server {server}, for {device}",
		signs: map[Shows]float64{unsignedAnswer: 11},
		says:  "{server} answers without a Message-Authenticator, and {device} drops the answer: {text}",
		repair: "let {server} send a Message-Authenticator with each answer (renew its software); if it cannot: " +
			"message-authenticator: if-present for {server}, on the devices too"},
	{cause: RateLimited, at: unheardPoint, layer: "transport", prior: -1, place: "{device} and server {server}",
		signs: map[Shows]float64{tooManySign: 9},
		says:  "{device} asks {server} more than the service takes, and the rest is dropped: {text}",
		repair: "find what asks so often on {device}; if it must: service: limits: requests-per-client, " +
			"connections-per-client"},
	{cause: ServerOverloaded, at: unheardPoint, layer: "transport", prior: -1,
		signs:  map[Shows]float64{overloadedSign: 8},
		says:   "{server} could take nothing at its port: {text}",
		repair: "give the service of {server} more open files; then look in its events for who holds many connections"},

	// An authentic no.
	{cause: WrongPassword, at: refusedPoint, layer: "identity", prior: 1.2,
		signs: map[Shows]float64{saidWrongPassword: proof, refusedSign: 0, inSiteSign: 1, grantSign: 0.6,
			wasRightBefore: 0.6,
			notInSiteSign:  -4, localNameSign: -3, notAllowedSign: -2, noGrantSign: -2,
			wrongFormSign: -2, sentFormSign: -2, challengedSign: -4, lockedSign: -3, hasCodeSign: -0.5},
		says:   "{text}",
		guess:  "{server} refused {person}: most likely the password is wrong",
		repair: "type it again with care; if it is lost, give the person a new password in the site"},
	{cause: UnknownPerson, at: refusedPoint, layer: "identity", prior: 0.7,
		signs: map[Shows]float64{saidUnknown: proof, notInSiteSign: 3, likeNameSign: 2, inSiteSign: -4,
			localNameSign: -proof, challengedSign: -4, wasRightBefore: -3},
		says:   "{text}",
		guess:  "{server} refused {person}: it may not know this name",
		repair: "check the spelling, or add the person to the site: people: - name: {person}"},
	{cause: LocalWhileServerAnswers, at: refusedPoint, layer: "design", prior: -1,
		signs: map[Shows]float64{localNameSign: 7, inSiteSign: -3},
		says: "{person} is a local account, and a server answered: then only the server decides, and it does not " +
			"know that name",
		repair: "this is as designed: use a personal account while servers answer; the local one works when none does"},
	{cause: DisabledOrExpired, at: refusedPoint, layer: "identity", prior: -1,
		signs:  map[Shows]float64{saidDisabled: 7, notAllowedSign: 4.5, notInSiteSign: -3},
		says:   "{text}",
		guess:  "{server} refused {person}, who may not be allowed any more",
		repair: "if the person is to come back: take disabled or until out of the site"},
	{cause: PasswordExpired, at: refusedPoint, layer: "identity", prior: -4,
		signs:  map[Shows]float64{saidExpired: 11},
		says:   "the password of {person} is right and expired: {text}",
		repair: "let {person} give themselves a new password where the directory offers it; this login cannot do it"},
	{cause: SecondFactor, at: refusedPoint, layer: "identity", prior: -1,
		signs: map[Shows]float64{saidSecondFactor: 7, challengedSign: 5, hasCodeSign: 1.6, saidWrongPassword: -3},
		says:  "{text}",
		guess: "{server} refused {person}: a one-time code may be missing or wrong",
		repair: "answer with the newest code, or type it right after the password; if it is refused again, compare " +
			"the clock of what makes the codes"},
	{cause: NoGrant, at: refusedPoint, layer: "rights", prior: 0,
		signs:  map[Shows]float64{saidNoGrant: 7, noGrantSign: 4.5, grantSign: -3, notInSiteSign: -3},
		says:   "{text}",
		guess:  "{server} refused {person}: it may have no grant for this person here",
		repair: "if the person is to get in: widen that grant, or add one"},
	{cause: PasswordForm, at: refusedPoint, layer: "protocol", prior: -1,
		signs: map[Shows]float64{saidForm: 7, sentFormSign: 5.5, wrongFormSign: 4.5, notInSiteSign: -3},
		says:  "{text}",
		guess: "{server} refused {person}: it may not be able to check a password in this form",
		repair: "let the device send the password as PAP or by prompts, or keep this person's password so that it " +
			"can be read: password: key NAME"},
	{cause: DirectoryNoEntry, at: refusedPoint, layer: "identity", prior: -1,
		signs:  map[Shows]float64{saidNoEntry: 7, localNameSign: -4},
		says:   "{text}",
		guess:  "{server} refused {person}: its directory may not know this name",
		repair: "check the spelling, and base and filter of the directory; or add the person to the site"},
	{cause: LockedForNow, at: refusedPoint, layer: "identity", prior: -1,
		signs:  map[Shows]float64{lockedSign: 7, saidWrongPassword: -2},
		says:   "{device} holds {person} back after too many failures: {text}",
		repair: "wait until then, or end it on the device; then find who tries this name: mellowgate ledger -failures"},
	{cause: CommandRefused, at: refusedPoint, layer: "rights", prior: -2, signs: map[Shows]float64{saidCommand: 7},
		says: "{text}", repair: "if the command is to be allowed: add an allow rule to the role"},

	// The device's own account said no.
	{cause: WrongPassword, at: localPoint, layer: "identity", prior: 3,
		signs:  map[Shows]float64{lockedSign: -5, notAsked: -1.5},
		says:   "the password given is not that of the local account {person}",
		repair: "use the local account's password; the person's own password works again when a server answers"},
	{cause: LockedForNow, at: localPoint, layer: "identity", prior: -2,
		signs:  map[Shows]float64{lockedSign: 7},
		says:   "{device} holds {person} back after too many failures: {text}",
		repair: "wait until then, or end it on the device"},
	{cause: NotFromHere, at: localPoint, layer: "network", prior: -3,
		signs: map[Shows]float64{notFromHereSign: 9},
		says:  "{device} takes nobody by {way} from where {person} comes: {text}",
		repair: "come from an address that the way in takes, or let it take this one: from of the way in, on the " +
			"device and in the site"},
	{cause: WrongList, at: localPoint, layer: "design", prior: -2,
		signs: map[Shows]float64{otherListSign: 7, notAsked: 5.5, notListedSign: 8},
		says:  "{device} asks no server by {way}: {text}",
		repair: "give the way in, the line range or the account the list that is meant; if the list is for this " +
			"name too, write it into only of the list"},

	// A session, a level, a command.
	{cause: SessionRefused, at: sessionPoint, layer: "rights", prior: 2.5,
		signs: map[Shows]float64{saidNoGrant: -7, otherListSign: -4, saidSecondFactor: -4},
		says:  "the login was accepted, and the authorization of the session was not: {text}",
		repair: "end the session list with local, as the login list does; a local account can have no session from " +
			"servers"},
	{cause: SessionRefused, at: sessionPoint, layer: "rights", prior: 0,
		signs: map[Shows]float64{sessionNo: 5, saidNoGrant: -7, otherListSign: -4, saidSecondFactor: -4},
		says:  "{server} accepted the login of {person} and refused the session: {text}",
		repair: "look at the grants and the role of {person} there: mellowgate ask -explain -as {device} -person " +
			"{person} SITE; and at the events of {server}"},
	{cause: NoGrant, at: sessionPoint, layer: "rights", prior: -1,
		signs: map[Shows]float64{saidNoGrant: 7, noGrantSign: 2},
		says:  "{text}", repair: "if the person is to get in: widen that grant, or add one"},
	{cause: NoRights, at: lowPoint, layer: "rights", prior: 2,
		signs: map[Shows]float64{sessionNotAsked: 2, noLevel: 2, levelPromised: 1.5, levelBelow: 3, templateSign: -7,
			otherListSign: -2.5},
		says:  "{person} is in below the level that was meant: {text}",
		guess: "{person} is in below the level that was meant",
		repair: "give the way in a session list (on a console the platform must also obey it: " +
			"console-obeys-authorization); with RADIUS compare level-attribute with the attribute that the server " +
			"sends"},
	{cause: BelowLevel, at: belowPoint, layer: "rights", prior: 3,
		signs: map[Shows]float64{belowPages: 3, levelPromised: 0.5},
		says:  "{person} was accepted and then refused, because the level is below what {way} needs: {text}",
		repair: "give the person a role of that level, or lower what the way in needs: web-needs-level, " +
			"api-needs-level of the platform, if the device can"},
	{cause: ElevationRefused, at: raisePoint, layer: "rights", prior: 3, signs: map[Shows]float64{raiseRefused: 2},
		says: "{person} is in and was not raised: {text}",
		repair: "use the right secret, or the person's own password, as the elevation list of the way in says; if " +
			"no server answers it, end that list with a secret of the device"},
	{cause: LetInByNone, at: nonePoint, layer: "design", prior: 4, signs: map[Shows]float64{byNoneSign: 2},
		says:   "{person} was let in without any check, because no server answered and the list ends with none",
		repair: "end the list with local in place of none: as it is, anybody gets in while the servers are away",
		place:  "{device} by {way}, list {list}"},
	{cause: TemplateMissing, at: lowPoint, layer: "rights", prior: -2, signs: map[Shows]float64{templateSign: 8},
		says:   "the server let {person} in with the rights of a local account that is not on the device",
		repair: "add that account to the device, or take account out of the person's role"},
	{cause: CommandRefused, at: commandPoint, layer: "rights", prior: 2,
		signs:  map[Shows]float64{saidCommand: 4, refusedSign: 1, stuckSign: -7},
		says:   "{person} may not use \"{command}\": {text}",
		guess:  "{server} does not allow \"{command}\" to {person}",
		repair: "if the command is to be allowed: add an allow rule to the role"},
	{cause: CommandStuck, at: commandPoint, layer: "design", prior: -1, signs: map[Shows]float64{stuckSign: 7},
		says: "\"{command}\" was not allowed because no server answered and the list {list} has no fallback for " +
			"this person",
		repair: "end the list of commands with local, or with signed-in", place: "{device} by {way}, list {list}"},

	// What follows from the rest.
	{cause: NoFallback, at: endedPoint, layer: "design", prior: 3, signs: map[Shows]float64{noFallbackSign: 2},
		says:   "no server answered, and the list {list} ends with servers",
		repair: "end the list with local, and give the device a local account",
		place:  "{device} by {way}, list {list}"},
	{cause: FallbackUsed, at: fallbackPoint, layer: "design", prior: 4, signs: map[Shows]float64{localInSign: 1},
		says:   "{person} got in by the device's own account, because no server answered",
		repair: "this is the way back in, as designed; find out below why no server answered"},
	{cause: TooSlow, at: patiencePoint, layer: "design", prior: 3, signs: map[Shows]float64{gaveUpSign: 1},
		says:   "the login waited {wait}, longer than the patience of the way in",
		repair: "lower timeout or attempts of the silent servers, or give the platform a longer login-timeout"},
	{cause: Resting, at: restedPoint, layer: "design", prior: 2,
		signs: map[Shows]float64{leftAlone: 0.5, upAgainSign: 2, siteKeySign: 2, aliveSign: 2, othersAnswerSign: 1,
			probeSilentSign: -5},
		says: "{device} leaves {server} alone{until}: {text}",
		repair: "wait until the dead-time ends, or end it on the device; should {server} give no answer after that " +
			"either, ask again why. A shorter dead-time in the site makes this shorter"},
	{cause: RecordNotKept, at: recordPoint, layer: "records", prior: 3, signs: map[Shows]float64{notKeptSign: 1},
		says:   "the start of the session could not be recorded, and this platform then lets nobody in",
		repair: "bring a server back that takes records; or let the platform ignore it: accounting-failure: ignores"},
	{cause: WrongList, at: listPoint, layer: "design", prior: 3, signs: map[Shows]float64{otherListSign: 2},
		says:   "{device} uses another list by {way} than the site says: {text}",
		repair: "give the way in, or the line range, the list that the site names"},
}

// next says what to look at, by the kind of evidence that would tell most.
var next = map[evidence.Source]string{
	evidence.FromEvents: "the servers' events, where they run: mellowgate why -events FOLDER/events.jsonl -device " +
		"{device}",
	evidence.FromCapture: "the packets: mellowgate listen -interface NAME -for 1m, or mellowgate why -capture FILE " +
		"-device {device}",
	evidence.FromTrace:    "what the device noted: mellowgate why -trace FILE -device {device}",
	evidence.FromCounters: "the counters of the device: mellowgate why -counters FILE -device {device}",
	evidence.FromLog:      "the log of the device: mellowgate why -log FILE -device {device}",
	evidence.FromSite:     "the design: name the site, mellowgate why ... SITE",
	evidence.FromProbe:    "a question of our own: mellowgate why -probe -device {device} SITE",
}
