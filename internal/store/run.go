package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
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
	ID        uuid.UUID
	Project   string
	Flow      string
	Release   int
	Reference string
	File      string
	InputPath string // where the file was dropped
	DonePath  string // where it is moved once the run is recorded
	FirstLine int    // line of the file at which the content begins
	Parent    *uuid.UUID
	StartedBy string
	State     State
	Claim     int64
	Attempt   int
	NextAt    *time.Time
	CancelBy  *string
	Taken     int // records dealt with for good
	Aside     int // of them set aside
	Counts    map[string]*flow.Counts
	Fault     *fault.Fault
	Warning   string
	CreatedAt time.Time
	BeganAt   *time.Time
	EndedAt   *time.Time
	HasInput  bool // the input is kept with the run, not in a file
}

// Ended says whether the run is over.
func (r Run) Ended() bool { return r.State == Done || r.State == SetAside || r.State == Stopped }

const runColumns = `id, project, flow, release, reference, file, input_path, done_path, first_line, parent, started_by,
	state, claim, attempt, next_at, cancel_by, taken, aside, counts, fault, warning, created_at, began_at, ended_at, content is not null`

// AddRun records a run before anything happens. content is the input where it is no file.
func AddRun(ctx context.Context, db DB, r Run, content []byte) error {
	_, err := db.Exec(ctx, `insert into run (id, project, flow, release, reference, file, input_path, done_path, content, first_line, parent, started_by)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)`,
		r.ID, r.Project, r.Flow, r.Release, r.Reference, r.File, r.InputPath, r.DonePath, content, max(r.FirstLine, 1), r.Parent, r.StartedBy)
	if err != nil {
		return err
	}
	return tellRun(ctx, db, r.Project, r.ID)
}

func tellRun(ctx context.Context, db DB, project string, id uuid.UUID) error {
	return Tell(ctx, db, "run "+project+" "+id.String())
}

// AddPickup notes that a file became a run; false when it had been noted before, with that run's id.
func AddPickup(ctx context.Context, db DB, project, flowID, path, identity string, run uuid.UUID) (bool, error) {
	tag, err := db.Exec(ctx, "insert into pickup (project, flow, path, identity, run) values ($1, $2, $3, $4, $5) on conflict do nothing",
		project, flowID, path, identity, run)
	return tag.RowsAffected() == 1, err
}

// PickupRun finds the run that a file became.
func PickupRun(ctx context.Context, db DB, project, flowID, path, identity string) (Run, error) {
	rows, _ := db.Query(ctx, "select "+runColumns+` from run where id = (select run from pickup where project = $1 and flow = $2 and path = $3 and identity = $4)`,
		project, flowID, path, identity)
	return one(pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Run]))
}

// RunByID reads one run.
func RunByID(ctx context.Context, db DB, id uuid.UUID) (Run, error) {
	rows, _ := db.Query(ctx, "select "+runColumns+" from run where id = $1", id)
	return one(pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Run]))
}

// RunInput reads the input that is kept with a run.
func RunInput(ctx context.Context, db DB, id uuid.UUID) (content []byte, err error) {
	err = db.QueryRow(ctx, "select content from run where id = $1", id).Scan(&content)
	return content, err
}

// Claim takes a run on for a worker. Whoever held it before can no longer write to it.
func Claim(ctx context.Context, db DB, id uuid.UUID, worker string) (Run, error) {
	rows, _ := db.Query(ctx, `update run set claim = claim + 1, worker = $2, attempt = attempt + 1, state = 'running',
		next_at = null, began_at = coalesce(began_at, now()), ended_at = null
		where id = $1 and state not in ('done', 'stopped', 'set aside') returning `+runColumns, id, worker)
	r, err := one(pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Run]))
	if err != nil {
		return r, err
	}
	return r, tellRun(ctx, db, r.Project, r.ID)
}

