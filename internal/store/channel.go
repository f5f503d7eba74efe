package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// ChannelPlace is where a message stands in its channel: places are in the order in which messages are read.
type ChannelPlace struct{ Xid, ID int64 }

// ChannelMessage is a message of a channel.
type ChannelMessage struct {
	ChannelPlace
	PutAt     time.Time
	MessageID string // by which doubles are known
	Key       string // empty: none
	Headers   string // JSON, a list of name and value; empty: none
	Media     string // of the body
	Body      []byte
	DueAt     *time.Time // before which it is not handed out; nil: at once
	ExpiresAt *time.Time // after which it is not; nil: never
	Origin    string     // what put it
	Known     bool       // its id tells doubles
}

const messageColumns = "m.xid, m.id, m.put_at, m.message_id, m.key, m.headers, m.media, m.body, m.due_at, m.expires_at, m.origin"

func scanMessage(row pgx.CollectableRow) (m ChannelMessage, err error) {
	err = row.Scan(&m.Xid, &m.ID, &m.PutAt, &m.MessageID, &m.Key, &m.Headers, &m.Media, &m.Body, &m.DueAt, &m.ExpiresAt, &m.Origin)
	return m, err
}

// partitionsAhead is for how many days messages have their own table beforehand.
const partitionsAhead = 3

// AddPartitions makes the tables of messages for the days from a time on. Days on which messages stand elsewhere already are left out.
func AddPartitions(ctx context.Context, db DB, from time.Time) error {
	for i := range partitionsAhead {
		day := from.UTC().Truncate(24*time.Hour).AddDate(0, 0, i)
		name, begins, ends := partitionOf(day), day.Format(time.DateOnly), day.AddDate(0, 0, 1).Format(time.DateOnly)
		var there bool
		err := db.QueryRow(ctx, `select to_regclass($1) is not null or exists (select from channel_message_rest where put_at >= $2::timestamptz and put_at < $3::timestamptz)`,
			name, begins+" 00:00+00", ends+" 00:00+00").Scan(&there)
		if err != nil {
			return err
		}
		if there {
			continue
		}
		_, err = db.Exec(ctx, fmt.Sprintf("create table if not exists %s partition of channel_message for values from ('%s 00:00+00') to ('%s 00:00+00')", name, begins, ends))
		if err != nil {
			return err
		}
	}
	return nil
}

// partitionOf is the table of the messages of a day.
func partitionOf(day time.Time) string { return "channel_message_" + day.Format("20060102") }

// ChannelID is the number of a channel in a scope; it is made where there is none.
func ChannelID(ctx context.Context, db DB, s Scope, name string) (id int, err error) {
	const find = "select id from channel where project = $1 and environment = $2 and name = $3"
	err = db.QueryRow(ctx, find, s.Project, s.Environment, name).Scan(&id)
	if !errors.Is(err, pgx.ErrNoRows) {
		return id, err
	}
	_, err = db.Exec(ctx, "insert into channel (project, environment, name) values ($1, $2, $3) on conflict do nothing", s.Project, s.Environment, name)
	if err != nil {
		return 0, err
	}
	return id, db.QueryRow(ctx, find, s.Project, s.Environment, name).Scan(&id)
}

// SetRetention says for how long messages of a channel are kept.
func SetRetention(ctx context.Context, db DB, channel int, d time.Duration) error {
	_, err := db.Exec(ctx, "update channel set retention = make_interval(secs => $2) where id = $1", channel, d.Seconds())
	return err
}

// MostRetention is the longest for which messages of any channel are kept.
func MostRetention(ctx context.Context, db DB) (time.Duration, error) {
	var seconds float64
	err := db.QueryRow(ctx, "select coalesce(extract(epoch from max(retention)), 0)::float8 from channel").Scan(&seconds)
	return time.Duration(seconds * float64(time.Second)), err
}

