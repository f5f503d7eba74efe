package store

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Trigger is what is remembered of the trigger of a flow.
type Trigger struct {
	NextAt    time.Time
	Rising    string // the greatest value of the watermark field that was read
	Spec      string // the schedule by which NextAt was worked out
	PausedBy  *string
	PausedAt  *time.Time
	PausedFor string
	Fault     string // what the last look at it met
	LookedAt  *time.Time
}

const triggerColumns = "next_at, watermark, spec, paused_by, paused_at, pause_reason, fault, polled_at"

// TriggerOf reads what is remembered of a trigger; nothing is, before it was first looked at.
func TriggerOf(ctx context.Context, db DB, s Scope, flowID string) (Trigger, error) {
	rows, _ := db.Query(ctx, "select "+triggerColumns+" from trigger_state where project = $1 and environment = $2 and flow = $3", s.Project, s.Environment, flowID)
	t, err := one(pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Trigger]))
	if errors.Is(err, ErrNotFound) {
		return Trigger{}, nil
	}
	return t, err
}

// LockTrigger reads a trigger and keeps other workers from it until the transaction ends; ok is false when another
// one has it, for whom nobody waits, or when it is paused.
func LockTrigger(ctx context.Context, tx pgx.Tx, s Scope, flowID string) (t Trigger, ok bool, err error) {
	t, err = lockedTrigger(ctx, tx, s, flowID)
	if !errors.Is(err, ErrNotFound) {
		return t, err == nil && t.PausedBy == nil, err
	}
	// An insert alone would wait for whoever has the row, to see whether it conflicts.
	tag, err := tx.Exec(ctx, `insert into trigger_state (project, environment, flow) select $1, $2, $3
		where not exists (select from trigger_state where project = $1 and environment = $2 and flow = $3) on conflict do nothing`, s.Project, s.Environment, flowID)
	if err != nil || tag.RowsAffected() == 0 {
		return t, false, err
	}
	t, err = lockedTrigger(ctx, tx, s, flowID)
	return t, err == nil, err
}

func lockedTrigger(ctx context.Context, tx pgx.Tx, s Scope, flowID string) (Trigger, error) {
	rows, _ := tx.Query(ctx, "select "+triggerColumns+" from trigger_state where project = $1 and environment = $2 and flow = $3 for update skip locked", s.Project, s.Environment, flowID)
	return one(pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Trigger]))
}

// SetNext notes when a trigger is next, and by which schedule.
func SetNext(ctx context.Context, tx pgx.Tx, s Scope, flowID, spec string, next time.Time) error {
	_, err := tx.Exec(ctx, "update trigger_state set next_at = $4, spec = $3 where project = $1 and environment = $5 and flow = $2", s.Project, flowID, spec, next, s.Environment)
	return err
}

// AskNext notes that a trigger asks next in a while.
func AskNext(ctx context.Context, db DB, s Scope, flowID string, every time.Duration) error {
	_, err := db.Exec(ctx, `insert into trigger_state (project, environment, flow, next_at) values ($1, $2, $3, now() + make_interval(secs => $4))
		on conflict (project, environment, flow) do update set next_at = excluded.next_at`, s.Project, s.Environment, flowID, every.Seconds())
	return err
}

// SetWatermark notes the greatest value of a trigger's watermark field.
func SetWatermark(ctx context.Context, tx pgx.Tx, s Scope, flowID, rising string) error {
	_, err := tx.Exec(ctx, "update trigger_state set watermark = $4 where project = $1 and environment = $2 and flow = $3", s.Project, s.Environment, flowID, rising)
	return err
}

// RecordPoll notes what a look at a trigger met; empty is nothing.
func RecordPoll(ctx context.Context, db DB, s Scope, flowID, fault string) error {
	_, err := db.Exec(ctx, `insert into trigger_state as t (project, environment, flow, fault, polled_at) values ($1, $2, $3, $4, now())
		on conflict (project, environment, flow) do update set fault = excluded.fault, polled_at = now()`,
		s.Project, s.Environment, flowID, fault)
	return err
}

// Pause lets a trigger start nothing until it is taken back; the reason is told to those who wonder.
func Pause(ctx context.Context, db DB, s Scope, flowID, by, reason string) error {
	_, err := db.Exec(ctx, `insert into trigger_state (project, environment, flow, paused_by, paused_at, pause_reason) values ($1, $2, $3, $4, now(), $5)
		on conflict (project, environment, flow) do update set paused_by = $4, paused_at = now(), pause_reason = $5`, s.Project, s.Environment, flowID, by, reason)
	if err != nil {
		return err
	}
	return Publish(ctx, db, "trigger "+s.String()+" "+flowID)
}

// Unpause lets a trigger start runs again.
func Unpause(ctx context.Context, db DB, s Scope, flowID string) error {
	_, err := db.Exec(ctx, "update trigger_state set paused_by = null, paused_at = null, pause_reason = '' where project = $1 and environment = $2 and flow = $3", s.Project, s.Environment, flowID)
	if err != nil {
		return err
	}
	return Publish(ctx, db, "trigger "+s.String()+" "+flowID)
}

// Paused are the flows whose triggers are paused in an environment, by project and flow.
func Paused(ctx context.Context, db DB, environment string) (map[[2]string]bool, error) {
	rows, err := db.Query(ctx, "select project, flow from trigger_state where environment = $1 and paused_by is not null", environment)
	if err != nil {
		return nil, err
	}
	paused := map[[2]string]bool{}
	var key [2]string
	_, err = pgx.ForEachRow(rows, []any{&key[0], &key[1]}, func() error {
		paused[key] = true
		return nil
	})
	return paused, err
}

// CountActive counts the runs of a flow that have begun or wait to.
func CountActive(ctx context.Context, db DB, s Scope, flowID string) (n int, err error) {
	err = db.QueryRow(ctx, "select count(*) from run where project = $1 and environment = $2 and flow = $3 and state in ('waiting', 'running', 'retrying')", s.Project, s.Environment, flowID).Scan(&n)
	return n, err
}

// MayStart says whether it is a run's turn: fewer than so many runs of its flow are under way (0 is any number), and none
// of its lane that is older waits. Until the transaction ends no other run of the flow is given its turn.
func MayStart(ctx context.Context, tx pgx.Tx, id uuid.UUID, s Scope, flowID, lane string, atOnce int) (bool, error) {
	if _, err := tx.Exec(ctx, "select pg_advisory_xact_lock(hashtextextended($1 || '/' || $2, 7))", s.String(), flowID); err != nil {
		return false, err
	}
	var free bool
	err := tx.QueryRow(ctx, `select ($4 = 0 or $4 > (select count(*) from run where project = $1 and environment = $6 and flow = $2 and state = 'running' and id <> $3))
			and ($5 = '' or not exists (select from run o, run me where me.id = $3 and o.project = $1 and o.environment = $6 and o.flow = $2 and o.ordering_key = $5 and o.id <> me.id
				and o.state in ('waiting', 'running', 'retrying') and (o.created_at, o.id) < (me.created_at, me.id)))`,
		s.Project, flowID, id, atOnce, lane, s.Environment).Scan(&free)
	return free, err
}
