package all

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/notation/xml"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/xsd"
)

// shapes are schemas, and a message of each.
var shapes = []struct{ name, part, message string }{
	{"a list of numbers", "occurs: 0..n\ntype: decimal\n", `[1,2.50]`},
	{"a list of one", "occurs: 0..n\ntype: decimal\n", `[1]`},
	{"a list of none", "occurs: 0..n\ntype: decimal\n", `[]`},
	{"a number", "type: decimal\n", `7.10`},
	{"a text", "type: text\n", `"a b"`},
	{"a map", "type: map\nfields: [{name: v, type: integer}]\n", `{"EUR":1,"SEK":2}`},
	{"a map of lists", "type: map\nfields: [{name: v, type: integer, occurs: 0..n}]\n", `{"EUR":[1,2],"SEK":[3]}`},
	{"a map in a record", "fields: [{name: v, type: map, fields: [{name: p, type: record, fields: [{name: q, type: integer}]}]}]\n", `{"v":{"a":{"q":1},"b":{"q":2}}}`},
	{"names that XML does not allow", "notation settings: {other names: escaped}\nfields: [{name: v, type: map, fields: [{name: p, type: integer}]}]\n", `{"v":{"a b":1,"2x":2,"":3,"_x0020_":4,"a:b:c":5,"ø€😀":6}}`},
	{"any", "type: any\n", `{"a":"1","b":{"c":"x"}}`},
	{"a list of records", "occurs: 0..n\nfields: [{name: v, type: integer}]\n", `[{"v":1}]`},
	{"a list in a record", "fields: [{name: v, type: integer}, {name: w, type: integer, occurs: 0..n}]\n", `{"v":1,"w":[1]}`},
	{"lists of lists of lists", "occurs: 0..n\ntype: list\nfields: [{name: at, type: list, occurs: 0..n, fields: [{name: p, type: integer, occurs: 0..n}]}]\n", `[[[1,2],[3]],[],[[4]]]`},
	{"a list of lists in a record", "fields: [{name: v, type: list, occurs: 0..n, fields: [{name: p, type: integer, occurs: 0..n}]}]\n", `{"v":[[1,2],[],[3]]}`},
	{"a number or a text", "type: variant\nfields: [{name: n, type: integer}, {name: t, type: text}]\n", `"abc"`},
	{"a list of numbers and texts", "occurs: 0..n\ntype: variant\nfields: [{name: n, type: integer}, {name: t, type: text}]\n", `["abc",3,"d"]`},
	{"one of two records", "fields: [{name: p, type: variant, occurs: 0..n, fields: [{name: c, type: record, fields: [{name: no, type: text}]}, {name: d, type: record, fields: [{name: iban, type: text}]}]}]\n", `{"p":[{"iban":"1"},{"no":"2"}]}`},
	{"a list or a text", "fields: [{name: v, type: variant, fields: [{name: l, type: integer, occurs: 0..n}, {name: t, type: text}]}]\n", `{"v":[1,2]}`},
	{"records and texts", "fields: [{name: v, type: variant, occurs: 0..n, fields: [{name: r, type: record, fields: [{name: q, type: integer}]}, {name: t, type: text}]}]\n", `{"v":["x",{"q":1}]}`},
	{"null and empty", "fields: [{name: v, type: integer, nullable: true}, {name: t, type: text, nullable: true}]\n", `{"v":null,"t":""}`},
}

// TestEveryShapeIsWrittenInXMLAndReadBack, and the XML Schema that is exported describes what was written.
func TestEveryShapeIsWrittenInXMLAndReadBack(t *testing.T) {
	for _, c := range shapes {
		t.Run(c.name, func(t *testing.T) {
			d := partfile.Parse("x.yaml", []byte("schema: X\nnotation: json\n"+c.part))
			s := schema.Parse("x", d)
			if strings.Contains(c.part, "other names") { // a setting of XML
				d = partfile.Parse("x.yaml", []byte("schema: X\nnotation: xml\n"+c.part))
				s = schema.Parse("x", d)
			}
			require.Empty(t, d.Faults)
			document := copied(t, s, &json.Kind, &xml.Kind, c.message)
			require.Equal(t, c.message, strings.ReplaceAll(copied(t, s, &xml.Kind, &json.Kind, document), "\n", ""), document)
			set, err := xsd.Load("x.xsd", xsd.Export(s), nil)
			require.NoError(t, err, string(xsd.Export(s)))
			set.Validate("in.xml", strings.NewReader(document), func(f *fault.Fault) bool {
				t.Errorf("%s of %s by %s", f, document, xsd.Export(s))
				return true
			})
		})
	}
}

