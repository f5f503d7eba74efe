package store

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/spool"
)

// State is where a run stands.
type State string

// The states of a run: waiting → running → done, set aside or stopped; running → retrying →
// running while an outside system cannot be reached.
const (
	Waiting  State = "waiting"
	Running  State = "running"
	Retrying State = "retrying"
	Done     State = "done"
	SetAside State = "set aside"
	Stopped  State = "stopped"
)

// States in the order in which they are offered.
var States = []State{Waiting, Running, Retrying, Done, SetAside, Stopped}

// Run is one execution of a flow.
type Run struct {
	ID uuid.UUID
	Scope
	Flow      string
	Release   int
	Of        string // the flow whose release it is: that of the run that started it; empty is its own
	Reference string
	File      string
	InputPath string     // where the file was dropped
	DonePath  string     // where it is moved once the run is recorded
	FirstLine int        // line of the file at which the content begins
	Parent    *uuid.UUID // the run that it is done again for, or with a Caller the run that started it
	Caller
	StartedBy       string
	State           State
	ClaimVersion    int64
	Attempt         int
	NextAttemptAt   *time.Time
	CancelBy        *string
	RecordsRead     int // records dealt with for good
	RecordsSetAside int // of them set aside
	Counts          map[string]*running.Counts
	Fault           *fault.Fault
	Warning         string
	CreatedAt       time.Time
	StartedAt       *time.Time
	EndedAt         *time.Time
	HasInput        bool           // the records are kept with the run, not in a file
	Input           []byte         // the message that the run begins with, as JSON
	Answer          []byte         // what its caller is answered, as JSON
	Request         []byte         // the HTTP request that it came with, as JSON
	Reply           *running.Reply // how that is answered, beside the answer
	Totals          []byte         // what tally steps carry, as JSON by step
	FromStep        string         // at which it begins, with what its parent had come to there; empty: at its start
	OrderingKey     string         // of the runs with the same one is under way; empty: they need not wait
	IsLimited       bool           // it may have to wait for its turn
	ReadAs          string         // the notation of records that were mended; empty: as the flow says
	Entry           *Entry         // the entry of a list that is done again by itself; nil: the whole
	Deaths          int            // how often its worker ended while it worked on the run, which came no further in between
	Resolution      string         // what somebody did about its fault: rerun or discarded; empty: nothing yet
}

// Entry is an entry of a list in a record of the parent, which a run does again by itself.
type Entry struct {
	Each   string          `json:"each"` // the step
	Record int             `json:"record"`
	Path   string          `json:"path"`
	Value  json.RawMessage `json:"value"` // in place of what stood there
}

// Caller is the step of the parent that started a run, and for which record.
type Caller struct {
	Step   string
	Record int
	Path   string
	Depth  int // how many runs called each other before this one
}

// Ended says whether the run is over.
func (r Run) Ended() bool { return r.State == Done || r.State == SetAside || r.State == Stopped }

const runColumns = `id, project, environment, flow, release, release_flow, reference, file, input_path, done_path, first_line, parent,
	parent_step, parent_record, parent_path, depth, started_by,
	state, claim_version, attempt, next_attempt_at, cancel_by, records_read, records_set_aside, counts, fault, warning, created_at, started_at, ended_at, content is not null, input, answer, totals, ordering_key, request, reply, from_step, is_limited, read_as, entry, resolution, deaths`

// asRun reads the run columns.
func asRun(row pgx.CollectableRow) (r Run, err error) {
	err = row.Scan(&r.ID, &r.Project, &r.Environment, &r.Flow, &r.Release, &r.Of, &r.Reference, &r.File, &r.InputPath, &r.DonePath, &r.FirstLine, &r.Parent,
		&r.Caller.Step, &r.Caller.Record, &r.Caller.Path, &r.Caller.Depth, &r.StartedBy,
		&r.State, &r.ClaimVersion, &r.Attempt, &r.NextAttemptAt, &r.CancelBy, &r.RecordsRead, &r.RecordsSetAside, &r.Counts, &r.Fault, &r.Warning, &r.CreatedAt, &r.StartedAt, &r.EndedAt, &r.HasInput, &r.Input, &r.Answer, &r.Totals, &r.OrderingKey, &r.Request, &r.Reply, &r.FromStep, &r.IsLimited, &r.ReadAs, &r.Entry, &r.Resolution, &r.Deaths)
	return r, err
}

