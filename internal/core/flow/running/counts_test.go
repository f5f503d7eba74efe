package running

import (
	"encoding/json"
	"fmt"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation"
)

// TestCountsAreWrittenAsTheyAreRead: as encoding/json writes them, with every field there is.
func TestCountsAreWrittenAsTheyAreRead(t *testing.T) {
	every := &Counts{}
	for i := range reflect.TypeFor[Counts]().NumField() {
		switch f := reflect.ValueOf(every).Elem().Field(i); f.Kind() {
		case reflect.Map:
			f.Set(reflect.ValueOf(map[string]int{"b": 2, "a/\"ü\"": 1}))
		default:
			f.SetInt(int64(i + 1))
		}
	}
	for _, counts := range []map[string]*Counts{
		nil, {}, {"read": {In: 3, Out: 2, SetAside: 1}}, {"b": every, "a \"é\"": {Duration: 5 * time.Second}, "c": nil},
	} {
		want, err := json.Marshal(counts)
		require.NoError(t, err)
		if counts == nil {
			want = []byte("{}")
		}
		require.Equal(t, string(want), string(CountsJSON(counts)))
	}
}

// TestIgnoredFieldsAreAddedUpAndTold: the most frequent first, no more of them than can be kept, and without changing what was added.
func TestIgnoredFieldsAreAddedUpAndTold(t *testing.T) {
	require.Empty(t, (&Counts{In: 2}).IgnoredText())
	first, more := Counts{Ignored: map[string]int{"deck": 1, "cabin": 100}}, Counts{Ignored: map[string]int{"cabin": 20, "a/b": 1}}
	total := first
	total.Add(&more)
	require.Equal(t, "3 fields that the schema lacks were passed over: cabin (120 times), a/b (once), deck (once)", total.IgnoredText())
	require.Equal(t, map[string]int{"deck": 1, "cabin": 100}, first.Ignored)
	require.Equal(t, "1 field that the schema lacks was passed over: x (2 times)", (&Counts{Ignored: map[string]int{"x": 2}}).IgnoredText())

	var many Counts
	for i := range 2 * maxIgnored {
		many.Add(&Counts{Ignored: map[string]int{fmt.Sprintf("f%03d", i): 1}})
	}
	require.Len(t, many.Ignored, maxIgnored+1)
	require.Equal(t, maxIgnored, many.Ignored[notation.MoreIgnored])
	require.Equal(t, "more than 50 fields that the schema lacks were passed over: f000 (once), f001 (once), f002 (once), f003 (once), f004 (once), f005 (once), f006 (once), f007 (once), …", many.IgnoredText())
}
