package engine

import (
	"context"
	"errors"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/spool"
	"hollowreed/internal/store"
)

// counter is an outside that answers the number of the call and breaks off at one of them.
type counter struct {
	flow.Outside
	calls  int
	breaks int
}

func (c *counter) Call(_ context.Context, call flow.Call, requests []value.Value) ([]flow.Answered, error) {
	done := make([]flow.Answered, len(requests))
	for i, r := range requests {
		if c.calls == c.breaks {
			c.breaks = -1
			return nil, errors.New("gone")
		}
		c.calls++
		done[i].Answer = value.Rec(call.Op.Response.Root.Shape(), []value.Value{value.Int(int64(c.calls)), r})
		if r.Text() == "refused" {
			done[i] = flow.Answered{Fault: fault.New(fault.Outside, "no")}
		}
		if err := call.Done(i, done[i:i+1]); err != nil {
			return nil, err
		}
	}
	return done, nil
}

// TestAnEffectIsNotRepeated: what was answered before an outage is not asked again, record by record, though all
// records stand on one line; what was refused is.
func TestAnEffectIsNotRepeated(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	releases, err := store.NewestReleases(t.Context(), w.db, "skerry")
	require.NoError(t, err)
	run := store.Run{ID: uuid.New(), Project: "skerry", Flow: flowID, Release: releases[0].Number, File: "x", Reference: "x", StartedBy: "mo"}
	require.NoError(t, pgx.BeginFunc(t.Context(), w.db, func(tx pgx.Tx) error { return store.AddRun(t.Context(), tx, run, spool.Of([]byte("x"))) }))
	out := &counter{breaks: 2}
	op := &connection.Operation{Verb: &connection.Verb{Effect: true}, Response: &schema.Schema{ID: "answer", Notation: "json", Root: schema.Record("answer", schema.Scalar("n", value.Integer), schema.Scalar("of", value.Text))}}
	var items []*flow.Item
	var requests []value.Value
	for i, text := range []string{"a", "refused", "c", "d"} {
		items = append(items, &flow.Item{Record: i, Place: fault.Place{Line: 1}})
		requests = append(requests, value.Str(text))
	}
	call := flow.Call{Op: op, Step: "post", Items: items}
	run.Claim = 1
	_, err = (&once{Outside: out, db: e.db, run: &run}).Call(t.Context(), call, requests)
	require.ErrorContains(t, err, "gone")
	run.Claim = 2
	done, err := (&once{Outside: out, db: e.db, run: &run}).Call(t.Context(), call, requests)
	require.NoError(t, err)
	require.Equal(t, "1", done[0].Answer.Field("n").String(), "the answer from before the outage")
	require.Equal(t, "a", done[0].Answer.Field("of").String())
	require.NotNil(t, done[1].Fault)
	require.Equal(t, "c", done[2].Answer.Field("of").String())
	require.Equal(t, 5, out.calls, "two before the outage, three after it")
	run.Claim = 3
	_, err = (&once{Outside: out, db: e.db, run: &run}).Call(t.Context(), call, requests)
	require.NoError(t, err)
	require.Equal(t, 6, out.calls, "only what was refused is asked again")
}
