package store

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// Person is who makes a change.
type Person struct{ ID, Name, Initials string }

// Draft is a part as it is being worked on.
type Draft struct {
	Path     string
	Text     string
	Revision int64
	MadeBy   string
	MadeAt   time.Time
	CanUndo  bool
	CanRedo  bool
}

// AddPerson makes sure that a person is known.
func AddPerson(ctx context.Context, db DB, p Person) error {
	_, err := db.Exec(ctx, `insert into person (id, name, initials) values ($1, $2, $3)
		on conflict (id) do update set name = excluded.name, initials = excluded.initials`, p.ID, p.Name, p.Initials)
	return err
}

// People lists all persons by id.
func People(ctx context.Context, db DB) (map[string]Person, error) {
	rows, _ := db.Query(ctx, "select id, name, initials from person")
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Person])
	people := map[string]Person{}
	for _, p := range list {
		people[p.ID] = p
	}
	return people, err
}

// AddProject creates a project with its parts, or does nothing when it exists.
func AddProject(ctx context.Context, tx pgx.Tx, id, title string, texts map[string]string, by string) (created bool, err error) {
	tag, err := tx.Exec(ctx, "insert into project (id, title) values ($1, $2) on conflict do nothing", id, title)
	if err != nil || tag.RowsAffected() == 0 {
		return false, err
	}
	for path, text := range texts {
		if err := insertPart(ctx, tx, id, path, text, by); err != nil {
			return false, err
		}
	}
	return true, nil
}

func insertPart(ctx context.Context, tx pgx.Tx, project, path, text, by string) error {
	edit, err := addEdit(ctx, tx, project, path, nil, text, by)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, "insert into part (project, path, edit) values ($1, $2, $3)", project, path, edit)
	return err
}

// AddPart adds a part to a project. It is ErrExists when there is one of that path.
func AddPart(ctx context.Context, tx pgx.Tx, project, path, text, by string) error {
	there, err := reserve(ctx, tx, project, path)
	if err == nil && there {
		err = ErrExists
	}
	if err != nil {
		return err
	}
	if err := insertPart(ctx, tx, project, path, text, by); err != nil {
		return err
	}
	return Publish(ctx, tx, "part "+project+" "+path)
}

// maxNumbered bounds the numbers that AddNumbered tries.
const maxNumbered = 1000

// AddNumbered adds a part like AddPart; where its path is taken, its name gets a number: orders.csv becomes orders-2.csv.
// It gives the path that the part has got.
func AddNumbered(ctx context.Context, tx pgx.Tx, project, path, text, by string) (string, error) {
	ext := filepath.Ext(path)
	for n := 1; n <= maxNumbered; n++ {
		free := path
		if n > 1 {
			free = fmt.Sprintf("%s-%d%s", strings.TrimSuffix(path, ext), n, ext)
		}
		if err := AddPart(ctx, tx, project, free, text, by); !errors.Is(err, ErrExists) {
			return free, err
		}
	}
	return "", ErrExists
}

// reserve says whether a project has a part of a path. Until the transaction ends nobody else can add one there.
func reserve(ctx context.Context, tx pgx.Tx, project, path string) (there bool, err error) {
	if _, err := tx.Exec(ctx, "select pg_advisory_xact_lock(hashtextextended($1, 0))", "part "+project+" "+path); err != nil {
		return false, err
	}
	err = tx.QueryRow(ctx, "select exists (select 1 from part where project = $1 and path = $2)", project, path).Scan(&there)
	return there, err
}

func addEdit(ctx context.Context, db DB, project, path string, parent *int64, text, by string) (id int64, err error) {
	err = db.QueryRow(ctx, `insert into part_edit (project, path, parent, content, made_by) values ($1, $2, $3, $4, $5) returning id`,
		project, path, parent, []byte(text), by).Scan(&id)
	return id, err
}

