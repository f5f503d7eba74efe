package jsonschema

import (
	"bytes"
	stdjson "encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/validate"
)

// part shows an imported schema's fields as they stand in its part file.
func part(t *testing.T, im *Imported) string {
	t.Helper()
	text := schema.Write(im.Schema)
	d := partfile.Parse("x.yaml", text)
	schema.Parse("x", d)
	require.Empty(t, d.Faults, string(text))
	_, fields, _ := strings.Cut(string(text), "fields:\n")
	return fields
}

func properties(p string) string {
	return `{"type":"object","additionalProperties":false,"required":["a"],"properties":{` + p + `}}`
}

func TestKeywordsBecomeFields(t *testing.T) {
	for _, c := range []struct{ name, in, want string }{
		{
			"types", properties(`"a":{"type":"string"},"b":{"type":"integer"},"c":{"type":"number"},"d":{"type":"boolean"}`),
			"  - name: a\n    type: text\n  - name: b\n    type: integer\n    occurs: 0..1\n  - name: c\n    type: decimal\n    occurs: 0..1\n  - name: d\n    type: boolean\n    occurs: 0..1\n",
		},
		{"null", properties(`"a":{"type":["string","null"]}`), "  - name: a\n    type: text\n    nullable: true\n"},
		{"null by alternative", properties(`"a":{"anyOf":[{"type":"integer","minimum":3},{"type":"null"}]}`), "  - name: a\n    type: integer\n    nullable: true\n    constraints:\n      minimum: 3\n"},
		{"formats", properties(`"a":{"type":"string","format":"date-time"}`), "  - name: a\n    type: timestamp\n"},
		{"bytes", properties(`"a":{"type":"string","contentEncoding":"base64"}`), "  - name: a\n    type: binary\n"},
		{"text", properties(`"a":{"type":"string","minLength":1,"maxLength":9,"pattern":"^[A-Z]+"}`), "  - name: a\n    type: text\n    constraints:\n      min length: 1\n      max length: 9\n      pattern: '[A-Z]+.*'\n"},
		{"codes", properties(`"a":{"enum":["x","y",null]}`), "  - name: a\n    type: text\n    nullable: true\n    constraints:\n      codes:\n        x: \"\"\n        y: \"\"\n"},
		{"bounds", properties(`"a":{"type":"integer","exclusiveMinimum":0,"maximum":10}`), "  - name: a\n    type: integer\n    constraints:\n      maximum: 10\n      exclusive minimum: 0\n"},
		{"places", properties(`"a":{"type":"number","minimum":0.5,"multipleOf":0.01}`), "  - name: a\n    type: decimal\n    constraints:\n      minimum: 0.5\n      fraction digits: 2\n"},
		{"lists", properties(`"a":{"type":"array","minItems":1,"items":{"type":"integer"}}`), "  - name: a\n    type: integer\n    occurs: 1..n\n"},
		{
			"records", properties(`"a":{"type":"object","additionalProperties":false,"properties":{"b":{"type":"string","description":"a note"}}}`),
			"  - name: a\n    type: record\n    fields:\n      - name: b\n        type: text\n        occurs: 0..1\n        notes: a note\n",
		},
		{"references", `{"$ref":"#/$defs/o","$defs":{"o":` + properties(`"a":{"$ref":"#x"}`) + `,"s":{"$anchor":"x","type":"string"}}}`, "  - name: a\n    type: text\n"},
		{"a list of records", `{"type":"array","items":` + properties(`"a":{"type":"string"}`) + `}`, "  - name: a\n    type: text\n"},
		{
			"all of", `{"allOf":[{"type":"object","required":["a"],"properties":{"a":{"type":"string"}}},{"required":["b"],"properties":{"b":{"type":"integer"}}}],"unevaluatedProperties":false}`,
			"  - name: a\n    type: text\n  - name: b\n    type: integer\n",
		},
		{"OpenAPI 3.0 null", properties(`"a":{"type":"string","nullable":true}`), "  - name: a\n    type: text\n    nullable: true\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			im, err := Import("x", "x.json", []byte(c.in), "", nil)
			require.NoError(t, err)
			require.Equal(t, c.want, part(t, im))
			require.Empty(t, im.Notes)
		})
	}
}