// AddRun records a run before anything happens. content are the records that it reads, where they are in no file.
func AddRun(ctx context.Context, db DB, r Run, content *spool.Spool) error {
	if r.Of == "" {
		r.Of = r.Flow
	}
	_, err := db.Exec(ctx, `insert into run (id, project, flow, release, release_flow, reference, file, input_path, done_path, input, first_line, parent,
		parent_step, parent_record, parent_path, depth, started_by, ordering_key, request, from_step, is_limited, read_as, entry, environment, counts)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20, $21, $22, $23, $24, $25)`,
		r.ID, r.Project, r.Flow, r.Release, r.Of, r.Reference, r.File, r.InputPath, r.DonePath, r.Input, max(r.FirstLine, 1), r.Parent,
		r.Caller.Step, r.Caller.Record, r.Caller.Path, r.Caller.Depth, r.StartedBy, r.OrderingKey, r.Request, r.FromStep, r.IsLimited, r.ReadAs, r.Entry, r.Environment, string(running.CountsJSON(r.Counts)))
	if err == nil && content != nil {
		err = addInput(ctx, db, r.ID, content)
	}
	return err
}

// AddClaimed records a run that a worker takes on as it comes in; no job of the queue stands behind it.
func AddClaimed(ctx context.Context, db DB, r Run, worker string) (Run, error) {
	rows, _ := db.Query(ctx, `insert into run (id, project, flow, release, release_flow, reference, file, input, started_by, request, state, claim_version, worker, attempt, started_at, environment, counts)
		values ($1, $2, $3, $4, $3, $5, $6, $7, $8, $9, 'running', 1, $10, 1, clock_timestamp(), $11, $12) returning `+runColumns,
		r.ID, r.Project, r.Flow, r.Release, r.Reference, r.File, r.Input, r.StartedBy, r.Request, worker, r.Environment, string(running.CountsJSON(r.Counts)))
	return pgx.CollectExactlyOneRow(rows, asRun)
}

// AddChild records a run that a step starts, or finds the one that it has started before; fresh says which.
func AddChild(ctx context.Context, tx pgx.Tx, r Run) (child Run, fresh bool, err error) {
	tag, err := tx.Exec(ctx, `insert into run (id, project, flow, release, release_flow, reference, file, input, parent, parent_step, parent_record, parent_path, depth, started_by, ordering_key, environment)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16) on conflict (parent, parent_step, parent_record, parent_path) where parent_step <> '' do nothing`,
		r.ID, r.Project, r.Flow, r.Release, r.Of, r.Reference, r.File, r.Input, r.Parent, r.Caller.Step, r.Caller.Record, r.Caller.Path, r.Caller.Depth, r.StartedBy, r.OrderingKey, r.Environment)
	if err != nil {
		return r, false, err
	}
	if tag.RowsAffected() == 1 {
		return r, true, nil
	}
	rows, _ := tx.Query(ctx, "select "+runColumns+" from run where parent = $1 and parent_step = $2 and parent_record = $3 and parent_path = $4",
		r.Parent, r.Caller.Step, r.Caller.Record, r.Caller.Path)
	child, err = one(pgx.CollectExactlyOneRow(rows, asRun))
	return child, false, err
}

// Children lists the runs that a run's steps started, the oldest first.
func Children(ctx context.Context, db DB, run uuid.UUID, most int) ([]Run, error) {
	rows, _ := db.Query(ctx, "select "+runColumns+" from run where parent = $1 and parent_step <> '' order by created_at, id limit $2", run, most)
	return pgx.CollectRows(rows, asRun)
}

// Reruns lists the runs in which a run, or something of it, was done again, the oldest first.
func Reruns(ctx context.Context, db DB, run uuid.UUID, most int) ([]Run, error) {
	rows, _ := db.Query(ctx, "select "+runColumns+" from run where parent = $1 and parent_step = '' order by created_at, id limit $2", run, most)
	return pgx.CollectRows(rows, asRun)
}

