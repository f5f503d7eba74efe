package mapping

import (
	"slices"
	"strings"
	"unicode"
)

// nameWords are the words of a field's name and of the names around it, in a form in which they can be
// compared: small letters, without separators, abbreviations written out.
type nameWords struct {
	last, around, all []string
	name              string // the words of the name
	whole             string // those of the whole path
}

// abbreviations that are common in the names of fields.
var abbreviations = map[string]string{
	"no": "number", "nr": "number", "num": "number", "nbr": "number", "qty": "quantity", "amt": "amount", "addr": "address", "adr": "address",
	"dt": "date", "tm": "time", "ts": "timestamp", "desc": "description", "descr": "description", "txt": "text", "msg": "message",
	"cust": "customer", "acct": "account", "acc": "account", "org": "organisation", "organization": "organisation", "dept": "department",
	"tel": "phone", "telephone": "phone", "ph": "phone", "mob": "mobile", "email": "mail", "cd": "code", "curr": "currency", "ccy": "currency",
	"id": "id", "ident": "id", "identifier": "id", "ref": "reference", "pct": "percent", "wt": "weight", "wgt": "weight", "len": "length",
	"lvl": "level", "max": "greatest", "min": "least", "avg": "average", "cnt": "count", "inv": "invoice", "ord": "order", "prod": "product",
	"cat": "category", "cfg": "setting", "src": "source", "dest": "destination", "dst": "destination", "lat": "latitude", "lon": "longitude",
	"lng": "longitude", "fname": "firstname", "lname": "lastname", "surname": "lastname", "postcode": "zip", "postal": "zip", "st": "street", "str": "street",
}

// empty words say nothing of what a field is.
var emptyWords = map[string]bool{"of": true, "the": true, "a": true, "and": true, "field": true, "value": true, "item": true, "items": true, "record": true}

func wordsOf(path []string) nameWords {
	var w nameWords
	last := len(path) - 1
	for i, name := range path {
		parts := split(name)
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

// split cuts a name into words at separators, at capital letters and between letters and digits. A
// prefix that stands for a namespace is left out.
func split(name string) []string {
	if _, local, ok := strings.Cut(name, ":"); ok {
		name = local
	}
	var parts []string
	var b strings.Builder
	flush := func() {
		if b.Len() == 0 {
			return
		}
		word := strings.ToLower(b.String())
		if full, ok := abbreviations[word]; ok {
			word = full
		}
		parts = append(parts, word)
		b.Reset()
	}
	runes := []rune(name)
	for i, r := range runes {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			flush()
			continue
		case i > 0 && unicode.IsUpper(r) && (unicode.IsLower(runes[i-1]) || i+1 < len(runes) && unicode.IsLower(runes[i+1])):
			flush()
		case i > 0 && unicode.IsDigit(r) != unicode.IsDigit(runes[i-1]):
			flush()
		}
		b.WriteRune(r)
	}
	flush()
	return parts
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

func telling(words []string) []string {
	var out []string
	for _, w := range words {
		if len(w) > 3 && strings.HasSuffix(w, "s") && !strings.HasSuffix(w, "ss") {
			w = strings.TrimSuffix(w, "s")
		}
		if !emptyWords[w] && !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	return out
}