// Projects lists the ids of all projects, the oldest first.
func Projects(ctx context.Context, db DB) ([]string, error) {
	rows, _ := db.Query(ctx, "select id from project order by created_at, id")
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Texts are the drafts of all parts, by path, and a number that changes whenever one of them does.
func Texts(ctx context.Context, db DB, project string) (texts map[string]string, version int64, err error) {
	d, err := ReadDrafts(ctx, db, project, Drafts{})
	return d.Texts, d.Version(), err
}

// Drafts are the drafts of a project's parts.
type Drafts struct {
	Texts     map[string]string // by path
	revisions map[string]int64
	removed   int64
}

// Version is a number that changes whenever one of the drafts does, as the function Version asks for it.
func (d Drafts) Version() int64 {
	v := d.removed
	for _, revision := range d.revisions {
		v += revision
	}
	return v
}

// ReadDrafts reads the drafts of a project. Texts that are known of before, and have not changed, are not read again.
func ReadDrafts(ctx context.Context, db DB, project string, known Drafts) (Drafts, error) {
	d := Drafts{Texts: map[string]string{}, revisions: map[string]int64{}}
	rows, err := db.Query(ctx, "select p.path, p.revision, o.removed from project o join part p on p.project = o.id where o.id = $1", project)
	if err != nil {
		return d, err
	}
	var path string
	var revision int64
	var changed []string
	_, err = pgx.ForEachRow(rows, []any{&path, &revision, &d.removed}, func() error {
		if d.revisions[path] = revision; known.revisions[path] == revision {
			d.Texts[path] = known.Texts[path]
		} else {
			changed = append(changed, path)
		}
		return nil
	})
	if err == nil && len(d.revisions) == 0 {
		err = ErrNotFound
	}
	if err != nil || len(changed) == 0 {
		return d, err
	}
	rows, err = db.Query(ctx, "select p.path, p.revision, e.content from part p join part_edit e on e.id = p.edit where p.project = $1 and p.path = any($2)", project, changed)
	if err != nil {
		return d, err
	}
	var content []byte
	_, err = pgx.ForEachRow(rows, []any{&path, &revision, &content}, func() error {
		d.Texts[path], d.revisions[path] = string(content), revision
		return nil
	})
	return d, err
}

// Version is the number that Texts gives, without the texts.
func Version(ctx context.Context, db DB, project string) (v int64, err error) {
	err = db.QueryRow(ctx, "select coalesce((select sum(revision) from part where project = $1), 0)::bigint + coalesce((select removed from project where id = $1), 0)", project).Scan(&v)
	return v, err
}

// PartDraft reads one part.
func PartDraft(ctx context.Context, db DB, project, path string) (Draft, error) {
	d := Draft{Path: path}
	var content []byte
	err := db.QueryRow(ctx, `select e.content, p.revision, e.made_by, e.made_at, e.parent is not null,
			exists (select 1 from part_edit c where c.parent = e.id)
		from part p join part_edit e on e.id = p.edit where p.project = $1 and p.path = $2`, project, path).
		Scan(&content, &d.Revision, &d.MadeBy, &d.MadeAt, &d.CanUndo, &d.CanRedo)
	d.Text = string(content)
	return one(d, err)
}

// LockDraft reads one part as PartDraft does, and keeps others from changing it until the transaction ends.
func LockDraft(ctx context.Context, tx pgx.Tx, project, path string) (Draft, error) {
	if _, err := tx.Exec(ctx, "select 1 from part where project = $1 and path = $2 for update", project, path); err != nil {
		return Draft{}, err
	}
	return PartDraft(ctx, tx, project, path)
}

// Edit is one of the states that a part's draft had.
type Edit struct {
	ID     int64
	MadeBy string
	MadeAt time.Time
}

// PartEdits lists the newest states of a part, the newest first.
func PartEdits(ctx context.Context, db DB, project, path string, most int) ([]Edit, error) {
	rows, err := db.Query(ctx, "select id, made_by, made_at from part_edit where project = $1 and path = $2 order by id desc limit $3", project, path, most)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Edit])
}

// EditText is the text of a part in one of its states.
func EditText(ctx context.Context, db DB, project, path string, id int64) (string, error) {
	var content []byte
	err := db.QueryRow(ctx, "select content from part_edit where project = $1 and path = $2 and id = $3", project, path, id).Scan(&content)
	return one(string(content), err)
}

// SavePart changes a part's draft. It is ErrChanged when the draft is no longer at the revision
// that the change was made from; nothing is overwritten then.
func SavePart(ctx context.Context, tx pgx.Tx, project, path, text string, from int64, by string) error {
	var edit int64
	err := tx.QueryRow(ctx, "select edit from part where project = $1 and path = $2 and revision = $3 for update", project, path, from).Scan(&edit)
	if err == pgx.ErrNoRows {
		return ErrChanged
	}
	if err != nil {
		return err
	}
	next, err := addEdit(ctx, tx, project, path, &edit, text, by)
	if err != nil {
		return err
	}
	return move(ctx, tx, project, path, next)
}

func move(ctx context.Context, tx pgx.Tx, project, path string, edit int64) error {
	if _, err := tx.Exec(ctx, "update part set edit = $3, revision = revision + 1 where project = $1 and path = $2", project, path, edit); err != nil {
		return err
	}
	return Publish(ctx, tx, "part "+project+" "+path)
}

