package engine

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

const askFlow = "flow: Asking\ntrigger: {kind: request, path: ask, input: sign-up, wait: 30}\nsteps:\n  - {step: note, id: n, text: '\"x\"'}\n"

// asked takes a call as the door does.
func (w *world) asked(e *Engine, client string) *Accepted {
	w.t.Helper()
	c, err := e.Called(w.t.Context(), testkit.Skerry, InboundRequest{Method: "POST", Path: "ask", Client: client})
	require.NoError(w.t, err)
	defer c.Leave()
	t, err := e.Request(w.t.Context(), c, card("A1", "Ada"))
	require.NoError(w.t, err)
	return t
}

// TestACallerIsWokenForAnotherWorkersRun: one process takes the call and waits, another does the run. Who calls takes no
// connection from the runs: calls are taken while all of those are in use.
func TestACallerIsWokenForAnotherWorkersRun(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ctx := t.Context()
	worker := w.start(Options{})
	w.add("asking", map[string]string{"flows/asking.yaml": askFlow})
	worker.Stop() // for now nobody does runs

	own, err := pgxpool.New(ctx, w.url)
	require.NoError(t, err)
	t.Cleanup(own.Close)
	pool := connector.Same[store.Scope](w.settings, connector.Rules{})
	t.Cleanup(pool.Close)
	door, err := New(own, pool, Options{Front: w.db})
	require.NoError(t, err)
	var held []*pgxpool.Conn
	for range own.Config().MaxConns {
		c, err := own.Acquire(ctx)
		require.NoError(t, err)
		held = append(held, c)
	}
	taken := w.asked(door, "127.0.0.1")
	r, err := door.WaitForEnd(ctx, taken.Run, 0)
	require.NoError(t, err)
	require.False(t, r.Ended())
	for _, c := range held {
		c.Release()
	}

	over := make(chan store.Run, 1)
	go func() {
		r, err := door.WaitForEnd(ctx, taken.Run, time.Minute)
		if err == nil {
			over <- r
		}
	}()
	testkit.Until(t, "the caller to wait", func() ([]uuid.UUID, bool) { list := door.callers.runs(); return list, len(list) == 1 })
	require.NoError(t, door.wakeCallers(ctx))
	require.Empty(t, over, "the run is not over yet")
	w.start(Options{})
	testkit.Until(t, "the run to end", func() (store.Run, bool) {
		r, err := store.RunByID(ctx, w.db, taken.Run)
		require.NoError(t, err)
		return r, r.Ended()
	})
	require.NoError(t, door.wakeCallers(ctx))
	select {
	case r = <-over:
		require.Equal(t, store.Done, r.State)
	case <-time.After(20 * time.Second):
		t.Fatal("the caller was not woken")
	}
	require.Empty(t, door.callers.runs())
}

// TestTooManyCallersAreToldToComeAgain: those of one address, while another one's call is taken.
func TestTooManyCallersAreToldToComeAgain(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{Callers: 3, Each: 2})
	w.add("asking", map[string]string{"flows/asking.yaml": askFlow})
	call := func(client string) (*Call, error) {
		c, err := e.Called(t.Context(), testkit.Skerry, InboundRequest{Method: "POST", Path: "ask", Client: client})
		if err == nil {
			err = e.Admit(t.Context(), testkit.Skerry, c)
		}
		return c, err
	}
	var first *Call
	for range 2 {
		c, err := call("a")
		require.NoError(t, err)
		first = c
	}
	var no *Rejected
	_, err := call("a")
	require.ErrorAs(t, err, &no)
	require.Equal(t, 429, no.Status)
	_, err = call("b")
	require.NoError(t, err)
	_, err = call("c")
	require.ErrorAs(t, err, &no)
	first.Leave()
	_, err = call("c")
	require.NoError(t, err)
	require.ErrorContains(t, no, "come again")
	runs, err := store.Runs(t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Flow: "asking", Most: 1})
	require.NoError(t, err)
	require.Empty(t, runs, "who was told to come again is not recorded")
}
