package infer_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/http/openapi"
	"hollowreed/internal/connector/soap/wsdl"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/infer"
	"hollowreed/internal/core/schema/jsonschema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/schema/xsd"
)

// shaped reads a schema part of a notation.
func shaped(t *testing.T, as, written, shape string) *schema.Schema {
	t.Helper()
	d := partfile.Parse("x.yaml", []byte("schema: X\nnotation: "+as+"\n"+written+shape))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults)
	return s
}

// owns makes sure that what was taken reads the messages that it was taken from or for, and that what is made of it passes it
// and the judge of where it came from.
func owns(t *testing.T, taken *schema.Schema, as string, messages []string, judge func(made string)) {
	t.Helper()
	for _, text := range messages {
		_, first := check(t, taken, as, text)
		require.NoError(t, first, "%s\n%s", schema.Write(taken), text)
	}
	for seed := range uint64(6) {
		for _, kind := range []sample.Kind{sample.Typical, sample.Minimal, sample.Maximal} {
			made := message(t, taken, as, 1, kind, seed)
			_, first := check(t, taken, as, made)
			require.NoError(t, first, "%s\n%s", schema.Write(taken), made)
			if judge != nil {
				judge(made)
			}
		}
	}
}

// messages are made of a schema.
func messages(t *testing.T, s *schema.Schema, as string) (list []string) {
	t.Helper()
	for seed := range uint64(6) {
		for _, kind := range []sample.Kind{sample.Typical, sample.Minimal, sample.Maximal} {
			list = append(list, message(t, s, as, 1, kind, seed))
		}
	}
	return list
}

