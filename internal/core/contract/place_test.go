package contract

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
)

// TestPlacesOfSchemasAreFound: through references, lists, maps and alternatives; a document that goes in circles comes to an end.
func TestPlacesOfSchemasAreFound(t *testing.T) {
	c, err := Read("x.yaml", []byte(`openapi: 3.1.0
info: {title: T, version: "1"}
paths:
  /a:
    post:
      operationId: a
      requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/A"}}}}
      responses: {"204": {description: x}}
components:
  schemas:
    A:
      required: [b]
      properties:
        b: {type: array, items: {$ref: "#/components/schemas/B"}}
        any/thing: {additionalProperties: {type: integer}}
        either: {oneOf: [{properties: {x: {type: string}}}, {properties: {y: {type: string}}}]}
        loop: {$ref: "#/components/schemas/Loop"}
    B: {allOf: [{properties: {n: {type: integer}}}, {properties: {m: {type: integer}}}]}
    Loop: {allOf: [{$ref: "#/components/schemas/Loop"}]}
`))
	require.NoError(t, err)
	o := c.Operations[0]
	for pointer, want := range map[string]string{
		"":                "#/components/schemas/A",
		"/b/3/m":          "#/components/schemas/B/allOf/1/properties/m",
		"/any~1thing/k/":  "#/components/schemas/A/properties/any~1thing/additionalProperties",
		"/either/y":       "#/components/schemas/A/properties/either/oneOf/1/properties/y",
		"/loop/x":         "",
		"/nothing/of/it":  "",
		"/b/0/nothing":    "",
		"/b/9999999999/n": "#/components/schemas/B/allOf/0/properties/n",
	} {
		f := fault.New(fault.Type, "x").At(fault.Place{Path: pointer})
		require.Equal(t, want, c.SchemaPlace(o, o.Body.Media, "application/json", f), pointer)
	}
	f := fault.New(fault.Required, "x")
	require.Equal(t, "#/components/schemas/A/required", c.SchemaPlace(o, o.Body.Media, "application/json; charset=utf-8", f))
	require.Empty(t, c.SchemaPlace(o, o.Body.Media, "text/plain", f))
	require.Empty(t, c.SchemaPlace(o, nil, "", f.InField("query nothing")))
}