func TestWhatCannotBeHeldIsListedWithItsLine(t *testing.T) {
	for in, want := range map[string]string{
		"{\"type\":\"object\",\n\"patternProperties\":{\"^x\":{},\"^y\":{}}}":                                                                             "x.json:2:21: patternProperties",
		properties("\n\"a\":{\"type\":\"string\",\n\"format\":\"idn-hostname\"}"):                                                                         `x.json:3:10: the format idn-hostname`,
		`{"allOf":[{"$ref":"#"},{"type":"object","properties":{"a":{"type":"string"}}}]}`:                                                                 "allOf goes round",
		`{"$ref":"#/$defs/n","$defs":{"n":{"allOf":[{"type":"object","properties":{"a":{"type":"string"}}},{"properties":{"n":{"$ref":"#/$defs/n"}}}]}}}`: "stands inside of itself",
		`{"allOf":[{"$ref":"#"},{"$ref":"#"},{"type":"object","properties":{"a":{"type":"string"}}}]}`:                                                    "too deep",
		`{"$ref":"#","$defs":{}}`: "circle",
		`{"$defs":{"n":` + properties(`"a":{"type":"string"},"n":{"$ref":"#/$defs/n"}`) + `},"$ref":"#/$defs/n"}`: "stands inside of itself",
		properties(`"a":{"$ref":"#/$defs/none"}`):                                                              "leads nowhere",
		properties(`"a":{"type":"string","pattern":"(?=x)"}`):                                                  "the pattern is not checked",
		properties(`"a":{"type":"array","prefixItems":[{"type":"string"}]}`):                                   "all alike",
		properties(`"a":{"not":{"type":"string"}}`):                                                            "not: it is not checked",
		`{"allOf":[` + properties(`"a":{"type":"string"}`) + `,{"properties":{"b":{"type":"integer"}}}]}`:      "additionalProperties: it is about some of the fields",
		properties(`"a":{"maximum":3},"b":{"minLength":1}`):                                                    "no type is said here, as at 1 more places",
		properties(`"a":{"const":{"b":1}}`):                                                                    "const: which objects and lists are allowed",
		properties(`"a":{"oneOf":[{"type":"string"},{"type":"integer"}],"anyOf":[{"const":"a"},{"const":1}]}`): "anyOf: beside oneOf",
	} {
		im, err := Import("x", "x.json", []byte(in), "", nil)
		require.NoError(t, err)
		require.NotEmpty(t, im.Notes, in)
		require.Contains(t, im.Notes.Error(), want)
	}
}

// TestOnlyOneOfSeveralFits: what is of two branches of oneOf is a fault, as the JSON Schema says; it is written again as it was read.
func TestOnlyOneOfSeveralFits(t *testing.T) {
	im, err := Import("x", "x.json", []byte(properties(`"a":{"oneOf":[{"type":"object","properties":{"b":{"type":"string"}}},{"type":"object","properties":{"c":{"type":"string"}}}]}`)), "", nil)
	require.NoError(t, err)
	require.Empty(t, im.Notes)
	require.Contains(t, part(t, im), "told by: only one fits")
	const both = `{"oneOf":[{"type":"object","properties":{"b":{"type":"string"}}},{"type":"object","properties":{"c":{"type":"string"}}}]}`
	original, err := Compile("x.json", []byte(properties(`"a":`+both)), nil)
	require.NoError(t, err)
	exported, err := Compile("y.json", Export(im.Schema, false), nil)
	require.NoError(t, err)
	for in, fits := range map[string]bool{`{"a":{"b":1,"c":"x"}}`: true, `{"a":{"b":"x","c":2}}`: true, `{"a":{"b":"x","c":"y"}}`: false, `{"a":{}}`: false, `{"a":{"b":1,"c":2}}`: false, `{"a":3}`: false} {
		for name, v := range map[string]*Validator{"the original": original, "what is exported": exported} {
			found, err := v.Check("in", []byte(in))
			require.NoError(t, err)
			require.Equal(t, fits, len(found) == 0, "%s of %s", name, in)
		}
		tally, err := validate.File(im.Schema, "x.yaml", &json.Kind, "in", strings.NewReader(in), func(*fault.Fault) bool { return true })
		require.NoError(t, err)
		require.Equal(t, fits, tally.OK(), in)
	}
}

// Several patterns of allOf all hold, and so does that a text is empty.
func TestAllPatternsHold(t *testing.T) {
	im, err := Import("x", "x.json", []byte(properties(`"a":{"allOf":[{"type":"string","pattern":"^a"},{"pattern":"b$"},{"pattern":"c"}]},"e":{"type":"string","maxLength":0}`)), "", nil)
	require.NoError(t, err)
	require.Empty(t, im.Notes)
	text := part(t, im)
	require.Contains(t, text, "pattern: a.*\n")
	require.Contains(t, text, "also pattern:\n        - .*b\n        - .*c.*\n")
	require.Contains(t, text, "pattern: .{0}\n")
}

