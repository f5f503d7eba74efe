package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
)

// WholeRun is a run that is recorded when it is over, with all that it has come to.
type WholeRun struct {
	Run         Run // BeganAt and EndedAt are set
	State       State
	Fault       *fault.Fault
	Entries     []byte // of the journal, of the run as a whole
	References  []running.Reference
	Events      []running.Event
	Key, Digest string // of idempotency, as with AddCall; empty: none
}

// AddWhole records runs that are over: all of them or, when it fails, none. One whose key came before is not recorded: fresh says
// which were.
func AddWhole(ctx context.Context, db DB, list []WholeRun) (fresh []bool, err error) {
	if len(list) <= fewWhole && !slices.ContainsFunc(list, func(w WholeRun) bool { return !w.plain() }) {
		return slices.Repeat([]bool{true}, len(list)), addEach(ctx, db, list)
	}
	var c columns
	for _, w := range list {
		if err := c.add(w); err != nil {
			return nil, err
		}
	}
	if !slices.ContainsFunc(list, func(w WholeRun) bool { return w.Key != "" }) {
		return slices.Repeat([]bool{true}, len(list)), c.addKeyless(ctx, db)
	}
	rows, _ := db.Query(ctx, addWhole, c.ids, c.projects, c.environments, c.flows, c.releases, c.references, c.files, c.inputs, c.startedBy, c.requests, c.states, c.counts, c.faults, c.totals, c.answers, c.replies,
		c.began, c.ended, c.entries, calls, c.keys, c.digests, c.refRuns, c.refRecords, c.refTexts, c.eventRuns, c.eventSteps, c.eventRecords, c.eventTexts, c.eventFaults)
	added, err := pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	if err != nil {
		return nil, err
	}
	fresh = make([]bool, len(list))
	for i, w := range list {
		fresh[i] = len(added) == len(list) || slices.Contains(added, w.Run.ID)
	}
	return fresh, nil
}

// IsRefused says whether the server has refused a statement, and would again; else it could not be reached, or was not ready
// (PostgreSQL, appendix A: the classes of errors).
func IsRefused(err error) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && !slices.Contains([]string{"08", "53", "57", "58"}, e.Code[:2])
}

// IsRecorded says whether a run could not be recorded since it is already: it, or its journal, which is recorded with it.
func IsRecorded(err error) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && (e.ConstraintName == "run_pkey" || e.ConstraintName == "journal_pkey")
}

// maxPlain bounds the references, and the events, of a run that is recorded by a statement made for it.
const maxPlain = 4

// plain says whether a run can be recorded by a statement made for it, which takes half the time of that for many.
func (w WholeRun) plain() bool {
	return w.Key == "" && len(w.References) <= maxPlain && len(w.Events) <= maxPlain
}

// fewWhole are as many runs as are recorded faster by a statement each than by one for all.
const fewWhole = 2

// addEach records runs that are plain, by a statement each, which go to the server at once and are one transaction.
func addEach(ctx context.Context, db DB, list []WholeRun) error {
	b := &pgx.Batch{}
	for _, w := range list {
		sql, args, err := oneArgs(w)
		if err != nil {
			return err
		}
		if len(list) == 1 {
			_, err = db.Exec(ctx, sql, args...)
			return err
		}
		b.Queue(sql, args...)
	}
	return db.SendBatch(ctx, b).Close()
}

func oneArgs(w WholeRun) (sql string, args []any, err error) {
	asJSON := func(v any, there bool) *string {
		if !there {
			return nil
		}
		text, jerr := json.Marshal(v)
		s := string(text)
		err = errors.Join(err, jerr)
		return &s
	}
	r := w.Run
	args = []any{
		r.ID, r.Project, r.Environment, r.Flow, r.Release, r.Reference, r.File, r.Input, r.StartedBy, r.Request, w.State, string(running.CountsJSON(r.Counts)), asJSON(w.Fault, w.Fault != nil),
		r.Totals, r.Answer, asJSON(r.Reply, r.Reply != nil), r.StartedAt, r.EndedAt, w.Entries,
	}
	for _, ref := range w.References {
		args = append(args, ref.Record, ref.Text)
	}
	for _, e := range w.Events {
		args = append(args, e.Step, e.Record, e.Text, asJSON(e.Fault, e.Fault != nil))
	}
	return addOneSQL[len(w.References)][len(w.Events)], args, err
}

