package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Release is an immutable, numbered state of a flow with everything that it needs.
type Release struct {
	Project, Flow string
	Number        int
	Title, Note   string
	MadeBy        string
	MadeAt        time.Time
	FailedCases   []string // titles of the cases that failed when it was made
}

// AddRelease makes the next release of a flow of the given files. Nothing runs it before it is deployed.
func AddRelease(ctx context.Context, tx pgx.Tx, r Release, files map[string]string) (int, error) {
	if _, err := tx.Exec(ctx, "select 1 from project where id = $1 for update", r.Project); err != nil {
		return 0, err
	}
	err := tx.QueryRow(ctx, `insert into release (project, flow, number, title, note, made_by, failed_cases)
		select $1, $2, coalesce(max(number), 0) + 1, $3, $4, $5, coalesce($6::text[], '{}') from release where project = $1 and flow = $2
		returning number`, r.Project, r.Flow, r.Title, r.Note, r.MadeBy, r.FailedCases).Scan(&r.Number)
	if err != nil {
		return 0, err
	}
	for path, text := range files {
		_, err := tx.Exec(ctx, "insert into release_file (project, flow, number, path, content) values ($1, $2, $3, $4, $5)",
			r.Project, r.Flow, r.Number, path, []byte(text))
		if err != nil {
			return 0, err
		}
	}
	return r.Number, Publish(ctx, tx, "release "+r.Project+" "+r.Flow)
}

const releaseColumns = "project, flow, number, title, note, made_by, made_at, failed_cases"

// NewestReleases lists the newest release of every flow of a project.
func NewestReleases(ctx context.Context, db DB, project string) ([]Release, error) {
	rows, _ := db.Query(ctx, "select distinct on (flow) "+releaseColumns+" from release where project = $1 order by flow, number desc", project)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Release])
}

// Releases lists a project's releases, newest first.
func Releases(ctx context.Context, db DB, project string, most int) ([]Release, error) {
	rows, _ := db.Query(ctx, "select "+releaseColumns+" from release where project = $1 order by made_at desc limit $2", project, most)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Release])
}

// ReleaseFiles reads the files of a release.
func ReleaseFiles(ctx context.Context, db DB, project, flow string, number int) (map[string]string, error) {
	rows, err := db.Query(ctx, "select path, content from release_file where project = $1 and flow = $2 and number = $3", project, flow, number)
	if err != nil {
		return nil, err
	}
	files := map[string]string{}
	var path string
	var content []byte
	_, err = pgx.ForEachRow(rows, []any{&path, &content}, func() error {
		files[path] = string(content)
		return nil
	})
	if err == nil && len(files) == 0 {
		err = ErrNotFound
	}
	return files, err
}
