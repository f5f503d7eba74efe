package engine

import (
	"strconv"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
)

// TestWhichRunsHaveChangedIsAnnounced: each with its flow, and the one that started it; for a moment behind the change, since it
// may not be committed yet. Where too many change, any may have.
func TestWhichRunsHaveChangedIsAnnounced(t *testing.T) {
	e := &Engine{}
	require.Empty(t, e.publisher.take())
	parent, r := uuid.New(), store.Run{ID: uuid.New(), Scope: store.Scope{Project: "quay", Environment: "Live"}, Flow: "a bill"}
	r.Parent = &parent
	e.changed(r)
	e.changed(r)
	want := []string{"quay/Live//" + parent.String(), "quay/Live/a%20bill/" + r.ID.String()}
	require.ElementsMatch(t, want, e.publisher.take())
	require.ElementsMatch(t, want, e.publisher.take(), "for a moment")
	for at := range e.publisher.changes {
		e.publisher.changes[at] = time.Now().Add(-time.Second)
	}
	require.Empty(t, e.publisher.take())
	for i := range 3*maxChanged + 7 {
		e.changed(store.Run{ID: uuid.New(), Scope: store.Scope{Project: "quay", Environment: "Live"}, Flow: strconv.Itoa(i)})
	}
	require.Equal(t, []string{""}, e.publisher.take())
}
