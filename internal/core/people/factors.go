package people

import (
	"crypto/subtle"
	"slices"
	"strings"
	"time"

	"github.com/pquerna/otp/totp"
)

// FactorKind is what somebody proves that they are themselves with, beside a password.
type FactorKind string

// The kinds of factors.
const (
	CodeApp FactorKind = "code app" // codes by time (RFC 6238)
	Passkey FactorKind = "passkey"  // a key of their own (W3C Web Authentication)
)

// Entry is what is left to do for somebody whose password was right.
type Entry string

// The ways in.
const (
	In    Entry = ""              // nothing
	Prove Entry = "second factor" // they have one, and show it
	Enrol Entry = "enrolment"     // their role has to have one, and they have none
)

// EntryOf is what somebody with a role and a number of factors has to do after their password was
// right. required are the roles whose people have to have a factor.
func EntryOf(role Role, factors int, required []Role) Entry {
	switch {
	case factors > 0:
		return Prove
	case slices.Contains(required, role):
		return Enrol
	}
	return In
}

const (
	// codeStep is for how long a code is shown, and codeSkew how many steps a clock may be off: what RFC 6238 recommends (§4.1, §5.2).
	codeStep = 30 * time.Second
	codeSkew = 1
	// RecoveryLength is how many characters a recovery code has: each is one of 32, so that there are 60 bits.
	RecoveryLength = 12
)

// CodeStep tells of which step of time a code of a code app is, if it is of one that counts at now.
// secret is in base 32 (RFC 4648).
func CodeStep(secret, code string, now time.Time) (step int64, right bool) {
	code = strings.ReplaceAll(strings.TrimSpace(code), " ", "")
	for _, off := range []int64{0, -codeSkew, codeSkew} {
		at := now.Add(time.Duration(off) * codeStep)
		want, err := totp.GenerateCode(secret, at)
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			step, right = at.Unix()/int64(codeStep/time.Second), true
		}
	}
	return step, right
}

// WrittenCode is a recovery code as it is shown: in groups of four.
func WrittenCode(code string) string {
	var out []string
	for c := range slices.Chunk([]rune(strings.ToLower(code)), 4) {
		out = append(out, string(c))
	}
	return strings.Join(out, "-")
}

// ReadCode is a recovery code as it is known, however somebody typed it.
func ReadCode(code string) string {
	return strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' {
			return -1
		}
		return r
	}, strings.ToUpper(strings.TrimSpace(code)))
}

// RoleOf is the highest role that what a provider says of somebody gives them; "" when it gives none.
func RoleOf(said []string, roles map[string]Role) Role {
	best := -1
	for _, s := range said {
		if role, known := roles[s]; known {
			best = max(best, slices.Index(Roles, role))
		}
	}
	if best < 0 {
		return ""
	}
	return Roles[best]
}
