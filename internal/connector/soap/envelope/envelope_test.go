package envelope

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheBodyStandsByItself: with the declarations around it, the nearest of each name, and its own before those.
func TestTheBodyStandsByItself(t *testing.T) {
	const around = `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/" xmlns:a="urn:outer" xmlns="urn:plain"><s:Body xmlns:a="urn:inner" xmlns:b='urn:b'>%s</s:Body></s:Envelope>`
	o, err := Open([]byte(fmt.Sprintf(around, `<a:answer xmlns:b="urn:own"><b:x/></a:answer>`)))
	require.NoError(t, err)
	require.Equal(t, "answer", o.Name)
	require.Contains(t, o.Body, `xmlns:a="urn:inner"`)
	require.Contains(t, o.Body, `xmlns="urn:plain"`)
	require.Contains(t, o.Body, `xmlns:b="urn:own"`)
	for _, gone := range []string{"urn:outer", "urn:b'"} {
		require.NotContains(t, o.Body, gone)
	}
}

// TestManyDeclarationsAreRead: a hundred thousand of them are gone through once.
func TestManyDeclarationsAreRead(t *testing.T) {
	var many strings.Builder
	for i := range 100_000 {
		fmt.Fprintf(&many, ` xmlns:n%d="urn:%[1]d"`, i)
	}
	o, err := Open([]byte(`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body` + many.String() + `><a/></s:Body></s:Envelope>`))
	require.NoError(t, err)
	require.Equal(t, 100_001, strings.Count(o.Body, "xmlns:"))
}
