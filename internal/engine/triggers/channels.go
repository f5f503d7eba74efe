package triggers

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trigger"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
)

// Bounds on what is read of a channel.
const (
	readAnew    = 5 * time.Second // between two looks at all channels: what was told may not have been heard
	mostWaiting = 1000            // runs of a flow that wait or are under way: others stay in the channel until then
	waitAWhile  = time.Second     // after which a flow with so many runs is looked at again
)

// stirring is a channel that has got messages; all where it has no name.
type stirring struct {
	scope   store.Scope
	channel string
}

// readerState is whether somebody reads a channel for a flow.
type readerState uint8

const (
	idle readerState = iota
	reads
	readsAgain // once more when it is through
)

// Stir makes the flows that read a channel look for messages; an empty name is all channels.
func (w *Watch) Stir(s store.Scope, channel string) {
	select {
	case w.stirred <- stirring{s, channel}:
	default: // so many wait that all are looked at soon
	}
}

// ReadChannels reads the channels of all released flows, when they get messages, until the context ends.
func (w *Watch) ReadChannels(ctx context.Context) {
	t := time.NewTicker(readAnew)
	defer t.Stop()
	for {
		var of stirring
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		case of = <-w.stirred:
		}
		if err := w.readFor(ctx, of); err != nil && ctx.Err() == nil {
			w.Log.Warn("read channels", "error", err)
		}
	}
}

// readFor lets the flows that read a channel do so.
func (w *Watch) readFor(ctx context.Context, of stirring) error {
	releases, paused, err := w.Deployments.All(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, r := range releases {
		if paused[[2]string{r.Project, r.Flow}] || of.channel != "" && r.Scope != of.scope {
			continue
		}
		p, err := w.Compiled.Release(ctx, w.DB, r.Project, r.Flow, r.Number)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		plan := p.Flow(r.Flow)
		if plan == nil || plan.Channel == nil || len(plan.Faults) > 0 || of.channel != "" && plan.Channel.ID != of.channel {
			continue
		}
		w.read(ctx, r, plan)
	}
	return errors.Join(errs...)
}

// read reads a channel for a flow beside others, or once more where somebody does already.
func (w *Watch) read(ctx context.Context, r store.Deployment, plan *running.Plan) {
	key := r.Project + "/" + r.Flow
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.reading[key] != idle {
		w.reading[key] = readsAgain
		return
	}
	w.reading[key] = reads
	w.wg.Go(func() {
		for {
			err := w.pollTrigger(ctx, r, plan, (*Watch).readChannel)
			if err != nil && ctx.Err() == nil {
				w.Log.Warn("read a channel", "flow", key, "error", err)
			}
			w.mu.Lock()
			if w.reading[key] != readsAgain || err != nil {
				delete(w.reading, key)
				w.mu.Unlock()
				return
			}
			w.reading[key] = reads
			w.mu.Unlock()
		}
	})
}

// readChannel starts runs with the messages that a flow has before it.
func (w *Watch) readChannel(ctx context.Context, r store.Deployment, plan *running.Plan) error {
	number, err := store.ChannelID(ctx, w.DB, r.Scope, plan.Channel.ID)
	if err != nil {
		return err
	}
	t := plan.Flow.Trigger.Settings
	name, from := t.Get("subscription"), t.Get("from")
	switch {
	case plan.Channel.Kind == channel.Queue:
		name, from = "", trigger.FromBeginning
	case name == "":
		name = r.Flow
	}
	reader, err := store.AddReader(ctx, w.DB, number, name, from)
	if err != nil {
		return err
	}
	most := max(1, t.Int("batch"))
	for ctx.Err() == nil {
		waiting, err := store.CountActive(ctx, w.DB, r.Scope, r.Flow)
		if err != nil {
			return err
		}
		if waiting >= mostWaiting {
			time.AfterFunc(waitAWhile, func() { w.Stir(r.Scope, plan.Channel.ID) })
			return nil
		}
		n, err := w.takeMessages(ctx, r, plan, reader.ID, most)
		if err != nil || n < most {
			return err
		}
	}
	return nil
}

// takeMessages starts runs with up to so many messages. They are taken in the transaction that records the runs.
func (w *Watch) takeMessages(ctx context.Context, r store.Deployment, plan *running.Plan, readerID, most int) (n int, err error) {
	err = pgx.BeginFunc(ctx, w.DB, func(tx pgx.Tx) error {
		reader, ok, err := store.LockReader(ctx, tx, readerID)
		if err != nil || !ok {
			return err
		}
		due, err := store.DueMessages(ctx, tx, reader, most)
		if err != nil {
			return err
		}
		fresh, err := store.NextMessages(ctx, tx, reader.Channel, reader.At, most-len(due))
		if err != nil {
			return err
		}
		n = len(due) + len(fresh)
		if len(fresh) > 0 {
			if err := store.MoveReader(ctx, tx, reader.ID, fresh[len(fresh)-1].ChannelPlace); err != nil {
				return err
			}
		}
		now, later := time.Now(), []store.ChannelMessage(nil)
		for i, m := range append(due, fresh...) {
			switch {
			case m.ExpiresAt != nil && !m.ExpiresAt.After(now):
			case i >= len(due) && m.DueAt != nil && m.DueAt.After(now):
				later = append(later, m)
			default:
				if err := w.startWith(ctx, tx, r, plan, reader, m); err != nil {
					return err
				}
			}
		}
		if len(later) == 0 {
			return nil
		}
		time.AfterFunc(time.Until(*later[0].DueAt), func() { w.Stir(r.Scope, plan.Channel.ID) })
		return store.PutOff(ctx, tx, reader, later)
	})
	return n, err
}

// startWith starts a run with a message. One that cannot be read is set aside, and keeps none behind it waiting.
func (w *Watch) startWith(ctx context.Context, tx pgx.Tx, r store.Deployment, plan *running.Plan, reader store.ChannelReader, m store.ChannelMessage) error {
	v, faults := w.Runs.MessageOf(plan.Channel, m.Body)
	if len(faults) > 0 {
		return store.SetMessageAside(ctx, tx, reader.ID, m.ChannelPlace, "it is not one of the schema: "+faults[0].What())
	}
	facts := running.Message{
		ID: m.MessageID, Channel: plan.Channel.ID, Key: m.Key, Media: m.Media, PutAt: value.Instant(m.PutAt.UTC()), Headers: w.Runs.MessageHeaders(m.Headers),
	}.Facts()
	if takes, f := wanted(plan, v, facts); f != nil {
		return store.SetMessageAside(ctx, tx, reader.ID, m.ChannelPlace, "the filter fails: "+f.What())
	} else if !takes {
		return nil
	}
	_, err := w.Runs.Record(ctx, tx, r, plan, Start{By: "message", Input: json.Bytes(v), Value: v, Request: plan.WriteStarted(facts), RequestValue: facts})
	return err
}

// wanted says whether the trigger starts a run with a message.
func wanted(plan *running.Plan, message, facts value.Value) (bool, *fault.Fault) {
	if plan.Where == nil {
		return true, nil
	}
	v, f := plan.Where.Eval(&formula.Frame{Slots: []value.Value{{}, message, facts}})
	return f == nil && v.IsTrue(), f
}
