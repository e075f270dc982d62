package people

import (
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
)

// LockOut is how often somebody may fail to sign in within a while before every
// further try, right or wrong, is refused for as long.
type LockOut struct {
	Tries  int
	Within time.Duration
}

// DefaultLockOut is five tries in a quarter of an hour. (Common practice; OWASP's
// Authentication Cheat Sheet leaves the numbers to the application.)
var DefaultLockOut = LockOut{Tries: 5, Within: 15 * time.Minute}

// Until says when the next try is allowed, given when the earlier ones failed. The
// zero time means now.
func (l LockOut) Until(failed []time.Time, now time.Time) time.Time {
	var recent []time.Time
	for _, at := range failed {
		if now.Sub(at) < l.Within {
			recent = append(recent, at)
		}
	}
	if len(recent) < l.Tries {
		return time.Time{}
	}
	last := recent[0]
	for _, at := range recent {
		if at.After(last) {
			last = at
		}
	}
	return last.Add(l.Within)
}

// How long a password must and may be, in characters. NIST SP 800-63B §5.1.1.2 asks
// for at least 8 and to allow at least 64, and for no rules on which characters.
const (
	shortestPassword = 10
	longestPassword  = 200
	// fewestGuesses is how many tries somebody needs at least who begins with common passwords, names, words, keys beside each other and
	// dates. Below it a password falls to guessing over a network although tries are limited. (zxcvbn, Wheeler, USENIX Security 2016.)
	fewestGuesses = 1e6
	guessed       = 64 // characters of it that are looked at so
)

// CheckPassword says why a password is not taken, or nil.
func CheckPassword(password, name string) error {
	n := utf8.RuneCountInString(password)
	switch {
	case n < shortestPassword:
		return fmt.Errorf("the password has %d characters; take at least %d, such as three or four words", n, shortestPassword)
	case n > longestPassword:
		return fmt.Errorf("the password has %d characters; %d are the most", n, longestPassword)
	case strings.Count(password, password[:1]) == len(password):
		return errors.New("the password is one character again and again; take three or four words")
	case len(name) >= 4 && strings.Contains(strings.ToLower(password), strings.ToLower(name)):
		return errors.New("the password has the sign-in name in it; take three or four other words")
	case zxcvbn.PasswordStrength(string([]rune(password)[:min(n, guessed)]), []string{name, "tide", "marker"}).Guesses < fewestGuesses:
		return errors.New("the password is among those that are tried first: it is common, or made of what is; take three or four words that do not belong together")
	}
	return nil
}

// CheckName says why a sign-in name is not taken, or nil.
func CheckName(name string) error {
	if n := utf8.RuneCountInString(name); n < 2 || n > 60 {
		return fmt.Errorf("a sign-in name has 2 to 60 characters; this has %d", n)
	}
	if strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f || r == '\u202e' }) || name != strings.TrimSpace(name) {
		return errors.New("a sign-in name has no control characters and no space at its ends")
	}
	return nil
}
