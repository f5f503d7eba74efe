package schema

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
)

// TestAPartIsWrittenAsItWasRead: reading, writing and reading again gives the same text.
func TestAPartIsWrittenAsItWasRead(t *testing.T) {
	for name, text := range map[string]string{
		"fixed width": `schema: Gauge reading
notation: fixedwidth
samples:
  - a.tide
not imported:
  - 'x.json:3:1: not: it is not checked'
notation settings:
  line end: CRLF
  count: characters
  skip first: 1
  skip last: 2
  comment: '#'
  starts with: D
fields:
  - name: gauge
    type: text
    columns: 1-4
    constraints:
      pattern: '[A-Z]{2}[0-9]{2}'
  - name: level
    type: decimal
    occurs: 0..1
    columns: 5-9
    implied decimals: 1
    constraints:
      minimum: -500.5
      maximum: 900
  - name: trend
    type: text
    columns: 10
    align: right
    padding: '*'
    constraints:
      codes:
        R: rising
        0: ""
    notes: as the gauge says
`,
		"delimited": `schema: Bales
notation: csv
notation settings:
  delimiter: tab
  header: false
fields:
  - name: made
    type: date
    pattern: dd.MM.yyyy
  - name: weight
    type: decimal
    nullable: true
    constraints:
      total digits: 7
      fraction digits: 2
  - name: text
    type: text
    constraints:
      min length: 1
      max length: 20
`,
		"nested": `schema: Order
notation: xml
notation settings:
  root: orders
  record: order
fields:
  - name: id
    type: integer
    attribute: true
  - name: line
    type: record
    occurs: 1..n
    fields:
      - name: sku
        type: text
        content: true
      - name: true
        type: boolean
        occurs: 2..5
`,
	} {
		t.Run(name, func(t *testing.T) {
			d := partfile.Parse("x.yaml", []byte(text))
			s := Parse("x", d)
			require.Empty(t, d.Faults)
			require.Equal(t, text, string(Write(s)))
		})
	}
}

func TestANameBecomesATitle(t *testing.T) {
	for name, want := range map[string]string{"": "", "x": "X", "order_line": "Order line", "list-fares": "List fares", "écluse": "Écluse", "9": "9", "_a": " a"} {
		require.Equal(t, want, Titled(name))
	}
}