// PublishRuns announces that runs have changed. It is not part of their transactions: a commit that announces something waits
// for all others that do.
func PublishRuns(ctx context.Context, db DB, runs string) error {
	return Publish(ctx, db, strings.TrimSpace("runs "+runs))
}

// AddPickup notes that a file became a run; false when it had been noted before, with that run's id.
func AddPickup(ctx context.Context, db DB, s Scope, flowID, path, identity string, run uuid.UUID) (bool, error) {
	tag, err := db.Exec(ctx, "insert into picked_up_file (project, environment, flow, path, identity, run) values ($1, $2, $3, $4, $5, $6) on conflict do nothing",
		s.Project, s.Environment, flowID, path, identity, run)
	return tag.RowsAffected() == 1, err
}

// PickupRun finds the run that a file became.
func PickupRun(ctx context.Context, db DB, s Scope, flowID, path, identity string) (Run, error) {
	rows, _ := db.Query(ctx, "select "+runColumns+` from run where id = (select run from picked_up_file where project = $1 and environment = $2 and flow = $3 and path = $4 and identity = $5)`,
		s.Project, s.Environment, flowID, path, identity)
	return one(pgx.CollectExactlyOneRow(rows, asRun))
}

// PickupIdentity is what told the file of a run from others of its name when it was picked up; empty where that is not kept.
func PickupIdentity(ctx context.Context, db DB, run uuid.UUID) (identity string, err error) {
	err = db.QueryRow(ctx, "select identity from picked_up_file where run = $1 and path <> $2", run, calls).Scan(&identity)
	if errors.Is(err, pgx.ErrNoRows) {
		err = nil
	}
	return identity, err
}

// calls is the place in pickup of requests with a key of idempotency, beside the paths of files.
const calls = "request"

// callKey is a key of any length as it is kept: one that is long, by its digest.
func callKey(key string) string {
	if len(key) <= 200 {
		return key
	}
	return fmt.Sprintf("sha256:%x", sha256.Sum256([]byte(key)))
}

// AddCall notes that a request with a key became a run, and the digest of what came with it; false when there was one with
// the key before.
func AddCall(ctx context.Context, db DB, s Scope, flowID, key, digest string, run uuid.UUID) (bool, error) {
	tag, err := db.Exec(ctx, "insert into picked_up_file (project, environment, flow, path, identity, digest, run) values ($1, $2, $3, $4, $5, $6, $7) on conflict do nothing",
		s.Project, s.Environment, flowID, calls, callKey(key), digest, run)
	return tag.RowsAffected() == 1, err
}

// CalledWith finds the digest of what came with a key, and the run that it became; none where that is no longer kept.
func CalledWith(ctx context.Context, db DB, s Scope, flowID, key string) (digest string, run *uuid.UUID, err error) {
	err = db.QueryRow(ctx, "select digest, run from picked_up_file where project = $1 and environment = $2 and flow = $3 and path = $4 and identity = $5", s.Project, s.Environment, flowID, calls, callKey(key)).Scan(&digest, &run)
	return digest, run, err
}

// RunOf reads one run of a scope; one of another scope is not found.
func RunOf(ctx context.Context, db DB, s Scope, id uuid.UUID) (Run, error) {
	rows, _ := db.Query(ctx, "select "+runColumns+" from run where id = $1 and project = $2 and environment = $3", id, s.Project, s.Environment)
	return one(pgx.CollectExactlyOneRow(rows, asRun))
}

// RunByID reads one run, of whatever scope: for who has its id of the database, and not of a person.
func RunByID(ctx context.Context, db DB, id uuid.UUID) (Run, error) {
	rows, _ := db.Query(ctx, "select "+runColumns+" from run where id = $1", id)
	return one(pgx.CollectExactlyOneRow(rows, asRun))
}

