package jsonschema

import (
	"bytes"
	"io"
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
	"hollowreed/internal/core/value"
)

// shapes are schemas of messages that are no records of named fields alone, each with messages: those that it allows, and others.
var shapes = []struct {
	name     string
	schema   string
	messages string // one a line
	fields   string // the part's, where the test says
}{
	{
		"a map", `{"type":"object","additionalProperties":{"type":"number","minimum":0},"propertyNames":{"maxLength":3},"minProperties":1}`,
		`{"EUR":1,"SEK":11.25}
{}
{"EURO":1}
{"EUR":"1"}
{"EUR":-1}
{"EUR":null}
[]
null`,
		"type: map\nconstraints:\n  max length: 3\n  min entries: 1\nfields:\n  - name: value\n    type: decimal\n    constraints:\n      minimum: 0\n",
	},
	{
		"names by a pattern", `{"type":"object","patternProperties":{"^[A-Z]{3}$":{"type":"object","required":["buy"],"properties":{"buy":{"type":"number"}}}},"additionalProperties":false}`,
		`{"EUR":{"buy":1}}
{"eur":{"buy":1}}
{"EUR":{}}
{"EUR":{"buy":1,"more":true}}
{}`, "",
	},
	{
		"named fields and a map", `{"type":"object","required":["id"],"properties":{"id":{"type":"integer"},"others":{"type":"string"}},"additionalProperties":{"type":"integer"}}`,
		`{"id":1,"x":2,"y":3}
{"id":1,"x":"2"}
{"id":1,"others":"a text"}
{"id":1,"others":5}
{"id":1,"other others":5}
{"x":1}`, "",
	},
	{
		"card or transfer by a field", `{"type":"object","required":["pay"],"additionalProperties":false,"properties":{"pay":{"oneOf":[
			{"title":"card","type":"object","required":["kind","number"],"properties":{"kind":{"const":"card"},"number":{"type":"string","pattern":"^[0-9]{4}$"}},"additionalProperties":false},
			{"title":"transfer","type":"object","required":["kind","account"],"properties":{"kind":{"const":"transfer"},"account":{"type":"string"}},"additionalProperties":false}]}}}`,
		`{"pay":{"kind":"card","number":"1234"}}
{"pay":{"account":"A","kind":"transfer"}}
{"pay":{"kind":"card","number":"12"}}
{"pay":{"kind":"cash"}}
{"pay":{"number":"1234"}}
{"pay":{"kind":"card","account":"A"}}
{"pay":"cash"}
{}`,
		"notation settings:\n  other fields: fault\nfields:\n  - name: pay\n    type: variant\n    told by: kind\n    fields:\n      - name: card\n        type: record\n        fields:\n          - name: kind\n            type: text\n            constraints:\n              codes:\n                card: \"\"\n          - name: number\n            type: text\n            constraints:\n              pattern: '[0-9]{4}'\n      - name: transfer\n        type: record\n        fields:\n          - name: kind\n            type: text\n            constraints:\n              codes:\n                transfer: \"\"\n          - name: account\n            type: text\n",
	},
	{
		"by which field is there", `{"type":"object","properties":{"p":{"anyOf":[
			{"type":"object","required":["card"],"properties":{"card":{"type":"string"}},"additionalProperties":false},
			{"type":"object","required":["iban","bic"],"properties":{"iban":{"type":"string"},"bic":{"type":"string"}},"additionalProperties":false}]}}}`,
		`{"p":{"card":"1"}}
{"p":{"iban":"1","bic":"2"}}
{"p":{"iban":"1"}}
{"p":{"card":"1","bic":"2"}}
{"p":{}}
{}`, "",
	},
	{
		"text or number", `{"type":"object","properties":{"a":{"type":["string","number","null"]},"b":{"type":["integer","string"],"enum":[1,2,"many"]}}}`,
		`{"a":"x"}
{"a":1.50}
{"a":null}
{"a":true}
{"a":[]}
{"b":1}
{"b":"many"}
{"b":3}
{"b":"2"}
{"b":null}`, "",
	},
	{
		"date or text", `{"type":"object","properties":{"a":{"anyOf":[{"type":"string","format":"date"},{"type":"string","maxLength":4}]}}}`,
		`{"a":"2031-02-03"}
{"a":"soon"}
{"a":"later on"}
{"a":1}`, "",
	},
	{
		"lists of lists", `{"type":"object","required":["at"],"properties":{"at":{"type":"array","minItems":1,"items":{"type":"array","minItems":2,"maxItems":3,"items":{"type":"number"}}}}}`,
		`{"at":[[1,2],[3.5,4,5]]}
{"at":[[1]]}
{"at":[[1,2,3,4]]}
{"at":[]}
{"at":[1,2]}
{"at":[["1",2]]}
{"at":[null]}
{}`, "",
	},
	{
		"lists of lists of lists", `{"type":"object","properties":{"c":{"type":"array","items":{"type":"array","items":{"type":"array","items":{"type":"integer"}}}}}}`,
		`{"c":[[[1],[]],[]]}
{"c":[[[1],2]]}
{"c":[]}`, "",
	},
	{
		"a list as the message", `{"type":"array","minItems":1,"items":{"type":"object","required":["id"],"properties":{"id":{"type":"integer"}}}}`,
		`[{"id":1},{"id":2}]
[{"id":"1"}]
[{"id":1},{}]`,
		"occurs: 1..n\nfields:\n  - name: id\n    type: integer\n",
	},
	{
		"a list of texts as the message", `{"type":"array","items":{"type":"string","maxLength":2}}`,
		`["a","bc"]
["abc"]
[1]`, "",
	},
	{
		"a list of lists as the message", `{"type":"array","items":{"type":"array","items":{"type":"integer"}}}`,
		`[[1,2],[]]
[1]
[["1"]]`, "",
	},
	{
		"a value as the message", `{"type":"integer","minimum":3}`, `3
2
"3"
3.0
null
{}`, "",
	},
	{
		"a variant as the message", `{"oneOf":[{"type":"integer"},{"type":"object","additionalProperties":false,"required":["e"],"properties":{"e":{"type":"string"}}}]}`, `3
{"e":"x"}
{"f":1}
"x"`, "",
	},
	{
		"anything", `{"type":"object","required":["a"],"properties":{"a":{},"b":true,"c":{"type":"object"},"d":{"type":"array"}}}`,
		`{"a":{"x":[1,{"y":null}]},"b":1.50}
{"a":null,"c":{"x":1},"d":[1,"a",null]}
{"a":1,"c":[]}
{"a":1,"d":{}}
{"b":1}`, "",
	},
	{
		"null among items", `{"type":"object","properties":{"l":{"type":"array","items":{"type":["integer","null"]}},"m":{"type":["array","null"],"items":{"type":"integer"}}}}`,
		`{"l":[1,null]}
{"l":null}
{"m":null}
{"m":[null]}
{"m":[1]}
{"l":["1"]}`, "",
	},
	{
		"a list that must be there", `{"type":"object","required":["l"],"properties":{"l":{"type":"array","items":{"type":"integer"}},"o":{"type":"array","minItems":2,"items":{"type":"integer"}},"one":{"type":"array","maxItems":1,"items":{"type":"integer"}},"u":{"type":"array","uniqueItems":true,"items":{}}}}`,
		`{"l":[]}
{}
{"l":[],"o":[1]}
{"l":[],"o":[1,2]}
{"l":[],"one":[1]}
{"l":[],"one":[1,2]}
{"l":[],"u":[1,2,{"a":1}]}
{"l":[],"u":[1,1.0]}
{"l":[],"u":[{"a":1},{"a":1}]}`, "",
	},
	{
		"bounds", `{"type":"object","properties":{"a":{"type":"number","exclusiveMinimum":0,"exclusiveMaximum":1.5,"multipleOf":0.25},"b":{"type":"integer","multipleOf":7,"enum":[7,14,28]},"c":{"const":true},"d":{"type":"number","enum":[1.5,2]}}}`,
		`{"a":0.25}
{"a":0}
{"a":1.5}
{"a":0.3}
{"b":14}
{"b":21}
{"b":15}
{"c":true}
{"c":false}
{"d":1.50}
{"d":2.0}
{"d":3}`, "",
	},
	{
		"dates and times of every kind", `{"type":"object","properties":{"at":{"type":"string","format":"date-time"},"local":{"type":"string","format":"date-time-local","pattern":"^\\d{4}-(0[1-9]|1[0-2])-(0[1-9]|[12]\\d|3[01])T([01]\\d|2[0-3]):[0-5]\\d:[0-5]\\d(\\.\\d{1,9})?$"},"clock":{"type":"string","format":"time"},"lasts":{"type":"string","format":"duration"}}}`,
		`{"at":"2031-03-09T06:12:00+02:00"}
{"at":"2031-03-09T06:12:00"}
{"local":"2031-03-09T06:12:00"}
{"local":"2031-03-09T06:12:00Z"}
{"clock":"06:12:00Z"}
{"clock":"06:12:00-03:30"}
{"clock":"06:12:00"}
{"lasts":"P1DT2H"}
{"lasts":"1 day"}
{"lasts":"P"}`, "",
	},
	{
		"formats", `{"type":"object","properties":{"id":{"type":"string","format":"uuid"},"to":{"type":"string","format":"email"},"at":{"type":"string","format":"uri"},"host":{"type":"string","format":"hostname"},"v4":{"type":"string","format":"ipv4"},"v6":{"type":"string","format":"ipv6"}}}`,
		`{"id":"0190b6a2-7c4e-7b1a-9d35-2f0a1b2c3d4e"}
{"id":"0190b6a2"}
{"to":"mira@skerry.example"}
{"to":"mira"}
{"at":"https://skerry.example/a?b=c"}
{"at":"/a"}
{"host":"quay.skerry.example"}
{"host":"-quay"}
{"v4":"192.0.2.1"}
{"v4":"192.0.2.256"}
{"v6":"2001:db8::1"}
{"v6":"2001:db8"}`, "",
	},
	{
		"a choice of choices", `{"anyOf":[{"anyOf":[{"type":"integer"},{"type":"boolean"}]},{"type":"string"}]}`, `1
true
"x"
1.5
[]`, "",
	},
	{
		"a mapping of discriminators", `{"type":"object","properties":{"s":{"oneOf":[{"$ref":"#/$defs/Ferry"},{"$ref":"#/$defs/Barge"}],"discriminator":{"propertyName":"craft","mapping":{"f":"#/$defs/Ferry","b":"#/$defs/Barge"}}}},
		"$defs":{"Ferry":{"type":"object","required":["craft","seats"],"properties":{"craft":{"enum":["f"]},"seats":{"type":"integer"}}},"Barge":{"type":"object","required":["craft"],"properties":{"craft":{"enum":["b"]},"tons":{"type":"number"}}}}}`,
		`{"s":{"craft":"f","seats":3}}
{"s":{"craft":"b","tons":1.5}}
{"s":{"craft":"f"}}
{"s":{"craft":"x"}}`, "",
	},
	{
		"open and closed records", `{"type":"object","additionalProperties":false,"properties":{"a":{"type":"object","properties":{"b":{"type":"integer"}}},"c":{"type":"object","additionalProperties":false,"properties":{"d":{"type":"integer"}}}}}`,
		`{"a":{"b":1,"x":2}}
{"c":{"d":1,"x":2}}
{"x":1}`, "",
	},
	{
		"one or a list of them", `{"type":"object","properties":{"l":{"oneOf":[{"type":"array","items":{"type":"integer"}},{"type":"integer"}]}}}`,
		`{"l":1}
{"l":[1,2]}
{"l":"1"}
{"l":{}}`, "",
	},
}