func TestOpenAPIComponentsAreImported(t *testing.T) {
	openapi := `openapi: 3.0.3
components:
  schemas:
    Order:
      type: object
      additionalProperties: false
      required: [no]
      properties:
        no: {type: integer}
        lines:
          type: array
          items:
            $ref: '#/components/schemas/Line'
    Line:
      type: object
      additionalProperties: false
      properties:
        sku: {type: string, nullable: true}
`
	im, err := Import("order", "api.yaml", []byte(openapi), "/components/schemas/Order", nil)
	require.NoError(t, err)
	require.Empty(t, im.Notes)
	require.Equal(t, "  - name: no\n    type: integer\n  - name: lines\n    type: record\n    occurs: 0..n\n    fields:\n      - name: sku\n        type: text\n        occurs: 0..1\n        nullable: true\n", part(t, im))
	_, err = Import("order", "api.yaml", []byte(openapi), "/components/schemas/None", nil)
	require.ErrorContains(t, err, "expected a schema at /components/schemas/None")
}

func TestOtherFilesAreReferredTo(t *testing.T) {
	im, err := Import("x", "dir/x.json", []byte(properties(`"a":{"$ref":"types.json#/$defs/code"}`)), "", map[string][]byte{"dir/types.json": []byte(`{"$defs":{"code":{"type":"string","maxLength":3}}}`)})
	require.NoError(t, err)
	require.Equal(t, "  - name: a\n    type: text\n    constraints:\n      max length: 3\n", part(t, im))
}

const wide = `schema: X
notation: json
fields:
  - {name: id, type: integer, constraints: {minimum: 10, maximum: 99}}
  - {name: price, type: decimal, constraints: {minimum: 0.05, fraction digits: 2}}
  - {name: sku, type: text, constraints: {pattern: "[A-Z]{2}[0-9]{3,5}"}}
  - {name: status, type: text, constraints: {codes: {open: "", void: ""}}}
  - {name: day, type: date}
  - {name: at, type: timestamp}
  - {name: ok, type: boolean, occurs: 0..1}
  - {name: raw, type: binary, occurs: 0..1}
  - {name: tags, type: text, occurs: 0..3, constraints: {max length: 60}}
  - {name: maybe, type: text, nullable: true}
  - name: line
    type: record
    occurs: 2..n
    fields:
      - {name: text, type: text, occurs: 0..1, constraints: {min length: 2}}
`

func parsed(t *testing.T, text string) *schema.Schema {
	t.Helper()
	d := partfile.Parse("x.yaml", []byte(text))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults)
	return s
}

// TestExportAndImportKeepTheSchema: a schema that was exported and imported again is the same.
func TestExportAndImportKeepTheSchema(t *testing.T) {
	s := parsed(t, wide)
	im, err := Import("x", "x.json", Export(s, false), "", nil)
	require.NoError(t, err)
	require.Empty(t, im.Notes)
	require.Equal(t, string(schema.Write(s)), string(schema.Write(im.Schema)))
}

// TestBothChecksAgree: what our check says of a message, the standard validator says of it by the
// exported schema, for good messages and for messages that were spoilt in one place.
func TestBothChecksAgree(t *testing.T) {
	s := parsed(t, wide)
	v, err := Compile("x.json", Export(s, false), nil)
	require.NoError(t, err)
	spoil := []struct{ name, path, to string }{
		{"as made", "", ""},
		{"type", "id", `"x"`},
		{"below", "id", "9"},
		{"above", "id", "100"},
		{"places", "price", "1.005"},
		{"pattern", "sku", `"ab1"`},
		{"code", "status", `"lost"`},
		{"date", "day", `5`},
		{"null", "id", "null"},
		{"null allowed", "maybe", "null"},
		{"too many", "tags", `["a","b","c","d"]`},
		{"too few", "line", `[{}]`},
		{"not a list", "tags", `"a"`},
		{"unknown", "other", "1"},
		{"short", "line", `[{"text":"x"},{}]`},
		{"removed", "sku", "-"},
	}
	for _, kind := range sample.Kinds {
		for seed := range uint64(10) {
			msg, ft := sample.Make(s, kind, seed)
			require.Nil(t, ft)
			n, err := all.Named("json")
			require.NoError(t, err)
			var b bytes.Buffer
			w, err := n.NewWriter(&b, notation.Options{Schema: s})
			require.NoError(t, err)
			require.NoError(t, w.Write(msg))
			require.NoError(t, w.Close())
			for _, c := range spoil {
				text := spoilt(t, b.Bytes(), c.path, c.to)
				found, err := v.Check("m.json", text)
				require.NoError(t, err)
				require.Equal(t, len(found) == 0, ours(t, s, text), "%s %d, %s: %s", kind, seed, c.name, text)
			}
		}
	}
}

