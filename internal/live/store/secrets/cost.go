package secrets

import (
	"math"
	"regexp"
	"strconv"
	"strings"

	"mellowgate/internal/core/site"
)

// leastCost is what checking any password takes, in octets.
const leastCost = 1 << 16

// Parameters of hashes that take memory: argon2 in KiB (RFC 9106, section 3.1),
// scrypt as the logarithm of N, and r (RFC 7914, section 2).
var (
	argonMemory = regexp.MustCompile(`[$,]m=([0-9]{1,9})`)
	scryptCost  = regexp.MustCompile(`ln=([0-9]{1,2}),r=([0-9]{1,4})`)
)

// Cost returns how much memory checking a password takes, in octets.
func Cost(p site.Password) int64 {
	number := func(text string) int64 {
		n, _ := strconv.ParseInt(text, 10, 64) // the expressions take digits only
		return n
	}
	switch {
	case strings.HasPrefix(p.Hash, "$argon2"):
		if m := argonMemory.FindStringSubmatch(p.Hash); m != nil {
			return max(leastCost, number(m[1])<<10)
		}
	case strings.HasPrefix(p.Hash, "$scrypt"):
		if m := scryptCost.FindStringSubmatch(p.Hash); m != nil && number(m[1]) < 40 {
			return max(leastCost, min(math.MaxInt32<<8, 128*number(m[2])<<number(m[1])))
		}
	}
	return leastCost
}