// EndedOf are those of a number of runs that are over.
func EndedOf(ctx context.Context, db DB, runs []uuid.UUID) ([]uuid.UUID, error) {
	rows, _ := db.Query(ctx, "select id from run where id = any($1) and state in ('done', 'set aside', 'stopped')", runs)
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// Claim takes a run on for a worker. Whoever held it before can no longer write to it.
// It begins as the row is written, not as a transaction that had to wait for its turn did.
func Claim(ctx context.Context, db DB, id uuid.UUID, worker string) (Run, error) {
	rows, _ := db.Query(ctx, `update run set claim_version = claim_version + 1, worker = $2, attempt = attempt + 1, state = 'running',
		next_attempt_at = null, started_at = coalesce(started_at, clock_timestamp()), ended_at = null
		where id = $1 and state not in ('done', 'stopped', 'set aside') returning `+runColumns, id, worker)
	r, err := one(pgx.CollectExactlyOneRow(rows, asRun))
	return r, err
}

// ClaimFree takes runs on that need not wait for their turn; others are not among those that it gives.
func ClaimFree(ctx context.Context, db DB, ids []uuid.UUID, worker string) ([]Run, error) {
	rows, _ := db.Query(ctx, `update run set claim_version = claim_version + 1, worker = $2, attempt = attempt + 1, state = 'running',
		next_attempt_at = null, started_at = coalesce(started_at, clock_timestamp()), ended_at = null
		where id = any($1) and not is_limited and state not in ('done', 'stopped', 'set aside') returning `+runColumns, ids, worker)
	return pgx.CollectRows(rows, asRun)
}

// RunResult is what a run has come to as it ends.
type RunResult struct {
	Run     Run
	State   State
	Fault   *fault.Fault
	Entries []byte // of the journal, of the run as a whole
}

// RunClosed is how recording an end went.
type RunClosed struct {
	CancelledBy *string // somebody has asked the run to stop: it has not ended
	TakenOn     bool    // another worker has claimed the run: nothing was recorded
}

// CloseRuns records what runs have come to and that they end with it: all of them or, when it fails, none.
func CloseRuns(ctx context.Context, db DB, list []RunResult) ([]RunClosed, error) {
	b := &pgx.Batch{}
	out := make([]RunClosed, len(list))
	for i, e := range list {
		r := e.Run
		b.Queue(end, r.ID, r.ClaimVersion, r.RecordsRead, r.RecordsSetAside, r.Counts, r.Totals, r.Answer, r.Reply, e.State, e.Fault, e.Entries).QueryRow(func(row pgx.Row) error {
			err := row.Scan(&out[i].CancelledBy)
			if out[i].TakenOn = errors.Is(err, pgx.ErrNoRows); out[i].TakenOn {
				return nil
			}
			return err
		})
	}
	return out, db.SendBatch(ctx, b).Close() // what is sent at once is one transaction
}

const end = `with ended as (
			update run set records_read = $3, records_set_aside = $4, counts = $5, totals = $6, answer = coalesce($7, answer), reply = coalesce($8, reply), attempt = 1,
				state = case when cancel_by is null then $9 else state end, fault = $10, ended_at = case when cancel_by is null then now() end
			where id = $1 and claim_version = $2 and state = 'running' returning id, cancel_by),
		journaled as (insert into journal (run, first, records, entries) select id, -1, 1, $11 from ended
			on conflict (run, first) do update set records = excluded.records, entries = excluded.entries)
		select cancel_by from ended`

// Progress records what a batch did; the tries begin anew. It is ErrTakenOn when another worker has claimed the run.
func Progress(ctx context.Context, db DB, r Run) (cancelledBy *string, err error) {
	err = db.QueryRow(ctx, `update run set records_read = $3, records_set_aside = $4, counts = $5, totals = $6, answer = coalesce($7, answer), reply = coalesce($8, reply), attempt = 1
		where id = $1 and claim_version = $2 and state = 'running' returning cancel_by`,
		r.ID, r.ClaimVersion, r.RecordsRead, r.RecordsSetAside, r.Counts, r.Totals, r.Answer, r.Reply).Scan(&cancelledBy)
	if err == pgx.ErrNoRows {
		return nil, ErrTakenOn
	}
	return cancelledBy, err
}

// Suspend lets a run wait until a time at which it is taken on again. That it was taken on does not count as a try.
func Suspend(ctx context.Context, db DB, r Run, until time.Time) error {
	tag, err := db.Exec(ctx, "update run set state = 'waiting', next_attempt_at = $3, attempt = greatest(attempt - 1, 0) where id = $1 and claim_version = $2", r.ID, r.ClaimVersion, until)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrTakenOn
	}
	return err
}

