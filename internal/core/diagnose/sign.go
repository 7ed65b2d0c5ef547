package diagnose

import (
	"slices"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
)

// Sign is one thing that evidence shows. It speaks for some causes and against
// others; how much stands in the catalogue, under What.
type Sign struct {
	What   Shows
	From   evidence.Source
	Time   time.Time
	Server string        // "" where it is about no server
	Asked  site.Question // what it is about, "" for every one
	Text   string        // for people
	Place  string        // file:line:column of the site, where the text is about one
	Rule   string
	Key    string // which key something was made with, in words
}

// Shows is what a sign shows, in a word.
type Shows string

// What signs show about a server and its answers.
const (
	silentSign       Shows = "silent"           // nothing came back
	closedSign       Shows = "closed"           // the port refuses
	noWaySign        Shows = "no-way"           // lower layers say that there is no path
	noConnectionSign Shows = "no-connection"    // a SYN without SYN-ACK
	unfitSign        Shows = "key-unfit"        // something was made with another key
	fitsSign         Shows = "key-fits"         // something was made with the right key
	unreadableSign   Shows = "unreadable"       // what came back could not be read
	unknownSign      Shows = "client-unknown"   // the server does not know the address
	droppedConnSign  Shows = "closed-by-server" // the connection was closed before the answer
	cutOffSign       Shows = "cut-off"          // the connection ended in the middle of a talk
	unackedSign      Shows = "never-acknowledged"
	bigLostSign      Shows = "large-packets-lost" // small ones pass
	noHostSign       Shows = "no-neighbour"       // nobody on the network has its address
	saysUnfitSign    Shows = "says-key-unfit"     // the server says that its key is another
	answerUnfitSign  Shows = "answer-key-unfit"   // its answer was made with another key
	unverifiedSign   Shows = "answers-unverified" // answers came, and the device's key did not make them
	elsewhereSign    Shows = "answer-from-elsewhere"
	unsignedAnswer   Shows = "answer-unsigned"       // without a Message-Authenticator
	unheardSign      Shows = "asked-after-answer"    // the question came again after its answer
	lostThereSign    Shows = "question-lost"         // it is in one capture and not in the next on its way
	inTimeSign       Shows = "answered-in-time"      // and the device has no answer
	answeredBefore   Shows = "answered-before"       // it answered this device earlier
	translatedSign   Shows = "says-another-address"  // the request names another address than it comes from
	wrongServerSign  Shows = "no-server-of-the-site" // nobody with that address is
	saidErrorSign    Shows = "said-error"            // it says that it cannot answer
	lateSign         Shows = "late"                  // the answer came after the device gave up
	tlsSign          Shows = "tls-failed"            //
	otherPortSign    Shows = "other-port"            // the question goes to a port that is not the server's
	legacyPortSign   Shows = "legacy-port"           // 1645 or 1646
	malformedSign    Shows = "malformed"             //
	mixedSign        Shows = "other-protocol"        //
	forgedSign       Shows = "forged"                // a wrong answer beside a right one, or an answer to nothing
	notForThisSign   Shows = "not-for-this"          // it does not take this kind of question
	notKeptSign      Shows = "not-kept"              // a record was not written
	heardNothingSign Shows = "heard-nothing"         // the server noted nothing of this device
	heardOthersSign  Shows = "heard-others"          // it noted questions of others
	answeredSign     Shows = "answered"              // the server did answer this
	othersAnswerSign Shows = "others-are-answered"
	nobodyAnswerSign Shows = "nobody-is-answered"  // nothing that anybody asked it was answered
	loginsAnswered   Shows = "logins-are-answered" // of this device, while records are not
	dirDownSign      Shows = "directory-down"
	dirRefusesSign   Shows = "directory-refuses-us"
	dirNoBaseSign    Shows = "directory-no-base"
	dirTLSSign       Shows = "directory-tls"
	leftAlone        Shows = "left-alone" // the device passed the server over
	localRefused     Shows = "local-refusal"
	inLow            Shows = "in-low"
	levelBelow       Shows = "level-below" // the answer gives less than the site promises
	belowPages       Shows = "below-need"  // refused, for the level that the way in needs
	raiseRefused     Shows = "raise-refused"
	byNoneSign       Shows = "let-in-by-none"
	saidExpired      Shows = "says-password-expired"
	unsignedSign     Shows = "no-message-authenticator"
	tooManySign      Shows = "too-many"
	overloadedSign   Shows = "overloaded"
	logLine          Shows = "log-line"
	aliveSign        Shows = "alive"        // it answered a question put on purpose
	probeSilentSign  Shows = "probe-silent" // and this is when it did not
	openSign         Shows = "port-open"
	heldKeySign      Shows = "held-key"    // the site knows that the device holds another key
	heldPortSign     Shows = "held-port"   // or asks another port
	heldSourceSign   Shows = "held-source" // or asks from an unknown address
	asDesignedSign   Shows = "as-designed"
	siteKeySign      Shows = "site-key-works" // asked now with the site's key, it answers
	upAgainSign      Shows = "up-again"       // it answers now
)

// What signs show about a person, a session, a command.
const (
	saidWrongPassword Shows = "says-wrong-password" // the server noted it; and so on
	saidUnknown       Shows = "says-unknown-person"
	saidDisabled      Shows = "says-disabled"
	saidSecondFactor  Shows = "says-second-factor"
	saidNoGrant       Shows = "says-no-grant"
	saidForm          Shows = "says-password-form"
	saidNoEntry       Shows = "says-no-entry"
	saidCommand       Shows = "says-command-refused"
	refusedSign       Shows = "refused"    // an authentic no
	challengedSign    Shows = "challenged" // a code was asked for and not given
	localNameSign     Shows = "local-name" // the name is a local account of the device
	notInSiteSign     Shows = "name-not-in-site"
	likeNameSign      Shows = "name-alike"
	inSiteSign        Shows = "name-in-site"
	notAllowedSign    Shows = "not-allowed-any-more"
	noGrantSign       Shows = "no-grant-in-site"
	grantSign         Shows = "grant-in-site"
	wrongFormSign     Shows = "form-cannot-be-checked"
	sentFormSign      Shows = "form-seen-cannot-be-checked"
	hasCodeSign       Shows = "has-one-time-code"
	lockedSign        Shows = "device-holds-back"  // the device says that it holds the name back
	notAsked          Shows = "no-server-asked"    // although servers would answer
	wasRightBefore    Shows = "password-was-right" // the same name was let in shortly before or after
	sessionNotAsked   Shows = "no-session-asked"
	sessionAsked      Shows = "session-asked"
	sessionNo         Shows = "session-refused"
	noLevel           Shows = "no-level-in-answer"
	levelPromised     Shows = "level-promised" // the server or the site gives more
	templateSign      Shows = "account-not-on-device"
	notListedSign     Shows = "name-not-in-list" // the list is for other names
	notFromHereSign   Shows = "not-from-here"
	noFallbackSign    Shows = "list-ends-with-servers"
	localInSign       Shows = "in-by-local"
	stuckSign         Shows = "command-had-no-server"
	otherListSign     Shows = "other-list" // the device used another list than the site says
	gaveUpSign        Shows = "gave-up-first"
)

// signs are those of one point.
type signs []Sign

func (s signs) of(what Shows) (Sign, bool) {
	if i := slices.IndexFunc(s, func(v Sign) bool { return v.What == what }); i >= 0 {
		return s[i], true
	}
	return Sign{}, false
}

func (s signs) has(what Shows) bool { _, ok := s.of(what); return ok }
