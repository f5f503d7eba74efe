package store

import (
	"context"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
)

// TestOneLeads: of several that want to lead one does; when its connection ends the next one does, and its context has ended
// before.
func TestOneLeads(t *testing.T) {
	db := open(t)
	type turn struct {
		who string
		ctx context.Context
	}
	leads := make(chan turn)
	stop := map[string]context.CancelFunc{}
	for _, who := range []string{"a", "b"} {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		stop[who] = cancel
		go Lead(ctx, db, "x", func(ctx context.Context) {
			leads <- turn{who, ctx}
			<-ctx.Done()
		})
	}
	next := func() turn {
		select {
		case l := <-leads:
			return l
		case <-time.After(20 * time.Second):
			t.Fatal("nobody leads")
			return turn{}
		}
	}
	first := next()
	select {
	case l := <-leads:
		t.Fatalf("%s leads beside %s", l.who, first.who)
	case <-time.After(300 * time.Millisecond):
	}
	stop[first.who]()
	second := next()
	require.NotEqual(t, first.who, second.who)
	require.Error(t, first.ctx.Err())
	require.NoError(t, second.ctx.Err())

	// A connection that is ended from outside ends the lead with it.
	_, err := db.Exec(t.Context(), "select pg_terminate_backend(pid) from pg_stat_activity where application_name = 'hollowreed: lead x'")
	require.NoError(t, err)
	select {
	case <-second.ctx.Done():
	case <-time.After(20 * time.Second):
		t.Fatal("it leads on without its connection")
	}
}

// TestWorkIsDueOnlyWhenItIsLeft: a sign of life says whether work of somebody is to be given back, in one statement.
func TestWorkIsDueOnlyWhenItIsLeft(t *testing.T) {
	db := open(t)
	due := func(active ...uuid.UUID) bool {
		t.Helper()
		due, err := HeartbeatAndPoll(t.Context(), db, scope.Environment, "me", active, 5*time.Second)
		require.NoError(t, err)
		return due
	}
	require.False(t, due(), "nobody else is there")
	require.NoError(t, Heartbeat(t.Context(), db, scope.Environment, "other"))
	require.False(t, due())
	_, err := db.Exec(t.Context(), "update worker set heartbeat_at = now() - interval '1 minute'")
	require.NoError(t, err)
	require.True(t, due(), "the other is silent; its own sign of life is no reason")
	elsewhere, err := HeartbeatAndPoll(t.Context(), db, "Live", "one of another environment", nil, 5*time.Second)
	require.NoError(t, err)
	require.False(t, elsewhere, "it is nothing to another environment")
	require.NoError(t, Deregister(t.Context(), db, "other"))
	require.False(t, due())

	run := uuid.New()
	job := func(by string) {
		t.Helper()
		_, err := db.Exec(t.Context(), `insert into river_job (state, kind, args, max_attempts, attempted_by, attempted_at, queue) values
			('running', 'run', jsonb_build_object('run', $1::text), 25, array[$2], now() - interval '1 minute', 'workbench')`, run, by)
		require.NoError(t, err)
	}
	job("gone")
	require.True(t, due(run), "a job of a worker that is no more")
	_, err = db.Exec(t.Context(), "delete from river_job")
	require.NoError(t, err)
	job("me")
	require.False(t, due(run), "it works on it")
	require.True(t, due(), "it does not work on it")
}