// Progress records what a batch did. It is ErrTakenOn when another worker has claimed the run.
func Progress(ctx context.Context, db DB, r Run) (cancelledBy *string, err error) {
	err = db.QueryRow(ctx, `update run set taken = $3, aside = $4, counts = $5 where id = $1 and claim = $2 and state = 'running' returning cancel_by`,
		r.ID, r.Claim, r.Taken, r.Aside, r.Counts).Scan(&cancelledBy)
	if err == pgx.ErrNoRows {
		return nil, ErrTakenOn
	}
	if err != nil {
		return nil, err
	}
	return cancelledBy, tellRun(ctx, db, r.Project, r.ID)
}

// Finish ends a run, or lets it wait for another try at nextAt.
func Finish(ctx context.Context, db DB, r Run, state State, f *fault.Fault, nextAt *time.Time) error {
	tag, err := db.Exec(ctx, `update run set state = $3, fault = $4, next_at = $5,
		ended_at = case when $3 in ('done', 'set aside', 'stopped') then now() end
		where id = $1 and claim = $2`, r.ID, r.Claim, state, f, nextAt)
	if err != nil {
		return err
	}
	if tag.RowsAffected() == 0 {
		return ErrTakenOn
	}
	return tellRun(ctx, db, r.Project, r.ID)
}

// SetDone notes where a run's file was moved.
func SetDone(ctx context.Context, db DB, r Run, path string) error {
	_, err := db.Exec(ctx, "update run set done_path = $2 where id = $1", r.ID, path)
	return err
}

// Warn notes trouble that does not touch the run's outcome; empty takes it back.
func Warn(ctx context.Context, db DB, r Run, warning string) error {
	tag, err := db.Exec(ctx, "update run set warning = $2 where id = $1 and warning <> $2", r.ID, warning)
	if err != nil || tag.RowsAffected() == 0 {
		return err
	}
	return tellRun(ctx, db, r.Project, r.ID)
}

// Cancel asks a run to stop after its batch; one that waits is stopped at once.
func Cancel(ctx context.Context, db DB, r Run, by string) error {
	_, err := db.Exec(ctx, `update run set cancel_by = $2 where id = $1 and state not in ('done', 'set aside', 'stopped')`, r.ID, by)
	if err != nil {
		return err
	}
	return tellRun(ctx, db, r.Project, r.ID)
}

// Resume lets a run that was set aside as a whole go on from where it came to.
func Resume(ctx context.Context, db DB, id uuid.UUID) error {
	tag, err := db.Exec(ctx, `update run set state = 'waiting', attempt = 0, fault = null, ended_at = null, cancel_by = null
		where id = $1 and state in ('set aside', 'stopped') and fault is not null`, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrChanged
	}
	return err
}

// RunFilter narrows a list of runs. Zero members do not.
type RunFilter struct {
	Project, Flow string
	State         State
	Reference     string // the beginning of it
	Before        *time.Time
	Most          int
}

// Runs lists runs, newest first.
func Runs(ctx context.Context, db DB, f RunFilter) ([]Run, error) {
	where, args := []string{"project = $1"}, []any{f.Project}
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
		and("lower(reference) like $%d", likePrefix(f.Reference))
	}
	if f.Before != nil {
		and("created_at < $%d", *f.Before)
	}
	args = append(args, f.Most)
	rows, _ := db.Query(ctx, "select "+runColumns+" from run where "+strings.Join(where, " and ")+
		fmt.Sprintf(" order by created_at desc, id limit $%d", len(args)), args...)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Run])
}

func likePrefix(s string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(strings.ToLower(s)) + "%"
}

// Tally is how many runs are in a state.
type Tally struct {
	Flow  string
	State State
	Runs  int
}

// Tallies counts the runs since a time, by flow and state.
func Tallies(ctx context.Context, db DB, project string, since time.Time) ([]Tally, error) {
	rows, _ := db.Query(ctx, "select flow, state, count(*) from run where project = $1 and created_at >= $2 group by flow, state", project, since)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Tally])
}

// Slice is how many runs began in one span of time.
type Slice struct {
	Flow   string
	Index  int
	Runs   int
	Failed int
}

// Slices counts runs in spans of equal length from a time on.
func Slices(ctx context.Context, db DB, project string, since time.Time, span time.Duration) ([]Slice, error) {
	rows, _ := db.Query(ctx, `select flow, floor(extract(epoch from created_at - $2) / $3)::int, count(*),
		count(*) filter (where state in ('stopped', 'set aside', 'retrying'))
		from run where project = $1 and created_at >= $2 group by 1, 2 order by 1, 2`, project, since, span.Seconds())
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Slice])
}