// Cancelled are those of a number of runs that somebody asked to stop longer than a time ago.
func Cancelled(ctx context.Context, db DB, runs []uuid.UUID, grace time.Duration) ([]uuid.UUID, error) {
	rows, _ := db.Query(ctx, "select id from run where id = any($1) and cancel_by is not null and cancel_at < now() - make_interval(secs => $2)", runs, grace.Seconds())
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// CloseOrRetry ends a run, or lets it wait for another try at nextAt.
func CloseOrRetry(ctx context.Context, db DB, r Run, state State, f *fault.Fault, nextAt *time.Time) error {
	tag, err := db.Exec(ctx, `update run set state = $3, fault = $4, next_attempt_at = $5,
		ended_at = case when $3 in ('done', 'set aside', 'stopped') then now() end
		where id = $1 and claim_version = $2`, r.ID, r.ClaimVersion, state, f, nextAt)
	if err != nil {
		return err
	}
	if tag.RowsAffected() == 0 {
		return ErrTakenOn
	}
	return nil
}

// SetDone notes where a run's file was moved.
func SetDone(ctx context.Context, db DB, r Run, path string) error {
	_, err := db.Exec(ctx, "update run set done_path = $2 where id = $1", r.ID, path)
	return err
}

// Warn notes trouble that does not touch the run's outcome; empty takes it back.
func Warn(ctx context.Context, db DB, r Run, warning string) error {
	_, err := db.Exec(ctx, "update run set warning = $2 where id = $1 and warning <> $2", r.ID, warning)
	return err
}

// Cancel asks a run to stop after its batch; one that waits is stopped at once.
func Cancel(ctx context.Context, db DB, r Run, by string) error {
	_, err := db.Exec(ctx, `update run set cancel_by = $2, cancel_at = now() where id = $1 and state not in ('done', 'set aside', 'stopped')`, r.ID, by)
	if err == nil {
		err = WakeCancelled(ctx, db, r.Environment)
	}
	if err == nil {
		err = Publish(ctx, db, "cancel "+r.ID.String())
	}
	return err
}

// Resume lets a run that was set aside as a whole go on from where it came to.
func Resume(ctx context.Context, db DB, id uuid.UUID) error {
	tag, err := db.Exec(ctx, `update run set state = 'waiting', attempt = 0, deaths = 0, fault = null, resolution = '', ended_at = null, cancel_by = null, cancel_at = null
		where id = $1 and state in ('set aside', 'stopped') and fault is not null and resolution = ''`, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrChanged
	}
	return err
}

// RunFilter narrows a list of runs. Zero members do not.
type RunFilter struct {
	Scope
	Flow          string
	State         State
	Reference     string // the beginning of it
	Before, Since *time.Time
	Among         []uuid.UUID // nil: all
	Most          int
}

// Runs lists runs, newest first.
func Runs(ctx context.Context, db DB, f RunFilter) ([]Run, error) {
	where, args := []string{"project = $1 and environment = $2"}, []any{f.Project, f.Environment}
	and := func(condition string, arg any) {
		args = append(args, arg)
		where = append(where, fmt.Sprintf(condition, len(args)))
	}
	if f.Flow != "" {
		and("flow = $%d", f.Flow)
	}
	if f.State != "" {
		and("state = $%d", f.State)
	}
	if f.Reference != "" {
		and("(lower(reference) like $%[1]d or id in (select run from reference where project = $1 and environment = $2 and lower(text) like $%[1]d))", likePrefix(f.Reference))
	}
	if f.Before != nil {
		and("created_at < $%d", *f.Before)
	}
	if f.Since != nil {
		and("created_at >= $%d", *f.Since)
	}
	if f.Among != nil {
		and("id = any($%d)", f.Among)
	}
	args = append(args, f.Most)
	rows, _ := db.Query(ctx, "select "+runColumns+" from run where "+strings.Join(where, " and ")+
		fmt.Sprintf(" order by created_at desc, id limit $%d", len(args)), args...)
	return pgx.CollectRows(rows, asRun)
}

func likePrefix(s string) string { return likeText(strings.ToLower(s)) + "%" }

// likeText is a text as it stands in a pattern.
func likeText(s string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(s)
}

// Tally is how many runs are in a state.
type Tally struct {
	Flow  string
	State State
	Runs  int
}

// Tallies counts the runs since a time, by flow and state.
func Tallies(ctx context.Context, db DB, s Scope, since time.Time) ([]Tally, error) {
	rows, _ := db.Query(ctx, "select flow, state, count(*) from run where project = $1 and environment = $2 and created_at >= $3 group by flow, state", s.Project, s.Environment, since)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Tally])
}

