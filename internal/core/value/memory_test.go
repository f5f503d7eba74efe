package value

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMemoryGivesEmptyRecordsThatStayApart: also across chunks, for records wider than a chunk, and when it is used again.
func TestMemoryGivesEmptyRecordsThatStayApart(t *testing.T) {
	wide := make([]string, fieldChunk+1)
	for i := range wide {
		wide[i] = string(rune('a' + i))
	}
	layouts := []*Layout{NewLayout("a", "b", "c"), NewLayout(), NewLayout("a"), NewLayout(wide...)}
	var m Memory
	for round := range 3 {
		n := 3*recordChunk - round*recordChunk
		records := make([]*Record, n)
		for i := range records {
			layout := layouts[i%3]
			if i == n/2 {
				layout = layouts[3]
			}
			records[i] = m.Record(layout)
			require.Same(t, layout, records[i].Layout)
			require.Len(t, records[i].Fields, len(layout.Names))
			for f := range records[i].Fields {
				require.Equal(t, Absent, records[i].Fields[f].Kind(), "round %d, record %d", round, i)
				records[i].Fields[f] = Int(int64(i))
			}
		}
		for i, r := range records {
			for _, v := range r.Fields {
				require.Equal(t, Int(int64(i)), v)
			}
		}
		m.Reset()
	}
}