// KeepInput keeps the records that a run reads, unless another worker has taken the run on.
func KeepInput(ctx context.Context, db DB, r Run, content []byte) error {
	if content == nil {
		content = []byte{}
	}
	tag, err := db.Exec(ctx, "update run set content = $3 where id = $1 and claim = $2", r.ID, r.Claim, content)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrTakenOn
	}
	return err
}

// Effects reads what effects of a step answered for records, by their positions in the message.
func Effects(ctx context.Context, db DB, run uuid.UUID, step string, records []int) (map[int]string, error) {
	rows, err := db.Query(ctx, "select record, answer from effect where run = $1 and step = $2 and record = any($3)", run, step, records)
	if err != nil {
		return nil, err
	}
	known := map[int]string{}
	var record int
	var answer []byte
	_, err = pgx.ForEachRow(rows, []any{&record, &answer}, func() error {
		known[record] = string(answer)
		return nil
	})
	return known, err
}

// KeepEffects notes what effects answered.
func KeepEffects(ctx context.Context, db DB, run uuid.UUID, step string, records []int, answers []string) error {
	if len(records) == 0 {
		return nil
	}
	_, err := db.Exec(ctx, `insert into effect (run, step, record, answer) select $1, $2, l, convert_to(a, 'UTF8') from unnest($3::int[], $4::text[]) as x(l, a) on conflict do nothing`,
		run, step, records, answers)
	return err
}

// Collect keeps records of a batch for a file.
func Collect(ctx context.Context, db DB, run uuid.UUID, step string, first int, content []byte) error {
	_, err := db.Exec(ctx, "insert into collected (run, step, first, content) values ($1, $2, $3, $4)", run, step, first, content)
	return err
}

// Family are the runs whose records belong together: a run, those in which its records were mended, and the one in
// which they were set aside; the oldest first.
func Family(ctx context.Context, db DB, run uuid.UUID) ([]uuid.UUID, error) {
	rows, _ := db.Query(ctx, `with recursive up as (select $1::uuid as id union select s.run from set_aside s join up on s.rerun = up.id),
		family as (select id from up union select s.rerun from set_aside s join family f on s.run = f.id where s.rerun is not null)
		select r.id from run r join family f using (id) order by r.created_at, r.id`, run)
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// Collected gives what runs have collected, run by run and batch by batch, to use.
func Collected(ctx context.Context, db DB, runs []uuid.UUID, step string, use func(content []byte) error) error {
	for _, run := range runs {
		for first := -1; ; {
			var content []byte
			err := db.QueryRow(ctx, "select first, content from collected where run = $1 and step = $2 and first > $3 order by first limit 1", run, step, first).Scan(&first, &content)
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

// DueTrigger says whether a trigger is due and when it is next; ok is false when it is not, or when another worker
// looks at it now. rising is the greatest value that it has taken so far.
func DueTrigger(ctx context.Context, tx pgx.Tx, project, flowID string, every time.Duration) (rising string, ok bool, err error) {
	if _, err := tx.Exec(ctx, "insert into trigger_state (project, flow) values ($1, $2) on conflict do nothing", project, flowID); err != nil {
		return "", false, err
	}
	err = tx.QueryRow(ctx, `update trigger_state set next_at = now() + make_interval(secs => $3) where (project, flow) =
		(select project, flow from trigger_state where project = $1 and flow = $2 and next_at <= now() for update skip locked) returning rising`,
		project, flowID, every.Seconds()).Scan(&rising)
	if err == pgx.ErrNoRows {
		return "", false, nil
	}
	return rising, err == nil, err
}

// SetRising notes the greatest value of a trigger's rising field.
func SetRising(ctx context.Context, tx pgx.Tx, project, flowID, rising string) error {
	_, err := tx.Exec(ctx, "update trigger_state set rising = $3 where project = $1 and flow = $2", project, flowID, rising)
	return err
}