// TimeBucket is how many runs began in one span of time.
type TimeBucket struct {
	Flow   string
	Index  int
	Runs   int
	Failed int
}

// Slices counts runs in spans of equal length from a time on.
func Slices(ctx context.Context, db DB, s Scope, since time.Time, span time.Duration) ([]TimeBucket, error) {
	rows, _ := db.Query(ctx, `select flow, floor(extract(epoch from created_at - $2) / $3)::int, count(*),
		count(*) filter (where state in ('stopped', 'set aside', 'retrying'))
		from run where project = $1 and environment = $4 and created_at >= $2 group by 1, 2 order by 1, 2`, s.Project, since, span.Seconds(), s.Environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[TimeBucket])
}

// Collect keeps records of a batch for a file. Those of the run as a whole take the place of what it collected when it was
// done before.
func Collect(ctx context.Context, db DB, run uuid.UUID, step string, first int, content []byte) error {
	_, err := db.Exec(ctx, `insert into file_record (run, step, first, content) values ($1, $2, $3, $4)
		on conflict (run, step, first) do update set content = excluded.content where excluded.first = -1`, run, step, first, content)
	return err
}

// RunFile is a file that a run has written.
type RunFile struct {
	Step, Name string
	Size       int64 // bytes, as they stood at the other end when it was written
	Records    int
	At         time.Time
}

// AddRunFile notes a file that a run has written; one that was written again is noted anew.
func AddRunFile(ctx context.Context, db DB, run uuid.UUID, f RunFile) error {
	_, err := db.Exec(ctx, `insert into run_file (run, step, name, size, records) values ($1, $2, $3, $4, $5)
		on conflict (run, step, name) do update set size = excluded.size, records = excluded.records, at = now()`, run, f.Step, f.Name, f.Size, f.Records)
	return err
}

// RunFiles lists the files that a run has written.
func RunFiles(ctx context.Context, db DB, run uuid.UUID, most int) ([]RunFile, error) {
	rows, _ := db.Query(ctx, "select step, name, size, records, at from run_file where run = $1 order by step, name limit $2", run, most)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[RunFile])
}

// RelatedRuns are the runs whose records belong together: a run, those in which its records were mended, and the one in
// which they were set aside; the oldest first.
func RelatedRuns(ctx context.Context, db DB, run uuid.UUID) ([]uuid.UUID, error) {
	rows, _ := db.Query(ctx, `with recursive up as (select $1::uuid as id union select s.run from set_aside s join up on s.rerun = up.id),
		family as (select id from up union select s.rerun from set_aside s join family f on s.run = f.id where s.rerun is not null)
		select r.id from run r join family f using (id) order by r.created_at, r.id`, run)
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// Collected gives what runs have collected, run by run and batch by batch, to use.
func Collected(ctx context.Context, db DB, runs []uuid.UUID, step string, use func(content []byte) error) error {
	for _, run := range runs {
		for first := running.WholeRun - 1; ; { // what the run as a whole has collected stands first
			var content []byte
			err := db.QueryRow(ctx, "select first, content from file_record where run = $1 and step = $2 and first > $3 order by first limit 1", run, step, first).Scan(&first, &content)
			if err == pgx.ErrNoRows {
				break
			}
			if err != nil {
				return err
			}
			if err := use(content); err != nil {
				return err
			}
		}
	}
	return nil
}
