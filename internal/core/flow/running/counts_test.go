package running

import (
	"encoding/json"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestCountsAreWrittenAsTheyAreRead: as encoding/json writes them, with every field there is.
func TestCountsAreWrittenAsTheyAreRead(t *testing.T) {
	every := &Counts{}
	for i := range reflect.TypeFor[Counts]().NumField() {
		reflect.ValueOf(every).Elem().Field(i).SetInt(int64(i + 1))
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
