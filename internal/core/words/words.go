// Package words cuts the names of fields and operations into words in a form in which they can be compared.
package words

import (
	"strings"
	"unicode"
)

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

// Split cuts a name into words at separators, at capital letters and between letters and digits. A
// prefix that stands for a namespace is left out.
func Split(name string) []string {
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

// Singular is a word without the ending of its plural.
func Singular(w string) string {
	switch {
	case len(w) > 4 && strings.HasSuffix(w, "ies"):
		return w[:len(w)-3] + "y"
	case len(w) > 3 && strings.HasSuffix(w, "s") && !strings.HasSuffix(w, "ss") && !strings.HasSuffix(w, "us"):
		return w[:len(w)-1]
	}
	return w
}
