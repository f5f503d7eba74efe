package infer

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Bounds on what is taken for types of line.
const (
	mostKinds = 8
	longestID = 3 // characters that tell the type of a fixed-width line
	longCell  = 8 // characters of a field that tells the type of a delimited line
	fewLines  = 3
)

// kind is one type of line: what its lines begin with, and the types whose lines stand inside.
type kind struct {
	key   string
	lines []string
	inner []*kind
	many  bool // more than one stands in one record around it
	some  bool // it is missing in some record around it
}

// kinds tells lines of several types apart by what they begin with, and nests them by their order:
// the first type is the outermost. It is nil where all lines look alike.
func kinds(ls []string, settings schema.Settings, as *schema.Notation) *kind {
	if as.Cells {
		return typesOfCells(ls, settings)
	}
	for n := 1; n <= longestID; n++ {
		k := nested(ls, func(l string) (string, int) {
			r := []rune(l)
			return string(r[:min(n, len(r))]), len(r)
		}, n)
		if k != nil {
			k.lengthen()
			return k
		}
	}
	return nil
}

func typesOfCells(ls []string, settings schema.Settings) *kind {
	return nested(ls, func(l string) (string, int) {
		cells := split(l, settings.Delimiter, settings.Quote)
		return cells[0], len(cells)
	}, longCell)
}

// lengthen makes what the lines begin with longer while the lines of every type go on with the same
// capital letter: HD and LN are told by both of their letters.
func (k *kind) lengthen() {
	all := k.all()
	for n := len(k.key); n < longestID; n++ {
		for _, t := range all {
			if len(t.lines[0]) <= n || t.lines[0][n] < 'A' || t.lines[0][n] > 'Z' || slices.ContainsFunc(t.lines, func(l string) bool { return l[n] != t.lines[0][n] }) {
				return
			}
		}
		for _, t := range all {
			t.key = t.lines[0][:n+1]
		}
	}
}

func (k *kind) all() []*kind {
	all := []*kind{k}
	for _, in := range k.inner {
		all = append(all, in.all()...)
	}
	return all
}

// nested groups lines by a key if all lines with one key have one size, and sizes differ.
func nested(ls []string, keyed func(string) (key string, size int), longest int) *kind {
	if len(ls) < fewLines {
		return nil
	}
	byKey, sizes := map[string]*kind{}, map[string]int{}
	var order []string
	for _, l := range ls {
		key, size := keyed(l)
		if !named(key, longest) || sizes[key] != 0 && sizes[key] != size || size == 0 {
			return nil
		}
		k := byKey[key]
		if k == nil {
			if len(byKey) == mostKinds {
				return nil
			}
			k = &kind{key: key}
			byKey[key], sizes[key] = k, size
		}
		k.lines = append(k.lines, l)
		order = append(order, key)
	}
	differ := false
	for _, size := range sizes {
		differ = differ || size != sizes[order[0]]
	}
	if !differ || len(byKey) == len(ls) {
		return nil
	}
	return nest(order, byKey)
}

// named says whether a key can be the name of a type: letters and digits, not too many.
func named(key string, longest int) bool {
	for _, r := range key {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			return false
		}
	}
	return key != "" && utf8.RuneCountInString(key) <= longest
}

// nest finds inside of which type each stands: of the innermost one whose lines, with those inside,
// are all that its lines follow, and in more than one of which it stands; else of the outermost.
func nest(order []string, byKey map[string]*kind) *kind {
	root := byKey[order[0]]
	seen := []*kind{root}
	for _, key := range order {
		k := byKey[key]
		if slices.Contains(seen, k) {
			continue
		}
		around := root
		for i := len(seen) - 1; i > 0; i-- {
			if follows(order, key, seen[i]) {
				around = seen[i]
				break
			}
		}
		around.inner = append(around.inner, k)
		seen = append(seen, k)
	}
	occurrences(order, root)
	return root
}

// has says whether a key is that of the type or of one inside of it.
func (k *kind) has(key string) bool {
	return k.key == key || slices.ContainsFunc(k.inner, func(in *kind) bool { return in.has(key) })
}

func follows(order []string, key string, around *kind) bool {
	spans, last := 0, false
	for i, o := range order {
		switch {
		case o == around.key:
			last = false
		case o == key:
			if before := order[i-1]; before != key && !around.has(before) {
				return false
			}
			if !last {
				spans, last = spans+1, true
			}
		}
	}
	return spans > 1 && between(order, key, around.key)
}

// between says whether the outer type's lines follow lines of the inner one somewhere: a type that
// only ends the whole is inside of what is around both.
func between(order []string, inner, outer string) bool {
	for i := 1; i < len(order); i++ {
		if order[i] == outer && order[i-1] == inner {
			return true
		}
	}
	return false
}

// occurrences notes for all types inside how often they stand in one record.
func occurrences(order []string, k *kind) {
	for _, in := range k.inner {
		n, spans := 0, 0
		for _, o := range append(order[:len(order):len(order)], k.key) {
			switch o {
			case k.key:
				if spans > 0 && n == 0 {
					in.some = true
				}
				spans, n = spans+1, 0
			case in.key:
				n++
				in.many = in.many || n > 1
			}
		}
		occurrences(order, in)
	}
}

// fields are the fields of the type's line, and the records of the types inside.
func (k *kind) fields(as *schema.Notation, settings schema.Settings) []*schema.Field {
	var fields []*schema.Field
	if as.Cells {
		for i := range split(k.lines[0], settings.Delimiter, settings.Quote) {
			fields = append(fields, textField(fmt.Sprintf("field_%d", i+1)))
		}
		fields[0].Name, fields[0].WireFormat.Discriminator = "kind", k.key
	} else {
		fields = k.cut()
	}
	for _, in := range k.inner {
		f := &schema.Field{Name: "lines_" + strings.ToLower(in.key), Kind: value.RecordKind, Max: 1, Fields: in.fields(as, settings)}
		if !in.some {
			f.Min = 1
		}
		if in.many {
			f.Max, f.Min = schema.Many, 0
		}
		if !as.Cells {
			f.WireFormat.StartsWith = in.key
		}
		fields = append(fields, f)
	}
	return fields
}

// cut proposes the columns behind what the type's lines begin with.
func (k *kind) cut() []*schema.Field {
	at := utf8.RuneCountInString(k.key)
	rest := make([]string, len(k.lines))
	for i, l := range k.lines {
		rest[i] = string([]rune(l)[at:])
	}
	var fields []*schema.Field
	for i, c := range Columns(rest) {
		f := textField(fmt.Sprintf("field_%d", i+1))
		f.WireFormat.From, f.WireFormat.To = at+c[0]+1, at+c[1]
		fields = append(fields, f)
	}
	return fields
}
