package walk

// Said is what a server said, in the word of its protocol.
type Said string

// What servers say. RADIUS accepts, rejects and challenges; TACACS+ passes,
// fails and errs.
const (
	SaidAccept    Said = "accept"
	SaidReject    Said = "reject"
	SaidChallenge Said = "challenge"
	SaidPass      Said = "pass"
	SaidFail      Said = "fail"
	SaidError     Said = "error"
	SaidRecorded  Said = "recorded"
	SaidAlive     Said = "alive"
	SaidNothing   Said = "silent" // no answer came
)