// addOneSQL are the statements for a run that is plain, by the numbers of its references and events. There are few, so that the
// server keeps the plan of each.
var addOneSQL = func() (all [maxPlain + 1][maxPlain + 1]string) {
	for refs := range all {
		for events := range all[refs] {
			all[refs][events] = oneSQL(refs, events)
		}
	}
	return all
}()

func oneSQL(refs, events int) string {
	var b strings.Builder
	b.WriteString(`with added as (insert into run (id, project, environment, flow, release, release_flow, reference, file, input, started_by, request, claim_version, attempt, state, counts, fault, totals, answer, reply, created_at, started_at, ended_at)
		values ($1, $2, $3, $4, $5, $4, $6, $7, $8, $9, $10, 1, 1, $11, $12, $13, $14, $15, $16, $17, $17, $18))`)
	n := 20 // the next parameter
	rows := func(insert, each string, count, width int) {
		for i := range count {
			if b.WriteString(","); i == 0 {
				b.WriteString(insert)
			}
			values := make([]any, width)
			for j := range values {
				values[j] = n
				n++
			}
			fmt.Fprintf(&b, each, values...)
		}
		if count > 0 {
			b.WriteString(" on conflict do nothing)")
		}
	}
	rows(" referred as (insert into reference (run, project, environment, record, text) values ", "($1, $2, $3, $%d, $%d)", refs, 2)
	rows(" told as (insert into event (run, project, environment, flow, step, record, text, fault) values ", "($1, $2, $3, $4, $%d, $%d, $%d, $%d)", events, 4)
	b.WriteString(" insert into journal (run, first, records, entries) values ($1, -1, 1, $19)")
	return b.String()
}

// list is a column of values. Its elements are sent without reflection.
type list[T any] = pgtype.FlatArray[T]

// columns are runs that are over, by column.
type columns struct {
	ids                                                                        list[uuid.UUID]
	projects, environments, flows, references, files, startedBy, keys, digests list[string]
	releases                                                                   list[int]
	inputs, requests, totals, answers, entries                                 list[[]byte]
	states                                                                     list[string]
	counts, faults, replies                                                    list[*string] // JSON
	began, ended                                                               list[*time.Time]

	refRuns                            list[uuid.UUID]
	refProjects, refEnvironments       list[string]
	refRecords                         list[int]
	refTexts                           list[string]
	eventRuns                          list[uuid.UUID]
	eventProjects, eventEnvironments   list[string]
	eventFlows, eventSteps, eventTexts list[string]
	eventRecords                       list[int]
	eventFaults                        list[*string]
}

func (c *columns) add(w WholeRun) error {
	r, key := w.Run, ""
	if w.Key != "" {
		key = callKey(w.Key)
	}
	c.ids, c.projects, c.environments = append(c.ids, r.ID), append(c.projects, r.Project), append(c.environments, r.Environment)
	c.flows, c.releases = append(c.flows, r.Flow), append(c.releases, r.Release)
	c.references, c.files, c.startedBy = append(c.references, r.Reference), append(c.files, r.File), append(c.startedBy, r.StartedBy)
	c.inputs, c.requests, c.totals, c.answers = append(c.inputs, r.Input), append(c.requests, r.Request), append(c.totals, r.Totals), append(c.answers, r.Answer)
	c.states, c.began, c.ended, c.entries = append(c.states, string(w.State)), append(c.began, r.StartedAt), append(c.ended, r.EndedAt), append(c.entries, w.Entries)
	c.keys, c.digests = append(c.keys, key), append(c.digests, w.Digest)
	var err error
	asJSON := func(to *list[*string], v any, there bool) {
		if !there {
			*to = append(*to, nil)
			return
		}
		text, jerr := json.Marshal(v)
		s := string(text)
		*to, err = append(*to, &s), errors.Join(err, jerr)
	}
	counts := string(running.CountsJSON(r.Counts))
	c.counts = append(c.counts, &counts)
	asJSON(&c.faults, w.Fault, w.Fault != nil)
	asJSON(&c.replies, r.Reply, r.Reply != nil)
	for _, ref := range w.References {
		c.refRuns, c.refRecords, c.refTexts = append(c.refRuns, r.ID), append(c.refRecords, ref.Record), append(c.refTexts, ref.Text)
		c.refProjects, c.refEnvironments = append(c.refProjects, r.Project), append(c.refEnvironments, r.Environment)
	}
	for _, e := range w.Events {
		c.eventRuns, c.eventSteps, c.eventRecords, c.eventTexts = append(c.eventRuns, r.ID), append(c.eventSteps, e.Step), append(c.eventRecords, e.Record), append(c.eventTexts, e.Text)
		c.eventProjects, c.eventEnvironments, c.eventFlows = append(c.eventProjects, r.Project), append(c.eventEnvironments, r.Environment), append(c.eventFlows, r.Flow)
		asJSON(&c.eventFaults, e.Fault, e.Fault != nil)
	}
	return err
}