// TestShapesAreHeldExactly: the imported schema, the part made of it, that part read again and the schema exported from it say the
// same of every message; and a message that is allowed is written as it was read.
func TestShapesAreHeldExactly(t *testing.T) {
	for _, c := range shapes {
		t.Run(c.name, func(t *testing.T) {
			original, err := Compile("x.json", []byte(c.schema), nil)
			require.NoError(t, err)
			im, err := Import("x", "x.json", []byte(c.schema), "", nil)
			require.NoError(t, err)
			require.Empty(t, im.Notes)
			text := schema.Write(im.Schema)
			d := partfile.Parse("x", text)
			s := schema.Parse("x", d)
			require.Empty(t, d.Faults, string(text))
			require.Equal(t, string(text), string(schema.Write(s)))
			if c.fields != "" {
				require.Equal(t, c.fields, strings.SplitN(string(text), "notation: json\n", 2)[1])
			}
			exported := Export(s, false)
			again, err := Compile("e.json", exported, nil)
			require.NoError(t, err, string(exported))
			allowed := 0
			for message := range strings.SplitSeq(c.messages, "\n") {
				want, err := original.Check("m", []byte(message))
				require.NoError(t, err)
				back, err := again.Check("m", []byte(message))
				require.NoError(t, err)
				require.Equal(t, len(want) == 0, len(back) == 0, "%s\n%s\n%s", message, exported, text)
				for _, of := range []*schema.Schema{im.Schema, s} {
					read, out := through(t, of, message)
					require.Equal(t, len(want) == 0, read == "", "%s: %s\n%s", message, read, text)
					if read == "" {
						require.JSONEq(t, less.Replace(message), out)
						allowed++
					}
				}
			}
			require.Positive(t, allowed)
			for _, kind := range sample.Kinds {
				for seed := range uint64(5) {
					made, ft := sample.Make(s, kind, seed)
					require.Nil(t, ft, string(text))
					message := string(json.Bytes(made))
					if s.Message.List() {
						message = "[" + message + "]"
					}
					for _, by := range []*Validator{original, again} {
						found, err := by.Check("m", []byte(message))
						require.NoError(t, err)
						require.Empty(t, found, "%s %d: %s\n%s", kind, seed, message, text)
					}
				}
			}
		})
	}
}

// less takes from messages what a schema may leave out or say in another way: fields that it lacks, and one for a list of one.
var less = strings.NewReplacer(`,"more":true`, "", `,"x":2}}`, "}}", `{"l":1}`, `{"l":[1]}`)

// through reads a message, checks it while it is read and once more behind that, and writes it; told are the first faults.
func through(t *testing.T, s *schema.Schema, message string) (told, written string) {
	t.Helper()
	n, err := all.Named("json")
	require.NoError(t, err)
	r, err := n.NewReader(strings.NewReader(message), notation.Options{Source: "m", Schema: s, Check: true})
	require.NoError(t, err)
	var records []value.Value
	for {
		v, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err.Error(), ""
		}
		s.Check(v, func(f *fault.Fault) { told = f.Error() })
		require.Empty(t, told, "the reader found no fault in %s", message)
		records = append(records, v)
	}
	if r.Many() && !s.Message.List() {
		return "several messages", ""
	}
	var b bytes.Buffer
	w, err := n.NewWriter(&b, notation.Options{Schema: s, Many: r.Many()})
	require.NoError(t, err)
	for _, v := range records {
		require.NoError(t, w.Write(v))
	}
	require.NoError(t, w.Close())
	return "", b.String()
}
