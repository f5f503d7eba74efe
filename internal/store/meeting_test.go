package store

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
)

// TestAMessageIsHandedOverOnce: to the record that waits for it, whichever comes first; the same one finds it again when its
// step is done again, and nobody else does.
func TestAMessageIsHandedOverOnce(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	giver, waiter, other := startedRun(t, db, "a"), startedRun(t, db, "b"), startedRun(t, db, "c")
	asks := running.CorrelatedMessage{Name: "paid", CorrelationKey: "B-7"}
	await := func(r Run, path string) (string, time.Time) {
		text, since, err := ReceiveMessage(t.Context(), db, r, "wait", EffectKey{3, path}, asks)
		require.NoError(t, err)
		if text == nil {
			return "", since
		}
		return *text, since
	}
	text, since := await(waiter, "")
	require.Empty(t, text)
	id := job(t, db, waiter.ID, "scheduled", "w", time.Hour)
	elsewhere := job(t, db, other.ID, "scheduled", "w", time.Hour)
	for range 2 { // the step that hands it over is done again
		require.NoError(t, SendMessages(t.Context(), db, giver, "give", []EffectKey{{0, ""}}, []running.CorrelatedMessage{{Name: "paid", CorrelationKey: "B-7", Text: "412.00"}}))
	}
	_, due := jobState(t, db, id)
	require.True(t, due, "who waits is woken")
	_, due = jobState(t, db, elsewhere)
	require.False(t, due)
	text, again := await(waiter, "")
	require.Equal(t, "412.00", text)
	require.Equal(t, since, again, "it waits since it began to")
	text, _ = await(waiter, "")
	require.Equal(t, "412.00", text)
	text, _ = await(waiter, "line/1")
	require.Empty(t, text, "another entry has its own")
	text, _ = await(other, "")
	require.Empty(t, text, "it was handed over once, though the step was done twice")
	require.NoError(t, SendMessages(t.Context(), db, giver, "give", []EffectKey{{1, ""}}, []running.CorrelatedMessage{{Name: "refused", CorrelationKey: "B-7", Text: "no"}}))
	text, _ = await(other, "")
	require.Empty(t, text, "of another kind")
	require.NoError(t, SendMessages(t.Context(), db, giver, "give", []EffectKey{{2, ""}}, []running.CorrelatedMessage{{Name: "paid", CorrelationKey: "B-7", Text: "second"}}))
	text, _ = await(other, "")
	require.Equal(t, "second", text)
}

// gather brings one record of a run.
func gather(t *testing.T, db *pgxpool.Pool, r Run, g AggregateItem) (texts []string, until time.Time) {
	t.Helper()
	in(t, db, func(tx pgx.Tx) (err error) {
		texts, until, err = Aggregate(t.Context(), tx, r, g)
		return err
	})
	return texts, until
}

// TestAGroupIsWholeByItsCount: the record that makes it whole goes on with all, in the order in which they came, also when
// it is done again; the others end, and the next group begins anew.
func TestAGroupIsWholeByItsCount(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	r := startedRun(t, db, "a")
	bring := func(record int, key string) []string {
		texts, until := gather(t, db, r, AggregateItem{Step: "g", Key: key, Text: fmt.Sprint(record), Of: EffectKey{Record: record}, Size: 3})
		require.True(t, until.IsZero())
		return texts
	}
	require.Empty(t, bring(1, "x"))
	require.Empty(t, bring(2, "x"))
	require.Empty(t, bring(2, "x"), "the same record counts once")
	require.Empty(t, bring(3, "y"), "another key")
	require.Equal(t, []string{"1", "2", "4"}, bring(4, "x"))
	require.Equal(t, []string{"1", "2", "4"}, bring(4, "x"))
	require.Empty(t, bring(1, "x"), "it went on with another")
	require.Empty(t, bring(5, "x"))
	require.Empty(t, bring(6, "x"))
	require.Equal(t, []string{"5", "6", "7"}, bring(7, "x"))
}

// TestAGroupIsWholeByItsTime: its first record waits for the others and goes on with those that came.
func TestAGroupIsWholeByItsTime(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	r := startedRun(t, db, "a")
	first := AggregateItem{Step: "g", Key: "x", Text: "1", Of: EffectKey{Record: 1}, Timeout: time.Minute}
	texts, until := gather(t, db, r, first)
	require.Empty(t, texts)
	require.WithinDuration(t, time.Now().Add(time.Minute), until, 10*time.Second)
	texts, none := gather(t, db, r, AggregateItem{Step: "g", Key: "x", Text: "2", Of: EffectKey{Record: 2}, Timeout: time.Minute})
	require.Empty(t, texts)
	require.True(t, none.IsZero(), "one waits for all")
	_, again := gather(t, db, r, first)
	require.Equal(t, until, again)
	aged(t, db, "aggregate_item", "at", 2*time.Minute)
	texts, _ = gather(t, db, r, first)
	require.Equal(t, []string{"1", "2"}, texts)
	n, err := SweepMeetings(t.Context(), db, scope.Environment, time.Now().Add(-time.Hour), 10)
	require.NoError(t, err)
	require.Zero(t, n)
	n, err = SweepMeetings(t.Context(), db, scope.Environment, time.Now(), 10)
	require.NoError(t, err)
	require.Equal(t, int64(2), n)
}

