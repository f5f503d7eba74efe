package store_test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

func messages(texts ...string) (list []store.ChannelMessage) {
	for _, t := range texts {
		list = append(list, store.ChannelMessage{MessageID: t, Known: true, Media: "text/plain", Body: []byte(t)})
	}
	return list
}

func bodies(list []store.ChannelMessage) (texts []string) {
	for _, m := range list {
		texts = append(texts, string(m.Body))
	}
	return texts
}

// TestAReaderPassesOverNoMessage: one whose transaction began before and ends later is read after those that were there, and nothing is
// read twice, whatever the order in which transactions end.
func TestAReaderPassesOverNoMessage(t *testing.T) {
	db := testkit.Project(t, "skerry", "Skerry", map[string]string{"project.yaml": "project: x\n"})
	ctx := t.Context()
	id, err := store.ChannelID(ctx, db, testkit.Skerry, "scans")
	require.NoError(t, err)
	again, err := store.ChannelID(ctx, db, testkit.Skerry, "scans")
	require.NoError(t, err)
	require.Equal(t, id, again)
	r, err := store.AddReader(ctx, db, id, "", store.FromBeginning)
	require.NoError(t, err)

	slow, err := db.Begin(ctx)
	require.NoError(t, err)
	defer slow.Rollback(ctx)
	require.NoError(t, store.PutMessages(ctx, slow, id, messages("slow")))
	require.NoError(t, store.PutMessages(ctx, db, id, messages("quick")))
	list, err := store.NextMessages(ctx, db, id, r.At, 10)
	require.NoError(t, err)
	require.Empty(t, list, "what began before may still come")
	require.NoError(t, slow.Commit(ctx))
	list, err = store.NextMessages(ctx, db, id, r.At, 10)
	require.NoError(t, err)
	require.Equal(t, []string{"slow", "quick"}, bodies(list))

	const writers, each = 6, 40
	var all sync.WaitGroup
	for w := range writers {
		all.Go(func() {
			for i := range each {
				err := pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
					return store.PutMessages(ctx, tx, id, messages(fmt.Sprintf("%d/%d a", w, i), fmt.Sprintf("%d/%d b", w, i)))
				})
				if err != nil {
					t.Error(err)
				}
			}
		})
	}
	seen, at := map[string]int{}, store.ChannelPlace{}
	last := map[int]string{}
	done := make(chan struct{})
	go func() { all.Wait(); close(done) }()
	for over := false; ; {
		list, err := store.NextMessages(ctx, db, id, at, 7)
		require.NoError(t, err)
		for _, m := range list {
			at = m.ChannelPlace
			seen[string(m.Body)]++
			var w, i int
			var part string
			if n, _ := fmt.Sscanf(string(m.Body), "%d/%d %s", &w, &i, &part); n == 3 {
				now := fmt.Sprintf("%06d %s", i, part)
				require.Greater(t, now, last[w], "the messages of one writer stay in their order")
				last[w] = now
			}
		}
		if len(list) == 0 && over {
			break
		}
		select {
		case <-done:
			over = true
		default:
		}
	}
	require.Len(t, seen, 2+2*writers*each)
	for text, n := range seen {
		require.Equal(t, 1, n, text)
	}
}

// TestTakenMessagesComeAgain: until they are acknowledged, and so often; then they are set aside, and can be handed out again.
func TestTakenMessagesComeAgain(t *testing.T) {
	db := testkit.Project(t, "skerry", "Skerry", map[string]string{"project.yaml": "project: x\n"})
	ctx := t.Context()
	id, err := store.ChannelID(ctx, db, testkit.Skerry, "scans")
	require.NoError(t, err)
	r, err := store.AddReader(ctx, db, id, "", store.FromBeginning)
	require.NoError(t, err)
	list := messages("a", "b", "late", "gone", "c")
	later, before := time.Now().Add(time.Hour), time.Now().Add(-time.Second)
	list[2].DueAt, list[3].ExpiresAt = &later, &before
	require.NoError(t, store.PutMessages(ctx, db, id, list))
	take := func(most int, hold time.Duration, token uuid.UUID) (out []string, at []store.ChannelPlace) {
		taken, err := store.TakeMessages(ctx, db, r.ID, most, hold, token, false)
		require.NoError(t, err)
		for _, m := range taken {
			out, at = append(out, fmt.Sprintf("%s %d", m.Body, m.Attempts)), append(at, m.ChannelPlace)
		}
		return out, at
	}
	one, two := uuid.New(), uuid.New()
	got, at := take(2, time.Minute, one)
	require.Equal(t, []string{"a 1", "b 1"}, got)
	got, last := take(10, time.Minute, two)
	require.Equal(t, []string{"c 1"}, got, "what is put off and what is over is passed by")
	got, _ = take(10, time.Minute, two)
	require.Empty(t, got)
	n, err := store.Acknowledge(ctx, db, r.ID, two, at)
	require.NoError(t, err)
	require.Zero(t, n, "another one has them")
	n, err = store.Acknowledge(ctx, db, r.ID, one, at[:1])
	require.NoError(t, err)
	require.Equal(t, 1, n)
	n, err = store.ReturnMessages(ctx, db, r.ID, one, at[1:], 0, 2, "no")
	require.NoError(t, err)
	require.Equal(t, 1, n)
	got, at = take(10, time.Minute, one)
	require.Equal(t, []string{"b 2"}, got)
	n, err = store.ReturnMessages(ctx, db, r.ID, one, at, 0, 2, "no such gate")
	require.NoError(t, err)
	require.Equal(t, 1, n)
	got, _ = take(10, time.Minute, one)
	require.Empty(t, got)
	aside, err := store.AsideMessages(ctx, db, r, 10)
	require.NoError(t, err)
	require.Len(t, aside, 1)
	require.Equal(t, "no such gate", aside[0].Reason)
	lag, err := store.LagOf(ctx, db, r.ID)
	require.NoError(t, err)
	require.Equal(t, store.Lag{Messages: 2, Out: 2, Aside: 1}, lag)
	n, err = store.AgainMessages(ctx, db, r.ID, aside[0].ChannelPlace)
	require.NoError(t, err)
	require.Equal(t, 1, n)
	got, _ = take(10, 0, one)
	require.Equal(t, []string{"b 1"}, got)
	got, _ = take(10, time.Minute, uuid.New())
	require.Equal(t, []string{"b 2"}, got, "not acknowledged in time")
	_, err = store.Acknowledge(ctx, db, r.ID, two, last)
	require.NoError(t, err)
}

