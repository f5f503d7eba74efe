package store

import (
	"context"
	"encoding/json"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
)

// WholeRun is a run that is recorded when it is over, with all that it has come to.
type WholeRun struct {
	Run         Run // BeganAt and EndedAt are set
	State       State
	Fault       *fault.Fault
	Entries     []byte // of the journal, of the run as a whole
	References  []flow.Reference
	Events      []flow.Event
	Key, Digest string // of idempotency, as with AddCall; empty: none
}

// AddWhole records runs that are over: all of them or, when it fails, none. One whose key came before is not recorded: fresh says
// which were.
func AddWhole(ctx context.Context, db DB, list []WholeRun) (fresh []bool, err error) {
	b := &pgx.Batch{}
	fresh = make([]bool, len(list))
	for i, w := range list {
		args, err := w.args()
		if err != nil {
			return nil, err
		}
		b.Queue(addWhole, args...).QueryRow(func(row pgx.Row) error { return row.Scan(&fresh[i]) })
	}
	return fresh, db.SendBatch(ctx, b).Close() // what is sent at once is one transaction
}

func (w WholeRun) args() ([]any, error) {
	r := w.Run
	refRecords, refTexts := make([]int, len(w.References)), make([]string, len(w.References))
	for i, ref := range w.References {
		refRecords[i], refTexts[i] = ref.Record, ref.Text
	}
	steps, records, texts, faults := make([]string, len(w.Events)), make([]int, len(w.Events)), make([]string, len(w.Events)), make([]*string, len(w.Events))
	for i, e := range w.Events {
		steps[i], records[i], texts[i] = e.Step, e.Record, e.Text
		if e.Fault == nil {
			continue
		}
		text, err := json.Marshal(e.Fault)
		if err != nil {
			return nil, err
		}
		s := string(text)
		faults[i] = &s
	}
	key := ""
	if w.Key != "" {
		key = callKey(w.Key)
	}
	return []any{
		r.ID, r.Project, r.Flow, r.Release, r.Reference, r.File, r.Input, r.StartedBy, r.Request, r.Claim, w.State, r.Counts, w.Fault, r.Totals, r.Answer, r.Reply, r.BeganAt, r.EndedAt,
		w.Entries, refRecords, refTexts, steps, records, texts, faults, calls, key, w.Digest,
	}, nil
}

// addWhole is one statement. The run is there before what refers to it is checked, which is when the statement ends.
const addWhole = `with called as (
			insert into pickup (project, flow, path, identity, digest, run) select $2, $3, $26, $27, $28, $1 where $27 <> '' on conflict do nothing returning run),
		added as (insert into run (id, project, flow, release, release_flow, reference, file, input, started_by, request, claim, attempt, state, counts, fault, totals, answer, reply, created_at, began_at, ended_at)
			select $1, $2, $3, $4, $3, $5, $6, $7, $8, $9, $10, 1, $11, $12, $13, $14, $15, $16, $17, $17, $18 where $27 = '' or exists (select from called) returning id),
		journaled as (insert into journal (run, first, records, entries) select id, -1, 1, $19 from added),
		referred as (insert into reference (run, project, record, text) select id, $2, n, t from added, unnest($20::int[], $21::text[]) as x(n, t) on conflict do nothing),
		told as (insert into event (project, flow, run, step, record, text, fault) select $2, $3, id, s, n, t, f from added, unnest($22::text[], $23::int[], $24::text[], $25::jsonb[]) as x(s, n, t, f))
		select exists (select from added)`
