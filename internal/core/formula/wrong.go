package formula

import (
	"strings"
	"unicode"
)

// Span is a piece of a formula, in characters from 0, with what is wrong there.
type Span struct {
	From int    `json:"from"`
	To   int    `json:"to"`
	Text string `json:"text"`
}

// Wrong are the pieces of a formula that are at fault in a scope: of each fault the name, text or sign at which it was found. An empty
// formula has none.
func Wrong(source string, scope *Scope) (list []Span) {
	if strings.TrimSpace(source) == "" {
		return nil
	}
	_, faults := Compile(source, scope)
	text := []rune(source)
	for _, f := range faults {
		from := max(0, min(f.Place.Column-1, len(text)-1))
		if unicode.IsSpace(text[from]) { // found behind the end: the last piece stands for it
			from = pieceBefore(text, from)
		}
		what := f.What()
		if f.Fix != "" {
			what += ". " + f.Fix
		}
		list = append(list, Span{From: from, To: pieceEnd(text, from), Text: what})
	}
	return list
}

// pieceBefore is where the last name or sign before a place begins.
func pieceBefore(text []rune, from int) int {
	for from > 0 && unicode.IsSpace(text[from]) {
		from--
	}
	for from > 0 && wordRune(text[from]) && wordRune(text[from-1]) {
		from--
	}
	return from
}

// pieceEnd is where a name with its path, a number, or a text ends that begins at a place; anything else is one character.
func pieceEnd(text []rune, from int) int {
	if strings.ContainsRune("\"'`", text[from]) {
		return textEnd(text, from)
	}
	to := from
	for to < len(text) && (wordRune(text[to]) || text[to] == '.' && to+1 < len(text) && wordRune(text[to+1])) {
		to++
	}
	return max(to, from+1)
}

func textEnd(text []rune, from int) int {
	for to := from + 1; to < len(text); to++ {
		switch {
		case text[to] == '\\' && text[from] != '`':
			to++
		case text[to] == text[from]:
			return to + 1
		}
	}
	return len(text)
}