// PutMessages puts messages into a channel, in their order. Those that are known are to be taken out before, see KnownMessages. It is to
// be announced once the transaction has committed, see AnnounceMessages.
func PutMessages(ctx context.Context, db DB, channel int, list []ChannelMessage) error {
	n := len(list)
	ids, keys, headers, media, bodies, origins := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([][]byte, n), make([]string, n)
	due, expires, known := make([]*time.Time, n), make([]*time.Time, n), make([]bool, n)
	for i, m := range list {
		ids[i], keys[i], headers[i], media[i], bodies[i], origins[i], due[i], expires[i], known[i] = m.MessageID, m.Key, m.Headers, m.Media, m.Body, m.Origin, m.DueAt, m.ExpiresAt, m.Known
		if bodies[i] == nil {
			bodies[i] = []byte{}
		}
	}
	_, err := db.Exec(ctx, `insert into channel_message (channel, message_id, key, headers, media, body, due_at, expires_at, origin, known)
		select $1, u.* from unnest($2::text[], $3::text[], $4::text[], $5::text[], $6::bytea[], $7::timestamptz[], $8::timestamptz[], $9::text[], $10::bool[]) u`,
		channel, ids, keys, headers, media, bodies, due, expires, origins, known)
	return err
}

// AnnounceMessages tells all processes that channels have got messages. It is no part of the transaction that puts them: transactions that
// tell something commit one after the other. Who misses it looks a moment later.
func AnnounceMessages(ctx context.Context, db DB, channels []string) error {
	_, err := db.Exec(ctx, "select pg_notify($1, 'message ' || c) from unnest($2::text[]) c", Channel, channels)
	return err
}

// KnownMessages says which of the ids came to a channel within a time. Until the transaction ends, no other one puts messages with
// these ids there.
func KnownMessages(ctx context.Context, tx pgx.Tx, channel int, ids []string, within time.Duration) (map[string]bool, error) {
	known := map[string]bool{}
	if len(ids) == 0 || within == 0 {
		return known, nil
	}
	_, err := tx.Exec(ctx, "select pg_advisory_xact_lock(h) from (select distinct hashtextextended($1 || '/' || i, 12) h from unnest($2::text[]) i order by h) s", fmt.Sprint(channel), ids)
	if err != nil {
		return nil, err
	}
	rows, _ := tx.Query(ctx, "select distinct message_id from channel_message where channel = $1 and known and message_id = any($2) and put_at > now() - make_interval(secs => $3)", channel, ids, within.Seconds())
	var id string
	_, err = pgx.ForEachRow(rows, []any{&id}, func() error {
		known[id] = true
		return nil
	})
	return known, err
}

// Where a reader begins.
const (
	FromNow       = "now"
	FromBeginning = "beginning"
)

// ChannelReader is a reader of a channel: a subscription, or all that take from a queue.
type ChannelReader struct {
	ID, Channel int
	Name        string // empty: those of a queue
	At          ChannelPlace
	PausedBy    *string
	PausedAt    *time.Time
	PausedFor   string
	MadeAt      time.Time
}

const readerColumns = "id, channel, name, at_xid, at_id, paused_by, paused_at, pause_reason, made_at"

func scanReader(row pgx.CollectableRow) (r ChannelReader, err error) {
	err = row.Scan(&r.ID, &r.Channel, &r.Name, &r.At.Xid, &r.At.ID, &r.PausedBy, &r.PausedAt, &r.PausedFor, &r.MadeAt)
	return r, err
}

// AddReader makes a reader where there is none of the name, and gives it.
func AddReader(ctx context.Context, db DB, channel int, name, from string) (ChannelReader, error) {
	rows, _ := db.Query(ctx, "select "+readerColumns+" from channel_reader where channel = $1 and name = $2", channel, name)
	r, err := one(pgx.CollectExactlyOneRow(rows, scanReader))
	if !errors.Is(err, ErrNotFound) {
		return r, err
	}
	before, err := int64(1), error(nil)
	if from != FromBeginning {
		before, err = settledBefore(ctx, db)
	}
	if err != nil {
		return r, err
	}
	_, err = db.Exec(ctx, "insert into channel_reader (channel, name, at_xid, at_id) values ($1, $2, $3, "+mostID+") on conflict do nothing", channel, name, before-1)
	if err != nil {
		return r, err
	}
	rows, _ = db.Query(ctx, "select "+readerColumns+" from channel_reader where channel = $1 and name = $2", channel, name)
	return one(pgx.CollectExactlyOneRow(rows, scanReader))
}

// mostID is behind all messages of a transaction.
const mostID = "9223372036854775807"

// Readers lists the readers of a channel by name.
func Readers(ctx context.Context, db DB, channel int) ([]ChannelReader, error) {
	rows, _ := db.Query(ctx, "select "+readerColumns+" from channel_reader where channel = $1 order by name", channel)
	return pgx.CollectRows(rows, scanReader)
}

