package draft

import (
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/core/words"
)

// Sentence is what somebody says they want: the price and the currency for a plate and a route, in kroner.
type Sentence struct {
	Want, Given []string // names, as price and vehicle_class
}

var (
	wordForm  = regexp.MustCompile(`[\p{L}\p{N}_-]+`)
	givenFrom = regexp.MustCompile(`(?i)\s(?:for|by|of|from|given|with)\s`)
	inUnit    = regexp.MustCompile(`(?i),?\s+in\s+([\p{L}]+)\s*$`)
	between   = regexp.MustCompile(`(?i)\s*(?:,|;|\band\b|\bwith\b|\bplus\b)\s*`)
)

// naming are words that name nothing.
var naming = strings.Fields("a an the its his her their this that these those some any one what which how is are was be long much many get find show give given me us please of to i want need")

// money are words that say that a price has a currency.
var money = strings.Fields("kroner krone nok sek dkk isk euro euros eur dollars usd pounds gbp currency")

// ReadSentence takes a sentence apart: what is wanted stands before the first of for, by, of, from, given and with, what is given behind
// it. A currency at its end is wanted, too.
func ReadSentence(text string) (s Sentence) {
	text = strings.TrimRight(strings.Join(strings.Fields(text), " "), ".!? ")
	unit := ""
	if m := inUnit.FindStringSubmatchIndex(text); m != nil {
		unit, text = strings.ToLower(text[m[2]:m[3]]), text[:m[0]]
	}
	want, given := text, ""
	if at := givenFrom.FindStringIndex(text); at != nil {
		want, given = text[:at[0]], text[at[1]:]
	}
	s.Want, s.Given = namesIn(want), namesIn(given)
	if slices.Contains(money, unit) && !slices.Contains(s.Want, "currency") {
		s.Want = append(s.Want, "currency")
	}
	return s
}

// namesIn are the things that a piece of a sentence lists, as names.
func namesIn(text string) (list []string) {
	for _, thing := range between.Split(text, -1) {
		var parts []string
		for _, w := range wordForm.FindAllString(thing, -1) {
			if !slices.Contains(naming, strings.ToLower(w)) {
				parts = append(parts, words.Split(w)...)
			}
		}
		if name := strings.Join(parts, "_"); name != "" && !slices.Contains(list, name) {
			list = append(list, name)
		}
	}
	return list
}

// Named are leaves of which nothing but the names is known.
func Named(names []string, where string) (list []*Leaf) {
	for _, name := range names {
		f := schema.Scalar(name, value.AnyKind)
		if where != "" { // what callers send are texts
			f = schema.Scalar(name, value.Text)
		}
		l := NewLeaf([]string{name}, f, true, false)
		l.Where = where
		list = append(list, l)
	}
	return list
}
