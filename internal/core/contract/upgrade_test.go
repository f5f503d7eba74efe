package contract

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestOlderDocumentsAreExportedAsOfToday: with the same meaning, in YAML and in JSON, and read again without a fault; values that look
// like settings stay.
func TestOlderDocumentsAreExportedAsOfToday(t *testing.T) {
	out, err := Export([]byte(`openapi: 3.0.3 # first
info: {title: T, version: "1"}
paths:
  /a:
    get:
      operationId: a
      parameters: [{name: n, in: query, schema: {type: integer, minimum: 3, exclusiveMinimum: true}, example: 4}]
      responses:
        "200": {description: x, content: {application/json: {schema: {$ref: "#/components/schemas/A"}, example: {nullable: true, type: x}}}}
components:
  schemas:
    A:
      type: object
      properties:
        text: {type: string, nullable: true, enum: [a, b], example: a}
        some: {type: number, maximum: 9, exclusiveMaximum: false}
        sealed: {type: string, format: byte}
        file: {type: string, format: binary}
        type: {type: array, nullable: true, items: {type: string, nullable: true}}
`), "https://here.example")
	require.NoError(t, err)
	text := string(out)
	for _, want := range []string{
		"openapi: 3.1.0 # first", `type: [string, "null"]`, "enum: [a, b, null]", "examples: [a]", "exclusiveMinimum: 3}", "maximum: 9}", "contentEncoding: base64",
		"contentMediaType: application/octet-stream", "example: {nullable: true, type: x}", "example: 4", "https://here.example",
	} {
		require.Contains(t, text, want)
	}
	require.NotContains(t, text, "exclusiveMaximum")
	again, err := Read("x.yaml", out)
	require.NoError(t, err)
	require.Empty(t, again.Faults)
	require.Equal(t, "3.1.0", again.OpenAPI)

	out, err = Export([]byte(`{"openapi": "3.0.0", "info": {"title": "T", "version": "1"}, "paths": {}, "components": {"schemas": {"A": {"type": "string", "nullable": true}}}}`), "https://here.example")
	require.NoError(t, err)
	require.Contains(t, string(out), `"type": ["string", "null"]`)
	again, err = Read("x.json", out)
	require.NoError(t, err)
	require.Equal(t, "3.1.0", again.OpenAPI)
}
