package people

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// OfToken is how the record calls somebody who acts by a token of theirs.
func OfToken(name, token string) string { return name + tokenSays + token + ")" }

const tokenSays = " (token "

// Called is the person that the record names, whether they acted by a token or themselves.
func Called(who string) string {
	name, _, _ := strings.Cut(who, tokenSays)
	return name
}

// Mentioned are the names of people that a text mentions with an @ before them, each once, in the order in which
// they are mentioned. Capitals do not count; of two names that fit the longer is meant.
func Mentioned(text string, names []string) []string {
	byLength := slices.SortedFunc(slices.Values(names), func(a, b string) int { return len(b) - len(a) })
	out, lower := []string{}, strings.ToLower(text)
	for i, r := range lower {
		before, _ := utf8.DecodeLastRuneInString(lower[:i])
		if r != '@' || i > 0 && wordly(before) {
			continue
		}
		rest := lower[i+1:]
		at := slices.IndexFunc(byLength, func(n string) bool {
			after, there := strings.CutPrefix(rest, strings.ToLower(n))
			next, _ := utf8.DecodeRuneInString(after)
			return n != "" && there && (after == "" || !wordly(next))
		})
		if at >= 0 && !slices.Contains(out, byLength[at]) {
			out = append(out, byLength[at])
		}
	}
	return out
}

func wordly(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
