package wsdl

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/schema"
)

// FuzzTake: a document either gives operations, whose schemas can be read again, or a fault.
func FuzzTake(f *testing.F) {
	text, err := os.ReadFile("../../../standin/berthmaster/berths.wsdl")
	require.NoError(f, err)
	f.Add(text)
	f.Add([]byte(`<definitions xmlns="http://schemas.xmlsoap.org/wsdl/"><types/></definitions>`))
	f.Fuzz(func(t *testing.T, text []byte) {
		im, err := Take("x", "x.wsdl", text, nil)
		if err != nil {
			return
		}
		for _, s := range im.Schemas {
			d := doc.Parse("x.yaml", schema.Write(s))
			schema.Parse(s.ID, d)
			require.Empty(t, d.Faults)
		}
	})
}
