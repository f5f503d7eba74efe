package mapping

import (
	"slices"
	"strings"

	"hollowreed/internal/core/words"
)

// nameWords are the words of a field's name and of the names around it, in a form in which they can be
// compared: small letters, without separators, abbreviations written out.
type nameWords struct {
	last, around, all []string
	name              string // the words of the name
	whole             string // those of the whole path
}

// empty words say nothing of what a field is.
var emptyWords = map[string]bool{"of": true, "the": true, "a": true, "and": true, "field": true, "value": true, "item": true, "items": true, "record": true}

func wordsOf(path []string) nameWords {
	var w nameWords
	last := len(path) - 1
	for i, name := range path {
		parts := words.Split(name)
		if i == last {
			w.last = parts
		} else {
			w.around = append(w.around, parts...)
		}
		w.all = append(w.all, parts...)
	}
	w.name, w.whole = strings.Join(w.last, ""), strings.Join(w.all, "")
	return w
}

// overlap is the share of words that two lists have in common (Dice's coefficient), from 0 to 1. Words
// that say nothing do not count, and a plural is its singular.
func overlap(a, b []string) float64 {
	a, b = telling(a), telling(b)
	if len(a) == 0 || len(b) == 0 {
		return 0
	}
	common := 0
	for _, w := range a {
		if slices.Contains(b, w) {
			common++
		}
	}
	return 2 * float64(common) / float64(len(a)+len(b))
}

func telling(list []string) []string {
	var out []string
	for _, w := range list {
		w = words.Singular(w)
		if !emptyWords[w] && !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	return out
}