// copied is a message in another notation.
func copied(t *testing.T, s *schema.Schema, from, to *notation.Kind, message string) string {
	r, err := from.NewReader(strings.NewReader(message), notation.Options{Source: "in", Schema: s, Check: true})
	require.NoError(t, err)
	var out bytes.Buffer
	_, err = notation.Copy(r, func(many bool) (notation.Writer, error) {
		return to.NewWriter(&out, notation.Options{Schema: s, Many: many})
	}, nil, func(err error) { t.Errorf("%v in %s", err, message) })
	require.NoError(t, err)
	return out.String()
}

// TestNothingBesideItemsAndEntriesIsLost: a text beside them is a fault, an attribute is counted, or a fault where the schema is strict.
func TestNothingBesideItemsAndEntriesIsLost(t *testing.T) {
	const fields = "fields:\n  - {name: legs, type: list, occurs: 0..n, fields: [{name: at, type: integer, occurs: 0..n}]}\n  - {name: fares, type: map, occurs: 0..1, fields: [{name: fare, type: integer}]}\n"
	for _, c := range []struct{ others, document, fault, ignored string }{
		{"ignore", "<r><legs><at>1</at>stray</legs></r>", `expected elements only, found "stray"`, ""},
		{"ignore", "<r><fares>stray<EUR>1</EUR></fares></r>", `expected elements only, found "stray"`, ""},
		{"ignore", `<r><legs unit="km"><at>1</at></legs></r>`, "", "r/legs/unit"},
		{"ignore", `<r><fares day="1"><EUR>1</EUR></fares></r>`, "", "r/fares/day"},
		{"fault", `<r><legs unit="km"><at>1</at></legs></r>`, "expected no attribute, found unit", ""},
		{"fault", `<r xmlns:p="urn:p"><legs><at>1</at></legs></r>`, "", ""},
	} {
		d := partfile.Parse("x.yaml", []byte("schema: X\nnotation: xml\nnotation settings: {root: r, other fields: "+c.others+"}\n"+fields))
		s := schema.Parse("x", d)
		require.Empty(t, d.Faults)
		var ignored notation.Ignored
		r, err := xml.Kind.NewReader(strings.NewReader(c.document), notation.Options{Source: "in", Schema: s, Check: true, Ignored: &ignored})
		require.NoError(t, err)
		_, err = r.Next()
		if c.fault == "" {
			require.NoError(t, err, c.document)
		} else {
			require.ErrorContains(t, err, c.fault, c.document)
		}
		told := ""
		for path := range ignored.Fields() {
			told += path
		}
		require.Equal(t, c.ignored, told, c.document)
	}
}

// TestTypesThatDoNotFitAreTold: an element that says a type of JSON has what that type has, and nothing else.
func TestTypesThatDoNotFitAreTold(t *testing.T) {
	for inside, want := range map[string]string{
		`<n j:type="number">1 </n>`: "expected a number", `<n j:type="number" x="1">1</n>`: "has no attributes", `<n j:type="number">1<m/></n>`: "no elements", `<n j:type="list">x<item/></n>`: "no text",
		`<n j:type="null">x</n>`: "no text", `<n j:type="boolean">yes</n>`: "true or false", `<n j:type="set"/>`: "number, boolean, null, object or list",
	} {
		r, err := xml.Kind.NewReader(strings.NewReader(`<r xmlns:j="urn:hollowreed:json">`+inside+`</r>`), notation.Options{Source: "in", Exact: true})
		require.NoError(t, err)
		_, err = r.Next()
		require.ErrorContains(t, err, want, inside)
	}
}