// LockReader keeps other workers from a reader until the transaction ends; ok is false where another one has it, for whom nobody waits,
// or where it is paused.
func LockReader(ctx context.Context, tx pgx.Tx, id int) (r ChannelReader, ok bool, err error) {
	rows, _ := tx.Query(ctx, "select "+readerColumns+" from channel_reader where id = $1 for update skip locked", id)
	r, err = one(pgx.CollectExactlyOneRow(rows, scanReader))
	if errors.Is(err, ErrNotFound) {
		return r, false, nil
	}
	return r, err == nil && r.PausedBy == nil, err
}

// settledBefore gives the first transaction of this database that may not be over: all before it are, and statements that begin now see
// what they did. Transactions of other databases of the server do not matter.
func settledBefore(ctx context.Context, db DB) (xid int64, err error) {
	err = db.QueryRow(ctx, settled).Scan(&xid)
	return xid, err
}

// settled looks at the sessions: their transactions have 32 bits there, and are of this round of numbers or the last.
const settled = `with now as materialized (select pg_snapshot_xmax(pg_current_snapshot())::text::bigint x),
	open as (select (x >> 32 << 32) + backend_xid::text::bigint v, x from pg_stat_activity, now where datid = (select oid from pg_database where datname = current_database()) and backend_xid is not null)
	select least((select x from now), (select min(case when v > x + 2147483648 then v - 4294967296 else v end) from open))`

// NextMessages are up to so many messages behind a place of a channel, in their order. Those of transactions that are not over yet, and
// all behind them, are not among them.
func NextMessages(ctx context.Context, db DB, channel int, after ChannelPlace, most int) ([]ChannelMessage, error) {
	before, err := settledBefore(ctx, db) // and only then looked at
	if err != nil {
		return nil, err
	}
	rows, _ := db.Query(ctx, nextMessages, channel, after.Xid, after.ID, before, most)
	return pgx.CollectRows(rows, scanMessage)
}

const nextMessages = "select " + messageColumns + " from channel_message m where m.channel = $1 and (m.xid, m.id) > ($2, $3) and m.xid < $4 order by m.xid, m.id limit $5"

// DueMessages are messages behind a reader's place that were put off, and whose time has come. They are not put off any more.
func DueMessages(ctx context.Context, tx pgx.Tx, r ChannelReader, most int) ([]ChannelMessage, error) {
	rows, _ := tx.Query(ctx, `with due as (delete from channel_claim where id in (select id from channel_claim where reader = $1 and until <= now() order by until limit $3) returning xids, ids)
		select `+messageColumns+` from due, unnest(due.xids, due.ids) d(xid, id) join channel_message m on m.channel = $2 and m.xid = d.xid and m.id = d.id order by m.xid, m.id`, r.ID, r.Channel, most)
	return pgx.CollectRows(rows, scanMessage)
}

// PutOff lets messages of a reader be handed out later.
func PutOff(ctx context.Context, tx pgx.Tx, r ChannelReader, list []ChannelMessage) error {
	b := &pgx.Batch{}
	for _, m := range list {
		b.Queue(addClaim, r.ID, m.DueAt, 0, nil, []int64{m.Xid}, []int64{m.ID})
	}
	return tx.SendBatch(ctx, b).Close()
}

const addClaim = "insert into channel_claim (reader, until, attempts, token, xids, ids) values ($1, $2, $3, $4, $5, $6)"

// MoveReader moves a reader to a place.
func MoveReader(ctx context.Context, db DB, id int, to ChannelPlace) error {
	_, err := db.Exec(ctx, "update channel_reader set at_xid = $2, at_id = $3 where id = $1", id, to.Xid, to.ID)
	return err
}

// PlaceAt is the place before the first message that was put at a time or later; behind all where there is none.
func PlaceAt(ctx context.Context, db DB, channel int, at time.Time) (p ChannelPlace, err error) {
	err = db.QueryRow(ctx, "select xid, id - 1 from channel_message where channel = $1 and put_at >= $2 order by xid, id limit 1", channel, at).Scan(&p.Xid, &p.ID)
	if errors.Is(err, pgx.ErrNoRows) {
		p.ID = math.MaxInt64
		p.Xid, err = settledBefore(ctx, db)
		p.Xid--
	}
	return p, err
}

