package xsd

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

// TestAnExportIsNeverAmbiguous: an XML Schema whose content model is ambiguous is refused by who reads it. What is written by hand
// here may be wider or stricter than the part; where it is stricter it says so.
func TestAnExportIsNeverAmbiguous(t *testing.T) {
	for _, c := range []struct {
		name, part, fits, not string
		unsaid                bool
	}{
		{
			"neighbours of another namespace",
			"notation settings: {root: 'a:m', namespace: 'urn:b', namespaces: {a: 'urn:a'}, other fields: fault}\nfields:\n- {name: 'a:no', type: text}\n- {name: x, type: text, occurs: 0..1}\n- {name: y, type: text, occurs: 0..n}\n",
			`<m xmlns="urn:a"><no>1</no><y xmlns="urn:b"/><y xmlns="urn:b"/></m>`, `<m xmlns="urn:a"><y xmlns="urn:b"/></m>`, true,
		},
		{
			"elements of any name behind one that must be there",
			"notation settings: {root: m}\nfields:\n- {name: no, type: text}\n- {name: rest, type: map, others: true, fields: [{name: value, type: any}]}\n",
			`<m><no>1</no><who>x</who></m>`, `<m><who>x</who></m>`, false,
		},
		{
			"elements of any name behind one that may be absent",
			"notation settings: {root: m}\nfields:\n- {name: no, type: text}\n- {name: note, type: text, occurs: 0..1}\n- {name: rest, type: map, others: true, fields: [{name: value, type: any}]}\n",
			`<m><no>1</no><who xmlns="urn:w">x</who></m>`, `<m><who xmlns="urn:w">x</who></m>`, true,
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := partfile.Parse("x.yaml", []byte("schema: M\nnotation: xml\n"+c.part))
			s := schema.Parse("x", d)
			require.Empty(t, d.Faults)
			require.Equal(t, c.unsaid, len(Unsaid(s)) > 0, "%s", Unsaid(s))
			set, err := Load("x.xsd", Export(s), nil)
			require.NoError(t, err, string(Export(s)))
			for document, fits := range map[string]bool{c.fits: true, c.not: false} {
				require.Equal(t, fits, verdict(t, s, document) == "", verdict(t, s, document))
				require.Equal(t, fits, len(faults(set, document)) == 0, "%s\n%s", faults(set, document), Export(s))
			}
		})
	}
}
