package openapi

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

// FuzzTake: a document either gives operations, whose schemas are parts that can be read, or a fault.
func FuzzTake(f *testing.F) {
	f.Add([]byte(document))
	f.Add([]byte("openapi: 3.1.0\ninfo: {title: a, version: b}\npaths: {/a: {get: {responses: {'200': {description: a, content: {application/json: {schema: {$ref: '#/components/schemas/a'}}}}}}}}\ncomponents: {schemas: {a: {type: object, properties: {a: {$ref: '#/components/schemas/a'}}}}}"))
	f.Fuzz(func(t *testing.T, text []byte) {
		im, err := Take("x", "x.yaml", text)
		if err != nil {
			return
		}
		for _, s := range im.Schemas {
			d := partfile.Parse("x.yaml", schema.Write(s))
			require.Empty(t, d.Faults)
			require.NotNil(t, schema.Parse(s.ID, d)) // it may have faults of its own, as a record without fields
		}
	})
}
