package walk

// Outcome is how a login comes out.
type Outcome string

const (
	OutcomeIn      Outcome = "in"      // with at least the level that the role or account promises
	OutcomeLow     Outcome = "low"     // in, but below that level
	OutcomeRefused Outcome = "refused" // not in
	OutcomeOpen    Outcome = "open"    // in without valid credentials
	// OutcomeAllowed is of a command, OutcomeNoAnswer of a login that came to nothing.
	OutcomeAllowed  Outcome = "allowed"
	OutcomeNoAnswer Outcome = "no-answer"
	// OutcomeUnsure is of a login whose end was not seen: whether it is in is not known.
	OutcomeUnsure Outcome = "unsure"
	// OutcomeOut is of a session that ended.
	OutcomeOut Outcome = "out"
)
