package schema

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

// TestNumbersAsTheyAreWritten: decimal mark and grouping are the field's; what is written otherwise is no number.
func TestNumbersAsTheyAreWritten(t *testing.T) {
	for _, c := range []struct {
		settings, text, want string // empty: it is none
		back                 string // as it is written; empty: as it was read
	}{
		{"decimal mark: comma", "1234,50", "1234.50", ""},
		{"decimal mark: comma", "-0,5", "-0.5", ""},
		{"decimal mark: comma", "7", "7", ""},
		{"decimal mark: comma", "1.234,50", "", ""},
		{"decimal mark: comma", "1234.50", "", ""},
		{"decimal mark: comma, grouping: point", "1.234.567,89", "1234567.89", ""},
		{"decimal mark: comma, grouping: point", "1234,5", "1234.5", "1.234,5"},
		{"decimal mark: comma, grouping: point", "12.34,5", "", ""},
		{"decimal mark: comma, grouping: point", "-1.234,5", "-1234.5", ""},
		{"decimal mark: comma, grouping: point", ".123,5", "", ""},
		{"grouping: comma", "1,234.5", "1234.5", ""},
		{"grouping: comma", "1,23", "", ""},
		{"grouping: apostrophe", "1'000", "1000", ""},
		{"grouping: no-break space", "1\u00a0000", "1000", ""},
	} {
		d := partfile.Parse("s.yaml", []byte("schema: S\nnotation: csv\nfields:\n  - {name: f, type: decimal, "+c.settings+"}\n"))
		s := Parse("s", d)
		require.Empty(t, d.Faults, c.settings)
		f := s.Root.Fields[0]
		v, ok := f.Read(c.text)
		require.Equal(t, c.want != "", ok, c.text)
		if !ok {
			continue
		}
		require.Equal(t, c.want, v.String())
		back, fault := f.AppendWire(nil, v)
		require.Nil(t, fault)
		if c.back == "" {
			c.back = c.text
		}
		require.Equal(t, c.back, string(back))
		d = partfile.Parse("s.yaml", Write(s))
		require.Equal(t, f.WireFormat.Grouping+f.WireFormat.Mark, Parse("s", d).Root.Fields[0].WireFormat.Grouping+Parse("s", d).Root.Fields[0].WireFormat.Mark)
		require.Empty(t, d.Faults)
		require.Equal(t, value.Decimal, v.Kind())
	}
	for text, want := range map[string]string{
		"type: text, decimal mark: comma":                     "a text has no decimal mark",
		"type: decimal, decimal mark: ';'":                    "expected point or comma",
		"type: decimal, grouping: dash":                       "expected point, comma, space",
		"type: decimal, decimal mark: comma, grouping: comma": "the same sign",
		"type: decimal, grouping: point":                      "the same sign",
	} {
		d := partfile.Parse("s.yaml", []byte("schema: S\nnotation: csv\nfields:\n  - {name: f, "+text+"}\n"))
		Parse("s", d)
		require.Contains(t, d.Faults.Error(), want, text)
	}
}