// ClearClaims lets go what a reader has put off or set aside: it goes back to a place.
func ClearClaims(ctx context.Context, db DB, reader int) error {
	b := &pgx.Batch{}
	b.Queue("delete from channel_claim where reader = $1", reader)
	b.Queue("delete from channel_aside where reader = $1", reader)
	return db.SendBatch(ctx, b).Close()
}

// PauseReader lets a reader be handed nothing; nobody lets it be handed messages again.
func PauseReader(ctx context.Context, db DB, id int, by *string, reason string) error {
	_, err := db.Exec(ctx, "update channel_reader set paused_by = $2, paused_at = case when $2::text is null then null else now() end, pause_reason = $3 where id = $1", id, by, reason)
	return err
}

// RemoveReader removes a reader.
func RemoveReader(ctx context.Context, db DB, id int) error {
	_, err := db.Exec(ctx, "delete from channel_reader where id = $1", id)
	return err
}

// Taken is a message that was handed out.
type Taken struct {
	ChannelMessage
	Attempts int // this one included
}

// TakeMessages hands out up to so many messages of a reader until a time from now: those first that were handed out before and were not
// dealt with. Ordered readers get none while any is out. The token tells who has them. That they are out is not waited for to be on the
// disk: after a crash of the database they are handed out again.
func TakeMessages(ctx context.Context, db *Pool, reader, most int, hold time.Duration, token uuid.UUID, ordered bool) (list []Taken, err error) {
	err = pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		b := &pgx.Batch{}
		b.Queue("set local synchronous_commit = off")
		b.Queue(settled)
		b.Queue("select "+readerColumns+" from channel_reader where id = $1 for update", reader)
		res := tx.SendBatch(ctx, b)
		_, err := res.Exec()
		var before int64
		err = errors.Join(err, res.QueryRow().Scan(&before))
		rows, _ := res.Query()
		r, found := one(pgx.CollectExactlyOneRow(rows, scanReader))
		if err = errors.Join(err, found, res.Close()); err != nil || r.PausedBy != nil {
			return err
		}
		list, err = takeFor(ctx, tx, r, before, most, hold, token, ordered)
		return err
	})
	return list, err
}

// claimed are messages that were handed out together.
type claimed struct {
	ID        int64
	Until     time.Time
	Attempts  int
	Xids, Ids []int64
}

// takeFor hands out messages of a reader that nobody else has, those of transactions before one.
func takeFor(ctx context.Context, tx pgx.Tx, r ChannelReader, before int64, most int, hold time.Duration, token uuid.UUID, ordered bool) (list []Taken, err error) {
	b := &pgx.Batch{}
	b.Queue("select id, until, attempts, xids, ids from channel_claim where reader = $1 and until <= now() order by until limit $2 for update skip locked", r.ID, most)
	b.Queue("select now(), exists (select from channel_claim where reader = $1)", r.ID)
	b.Queue("select t.*, 1 from ("+nextMessages+") t", r.Channel, r.At.Xid, r.At.ID, before, most)
	res := tx.SendBatch(ctx, b)
	defer res.Close()
	rows, _ := res.Query()
	again, err := pgx.CollectRows(rows, pgx.RowToStructByPos[claimed])
	if err != nil {
		return nil, err
	}
	var out bool
	var now time.Time
	if err := res.QueryRow().Scan(&now, &out); err != nil {
		return nil, err
	}
	rows, _ = res.Query()
	fresh, err := pgx.CollectRows(rows, scanTaken)
	if err = errors.Join(err, res.Close()); err != nil {
		return nil, err
	}
	until := now.Add(hold)
	if len(again) > 0 {
		if list, err = takeAgain(ctx, tx, r, again, most, until, token); err != nil {
			return nil, err
		}
	}
	fresh = fresh[:min(len(fresh), most-len(list))]
	if len(fresh) == 0 || ordered && out {
		return list, nil
	}
	first, err := takeFirst(ctx, tx, r, fresh, now, until, token)
	return append(list, first...), err
}

