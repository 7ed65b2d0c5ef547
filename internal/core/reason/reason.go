// Package reason has every reason that a device, a server, a directory or who
// asks them can give for what happened at a login: one word each, declared here
// and nowhere else, with a sentence for people. Who gives one is the business of
// walk, rights and the gate; what speaks for which cause is that of diagnose.
package reason

// Reason is why something came out as it did, in a word. "" is none.
type Reason string

// Why a device had no answer of a server.
const (
	Silent        Reason = "silent"
	Closed        Reason = "closed"
	NoWay         Reason = "no-way"
	NoSource      Reason = "no-source"
	KeyDiffers    Reason = "key-differs"
	ClientUnknown Reason = "client-unknown"
	ServerError   Reason = "error"
	Late          Reason = "late"
	WrongPort     Reason = "wrong-port"
	NotForThis    Reason = "not-for-this"
	TLS           Reason = "tls"
	// What a device sees, which does not tell why.
	Ended      Reason = "ended"      // the connection, before an answer
	CutOff     Reason = "cut-off"    // the connection, in the middle of a talk
	Unreadable Reason = "unreadable" // an answer that its key does not open
	Unverified Reason = "unverified" // answers that its key did not make
	Unsigned   Reason = "unsigned"   // answers without the Message-Authenticator that it wants
	GivenUp    Reason = "given-up"   // who asked ended the question itself
)

// Why a method of a list, or a login, ended as it did on a device.
const (
	RefusedByServer Reason = "refused-by-server"
	WrongPassword   Reason = "wrong-password"
	NoSuchAccount   Reason = "no-such-account"
	NoAccounts      Reason = "no-accounts"
	NoAnswer        Reason = "no-answer"
	AllResting      Reason = "all-dead"
	NotCarried      Reason = "not-carried"
	ListEnded       Reason = "list-ended"
	GivesUpFirst    Reason = "gives-up-first"
	BelowLevel      Reason = "below-level"
	NoList          Reason = "no-list"
	NotSupported    Reason = "not-supported"
	TemplateMissing Reason = "template-missing"
	NotRecorded     Reason = "not-recorded"
	WrongSecret     Reason = "wrong-secret"
	LinePassword    Reason = "line-password"
	LockedForNow    Reason = "locked-for-now"
	NotListed       Reason = "not-listed"
	NotFromHere     Reason = "not-from-here"
)

// Why a server decided as it did.
const (
	Accepted       Reason = "accepted"
	Recorded       Reason = "recorded"
	UnknownPerson  Reason = "unknown-person"
	Disabled       Reason = "disabled-or-expired"
	NoGrant        Reason = "no-grant"
	CommandRefused Reason = "command-refused"
	PasswordForm   Reason = "password-form"
	SecondFactor   Reason = "second-factor"
	CodeAsked      Reason = "code-asked" // no refusal: the login goes on with a one-time code
	NoEntry        Reason = "directory-no-entry"
	NameSpelling   Reason = "name-spelling"
	// PasswordExpired is of a directory that has rules for passwords.
	PasswordExpired Reason = "password-expired"
	// The service could not find out: no yes and no no.
	DirectoryDown    Reason = "directory-down"
	DirectoryRefuses Reason = "directory-refuses-us"
	DirectoryNoBase  Reason = "directory-no-base"
	DirectoryTLS     Reason = "directory-tls"
)

// Why a server did not take a question, or could not answer it.
const (
	Malformed              Reason = "malformed"
	NoMessageAuthenticator Reason = "message-authenticator-missing"
	TooMany                Reason = "too-many"
	RecordUnknown          Reason = "record-unknown"
	CannotTake             Reason = "cannot-take"
	RecordNotKept          Reason = "record-not-kept"
	DecisionNotKept        Reason = "decision-not-kept"
)

// Known is a reason with its sentence.
type Known struct {
	Reason Reason
	Text   string // one sentence, plain words
	Well   bool   // nothing is wrong: there is no cause to look for
}

