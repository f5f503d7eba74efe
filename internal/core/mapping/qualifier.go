package mapping

import (
	"strconv"
	"strings"
	"unicode"

	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Branch is one of the entries of a list, told apart from the others by a qualifier or by its place.
type Branch struct {
	Name    string // that a formula can use
	Field   string // the qualifier; empty for a place
	Value   string // of the qualifier
	Place   int    // of one known by its place, from 1; -1 is the last
	Meaning string // of the value, where the schema tells it
	Found   int    // in how many of the items at hand
}

// Bounds on what is told apart.
const (
	mostQualifiers = 40 // values of one field
	longQualifier  = 40 // characters of a value
	mostPlaces     = 3
)

// SplitByQualifier lists the branches of a list of records: one for each value that a text of its items has by
// the schema's codes or among the items at hand, and one for each place. A field whose values are all
// different, or too many, tells nothing apart.
func SplitByQualifier(list *schema.Field, items []value.Value) []Branch {
	var out []Branch
	for _, f := range list.Fields {
		if f.Kind == value.Text && !f.List() {
			out = append(out, qualifiers(list.Name, f, items)...)
		}
	}
	for place := 1; place <= mostPlaces; place++ {
		found := 0
		if len(items) >= place {
			found = 1
		}
		out = append(out, Branch{Name: plainName([]string{"first", "second", "third"}[place-1] + "_" + list.Name), Place: place, Found: found})
	}
	return append(out, Branch{Name: plainName("last_" + list.Name), Place: -1, Found: min(1, len(items))})
}

func qualifiers(list string, f *schema.Field, items []value.Value) []Branch {
	var out []Branch
	at := map[string]int{}
	add := func(text, meaning string, found int) {
		if i, there := at[text]; there {
			out[i].Found += found
			return
		}
		name := meaning
		if name == "" {
			name = list + "_" + text
		}
		at[text] = len(out)
		out = append(out, Branch{Name: plainName(name), Field: f.Name, Value: text, Meaning: meaning, Found: found})
	}
	for _, code := range f.Constraints.Codes {
		add(code.Value, code.Meaning, 0)
	}
	for _, item := range items {
		v := item.Field(f.Name)
		if v.Kind() != value.Text || v.Text() == "" || len([]rune(v.Text())) > longQualifier {
			continue
		}
		if add(v.Text(), "", 1); len(out) > mostQualifiers {
			return nil
		}
	}
	if len(f.Constraints.Codes) == 0 && len(items) > 3 && len(out) == len(items) {
		return nil
	}
	return out
}

// plainName makes a name for formulas of a text.
func plainName(text string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(text) {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			r = ' '
		}
		b.WriteRune(r)
	}
	name := strings.Join(strings.Fields(b.String()), "_")
	if !formula.Name(name) {
		name = "branch_" + name
	}
	return name
}

// Condition tells in words which entry is meant: role = "CN", first.
func (b Branch) Condition() string {
	switch {
	case b.Field != "":
		return b.Field + " = " + strconv.Quote(b.Value)
	case b.Place < 0:
		return "last"
	case b.Place == 1:
		return "first"
	}
	return "number " + strconv.Itoa(b.Place)
}

// Formula finds the branch in a list, which is given as a formula.
func (b Branch) Formula(list string) string {
	switch {
	case b.Field != "" && formula.Name(b.Field):
		return "find(" + list + ", ." + b.Field + " == " + strconv.Quote(b.Value) + ")"
	case b.Field != "":
		return "find(" + list + ", #[" + strconv.Quote(b.Field) + "] == " + strconv.Quote(b.Value) + ")"
	case b.Place < 0:
		return "last(" + list + ")"
	case b.Place == 1:
		return "first(" + list + ")"
	}
	return list + "[" + strconv.Itoa(b.Place-1) + "]"
}
