package compare

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/value"
)

// field makes a field of a random type with random bounds; one in three holds others.
func field(r *rand.Rand, name string) string {
	if r.IntN(3) > 0 {
		return single(r, name)
	}
	inner := func(names ...string) string {
		fields := make([]string, len(names))
		for i, n := range names {
			fields[i] = single(r, n)
		}
		return "fields: [" + strings.Join(fields, ", ") + "]"
	}
	out := "{name: " + name + ", "
	switch r.IntN(6) {
	case 0:
		out += "type: any"
	case 1:
		out += "type: map, fields: [" + plainly(r) + "]"
		if r.IntN(2) == 0 {
			out += fmt.Sprintf(", constraints: {min entries: %d}", 1+r.IntN(2))
		}
	case 2:
		out += "type: list, fields: [" + strings.Replace(plainly(r), "}", ", occurs: 0..n}", 1) + "], occurs: 0..n"
	case 3:
		out += "type: record, other fields: " + []string{"fault", "ignore"}[r.IntN(2)] + ", " + inner([]string{"p", "q"}[:1+r.IntN(2)]...)
	case 4:
		out += "type: record, fields: [" + single(r, "p") + ", {name: rest, type: map, occurs: 0..1, others: true, fields: [" + plainly(r) + "]}]"
	default:
		branches := []string{"{name: yes, type: boolean}", "{name: number, type: integer}", "{name: word, type: text}", "{name: parts, type: record, fields: [{name: p, type: text}]}"}
		r.Shuffle(len(branches), func(i, j int) { branches[i], branches[j] = branches[j], branches[i] })
		out += "type: variant, fields: [" + strings.Join(branches[:2+r.IntN(3)], ", ") + "]"
	}
	if r.IntN(3) == 0 && !strings.Contains(out, "type: list") {
		out += ", occurs: 0..1"
	}
	return out + "}"
}

// plainly is a field without constraints that occurs once.
func plainly(r *rand.Rand) string {
	return "{name: value, type: " + []string{"text", "integer", "decimal", "boolean", "any"}[r.IntN(5)] + "}"
}

// single makes a field of single values.
func single(r *rand.Rand, name string) string {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	kind := pick("text", "text", "integer", "decimal", "boolean", "date")
	var must []string
	bound := func(chance int, name string, n int) {
		if r.IntN(chance) == 0 {
			must = append(must, fmt.Sprintf("%s: %d", name, n))
		}
	}
	switch kind {
	case "text":
		bound(3, "min length", 1+r.IntN(3))
		bound(3, "max length", 4+r.IntN(3))
		if len(must) == 0 && r.IntN(3) == 0 {
			codes := []string{"A: a", "B: b", "C: c", "D: d"}[:1+r.IntN(4)]
			must = append(must, "codes: {"+strings.Join(codes, ", ")+"}")
		}
	case "integer", "decimal":
		bound(3, "minimum", r.IntN(5))
		bound(3, "maximum", 10+r.IntN(5))
		if kind == "decimal" {
			bound(3, "fraction digits", 1+r.IntN(3))
		}
	}
	out := "{name: " + name + ", type: " + kind
	if len(must) > 0 {
		out += ", constraints: {" + strings.Join(must, ", ") + "}"
	}
	if r.IntN(2) == 0 {
		out += ", occurs: " + pick("0..1", "1..3", "0..n", "1..n")
	}
	if r.IntN(5) == 0 {
		out += ", nullable: true"
	}
	return out + "}"
}

// fields makes a schema's fields, of which some are left out.
func fields(r *rand.Rand, keep map[string]string) string {
	var out string
	for _, name := range []string{"a", "b", "c"} {
		if r.IntN(8) == 0 {
			continue
		}
		f, there := keep[name]
		if !there || r.IntN(3) == 0 {
			f = field(r, name)
		}
		keep[name] = f
		out += "  - " + f + "\n"
	}
	if out == "" {
		return "  - {name: a, type: text}\n"
	}
	return out
}

// known is a record without the fields that a schema does not have.
func known(v value.Value, by *schema.Schema) value.Value {
	var names []string
	var values []value.Value
	for i, name := range v.Record().Layout.Names {
		if by.Root.Field(name) != nil {
			names, values = append(names, name), append(values, v.Slot(i))
		}
	}
	return value.NewRecord(value.NewLayout(names...), values)
}

// refused says why a message of one schema is refused by another; empty where it is not.
func refused(t *testing.T, text []byte, by *schema.Schema) string {
	t.Helper()
	r, err := json.NewReader(bytes.NewReader(text), notation.Options{Schema: by, Check: true})
	if err != nil {
		return err.Error()
	}
	if _, err := r.Next(); err != nil {
		return err.Error()
	}
	return ""
}

// TestWhoIsNotBrokenIsNotRefused: where no change breaks those who write by the old schema, every message of theirs is one
// of the new; where none breaks those who read by the old, every message of the new is one that they can read.
func TestWhoIsNotBrokenIsNotRefused(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	kept := map[string]int{}
	for round := range 4000 {
		of := map[string]string{}
		oldText := fields(r, of)
		nowText := fields(r, of)
		old, now := parse(t, oldText), parse(t, nowText)
		var readers, writers bool
		for _, c := range Schemas(old, now) {
			readers, writers = readers || c.Readers, writers || c.Writers
		}
		for who, pair := range map[string][2]*schema.Schema{"writers": {old, now}, "readers": {now, old}} {
			if who == "writers" && writers || who == "readers" && readers {
				continue
			}
			kept[who]++
			for seed := range uint64(6) {
				kind := sample.Kinds[int(seed)%len(sample.Kinds)]
				v, f := sample.Make(pair[0], kind, seed+uint64(round))
				if f != nil {
					continue
				}
				text := (&json.Appender{}).Append(nil, v)
				if who == "readers" {
					text = (&json.Appender{}).Append(nil, known(v, pair[1])) // what they do not know they pass by
				}
				if who == "writers" {
					require.Empty(t, refused(t, text, pair[0]), "a sample of\n%s is %s", oldText, text)
				}
				require.Empty(t, refused(t, text, pair[1]), "%s are not broken by\n%sbecoming\n%sbut %s is refused", who, oldText, nowText, text)
			}
		}
	}
	require.Greater(t, kept["writers"], 300)
	require.Greater(t, kept["readers"], 300)
}