// All is every reason there is, in the order of this file.
var All = []Known{
	{Reason: Silent, Text: "The server sent nothing back."},
	{Reason: Closed, Text: "The port of the server refuses connections."},
	{Reason: NoWay, Text: "There is no way to the address of the server."},
	{Reason: NoSource, Text: "The device has no address from which it could ask the server."},
	{Reason: KeyDiffers, Text: "What came was made with another key."},
	{Reason: ClientUnknown, Text: "The server knows no device or client with that address."},
	{Reason: ServerError, Text: "The server says that it cannot answer."},
	{Reason: Late, Text: "The answer came after the timeout."},
	{Reason: WrongPort, Text: "The question came to a port that is not for it."},
	{Reason: NotForThis, Text: "The server does not take questions of this kind."},
	{Reason: TLS, Text: "The TLS handshake failed."},
	{Reason: Ended, Text: "The connection ended before an answer."},
	{Reason: CutOff, Text: "The connection ended in the middle of the talk, after an answer."},
	{Reason: Unreadable, Text: "An answer came that the key of the device does not open."},
	{Reason: Unverified, Text: "Answers came that were not made with the key of the device."},
	{Reason: Unsigned, Text: "Answers came without a Message-Authenticator, which the site requires."},
	{Reason: GivenUp, Text: "Who asked ended the question itself, before an answer.", Well: true},
	{Reason: RefusedByServer, Text: "A server refused."},
	{Reason: WrongPassword, Text: "The password is wrong."},
	{Reason: NoSuchAccount, Text: "The device has no account of that name."},
	{Reason: NoAccounts, Text: "The device has no accounts of its own."},
	{Reason: NoAnswer, Text: "No server of the group answered."},
	{Reason: AllResting, Text: "All servers of the group rest after they gave no answer, and are not asked."},
	{Reason: NotCarried, Text: "The protocol of the group has no such question."},
	{Reason: ListEnded, Text: "No method of the list accepted or refused."},
	{Reason: GivesUpFirst, Text: "The way in gave up before the servers were all asked."},
	{Reason: BelowLevel, Text: "The level is below what the way in needs."},
	{Reason: NoList, Text: "The way in has no list for this."},
	{Reason: NotSupported, Text: "This platform, or this server, does not support it."},
	{Reason: TemplateMissing, Text: "The account whose rights the person takes on is not on the device."},
	{Reason: NotRecorded, Text: "No server took the record, and this platform insists on it."},
	{Reason: WrongSecret, Text: "The secret for the elevation is wrong."},
	{Reason: LinePassword, Text: "The way in asks for a password of its own, without a name."},
	{Reason: LockedForNow, Text: "The device holds the name back after too many failures."},
	{Reason: NotListed, Text: "The list is for other names only (only), so the device asks nobody."},
	{Reason: NotFromHere, Text: "The way in is not open to the address that the person comes from."},
	{Reason: Accepted, Text: "The person is let in, or the command is allowed.", Well: true},
	{Reason: Recorded, Text: "The record is on disk.", Well: true},
	{Reason: UnknownPerson, Text: "Neither the site nor a directory has anybody of that name."},
	{Reason: Disabled, Text: "The person is disabled, or the last day is over."},
	{Reason: NoGrant, Text: "No grant lets this person in here, by this way, from there, at this hour."},
	{Reason: CommandRefused, Text: "The role of the person does not allow the command."},
	{Reason: PasswordForm, Text: "The password came in a form that cannot be checked, or is not allowed here."},
	{Reason: SecondFactor, Text: "The one-time code is missing, wrong or used already."},
	{Reason: CodeAsked, Text: "The password is right, and a one-time code was asked for.", Well: true},
	{Reason: NoEntry, Text: "No directory has an entry of that name."},
	{Reason: NameSpelling, Text: "The name is another spelling of one that is known, in case, width or blanks."},
	{Reason: PasswordExpired, Text: "The password is right, and the directory wants a new one first."},
	{Reason: DirectoryDown, Text: "The directory does not answer."},
	{Reason: DirectoryRefuses, Text: "The directory refuses the server that searches in it."},
	{Reason: DirectoryNoBase, Text: "The directory does not have the base below which it is searched."},
	{Reason: DirectoryTLS, Text: "The directory refuses TLS, or its certificate does not do."},
	{Reason: Malformed, Text: "The packet breaks the protocol."},
	{Reason: NoMessageAuthenticator, Text: "The request has no Message-Authenticator, which the server requires."},
	{Reason: TooMany, Text: "There were more questions or connections than the limits of the service allow."},
	{Reason: RecordUnknown, Text: "The server does not know this kind of record."},
	{Reason: CannotTake, Text: "The server could take nothing at its port for a moment."},
	{Reason: RecordNotKept, Text: "The record could not be written, and was not answered as kept."},
	{Reason: DecisionNotKept, Text: "The decision was given, and could not be written to the ledger."},
}

// Sentence returns the sentence of a reason, "" for one that nobody gives.
func (r Reason) Sentence() string {
	for _, k := range All {
		if k.Reason == r {
			return k.Text
		}
	}
	return ""
}