// addKeyless records runs without keys. What is written of one need not be looked up for another, which halves the time.
func (c *columns) addKeyless(ctx context.Context, db DB) error {
	_, err := db.Exec(ctx, addKeyless, c.ids, c.projects, c.environments, c.flows, c.releases, c.references, c.files, c.inputs, c.startedBy, c.requests, c.states, c.counts, c.faults, c.totals, c.answers, c.replies,
		c.began, c.ended, c.entries, c.refRuns, c.refProjects, c.refEnvironments, c.refRecords, c.refTexts,
		c.eventRuns, c.eventProjects, c.eventEnvironments, c.eventFlows, c.eventSteps, c.eventRecords, c.eventTexts, c.eventFaults)
	return err
}

const addKeyless = `with added as (insert into run (id, project, environment, flow, release, release_flow, reference, file, input, started_by, request, claim_version, attempt, state, counts, fault, totals, answer, reply, created_at, started_at, ended_at)
			select id, project, environment, flow, release, flow, reference, file, input, started_by, request, 1, 1, state, counts, fault, totals, answer, reply, started_at, started_at, ended_at
			from unnest($1::uuid[], $2::text[], $3::text[], $4::text[], $5::int[], $6::text[], $7::text[], $8::bytea[], $9::text[], $10::bytea[], $11::text[], $12::jsonb[], $13::json[], $14::bytea[], $15::bytea[], $16::jsonb[],
				$17::timestamptz[], $18::timestamptz[])
			as g(id, project, environment, flow, release, reference, file, input, started_by, request, state, counts, fault, totals, answer, reply, started_at, ended_at)),
		referred as (insert into reference (run, project, environment, record, text)
			select * from unnest($20::uuid[], $21::text[], $22::text[], $23::int[], $24::text[]) on conflict do nothing),
		told as (insert into event (run, project, environment, flow, step, record, text, fault)
			select * from unnest($25::uuid[], $26::text[], $27::text[], $28::text[], $29::text[], $30::int[], $31::text[], $32::json[]))
		insert into journal (run, first, records, entries) select id, -1, 1, entries from unnest($1::uuid[], $19::bytea[]) as g(id, entries)`

// addWhole is one statement: to begin one costs more than what it does for a run. The runs are there before what refers to them is
// checked, which is when the statement ends.
const addWhole = `with given as (
			select * from unnest($1::uuid[], $2::text[], $3::text[], $4::text[], $5::int[], $6::text[], $7::text[], $8::bytea[], $9::text[], $10::bytea[], $11::text[], $12::jsonb[], $13::json[], $14::bytea[], $15::bytea[], $16::jsonb[],
				$17::timestamptz[], $18::timestamptz[], $19::bytea[], $21::text[], $22::text[])
			as g(id, project, environment, flow, release, reference, file, input, started_by, request, state, counts, fault, totals, answer, reply, started_at, ended_at, entries, key, digest)),
		called as (insert into picked_up_file (project, environment, flow, path, identity, digest, run)
			select project, environment, flow, $20, key, digest, id from given where key <> '' on conflict do nothing returning run),
		added as (insert into run (id, project, environment, flow, release, release_flow, reference, file, input, started_by, request, claim_version, attempt, state, counts, fault, totals, answer, reply, created_at, started_at, ended_at)
			select id, project, environment, flow, release, flow, reference, file, input, started_by, request, 1, 1, state, counts, fault, totals, answer, reply, started_at, started_at, ended_at
			from given where key = '' or id in (select run from called) returning id, project, environment, flow),
		journaled as (insert into journal (run, first, records, entries) select id, -1, 1, entries from given where id in (select id from added)),
		referred as (insert into reference (run, project, environment, record, text)
			select id, project, environment, n, t from unnest($23::uuid[], $24::int[], $25::text[]) as x(id, n, t) join added using (id) on conflict do nothing),
		told as (insert into event (project, environment, flow, run, step, record, text, fault)
			select project, environment, flow, id, s, n, t, f from unnest($26::uuid[], $27::text[], $28::int[], $29::text[], $30::json[]) as x(id, s, n, t, f) join added using (id))
		select id from added`