// TestEveryWayInOwnsItsData: a JSON Schema, an XML Schema, an OpenAPI and a WSDL document, several samples, and columns.
func TestEveryWayInOwnsItsData(t *testing.T) {
	for i, shape := range shapes {
		t.Run(fmt.Sprintf("json schema %d", i), func(t *testing.T) {
			s := shaped(t, "json", "", shape)
			text := jsonschema.Export(s, false)
			im, err := jsonschema.Import("x", "x.json", text, "", nil)
			require.NoError(t, err)
			v, err := jsonschema.Compile("x.json", text, nil)
			require.NoError(t, err)
			owns(t, im.Schema, "json", messages(t, s, "json"), func(made string) {
				faults, err := v.Check("made", []byte(made))
				require.NoError(t, err)
				require.Empty(t, faults, made)
			})
		})
		t.Run(fmt.Sprintf("openapi %d", i), func(t *testing.T) {
			s := shaped(t, "json", "", shape)
			var of map[string]any
			require.NoError(t, json.Unmarshal(jsonschema.Export(s, false), &of))
			delete(of, "$schema")
			content := map[string]any{"application/json": map[string]any{"schema": of}}
			document, err := json.Marshal(map[string]any{
				"openapi": "3.1.0", "info": map[string]any{"title": "X", "version": "1"},
				"paths": map[string]any{"/x": map[string]any{"post": map[string]any{
					"operationId": "putX", "requestBody": map[string]any{"content": content}, "responses": map[string]any{"200": map[string]any{"description": "x", "content": content}},
				}}},
			})
			require.NoError(t, err)
			im, err := openapi.Take("desk", "x.json", document)
			require.NoError(t, err)
			require.NotEmpty(t, im.Schemas)
			answers := slices.DeleteFunc(im.Schemas, func(s *schema.Schema) bool { return s.Root.Field("body") != nil }) // what it is asked with has its body beside parameters
			require.Len(t, answers, 1)
			owns(t, answers[0], "json", messages(t, s, "json"), func(made string) { judged(t, s, "json", made) })
		})
		written := "notation settings: {root: one}\n"
		t.Run(fmt.Sprintf("xml schema %d", i), func(t *testing.T) {
			s := shaped(t, "xml", written, shape)
			set, err := xsd.Load("x.xsd", xsd.Export(s), nil)
			require.NoError(t, err)
			taken, err := set.Import("x", "")
			require.NoError(t, err)
			owns(t, taken, "xml", messages(t, s, "xml"), func(made string) { judged(t, s, "xml", made) })
		})
		t.Run(fmt.Sprintf("wsdl %d", i), func(t *testing.T) {
			s := shaped(t, "xml", written, shape)
			types := string(xsd.Export(s))
			if _, body, ok := strings.Cut(types, "?>"); ok {
				types = body
			}
			document := `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:t="urn:t" targetNamespace="urn:t" name="X"><types>` + types + `</types>
				<message name="in"><part name="p" element="one"/></message><message name="out"><part name="p" element="one"/></message>
				<portType name="P"><operation name="Keep"><input message="t:in"/><output message="t:out"/></operation></portType>
				<binding name="B" type="t:P"><soap:binding style="document" transport="http://schemas.xmlsoap.org/soap/http"/><operation name="Keep"><soap:operation soapAction="urn:keep"/><input><soap:body use="literal"/></input><output><soap:body use="literal"/></output></operation></binding>
				<service name="S"><port name="P" binding="t:B"><soap:address location="http://127.0.0.1/x"/></port></service></definitions>`
			im, err := wsdl.Take("desk", "x.wsdl", []byte(document), nil)
			require.NoError(t, err)
			require.NotEmpty(t, im.Schemas)
			owns(t, im.Schemas[len(im.Schemas)-1], "xml", messages(t, s, "xml"), func(made string) { judged(t, s, "xml", made) })
		})
		t.Run(fmt.Sprintf("several samples %d", i), func(t *testing.T) {
			s := shaped(t, "json", "", shape)
			list := messages(t, s, "json")
			var samples []infer.Sample
			for n, text := range list {
				samples = append(samples, infer.Sample{Name: fmt.Sprintf("in%d.json", n), Content: []byte(text)})
			}
			r, err := infer.From("x", "X", named(t, "json"), samples...)
			require.NoError(t, err)
			owns(t, r.Schema, "json", list, nil)
		})
	}
	t.Run("columns", func(t *testing.T) {
		s := shaped(t, "fixedwidth", "", "fields:\n  - {name: code, type: text, columns: 1-4, constraints: {pattern: '[A-Z]{2}[0-9]{2}'}}\n  - {name: day, type: date, columns: 5-12, pattern: yyyyMMdd}\n  - {name: level, type: decimal, columns: 13-18, implied decimals: 2}\n  - {name: trend, type: text, columns: 19-19, constraints: {codes: {R: '', F: ''}}}\n")
		for seed := range uint64(6) {
			text := message(t, s, "fixedwidth", 20, sample.Typical, seed)
			r, err := infer.From("x", "X", named(t, "fixedwidth"), infer.Sample{Name: "in.txt", Content: []byte(text)})
			require.NoError(t, err, text)
			owns(t, r.Schema, "fixedwidth", []string{text}, nil)
		}
	})
}

// TestOneOrManyReadsBoth: a field seen by itself and as a list, of texts and of records, in what was inferred, in its JSON
// Schema and back; what is written is a list.
func TestOneOrManyReadsBoth(t *testing.T) {
	text := `[{"no":1,"line":{"sku":"A"},"tag":"x"},{"no":2,"line":[{"sku":"B"},{"sku":"C"}],"tag":["y","z"]}]`
	r, err := infer.From("x", "X", named(t, "json"), infer.Sample{Name: "in.json", Content: []byte(text)})
	require.NoError(t, err)
	require.True(t, r.Schema.Root.Field("line").Single)
	im, err := jsonschema.Import("x", "x.json", jsonschema.Export(r.Schema, false), "", nil)
	require.NoError(t, err)
	require.Empty(t, im.Notes)
	for _, s := range []*schema.Schema{r.Schema, im.Schema} {
		n, first := check(t, s, "json", text)
		require.NoError(t, first)
		require.Equal(t, 2, n)
		judged(t, s, "json", `{"no":1,"line":{"sku":"A"},"tag":"x"}`)
		_, first = check(t, s, "json", `[{"no":1,"line":{"sku":7},"tag":["x"]}]`)
		require.ErrorContains(t, first, "/0/line/sku")
	}
	strict := shaped(t, "json", "", "fields:\n  - {name: tag, type: text, occurs: 1..n}\n")
	_, first := check(t, strict, "json", `[{"tag":"x"}]`)
	require.ErrorContains(t, first, `expected an array, found the string "x"`)
}