// TestManyGatherAtOnce: each text goes on once, in groups of the count.
func TestManyGatherAtOnce(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	runs := []Run{startedRun(t, db, "a"), startedRun(t, db, "b"), startedRun(t, db, "c"), startedRun(t, db, "d")}
	const each = 10
	var mu sync.Mutex
	var wg sync.WaitGroup
	seen := map[string]int{}
	groups := 0
	for i, r := range runs {
		wg.Go(func() {
			for n := range each {
				texts, _ := gather(t, db, r, AggregateItem{Step: "g", Key: "x", Text: fmt.Sprintf("%d/%d", i, n), Of: EffectKey{Record: n}, Size: 4})
				mu.Lock()
				for _, text := range texts {
					seen[text]++
				}
				if len(texts) > 0 {
					groups++
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	require.Equal(t, len(runs)*each/4, groups)
	require.Len(t, seen, len(runs)*each)
	for text, n := range seen {
		require.Equal(t, 1, n, text)
	}
}

// TestEffectsAreKnownAgain: by the record and the entry inside it; what was taken back is forgotten, what is kept twice is
// kept as it was first.
func TestEffectsAreKnownAgain(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	id := addRun(t, db, "a")
	of := []EffectKey{{0, ""}, {1, ""}, {1, "line/2"}}
	require.NoError(t, SaveEffects(t.Context(), db, id, "s", of, []string{`{"n": 1}`, "", "ü"}))
	require.NoError(t, SaveEffects(t.Context(), db, id, "s", of[:1], []string{"late"}))
	require.NoError(t, SaveEffects(t.Context(), db, id, "t", of[:1], []string{"t's"}))
	require.NoError(t, SaveEffects(t.Context(), db, id, "s", nil, nil))
	known := func(step string, records ...int) map[EffectKey]string {
		m, err := Effects(t.Context(), db, id, step, records)
		require.NoError(t, err)
		return m
	}
	require.Equal(t, map[EffectKey]string{{0, ""}: `{"n": 1}`, {1, ""}: "", {1, "line/2"}: "ü"}, known("s", 0, 1, 2))
	require.Equal(t, map[EffectKey]string{{0, ""}: "t's"}, known("t", 0))
	require.NoError(t, DeleteEffects(t.Context(), db, id, nil))
	require.NoError(t, DeleteEffects(t.Context(), db, id, []running.Compensated{{Steps: []string{"s", "u"}, Record: 1, Path: ""}}))
	require.Equal(t, map[EffectKey]string{{1, "line/2"}: "ü"}, known("s", 1))
	require.Empty(t, known("s", 7))
}

// TestKeysAreSeen: by other records, in this run or another; the record that brought a key first may come again, and after
// its time a key is as if nobody had brought it.
func TestKeysAreSeen(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	first, second := byID(t, db, addRun(t, db, "a")), byID(t, db, addRun(t, db, "b"))
	seen := func(r Run, within time.Duration, record int, keys ...string) []string {
		of := make([]EffectKey, len(keys))
		for i := range of {
			of[i] = EffectKey{Record: record + i}
		}
		m, err := MarkSeen(t.Context(), db, r, "once", of, keys, within)
		require.NoError(t, err)
		var list []string
		for _, k := range keys {
			if m[k] {
				list = append(list, k)
			}
		}
		return list
	}
	require.Empty(t, seen(first, 0, 0, "x", "y"))
	require.Empty(t, seen(first, 0, 0, "x", "y"), "the run is taken on again")
	require.Equal(t, []string{"x"}, seen(first, 0, 5, "x", "z"))
	require.Equal(t, []string{"y", "x"}, seen(second, 0, 0, "y", "w", "x"))
	aged(t, db, "duplicate_key", "at", time.Hour)
	require.Equal(t, []string{"x"}, seen(second, 0, 9, "x"), "never again")
	require.Equal(t, []string{"x"}, seen(second, 2*time.Hour, 9, "x"))
	require.Empty(t, seen(second, time.Minute, 9, "x"))
	require.Equal(t, []string{"x"}, seen(first, time.Minute, 0, "x"), "it is the other's now")
	none, err := MarkSeen(t.Context(), db, Run{ID: uuid.Must(uuid.NewV7()), Scope: scope, Flow: "g"}, "once", []EffectKey{{}}, []string{"y"}, 0)
	require.NoError(t, err)
	require.Empty(t, none, "another flow")
}