func spoilt(t *testing.T, message []byte, path, to string) []byte {
	t.Helper()
	if path == "" {
		return message
	}
	var m map[string]stdjson.RawMessage
	require.NoError(t, stdjson.Unmarshal(message, &m))
	m[path] = stdjson.RawMessage(to)
	if to == "-" {
		delete(m, path)
	}
	out, err := stdjson.Marshal(m)
	require.NoError(t, err)
	return out
}

func ours(t *testing.T, s *schema.Schema, text []byte) bool {
	t.Helper()
	n, err := all.Named("json")
	require.NoError(t, err)
	r, err := n.NewReader(bytes.NewReader(text), notation.Options{Source: "m", Schema: s})
	require.NoError(t, err)
	v, err := r.Next()
	ok := err == nil
	if ok {
		s.Check(v, func(*fault.Fault) { ok = false })
	}
	return ok
}

func TestExportOfAList(t *testing.T) {
	text := string(Export(parsed(t, "schema: X\nnotation: csv\nfields:\n  - {name: d, type: date, pattern: dd.MM.yyyy, notes: n}\n"), true))
	require.Contains(t, text, `"type": "array"`)
	require.Contains(t, text, `"format": "date"`, "in JSON a date stands in standard form")
	v, err := Compile("x.json", []byte(text), nil)
	require.NoError(t, err)
	found, err := v.Check("m", []byte(`[{"d":"2031-03-01"},{}]`))
	require.NoError(t, err)
	require.Len(t, found, 1)
}

// doubled is a schema in which each of n levels takes in the next one twice, in two ways.
func doubled(n int) []byte {
	var b strings.Builder
	b.WriteString(`{"type": "object", "allOf": [{"$ref": "#/$defs/a0"}], "$defs": {`)
	for i := range n {
		fmt.Fprintf(&b, `"a%d": {"properties": {"p%d": {"type": "string"}}, "required": ["p%d"], "allOf": [{"$ref": "#/$defs/a%d"}, {"allOf": [{"$ref": "#/$defs/a%d"}]}]},`, i, i, i, i+1, i+1)
	}
	fmt.Fprintf(&b, `"a%d": {"type": "object"}}}`, n)
	return []byte(b.String())
}

// TestSchemasThatDoubleAreBounded: they are read in full, and checking with them ends.
func TestSchemasThatDoubleAreBounded(t *testing.T) {
	im, err := Import("doubled", "doubled.json", doubled(30), "", nil)
	require.NoError(t, err)
	require.Len(t, im.Schema.Root.Fields, 30)
	require.Equal(t, 1, im.Schema.Root.Field("p29").Min)
	v, err := Compile("doubled.json", doubled(30), nil)
	require.NoError(t, err)
	_, err = v.Check("d.json", []byte(`{"p1": "x"}`))
	require.ErrorContains(t, err, "looks at the values of the document more than")
	v, err = Compile("doubled.json", doubled(8), nil)
	require.NoError(t, err)
	for range 3 {
		faults, err := v.Check("d.json", []byte(`{"p1": "x"}`))
		require.NoError(t, err)
		require.NotEmpty(t, faults)
	}
}

func FuzzImport(f *testing.F) {
	f.Add([]byte(properties(`"a":{"$ref":"#"}`)))
	f.Add([]byte(order))
	f.Fuzz(func(t *testing.T, in []byte) {
		im, err := Import("x", "x.json", in, "", nil)
		if err == nil {
			require.NotNil(t, im.Schema.Root.Layout(), fmt.Sprint(im.Notes))
		}
	})
}

// TestABrokenFileBesideIsSaid: a document that cannot be read is as none, however often it is referred to.
func TestABrokenFileBesideIsSaid(t *testing.T) {
	im, err := Import("x", "x.json", []byte(properties(`"a":{"$ref":"b.json"},"b":{"$ref":"b.json#/c"},"c":{"$ref":"other.json"}`)), "", map[string][]byte{"b.json": []byte("{")})
	require.NoError(t, err)
	require.Contains(t, im.Notes.Error(), "leads nowhere")
}
