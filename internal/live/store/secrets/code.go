package secrets

import (
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"

	"mellowgate/internal/core/rights"
	"mellowgate/internal/core/site"
)

// CodeDigits is how long a one-time code is.
const CodeDigits = 6

// CodeStepAt returns the number of the step that a time lies in (RFC 6238,
// section 4.2).
func CodeStepAt(t time.Time) int64 { return t.Unix() / int64(rights.CodeStep.Seconds()) }

// Code returns the one-time code of a step: RFC 6238 with HMAC-SHA-1 and six
// digits. The seed is in base32; an error says that it is not.
func Code(seed site.Secret, step int64) (string, error) {
	return hotp.GenerateCodeCustom(seed.Reveal(), uint64(step),
		hotp.ValidateOpts{Digits: CodeDigits, Algorithm: otp.AlgorithmSHA1})
}
