// Package match ranks names by what a person types to find one of them: the same order in every list that is searched.
package match

import (
	"strings"
	"unicode"
)

// How well a name goes with what is typed, the best first.
const (
	Exact  = iota // the name itself
	Begins        // the name begins with it
	Word          // a word of the name begins with it: in houseNumber and house_number number is one
	Holds         // the name holds it
	About         // a word of the description begins with it
)

// leastAbout is how much must be typed before descriptions are looked into, in characters.
const leastAbout = 3

// Rank says how well a name with a description goes with what is typed, in any case; ok is false where it does not. What is
// empty goes with everything.
func Rank(typed, name, about string) (rank int, ok bool) {
	typed, lower := strings.ToLower(typed), strings.ToLower(name)
	switch {
	case typed == lower:
		return Exact, true
	case strings.HasPrefix(lower, typed):
		return Begins, true
	case beginsWord(name, typed):
		return Word, true
	case strings.Contains(lower, typed):
		return Holds, true
	case len([]rune(typed)) >= leastAbout && beginsWord(about, typed):
		return About, true
	}
	return 0, false
}

// beginsWord says whether a word of a text begins with a lower-case text.
func beginsWord(text, typed string) bool {
	runes := []rune(text)
	for i, r := range runes {
		begins := i == 0 || !alnum(runes[i-1]) || unicode.IsUpper(r) && !unicode.IsUpper(runes[i-1])
		if begins && alnum(r) && strings.HasPrefix(strings.ToLower(string(runes[i:])), typed) {
			return true
		}
	}
	return false
}

func alnum(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