// TestManyTakeFromAQueue: each message goes to one of them.
func TestManyTakeFromAQueue(t *testing.T) {
	db := testkit.Project(t, "skerry", "Skerry", map[string]string{"project.yaml": "project: x\n"})
	ctx := t.Context()
	id, err := store.ChannelID(ctx, db, testkit.Skerry, "scans")
	require.NoError(t, err)
	r, err := store.AddReader(ctx, db, id, "", store.FromBeginning)
	require.NoError(t, err)
	const total = 1000
	for i := range total / 100 {
		var texts []string
		for j := range 100 {
			texts = append(texts, fmt.Sprint(100*i+j))
		}
		require.NoError(t, store.PutMessages(ctx, db, id, messages(texts...)))
	}
	var mu sync.Mutex
	seen := map[string]int{}
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for {
				token := uuid.New()
				taken, err := store.TakeMessages(ctx, db, r.ID, 13, time.Minute, token, false)
				if err != nil || len(taken) == 0 {
					if err != nil {
						t.Error(err)
					}
					return
				}
				var at []store.ChannelPlace
				mu.Lock()
				for _, m := range taken {
					seen[string(m.Body)]++
					at = append(at, m.ChannelPlace)
				}
				mu.Unlock()
				if n, err := store.Acknowledge(ctx, db, r.ID, token, at); err != nil || n != len(at) {
					t.Error(n, err)
				}
			}
		})
	}
	all.Wait()
	require.Len(t, seen, total)
	for text, n := range seen {
		require.Equal(t, 1, n, text)
	}
}

// TestDaysAreDropped: with all their messages, unless a queue still has some of them before it; messages of days without a table stay.
func TestDaysAreDropped(t *testing.T) {
	db := testkit.Project(t, "skerry", "Skerry", map[string]string{"project.yaml": "project: x\n"})
	ctx := t.Context()
	old := time.Date(2031, 3, 1, 12, 0, 0, 0, time.UTC)
	require.NoError(t, store.AddPartitions(ctx, db, old))
	require.NoError(t, store.AddPartitions(ctx, db, old), "again")
	queue, err := store.ChannelID(ctx, db, testkit.Skerry, "queue")
	require.NoError(t, err)
	topic, err := store.ChannelID(ctx, db, testkit.Skerry, "topic")
	require.NoError(t, err)
	r, err := store.AddReader(ctx, db, queue, "", store.FromBeginning)
	require.NoError(t, err)
	_, err = store.AddReader(ctx, db, topic, "desk", store.FromBeginning)
	require.NoError(t, err)
	put := func(channel int, at time.Time) {
		_, err := db.Exec(ctx, "insert into channel_message (channel, message_id, key, headers, media, body, origin, put_at) values ($1, 'x', '', '', '', '', '', $2)", channel, at)
		require.NoError(t, err)
	}
	put(topic, old)
	put(queue, old.AddDate(0, 0, 1))
	n, err := store.DropPartitions(ctx, db, old.AddDate(0, 0, 2))
	require.NoError(t, err)
	require.Equal(t, 4, n, "the first day, and those of now; the second day is wanted")
	list, err := store.NextMessages(ctx, db, queue, r.At, 10)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.NoError(t, store.MoveReader(ctx, db, r.ID, list[0].ChannelPlace))
	n, err = store.DropPartitions(ctx, db, old.AddDate(0, 0, 2))
	require.NoError(t, err)
	require.Equal(t, 1, n)
}

// TestDoublesAreKnown: by their id within a time, also those of transactions at the same time.
func TestDoublesAreKnown(t *testing.T) {
	db := testkit.Project(t, "skerry", "Skerry", map[string]string{"project.yaml": "project: x\n"})
	ctx := t.Context()
	id, err := store.ChannelID(ctx, db, testkit.Skerry, "scans")
	require.NoError(t, err)
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			for i := range 20 {
				err := pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
					known, err := store.KnownMessages(ctx, tx, id, []string{fmt.Sprint("m", i), fmt.Sprint("n", i)}, time.Hour)
					if err != nil || known[fmt.Sprint("m", i)] {
						return err
					}
					return store.PutMessages(context.WithoutCancel(ctx), tx, id, messages(fmt.Sprint("m", i), fmt.Sprint("n", i)))
				})
				if err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	list, err := store.LookAtMessages(ctx, db, id, store.ChannelPlace{}, "", 100)
	require.NoError(t, err)
	require.Len(t, list, 40)
	list, err = store.LookAtMessages(ctx, db, id, store.ChannelPlace{}, "m7", 100)
	require.NoError(t, err)
	require.Len(t, list, 1)
}
