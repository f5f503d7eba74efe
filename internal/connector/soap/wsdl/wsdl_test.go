package wsdl

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

// described is a document whose port has a style, with messages that have parts, or none.
func described(style, parts string, operations int) []byte {
	const soap = "http://schemas.xmlsoap.org/soap/http"
	var types, bound strings.Builder
	for i := range operations {
		fmt.Fprintf(&types, `<operation name="Op%d"><input message="t:in"/><output message="t:in"/></operation>`, i)
		fmt.Fprintf(&bound, `<operation name="Op%d"><s:operation soapAction="urn:keep"/><input><s:body use="literal"/></input><output><s:body use="literal"/></output></operation>`, i)
	}
	return []byte(`<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:s="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:t="urn:t" targetNamespace="urn:t" xmlns:xs="http://www.w3.org/2001/XMLSchema">
		<types><xs:schema targetNamespace="urn:t"><xs:element name="one"><xs:complexType><xs:sequence><xs:element name="a" type="xs:string"/></xs:sequence></xs:complexType></xs:element></xs:schema></types>
		<message name="in">` + parts + `</message><portType name="P">` + types.String() + `</portType>
		<binding name="B" type="t:P"><s:binding style="` + style + `" transport="` + soap + `"/>` + bound.String() + `</binding>
		<service name="S"><port name="P" binding="t:B"><s:address location="http://127.0.0.1/x"/></port></service></definitions>`)
}

// TestStylesAndParts: of each style with and without parts; a style that is not known is said.
func TestStylesAndParts(t *testing.T) {
	for _, parts := range []string{"", `<part name="p" element="t:one"/>`, `<part name="p" type="xs:string"/>`} {
		for style, known := range map[string]bool{"document": true, "rpc": true, "documxnt": false} {
			im, err := Take("x", "x.wsdl", described(style, parts, 1), nil)
			if style == "rpc" && strings.Contains(parts, "element") { // WS-I Basic Profile 1.1, 2.4.3: it has a type
				require.ErrorContains(t, err, "there is no type")
				continue
			}
			require.NoError(t, err, style+parts)
			require.Equal(t, known, len(im.Operations) == 1, style+parts)
			require.Equal(t, known, len(im.Notes) == 0, style+parts)
		}
	}
	im, err := Take("x", "x.wsdl", described("document", `<part name="p" element="t:one"/>`, 1), nil)
	require.NoError(t, err)
	require.Len(t, im.Schemas, 2)
}

// TestManyOperationsAreTaken: their schemas are compiled once; there is a bound on them.
func TestManyOperationsAreTaken(t *testing.T) {
	const part = `<part name="p" element="t:one"/>`
	im, err := Take("x", "x.wsdl", described("document", part, mostOperations), nil)
	require.NoError(t, err)
	require.Len(t, im.Operations, mostOperations)
	_, err = Take("x", "x.wsdl", described("document", part, mostOperations+1), nil)
	require.ErrorContains(t, err, "more than 2000 operations")
}

// FuzzTake: a document either gives operations, whose schemas are parts that can be read, or a fault.
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
			d := partfile.Parse("x.yaml", schema.Write(s))
			require.Empty(t, d.Faults)
			require.NotNil(t, schema.Parse(s.ID, d)) // it may have faults of its own, as a record without fields
		}
	})
}
