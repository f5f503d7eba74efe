package mapping

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/value"
)

func demoSchema(t testing.TB, id string) *schema.Schema {
	t.Helper()
	text, err := os.ReadFile("../../../demo/schemas/" + id + ".yaml")
	require.NoError(t, err)
	d := partfile.Parse(id, text)
	s := schema.Parse(id, d)
	require.Empty(t, d.Faults)
	return s
}

// TestTheIdentityKeepsEveryMessage: a schema matched by name onto itself makes, of every made-up message,
// that message.
func TestTheIdentityKeepsEveryMessage(t *testing.T) {
	for _, id := range []string{"booking", "crew", "incident", "invoice", "sailing-event", "station"} {
		t.Run(id, func(t *testing.T) {
			s := demoSchema(t, id)
			schemas := func(string) *schema.Schema { return s }
			text := fmt.Sprintf("mapping: Same\nfrom:\n  - {name: source, schema: %s}\nto: %s\nrules: []\n", id, id)
			compiled := func(text string) *Plan {
				return Parse("m", partfile.Parse("m.yaml", []byte(text))).Compile(schemas, formula.Env{})
			}
			p := compiled(text)
			for _, pr := range p.Match("") {
				require.GreaterOrEqual(t, pr.Score, sameName, pr.Field)
				changed, err := partfile.Insert([]byte(text), []any{"rules"}, -1, partfile.Ordered{{Key: "field", Value: pr.Field}, {Key: string(pr.Kind), Value: pr.Text}, {Key: "as", Value: pr.As}})
				require.NoError(t, err)
				text = string(changed)
			}
			p = compiled(text)
			require.Empty(t, p.Faults, text)
			require.Empty(t, p.Match(""), "all is matched")
			for seed := range uint64(60) {
				v, ft := sample.Make(s, []sample.Kind{sample.Maximal, sample.Minimal}[seed%2], seed)
				require.Nil(t, ft)
				fr := p.NewFrame()
				fr.Set(value.Value{}, v)
				res := p.Apply(fr)
				require.Empty(t, res.Faults)
				var enc json.Appender
				want := string(enc.Append(nil, v))
				var again json.Appender
				require.Equal(t, want, string(again.Append(nil, res.Value)))
			}
		})
	}
}

// TestResultsDoNotDependOnTheOrderOfRules, of rules, variables and fields alike.
func TestResultsDoNotDependOnTheOrderOfRules(t *testing.T) {
	text, err := os.ReadFile("../../../demo/mappings/booking-to-invoice.yaml")
	require.NoError(t, err)
	whole := strings.NewReplacer(`lookup("cargo-articles", .class).vat_percent`, "25", `lookup("cargo-articles", class).vat_percent`, "25", `lookup("cargo-articles", class).article`, "class", `lookup("cargo-articles", class).title`, "class", "freight.plate(plate)", "plate").Replace(string(text))
	head, body, _ := strings.Cut(whole, "rules:\n")
	rules := strings.Split(strings.TrimPrefix(body, "  - field"), "\n  - field")
	schemas := map[string]*schema.Schema{"booking": demoSchema(t, "booking"), "invoice": demoSchema(t, "invoice")}
	in, err := os.ReadFile("../../../demo/samples/bookings.json")
	require.NoError(t, err)
	first := messages(t, schemas["booking"], string(in))[0]
	want := ""
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 1))
		r.Shuffle(len(rules), func(i, j int) { rules[i], rules[j] = rules[j], rules[i] })
		d := partfile.Parse("m.yaml", []byte(head+"rules:\n  - field"+strings.TrimRight(strings.Join(rules, "\n  - field"), "\n")+"\n"))
		p := Parse("m", d).Compile(func(id string) *schema.Schema { return schemas[id] }, formula.Env{})
		require.Empty(t, d.Faults)
		require.Empty(t, p.Faults)
		fr := p.NewFrame()
		fr.Set(value.Value{}, first)
		res := p.Apply(fr)
		require.Empty(t, res.Faults)
		var enc json.Appender
		got := string(enc.Append(nil, res.Value))
		if want == "" {
			want = got
		}
		require.Equal(t, want, got)
	}
}

// TestBadInputIsAFaultInPlace: what would take for ever, or cannot be, is a fault at the rule's field within
// a moment.
func TestBadInputIsAFaultInPlace(t *testing.T) {
	for rule, want := range map[string]string{
		`text(sum(map(numbersFrom(1, 100000), sum(map(numbersFrom(1, 100), #)))))`: "the formula ",
		`text(sum(map(numbersFrom(1, 10000000), #)))`:                              "at most 100,000 numbers",
		`text(sum(map(numbersFrom(1, 100000), count(numbersFrom(1, 100000)))))`:    "the formula ",
		`repeat("x", 1000000000)`:                                                  "64 MiB",
		`text(qty0 / 0)`:                                                           "division by zero",
		`text(power(9, 1000) * power(9, 1000) * power(9, 1000) * power(9, 1000) * power(9, 1000) * power(9, 1000) * power(9, 1000))`: "more than 1000 digits",
		`text(date("2031-02-31"))`: "2031-02-31",
		`text(atZone(date("2031-10-26"), time("02:30:00"), "Europe/Oslo"))`: "twice",
		`text(integer("12a"))`: `"12a"`,
		`text(decimal("1,5"))`: `"1,5"`,
	} {
		rule = strings.Replace(rule, "qty0", "rate", 1)
		p := billing(t, "rules:\n  - field: note\n    formula: '"+rule+"'\n")
		began := time.Now()
		_, res := billed(t, p, sampleOrder)
		require.Less(t, time.Since(began), time.Minute, rule) // without its bounds it would take hours
		require.NotEmpty(t, res.Faults, rule)
		require.Equal(t, "note", res.Faults[0].Field, rule)
		require.Contains(t, res.Faults.Error(), want, rule)
	}
}
