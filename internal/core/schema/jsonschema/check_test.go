package jsonschema

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const order = `{
  "$schema": "https://json-schema.org/draft/2020-12/schema",
  "type": "object",
  "required": ["no", "lines"],
  "additionalProperties": false,
  "properties": {
    "no": {"type": "integer", "minimum": 1},
    "state": {"enum": ["open", "void"]},
    "lines": {"type": "array", "minItems": 1, "items": {"$ref": "#/$defs/line"}}
  },
  "$defs": {"line": {"type": "object", "required": ["sku"], "properties": {
    "sku": {"type": "string", "pattern": "^[A-Z]{3}"},
    "qty": {"type": "number", "exclusiveMinimum": 0}}}}
}`

func TestEveryFaultIsFoundWithBothPlaces(t *testing.T) {
	v, err := Compile("order.json", []byte(order), nil)
	require.NoError(t, err)
	found, err := v.Check("in.json", []byte("{\n  \"no\": 0,\n  \"state\": \"lost\",\n  \"extra\": 1,\n  \"lines\": [\n    {\"sku\": \"AB1\"},\n    {\"qty\": 0}\n  ]\n}"))
	require.NoError(t, err)
	var got []string
	for _, f := range found {
		got = append(got, fmt.Sprintf("%s [%s] rule %s:%d %s", f.Error(), f.Code, f.Rule.Source, f.Rule.Line, f.Rule.Path))
	}
	require.ElementsMatch(t, []string{
		"in.json:2:9 /no: expected at least 1, found 0 [range] rule order.json:7 /properties/no/minimum",
		`in.json:3:12 /state: expected "open" · "void", found "lost" [pattern] rule order.json:8 /properties/state/enum`,
		"in.json:4:12 /extra: expected no property of this name, found it [unknown] rule order.json:5 /additionalProperties",
		`in.json:6:13 /lines/0/sku: expected text like ^[A-Z]{3}, found "AB1" [pattern] rule order.json:12 /$defs/line/properties/sku/pattern`,
		"in.json:7:5 /lines/1: expected the property sku, found none [required] rule order.json:11 /$defs/line/required",
		"in.json:7:13 /lines/1/qty: expected more than 0, found 0 [range] rule order.json:13 /$defs/line/properties/qty/exclusiveMinimum",
	}, got)
}

func TestAGoodDocumentHasNoFaults(t *testing.T) {
	v, err := Compile("order.json", []byte(order), nil)
	require.NoError(t, err)
	found, err := v.Check("in.json", []byte(`{"no": 12345678901234567890, "lines": [{"sku": "ABC", "qty": 0.1}]}`))
	require.NoError(t, err)
	require.Empty(t, found)
}

func TestNothingIsFetched(t *testing.T) {
	for _, ref := range []string{"http://127.0.0.1:1/x.json", "other.json", "file:///etc/passwd"} {
		_, err := Compile("a.json", []byte(`{"$ref": "`+ref+`"}`), nil)
		require.ErrorContains(t, err, "nothing is fetched")
	}
	v, err := Compile("a.json", []byte(`{"$ref": "other.json#/$defs/x"}`), map[string][]byte{"other.json": []byte(`{"$defs":{"x":{"type":"string"}}}`)})
	require.NoError(t, err)
	found, err := v.Check("in", []byte("1"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	require.Equal(t, "other.json", found[0].Rule.Source)
}

func TestWhatIsNoSchemaOrNoJSONIsSaidWithItsPlace(t *testing.T) {
	for text, want := range map[string]string{
		"{":                                  "a.json:1",
		"{\"type\":\n  \"strnig\"}":          "a.json:2:3 /type",
		"{\"a\":1,\"a\":2}":                  "a.json:1",
		strings.Repeat("[", 600):             "deeper than",
		`{"pattern": "("}`:                   "a.json:1",
		`{"$ref": "#/$defs/none"}`:           "a.json",
		`{"allOf":[{"minimum":"1"}]}` + "\n": "/allOf/0/minimum",
	} {
		_, err := Compile("a.json", []byte(text), nil)
		require.Error(t, err)
		require.Contains(t, err.Error(), want, text)
		require.NotContains(t, err.Error(), "file:///")
	}
	v, err := Compile("a.json", []byte("true"), nil)
	require.NoError(t, err)
	_, err = v.Check("in.json", []byte("{\"a\": 1,\n}"))
	require.ErrorContains(t, err, "in.json:1:8")
}

// TestTheVerdictsAreTheStandards runs the cases that the validator's module carries.
func TestTheVerdictsAreTheStandards(t *testing.T) {
	dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/santhosh-tekuri/jsonschema/v6").Output()
	require.NoError(t, err)
	n := 0
	for _, draft := range []string{"draft7", "draft2020-12"} {
		files, err := filepath.Glob(filepath.Join(strings.TrimSpace(string(dir)), "testdata", "Extra-Test-Suite", "tests", draft, "*.json"))
		require.NoError(t, err)
		for _, file := range files {
			var groups []struct {
				Description string
				Schema      json.RawMessage
				Tests       []struct {
					Description string
					Data        json.RawMessage
					Valid       bool
				}
			}
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			require.NoError(t, json.Unmarshal(text, &groups))
			for _, g := range groups {
				v, err := Compile("schema.json", g.Schema, nil)
				if err != nil {
					t.Logf("%s: %s: %s", filepath.Base(file), g.Description, err)
					continue
				}
				for _, c := range g.Tests {
					found, err := v.Check("data.json", c.Data)
					require.NoError(t, err)
					require.Equal(t, c.Valid, len(found) == 0, "%s: %s: %s", filepath.Base(file), g.Description, c.Description)
					n++
				}
			}
		}
	}
	t.Logf("%d cases", n)
	require.Positive(t, n)
}
