package triggers

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
)

// pollRecords asks for records that are new since the last look, and begins a run with them. What was taken is noted in
// the same transaction, so that no record is taken twice or passed over.
func (w *Watch) pollRecords(ctx context.Context, r store.Deployment, plan *running.Plan) error {
	every := time.Duration(plan.Flow.Trigger.Interval) * time.Second
	last, due, err := w.taken(ctx, r, every)
	if err != nil || !due {
		return err
	}
	s, greatest, err := w.fresh(ctx, r, plan, last)
	if err != nil { // it is asked again at the next look, however seldom it is asked
		return err
	}
	defer s.Close()
	if s.n == 0 {
		return w.asksNext(ctx, r, every)
	}
	began := false
	err = pgx.BeginFunc(ctx, w.DB, func(tx pgx.Tx) error {
		t, ok, err := store.LockTrigger(ctx, tx, r.Scope, r.Flow)
		if err != nil || !ok || t.Rising != last { // paused, or others have taken them
			return err
		}
		if err := store.SetWatermark(ctx, tx, r.Scope, r.Flow, greatest); err != nil {
			return err
		}
		began = true
		_, err = w.Runs.Record(ctx, tx, r, plan, Start{By: "new records", Records: &s.Spool, Ignored: s.ignored})
		return err
	})
	if err == nil {
		err = w.asksNext(ctx, r, every)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if delete(w.last, r.Project+"/"+r.Flow); err == nil && began {
		w.last[r.Project+"/"+r.Flow] = greatest
	}
	return err
}

// taken is the greatest value that a trigger has taken so far, as this process knows it or the database. due says whether it is
// time to ask: for one that asks seldom the database knows, see asksNext.
func (w *Watch) taken(ctx context.Context, r store.Deployment, every time.Duration) (last string, due bool, err error) {
	key := r.Project + "/" + r.Flow
	w.mu.Lock()
	last, known := w.last[key]
	w.mu.Unlock()
	if known && w.Hearing.Load() && every < longEvery*time.Second {
		return last, true, nil
	}
	t, err := store.TriggerOf(ctx, w.DB, r.Scope, r.Flow)
	if err != nil || t.PausedBy != nil || t.NextAt.After(time.Now()) && every >= longEvery*time.Second {
		return "", false, err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.last == nil {
		w.last = map[string]string{}
	}
	w.last[key] = t.Rising
	return t.Rising, true, nil
}

// asksNext notes when a trigger that asks seldom does so next, for this worker and for the next one that starts.
func (w *Watch) asksNext(ctx context.Context, r store.Deployment, every time.Duration) error {
	if every < longEvery*time.Second {
		return nil
	}
	return store.AskNext(ctx, w.DB, r.Scope, r.Flow, every)
}

// fresh reads the records whose watermark field is beyond the last value that was read.
func (w *Watch) fresh(ctx context.Context, r store.Deployment, plan *running.Plan, last string) (*Spooled, string, error) {
	ctx, cancel := context.WithTimeout(ctx, ReadTime)
	defer cancel()
	field := plan.Poll.Op.Response.Root.Field(plan.Flow.Trigger.Watermark.Value)
	was := value.Value{}
	if last != "" {
		was, _ = schema.ParseScalar(field.Kind, last)
	}
	fr := &formula.Frame{Slots: make([]value.Value, 1)}
	fr.Slots[0] = was
	request, f := plan.Poll.Request(fr)
	if f != nil {
		return nil, "", f
	}
	s, greatest := &Spooled{}, was
	ctx, passed := system.CountPassed(ctx)
	for v, err := range w.Outside.Of(r.Scope).Read(ctx, system.Request{Op: plan.Poll.Op, Value: request}) {
		if err != nil {
			return nil, "", err
		}
		now := v.Slot(field.Slot())
		if now.IsMissing() || !beyond(now, was) {
			continue
		}
		if err := s.Add(v); err != nil {
			return nil, "", err
		}
		if beyond(now, greatest) {
			greatest = now
		}
	}
	s.ignored = passed.Fields()
	return s, greatest.String(), nil
}

func beyond(a, b value.Value) bool {
	if b.IsMissing() {
		return true
	}
	n, err := value.Compare(a, b)
	return err == nil && n > 0
}

// onTime begins a run of a schedule that is due; of several workers one does. A schedule by the clock begins with
// its first time after it was released; one that runs every so often begins at once.
func (w *Watch) onTime(ctx context.Context, r store.Deployment, plan *running.Plan) error {
	s := plan.Schedule
	var waits time.Time
	err := pgx.BeginFunc(ctx, w.DB, func(tx pgx.Tx) error {
		t, ok, err := store.LockTrigger(ctx, tx, r.Scope, r.Flow)
		now := w.Now()
		if err != nil || !ok {
			return err
		}
		if t.Spec != s.Spec && plan.Flow.Trigger.Cron.Value != "" {
			waits = s.Next(now)
			return store.SetNext(ctx, tx, r.Scope, r.Flow, s.Spec, waits)
		}
		if t.NextAt.After(now) {
			waits = t.NextAt
			return nil
		}
		starts, next := s.Due(t.NextAt, now, plan.Flow.Trigger.Missed)
		if err := store.SetNext(ctx, tx, r.Scope, r.Flow, s.Spec, next); err != nil || !starts {
			return err
		}
		waits = next
		_, err = w.Runs.Record(ctx, tx, r, plan, Start{By: "schedule"})
		return err
	})
	if err == nil && !waits.IsZero() {
		w.waits(r, waits)
	}
	return err
}
