package shared

import (
	"os"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
	"hollowreed/internal/testkit"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// TestWhatIsRememberedIsBelievedWhileChangesAreHeard: then it is read once, until something says that it has changed; without
// that it is read each time. What another environment runs is never among it.
func TestWhatIsRememberedIsBelievedWhileChangesAreHeard(t *testing.T) {
	db := testkit.Project(t, "skerry", "Skerry", nil)
	deploy := func(s store.Scope, flow string) {
		t.Helper()
		require.NoError(t, pgx.BeginFunc(t.Context(), db, func(tx pgx.Tx) error {
			number, err := store.AddRelease(t.Context(), tx, store.Release{Project: s.Project, Flow: flow, Title: flow, MadeBy: "mo"}, map[string]string{"flows/" + flow + ".yaml": "x"})
			if err != nil {
				return err
			}
			return store.Deploy(t.Context(), tx, s, flow, number, "mo")
		}))
	}
	deploy(testkit.Skerry, "a")
	var hearing Hearing
	d := NewDeployments(db, testkit.Skerry.Environment, &hearing)
	flows := func() (names []string, paused bool) {
		t.Helper()
		list, stopped, err := d.All(t.Context())
		require.NoError(t, err)
		for _, one := range list {
			names = append(names, one.Flow)
		}
		return names, stopped[[2]string{"skerry", "a"}]
	}
	expect := func(why string, paused bool, want ...string) {
		t.Helper()
		names, is := flows()
		require.Equal(t, want, names, why)
		require.Equal(t, paused, is, why)
	}
	expect("at first", false, "a")
	deploy(testkit.Skerry, "b")
	deploy(store.Scope{Project: "skerry", Environment: store.Environments[1]}, "elsewhere")
	expect("nothing is heard, so it is read each time", false, "a", "b")
	hearing.Store(true)
	d.Forget() // as whoever begins to hear does
	expect("changes are heard", false, "a", "b")
	deploy(testkit.Skerry, "c")
	require.NoError(t, store.Pause(t.Context(), db, testkit.Skerry, "a", "mo", "cleaning"))
	expect("nothing has said that it has changed", false, "a", "b")
	d.Forget()
	expect("something has", true, "a", "b", "c")
	hearing.Store(false)
	require.NoError(t, store.Unpause(t.Context(), db, testkit.Skerry, "a"))
	expect("nothing is heard any more", false, "a", "b", "c")
}