// takeAgain hands out messages that were handed out before; those for which there is no room stay as they are.
func takeAgain(ctx context.Context, tx pgx.Tx, r ChannelReader, again []claimed, most int, until time.Time, token uuid.UUID) (list []Taken, err error) {
	b := &pgx.Batch{}
	room := most
	for _, c := range again {
		if room == 0 {
			break
		}
		n := min(room, len(c.Ids))
		room -= n
		b.Queue("delete from channel_claim where id = $1", c.ID)
		b.Queue(addClaim, r.ID, until, c.Attempts+1, token, c.Xids[:n], c.Ids[:n])
		if n < len(c.Ids) {
			b.Queue(addClaim, r.ID, c.Until, c.Attempts, nil, c.Xids[n:], c.Ids[n:])
		}
	}
	b.Queue(`select `+messageColumns+`, c.attempts from channel_claim c, unnest(c.xids, c.ids) d(xid, id) join channel_message m on m.channel = $2 and m.xid = d.xid and m.id = d.id
		where c.reader = $1 and c.token = $3 order by m.xid, m.id`, r.ID, r.Channel, token)
	res := tx.SendBatch(ctx, b)
	defer res.Close()
	for range b.Len() - 1 {
		if _, err := res.Exec(); err != nil {
			return nil, err
		}
	}
	rows, _ := res.Query()
	return pgx.CollectRows(rows, scanTaken)
}

// takeFirst hands out messages for the first time, and moves the reader behind them: what is over is passed by, and what is not due yet
// is put off.
func takeFirst(ctx context.Context, tx pgx.Tx, r ChannelReader, fresh []Taken, now, until time.Time, token uuid.UUID) (list []Taken, err error) {
	b := &pgx.Batch{}
	var xids, ids []int64
	for _, m := range fresh {
		switch {
		case m.ExpiresAt != nil && !m.ExpiresAt.After(now):
		case m.DueAt != nil && m.DueAt.After(now):
			b.Queue(addClaim, r.ID, m.DueAt, 0, nil, []int64{m.Xid}, []int64{m.ID})
		default:
			list, xids, ids = append(list, m), append(xids, m.Xid), append(ids, m.ID)
		}
	}
	if len(list) > 0 {
		b.Queue(addClaim, r.ID, until, 1, token, xids, ids)
	}
	last := fresh[len(fresh)-1]
	b.Queue("update channel_reader set at_xid = $2, at_id = $3 where id = $1", r.ID, last.Xid, last.ID)
	return list, tx.SendBatch(ctx, b).Close()
}

func scanTaken(row pgx.CollectableRow) (t Taken, err error) {
	m := &t.ChannelMessage
	err = row.Scan(&m.Xid, &m.ID, &m.PutAt, &m.MessageID, &m.Key, &m.Headers, &m.Media, &m.Body, &m.DueAt, &m.ExpiresAt, &m.Origin, &t.Attempts)
	return t, err
}

// Acknowledge ends that messages are out: they are dealt with. It says how many were still out under the token.
func Acknowledge(ctx context.Context, db *Pool, reader int, token uuid.UUID, list []ChannelPlace) (int, error) {
	xids, ids := places(list)
	tag, err := db.Exec(ctx, "delete from channel_claim where reader = $1 and token = $2 and xids = $3 and ids = $4", reader, token, xids, ids) // all that were handed out, as mostly
	if err != nil || tag.RowsAffected() > 0 {
		return len(list), err
	}
	n := 0
	err = pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		taken, err := unclaim(ctx, tx, reader, token, list)
		for _, c := range taken {
			n += len(c.Ids)
		}
		return err
	})
	return n, err
}

// unclaim takes messages out of those that are out under a token, and gives them as they were handed out together.
func unclaim(ctx context.Context, tx pgx.Tx, reader int, token uuid.UUID, list []ChannelPlace) (taken []claimed, err error) {
	rows, _ := tx.Query(ctx, "select id, until, attempts, xids, ids from channel_claim where reader = $1 and token = $2 for update", reader, token)
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[claimed])
	if err != nil {
		return nil, err
	}
	wanted := map[ChannelPlace]bool{}
	for _, p := range list {
		wanted[p] = true
	}
	b := &pgx.Batch{}
	for _, c := range out {
		left, gone := claimed{}, claimed{Attempts: c.Attempts}
		for i := range c.Ids {
			to := &left
			if wanted[ChannelPlace{c.Xids[i], c.Ids[i]}] {
				to = &gone
			}
			to.Xids, to.Ids = append(to.Xids, c.Xids[i]), append(to.Ids, c.Ids[i])
		}
		switch {
		case len(gone.Ids) == 0:
			continue
		case len(left.Ids) == 0:
			b.Queue("delete from channel_claim where id = $1", c.ID)
		default:
			b.Queue("update channel_claim set xids = $2, ids = $3 where id = $1", c.ID, left.Xids, left.Ids)
		}
		taken = append(taken, gone)
	}
	return taken, tx.SendBatch(ctx, b).Close()
}

