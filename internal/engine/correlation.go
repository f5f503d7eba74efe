package engine

import (
	"context"
	"crypto/rand"
	"io"
	"time"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
)

// Secret is one of the environment's secrets.
func (h *services) Secret(ctx context.Context, name string) (string, error) {
	return h.x.outside().Secret(ctx, name)
}

// Random gives random bytes.
func (h *services) Random() io.Reader { return rand.Reader }

// Get reads what flows have kept.
func (h *services) Get(ctx context.Context, space string, keys []string) (map[string]string, error) {
	return store.GetState(ctx, h.x.engine.db, h.x.run.Scope, space, keys)
}

// Put keeps texts; the same text twice is the same as once.
func (h *services) Put(ctx context.Context, space string, notes []running.StateEntry) error {
	return store.PutState(ctx, h.x.engine.db, h.x.run.Scope, space, notes)
}

// Send hands messages over, each once however often the batch is done.
func (h *services) Send(ctx context.Context, step string, items []*running.Item, messages []running.CorrelatedMessage) error {
	of := make([]store.EffectKey, len(items))
	for i, it := range items {
		of[i] = journal.KeyOf(it)
	}
	if h.x.ends {
		return errEnding()
	}
	return store.SendMessages(ctx, h.x.engine.db, h.x.run, step, of, messages)
}

// How long a run that waits for a message rests before it looks again: as long as it has waited, within these bounds.
// Who hands a message over wakes it at once; the look is for the one that was handed over while it went to rest.
const (
	shortRest = time.Second
	longRest  = time.Minute
)

// Receive takes messages that were handed over, and rests while some may still come.
func (h *services) Receive(ctx context.Context, a running.ReceiveStep, messages []running.CorrelatedMessage) ([]*string, error) {
	if h.x.ends {
		return nil, errEnding()
	}
	texts := make([]*string, len(messages))
	var next time.Time
	for i, l := range messages {
		text, since, err := store.ReceiveMessage(ctx, h.x.engine.db, h.x.run, a.Step, journal.KeyOf(a.Items[i]), l)
		if err != nil {
			return nil, err
		}
		texts[i] = text
		now, until := h.x.engine.now(), since.Add(a.Timeout)
		if text != nil || !until.After(now) {
			continue
		}
		look := now.Add(min(max(now.Sub(since), shortRest), longRest))
		if look.After(until) {
			look = until
		}
		if next.IsZero() || look.Before(next) {
			next = look
		}
	}
	if !next.IsZero() {
		return nil, &running.Waiting{Until: next}
	}
	return texts, nil
}

// Aggregate keeps what the items bring. One that waits for the rest of its group makes the run rest until its time is over.
func (h *services) Aggregate(ctx context.Context, g running.AggregateStep, keys, texts []string) ([]running.AggregateGroup, error) {
	if h.x.ends {
		return nil, errEnding()
	}
	out := make([]running.AggregateGroup, len(keys))
	var last time.Time
	for i, key := range keys {
		one := store.AggregateItem{Step: g.Step, Key: key, Text: texts[i], Of: journal.KeyOf(g.Items[i]), Size: g.Size, Timeout: g.Timeout}
		err := pgx.BeginFunc(ctx, h.x.engine.db, func(tx pgx.Tx) error {
			group, until, err := store.Aggregate(ctx, tx, h.x.run, one)
			out[i].Texts = group
			if until.After(last) {
				last = until
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	if !last.IsZero() {
		return nil, &running.Waiting{Until: last}
	}
	return out, nil
}
