package diagnose

import (
	"slices"
	"time"

	"mellowgate/internal/core/evidence"
)

// Sign is one thing that evidence shows. It speaks for some causes and against
// others; how much stands in the catalogue, under What.
type Sign struct {
	What   string
	From   evidence.Source
	Time   time.Time
	Server string // "" where it is about no server
	Asked  string // the purpose that it is about, "" for every one
	Text   string // for people
	Place  string // file:line:column of the site, where the text is about one
	Rule   string
}

// What signs show about a server and its answers.
const (
	silentSign       = "silent"           // nothing came back
	closedSign       = "closed"           // the port refuses
	noWaySign        = "no-way"           // lower layers say that there is no path
	noConnectionSign = "no-connection"    // a SYN without SYN-ACK
	unfitSign        = "key-unfit"        // something was made with another key
	fitsSign         = "key-fits"         // something was made with the right key
	unreadableSign   = "unreadable"       // what came back could not be read
	unknownSign      = "asker-unknown"    // the server does not know the address
	droppedConnSign  = "closed-by-server" // the connection was closed before the answer
	saidErrorSign    = "said-error"       // it says that it cannot answer
	lateSign         = "late"             // the answer came after the device gave up
	tlsSign          = "tls-failed"       //
	otherPortSign    = "other-port"       // the question goes to a port that is not the server's
	legacyPortSign   = "legacy-port"      // 1645 or 1646
	malformedSign    = "malformed"        //
	mixedSign        = "other-protocol"   //
	forgedSign       = "forged"           // a wrong answer beside a right one, or an answer to nothing
	notForThisSign   = "not-for-this"     // it does not take this kind of question
	notKeptSign      = "not-kept"         // a record was not written
	heardNothingSign = "heard-nothing"    // the server noted nothing of this device
	heardOthersSign  = "heard-others"     // it noted questions of others
	answeredSign     = "answered"         // the server did answer this
	othersAnswerSign = "others-are-answered"
	nobodyAnswerSign = "nobody-is-answered"  // nothing that anybody asked it was answered
	loginsAnswered   = "logins-are-answered" // of this device, while records are not
	dirDownSign      = "directory-down"
	dirRefusesSign   = "directory-refuses-us"
	aliveSign        = "alive"        // it answered a question put on purpose
	probeSilentSign  = "probe-silent" // and this is when it did not
	openSign         = "port-open"
	heldKeySign      = "held-key"    // the site knows that the device holds another key
	heldPortSign     = "held-port"   // or asks another port
	heldSourceSign   = "held-source" // or asks from an unknown address
	asDesignedSign   = "as-designed"
	siteKeySign      = "site-key-works" // asked now with the site's key, it answers
	upAgainSign      = "up-again"       // it answers now
)

// What signs show about a person, a session, a command.
const (
	saidWrongPassword = "says-wrong-password" // the server noted it; and so on
	saidUnknown       = "says-unknown-person"
	saidDisabled      = "says-disabled"
	saidSecondFactor  = "says-second-factor"
	saidNoGrant       = "says-no-grant"
	saidForm          = "says-password-form"
	saidNoEntry       = "says-no-entry"
	saidCommand       = "says-command-refused"
	refusedSign       = "refused"    // an authentic no
	challengedSign    = "challenged" // a code was asked for and not given
	localNameSign     = "local-name" // the name is a local account of the device
	notInSiteSign     = "name-not-in-site"
	likeNameSign      = "name-alike"
	inSiteSign        = "name-in-site"
	notAllowedSign    = "not-allowed-any-more"
	noGrantSign       = "no-grant-in-site"
	grantSign         = "grant-in-site"
	wrongFormSign     = "form-cannot-be-checked"
	hasCodeSign       = "has-one-time-code"
	lockedSign        = "device-holds-back"  // the device says that it holds the name back
	notAsked          = "no-server-asked"    // although servers would answer
	wasRightBefore    = "password-was-right" // the same name was let in shortly before or after
	sessionNotAsked   = "no-session-asked"
	sessionAsked      = "session-asked"
	noLevel           = "no-level-in-answer"
	levelPromised     = "level-promised" // the server or the site gives more
	templateSign      = "account-not-on-device"
	noFallbackSign    = "list-ends-with-servers"
	localInSign       = "in-by-local"
	stuckSign         = "command-had-no-server"
	otherListSign     = "other-list" // the device used another list than the site says
	gaveUpSign        = "gave-up-first"
)

// signs are those of one point.
type signs []Sign

func (s signs) of(what string) (Sign, bool) {
	if i := slices.IndexFunc(s, func(v Sign) bool { return v.What == what }); i >= 0 {
		return s[i], true
	}
	return Sign{}, false
}

func (s signs) has(what string) bool { _, ok := s.of(what); return ok }