const addAside = "insert into channel_aside (reader, xid, id, attempts, reason) select $1, u.xid, u.id, $2, $3 from unnest($4::bigint[], $5::bigint[]) u(xid, id) on conflict do nothing"

// ReturnMessages lets messages be handed out again after a time; those that were handed out so often already are set aside with the reason.
func ReturnMessages(ctx context.Context, db *Pool, reader int, token uuid.UUID, list []ChannelPlace, after time.Duration, most int, reason string) (n int, err error) {
	err = pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		taken, err := unclaim(ctx, tx, reader, token, list)
		if err != nil {
			return err
		}
		b := &pgx.Batch{}
		for _, c := range taken {
			if n += len(c.Ids); c.Attempts >= most {
				b.Queue(addAside, reader, c.Attempts, reason, c.Xids, c.Ids)
			} else {
				b.Queue("insert into channel_claim (reader, until, attempts, xids, ids) values ($1, now() + make_interval(secs => $2), $3, $4, $5)", reader, after.Seconds(), c.Attempts, c.Xids, c.Ids)
			}
		}
		return tx.SendBatch(ctx, b).Close()
	})
	return n, err
}

// Exhausted sets messages aside that were handed out so often, and whose time is over.
func Exhausted(ctx context.Context, db DB, reader, most int) error {
	_, err := db.Exec(ctx, `with out as (delete from channel_claim where reader = $1 and attempts >= $2 and until <= now() returning *)
		insert into channel_aside (reader, xid, id, attempts, reason) select out.reader, u.xid, u.id, out.attempts, 'not acknowledged in time' from out, unnest(out.xids, out.ids) u(xid, id) on conflict do nothing`, reader, most)
	return err
}

func places(list []ChannelPlace) (xids, ids []int64) {
	for _, p := range list {
		xids, ids = append(xids, p.Xid), append(ids, p.ID)
	}
	return xids, ids
}

// SetMessageAside sets a message aside for a reader.
func SetMessageAside(ctx context.Context, db DB, reader int, p ChannelPlace, reason string) error {
	_, err := db.Exec(ctx, "insert into channel_aside (reader, xid, id, attempts, reason) values ($1, $2, $3, 1, $4) on conflict do nothing", reader, p.Xid, p.ID, reason)
	return err
}

// AsideMessage is a message that a reader has set aside.
type AsideMessage struct {
	ChannelMessage
	Attempts int
	Reason   string
	At       time.Time
}

// AsideMessages lists what a reader has set aside, the newest first.
func AsideMessages(ctx context.Context, db DB, r ChannelReader, most int) ([]AsideMessage, error) {
	rows, _ := db.Query(ctx, `select `+messageColumns+`, a.attempts, a.reason, a.at from channel_aside a join channel_message m on m.channel = $2 and m.xid = a.xid and m.id = a.id
		where a.reader = $1 order by a.at desc limit $3`, r.ID, r.Channel, most)
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (a AsideMessage, err error) {
		m := &a.ChannelMessage
		err = row.Scan(&m.Xid, &m.ID, &m.PutAt, &m.MessageID, &m.Key, &m.Headers, &m.Media, &m.Body, &m.DueAt, &m.ExpiresAt, &m.Origin, &a.Attempts, &a.Reason, &a.At)
		return a, err
	})
}

// AgainMessages hands out again what a reader has set aside: one message, or all where the place is nothing.
func AgainMessages(ctx context.Context, db DB, reader int, p ChannelPlace) (int, error) {
	tag, err := db.Exec(ctx, `with out as (delete from channel_aside where reader = $1 and ($3 = 0 or xid = $2 and id = $3) returning *)
		insert into channel_claim (reader, until, attempts, xids, ids) select reader, now(), 0, array[xid], array[id] from out`, reader, p.Xid, p.ID)
	return int(tag.RowsAffected()), err
}

