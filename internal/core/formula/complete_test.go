package formula

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

func desk() *Scope {
	s := NewScope()
	record := schema.Record("desk",
		schema.Scalar("number", value.Text),
		schema.Record("customer", schema.Scalar("name", value.Text), schema.Scalar("number", value.Integer), schema.Record("home", schema.Scalar("city", value.Text))),
		schema.Scalar("round_trip", value.Boolean), schema.Scalar("x:y", value.Text))
	s.Define("desk", Type{Kind: value.RecordKind, Fields: record})
	s.Define("other", Type{Kind: value.RecordKind, Fields: schema.Record("o", schema.Scalar("a", value.Text))})
	s.Open("desk")
	return s
}

// TestCompletion: | is the caret; what is suggested, and what it takes the place of in brackets; … stands
// for more.
func TestCompletion(t *testing.T) {
	for in, want := range map[string]string{
		"|":                       "[] number customer round_trip other desk",
		"num|":                    "[num] number…",
		"cust|omer.name":          "[customer] customer",
		"customer.|":              "[] name number home",
		"customer.na|me + 1":      "[name] name",
		"customer.home.|":         "[] city",
		"customer?.home?.c|":      "[c] city",
		"desk.custo|":             "[custo] customer",
		"rou|":                    "[rou] round_trip round()…",
		"RO|":                     "[RO] round_trip round()…",
		"upper(customer.n|":       "[n] name number",
		"upper(nam|":              "[nam]…",
		"other.|":                 "[] a",
		"nowhere.|":               "[]",
		"number.|":                "[]",
		"f(1).|":                  "[]",
		"map(lines, .pr|":         "[pr]…",
		`"custo|`:                 "[]",
		`concat("a", 'it\'s c|`:   "[]",
		`concat("a\"", custom|`:   "[custom] customer",
		"number == \"x\" and ot|": "[ot] other…",
		"number|":                 "[number]",
		"customer.name|":          "[name]",
		"today()|":                "[]",
		"today() |":               "[]",
		"12|":                     "[12]",
		"number |":                "[]",
		"number + |":              "[] number customer round_trip other desk",
		"trip|":                   "[trip] round_trip…",
		"number a|":               "[a] and …",
		"number not|":             "[not] not in …",
		"customer.name c|":        "[c] contains …",
		"number and |":            "[] number customer round_trip other desk",
		"f(1) star|":              "[star] startsWith ",
		"tr|":                     "[tr] true…",
	} {
		before, _, _ := strings.Cut(in, "|")
		source := strings.Replace(in, "|", "", 1)
		h := Complete(source, len([]rune(before)), desk())
		got := "[" + string([]rune(source)[h.From:h.To]) + "]"
		for _, g := range h.Suggestions {
			got += " " + g.Insert
		}
		if begin, rest := strings.CutSuffix(want, "…"); rest {
			require.True(t, strings.HasPrefix(got, begin), "%s: %s", in, got)
			continue
		}
		require.Equal(t, want, got, in)
	}
	for in, form := range map[string]string{"number ?? |": "a ?? b", "round_trip ? |": "condition ? a : b", `number in |`: "a in list", "number matches|": "a matches pattern", "1 >= |": "a < b, a <= b, a > b, a >= b", "number|": ""} {
		before, _, _ := strings.Cut(in, "|")
		h := Complete(before, len([]rune(before)), desk())
		got := ""
		if h.Sign != nil {
			got = h.Sign.Form
		}
		require.Equal(t, form, got, in)
	}
	require.Empty(t, Complete("x", 99, desk()).Function)
	require.LessOrEqual(t, len(Complete("a", 1, desk()).Suggestions), mostSuggested)
}

// TestOnlyWhatIsTypedIsTaken: the first suggestion may be taken without being chosen only when the word before the caret is
// the beginning of it.
func TestOnlyWhatIsTypedIsTaken(t *testing.T) {
	for in, want := range map[string]bool{
		"num|": true, "NUM|": true, "customer.na|": true, "|": false, "customer.|": false, "number|": false, "today()|": false,
		"trip|": false, "cust|omer": false, "nowhere.x|": false,
	} {
		before, _, _ := strings.Cut(in, "|")
		require.Equal(t, want, Complete(strings.Replace(in, "|", "", 1), len([]rune(before)), desk()).Typed, in)
	}
}

// TestSignatureHelp: the innermost function around the caret, and its argument.
func TestSignatureHelp(t *testing.T) {
	for in, want := range map[string]struct {
		name string
		arg  int
	}{
		"round(|":                {"round", 0},
		"round(number, |2)":      {"round", 1},
		"round(max(1, 2, |), 2)": {"max", 2},
		"round(max(1, 2), |":     {"round", 1},
		"join([1, 2, |], \"(\")": {"join", 0},
		"join(x, \"a, (b\", |":   {"join", 2},
		"number + |":             {"", 0},
		"nothing(|":              {"", 0},
		"upper(nothing(1, |":     {"upper", 0},
		"round(1) + |":           {"", 0},
	} {
		before, _, _ := strings.Cut(in, "|")
		h := Complete(strings.Replace(in, "|", "", 1), len([]rune(before)), desk())
		if want.name == "" {
			require.Nil(t, h.Function, in)
			continue
		}
		require.NotNil(t, h.Function, in)
		require.Equal(t, want.name, h.Function.Name, in)
		require.Equal(t, want.arg, h.Argument, in)
	}
}

// TestEverySuggestionIsUnderstood: each field that is suggested compiles in its place.
func TestEverySuggestionIsUnderstood(t *testing.T) {
	for _, source := range []string{"", "customer.", "desk.customer.home.", "other."} {
		h := Complete(source, len(source), desk())
		require.NotEmpty(t, h.Suggestions, source)
		for _, g := range h.Suggestions {
			_, faults := Compile(source+g.Insert, desk())
			require.Empty(t, faults, source+g.Insert)
		}
	}
}