// RemovePart takes a part out of a project. Its edits stay, so that Restore brings it back. It is ErrChanged like SavePart.
func RemovePart(ctx context.Context, tx pgx.Tx, project, path string, from int64) error {
	tag, err := tx.Exec(ctx, "delete from part where project = $1 and path = $2 and revision = $3", project, path, from)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrChanged
	}
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "update project set removed = removed + $2 + 1 where id = $1", project, from); err != nil {
		return err
	}
	return Publish(ctx, tx, "part "+project+" "+path)
}

// MovePart gives a part another path; what was ever in it goes along.
func MovePart(ctx context.Context, tx pgx.Tx, project, path, to string, from int64) error {
	there, err := reserve(ctx, tx, project, to)
	if err == nil && there {
		err = ErrExists
	}
	if err != nil {
		return err
	}
	tag, err := tx.Exec(ctx, "update part set path = $4, revision = revision + 1 where project = $1 and path = $2 and revision = $3", project, path, from, to)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrChanged
	}
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "update part_edit set path = $3 where project = $1 and path = $2", project, path, to); err != nil {
		return err
	}
	return Publish(ctx, tx, "part "+project+" "+to)
}

// Removed is a part that was removed: its path, and who changed it last.
type Removed struct {
	Path   string
	MadeBy string
	MadeAt time.Time
}

// RemovedParts lists parts that were removed and can be restored, the newest first.
func RemovedParts(ctx context.Context, db DB, project string, most int) ([]Removed, error) {
	rows, _ := db.Query(ctx, `select path, made_by, made_at from (select distinct on (path) path, made_by, made_at from part_edit e where project = $1
			and not exists (select from part p where p.project = e.project and p.path = e.path) order by path, id desc) x order by made_at desc limit $2`, project, most)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Removed])
}

// RestorePart brings a part back that was removed, as it was last. It is ErrExists when there is one of that path now.
func RestorePart(ctx context.Context, tx pgx.Tx, project, path string) error {
	there, err := reserve(ctx, tx, project, path)
	if err == nil && there {
		err = ErrExists
	}
	if err != nil {
		return err
	}
	tag, err := tx.Exec(ctx, `insert into part (project, path, edit) select project, path, id from part_edit
		where project = $1 and path = $2 order by id desc limit 1`, project, path)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return err
	}
	return Publish(ctx, tx, "part "+project+" "+path)
}

// Changes are how many parts an import adds, changes and removes.
type Changes struct{ Added, Changed, Removed int }

// ReplaceParts makes the drafts of a project what the texts say, by path: what differs is an edit that can be undone.
func ReplaceParts(ctx context.Context, tx pgx.Tx, project string, texts map[string]string, by string) (c Changes, err error) {
	rows, err := tx.Query(ctx, "select p.path, e.content, p.revision from part p join part_edit e on e.id = p.edit where p.project = $1 for update of p", project)
	if err != nil {
		return c, err
	}
	type state struct {
		text     string
		revision int64
	}
	now := map[string]state{}
	var path string
	var content []byte
	var revision int64
	_, err = pgx.ForEachRow(rows, []any{&path, &content, &revision}, func() error {
		now[path] = state{string(content), revision}
		return nil
	})
	for path, text := range texts {
		was, there := now[path]
		switch {
		case err != nil:
			return c, err
		case !there:
			c.Added++
			err = AddPart(ctx, tx, project, path, text, by)
		case was.text != text:
			c.Changed++
			err = SavePart(ctx, tx, project, path, text, was.revision, by)
		}
	}
	for path, was := range now {
		if _, stays := texts[path]; !stays && err == nil {
			c.Removed++
			err = RemovePart(ctx, tx, project, path, was.revision)
		}
	}
	return c, err
}

// Undo goes back to the draft before the last change; Redo forward to the newest that followed.
// Both are ErrNotFound when there is none, and ErrChanged like SavePart.
func Undo(ctx context.Context, tx pgx.Tx, project, path string, from int64) error {
	return step(ctx, tx, project, path, from, "select parent from part_edit where id = $1 and parent is not null")
}

// Redo is the other way of Undo.
func Redo(ctx context.Context, tx pgx.Tx, project, path string, from int64) error {
	return step(ctx, tx, project, path, from, "select id from part_edit where parent = $1 order by id desc limit 1")
}

func step(ctx context.Context, tx pgx.Tx, project, path string, from int64, query string) error {
	var edit, to int64
	err := tx.QueryRow(ctx, "select edit from part where project = $1 and path = $2 and revision = $3 for update", project, path, from).Scan(&edit)
	if err == pgx.ErrNoRows {
		return ErrChanged
	}
	if err == nil {
		err = tx.QueryRow(ctx, query, edit).Scan(&to)
	}
	if err != nil {
		_, err = one(0, err)
		return err
	}
	return move(ctx, tx, project, path, to)
}