// LookAtMessages lists messages of a channel, the newest first: those before a place, all where it is nothing. A text is looked for in
// keys, ids, headers and bodies.
func LookAtMessages(ctx context.Context, db DB, channel int, before ChannelPlace, find string, most int) ([]ChannelMessage, error) {
	rows, _ := db.Query(ctx, `select `+messageColumns+` from channel_message m where m.channel = $1 and ($3 = 0 or (m.xid, m.id) < ($2, $3))
		and ($4 = '' or m.key = $4 or m.message_id = $4 or position(lower($4) in lower(m.headers)) > 0 or position(convert_to($4, 'UTF8') in m.body) > 0) order by m.xid desc, m.id desc limit $5`,
		channel, before.Xid, before.ID, find, most)
	return pgx.CollectRows(rows, scanMessage)
}

// MessageAt reads one message.
func MessageAt(ctx context.Context, db DB, channel int, p ChannelPlace) (ChannelMessage, error) {
	rows, _ := db.Query(ctx, "select "+messageColumns+" from channel_message m where m.channel = $1 and m.xid = $2 and m.id = $3", channel, p.Xid, p.ID)
	return one(pgx.CollectExactlyOneRow(rows, scanMessage))
}

// Lag is how far a reader is behind.
type Lag struct {
	Messages int // that it has not dealt with, up to a bound
	Out      int // of those, handed out or put off
	Aside    int
	Oldest   *time.Time // of those that it has not been handed
}

// mostCounted bounds the messages that are counted.
const mostCounted = 100_000

// LagOf says how far a reader is behind now.
func LagOf(ctx context.Context, db DB, reader int) (l Lag, err error) {
	err = db.QueryRow(ctx, `with r as (select * from channel_reader where id = $1)
		select (select count(*) from (select from channel_message m, r where m.channel = r.channel and (m.xid, m.id) > (r.at_xid, r.at_id) limit $2) s),
		(select coalesce(sum(cardinality(ids)), 0) from channel_claim where reader = $1), (select count(*) from channel_aside where reader = $1),
		(select m.put_at from channel_message m, r where m.channel = r.channel and (m.xid, m.id) > (r.at_xid, r.at_id) order by m.xid, m.id limit 1)`,
		reader, mostCounted).Scan(&l.Messages, &l.Out, &l.Aside, &l.Oldest)
	l.Messages += l.Out
	return l, err
}

// ChannelCount is how many messages a channel got in a minute.
type ChannelCount struct {
	At       time.Time
	Messages int
}

// ChannelCounts are the messages of a channel by minute, since a time.
func ChannelCounts(ctx context.Context, db DB, channel int, since time.Time) ([]ChannelCount, error) {
	rows, _ := db.Query(ctx, "select date_trunc('minute', put_at) at, count(*) from channel_message where channel = $1 and put_at >= $2 group by 1 order by 1", channel, since)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[ChannelCount])
}

// DropPartitions removes the messages of days before a time, where no reader of a queue has any of them before it. It says how many
// days went.
func DropPartitions(ctx context.Context, db DB, before time.Time) (n int, err error) {
	rows, _ := db.Query(ctx, `select c.relname from pg_inherits i join pg_class c on c.oid = i.inhrelid join pg_class p on p.oid = i.inhparent
		where p.relname = 'channel_message' and p.relnamespace = current_schema()::regnamespace and c.relname ~ '^channel_message_[0-9]{8}$' and c.relname < $1 order by 1`, partitionOf(before.UTC().Truncate(24*time.Hour)))
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	for _, name := range names {
		var wanted bool
		of := pgx.Identifier{name}.Sanitize()
		err = cmp.Or(err, db.QueryRow(ctx, `select exists (select from channel_reader r join `+of+` m on m.channel = r.channel and (m.xid, m.id) > (r.at_xid, r.at_id) where r.name = '')
			or exists (select from channel_claim c cross join unnest(c.xids, c.ids) u(xid, id) join channel_reader r on r.id = c.reader join `+of+` m on m.channel = r.channel and m.xid = u.xid and m.id = u.id)
			or exists (select from channel_aside a join channel_reader r on r.id = a.reader join `+of+` m on m.channel = r.channel and m.xid = a.xid and m.id = a.id)`).Scan(&wanted))
		if err != nil {
			return n, err
		}
		if wanted {
			continue
		}
		b := &pgx.Batch{} // one transaction, which keeps nobody waiting for long
		b.Queue("set local lock_timeout = '2s'")
		b.Queue("drop table " + of)
		if err = db.SendBatch(ctx, b).Close(); err != nil {
			return n, err
		}
		n++
	}
	return n, err
}
